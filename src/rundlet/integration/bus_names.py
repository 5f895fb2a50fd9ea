"""The way to a bus, and what Rundlet is called on it, after the Desktop Entry Specification's D-Bus activation."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

BUS_NAME = "rundlet.Rundlet"
OBJECT_PATH = "/rundlet/Rundlet"
INTERFACE = "org.freedesktop.Application"


def open_bus(bus: str = "SESSION", *, enable_fds: bool = False) -> DBusConnection:
    """A connection to a bus; nothing stays open where the bus hangs up before it has answered.

    Args:
        bus: ``SESSION`` or ``SYSTEM``.
        enable_fds: whether open files may come and go.

    Raises:
        OSError: when there is no such bus, or it does not answer.
    """
    from jeepney.bus import get_bus
    from jeepney.io.blocking import DBusConnection, prep_socket

    try:
        socket = prep_socket(get_bus(bus), enable_fds, timeout=1.0)
        try:
            return DBusConnection(socket, enable_fds)
        except BaseException:
            socket.close()
            raise
    except OSError:
        raise
    except Exception as error:
        raise OSError("There is no such bus.") from error


def uris(paths: list[str]) -> list[str]:
    """Paths as the bus has them."""
    return [Path(path).absolute().as_uri() for path in paths]


def paths_of(uris: list[str]) -> list[Path]:
    """The paths of files on this computer among some addresses."""
    from urllib.parse import unquote_to_bytes, urlsplit

    found = []
    for uri in uris:
        parts = urlsplit(uri)
        if parts.scheme == "file" and parts.netloc in ("", "localhost"):
            found.append(Path(unquote_to_bytes(parts.path).decode("utf-8", "surrogateescape")))
    return found
