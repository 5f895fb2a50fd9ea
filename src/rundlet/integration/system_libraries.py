"""The system's libraries that the window needs, so that all that are missing can be named at once, before Qt ends the program."""

from __future__ import annotations

import ctypes
import shutil
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Library:
    """One of them.

    Attributes:
        name: as the loader knows it.
        package: where Debian and its kin have it.
        platform: the kind of display that alone needs it; "" for any.
    """

    name: str
    package: str
    platform: str = ""


LIBRARIES = (
    Library("libEGL.so.1", "libegl1"),
    Library("libGL.so.1", "libgl1"),
    Library("libdbus-1.so.3", "libdbus-1-3"),
    Library("libfontconfig.so.1", "libfontconfig1"),
    Library("libfreetype.so.6", "libfreetype6"),
    Library("libglib-2.0.so.0", "libglib2.0-0"),
    Library("libxkbcommon.so.0", "libxkbcommon0"),
    Library("libwayland-client.so.0", "libwayland-client0", "wayland"),
    Library("libwayland-cursor.so.0", "libwayland-cursor0", "wayland"),
    Library("libX11.so.6", "libx11-6", "xcb"),
    Library("libX11-xcb.so.1", "libx11-xcb1", "xcb"),
    Library("libxcb-cursor.so.0", "libxcb-cursor0", "xcb"),
    Library("libxcb-icccm.so.4", "libxcb-icccm4", "xcb"),
    Library("libxcb-image.so.0", "libxcb-image0", "xcb"),
    Library("libxcb-keysyms.so.1", "libxcb-keysyms1", "xcb"),
    Library("libxcb-randr.so.0", "libxcb-randr0", "xcb"),
    Library("libxcb-render-util.so.0", "libxcb-render-util0", "xcb"),
    Library("libxcb-shape.so.0", "libxcb-shape0", "xcb"),
    Library("libxcb-shm.so.0", "libxcb-shm0", "xcb"),
    Library("libxcb-sync.so.1", "libxcb-sync1", "xcb"),
    Library("libxcb-xfixes.so.0", "libxcb-xfixes0", "xcb"),
    Library("libxcb-xkb.so.1", "libxcb-xkb1", "xcb"),
    Library("libxkbcommon-x11.so.0", "libxkbcommon-x11-0", "xcb"),
)
"""All of them."""


def missing(platform: str) -> list[Library]:
    """Those that are not there.

    Args:
        platform: the kind of display, such as ``"xcb"`` or ``"wayland"``.
    """
    return [library for library in LIBRARIES if library.platform in ("", platform) and not _is_there(library.name)]


def _is_there(name: str) -> bool:
    try:
        ctypes.CDLL(name)
    except OSError:
        return False
    return True


def how_to_install(libraries: list[Library]) -> str:
    """The line that installs them, or "" where it is not known."""
    if shutil.which("apt-get") is None:
        return ""
    return "sudo apt-get install " + " ".join(library.package for library in libraries)


if __name__ == "__main__":  # for what sets a system up
    print(*(library.package for library in LIBRARIES))  # noqa: T201
