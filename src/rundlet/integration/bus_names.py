"""What Rundlet is called on the session bus, after the Desktop Entry Specification's D-Bus activation."""

from __future__ import annotations

from pathlib import Path

BUS_NAME = "rundlet.Rundlet"
OBJECT_PATH = "/rundlet/Rundlet"
INTERFACE = "org.freedesktop.Application"


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
