"""Small pictures that all programs of the desktop share, after the Thumbnail Managing Standard."""

from __future__ import annotations

import contextlib
import hashlib
import os
from pathlib import Path
from urllib.parse import quote_from_bytes

from PySide6.QtCore import QBuffer, QByteArray, QIODevice
from PySide6.QtGui import QImage, QImageReader, QImageWriter

from rundlet.core.fs.atomic_files import keep_bytes
from rundlet.core.streams.private import base_folder

SIDE = 256
"""Pixels of the larger of the two sizes that every program has."""

_SIZES = ("large", "normal")
_LITERAL = "/!$&'()*+,;=:@-._~"  # what the addresses of all programs leave as it is
_LARGEST_FILE = 4 << 20  # bytes of a small picture; a larger one is none


def _folder() -> Path:
    return base_folder("XDG_CACHE_HOME", ".cache") / "thumbnails"


def _address(path: Path) -> str:
    return "file://" + quote_from_bytes(os.fsencode(os.path.abspath(path)), safe=_LITERAL)


def _name(address: str) -> str:
    return hashlib.md5(address.encode("ascii"), usedforsecurity=False).hexdigest() + ".png"


def shared_thumbnail(path: Path) -> QImage | None:
    """The small picture of a file as it is now, where some program has made it; else None."""
    address = _address(path)
    try:
        when = str(int(path.stat().st_mtime))
    except OSError:
        return None
    for size in _SIZES:
        file = _folder() / size / _name(address)
        if not file.is_file() or file.stat().st_size > _LARGEST_FILE:
            continue
        reader = QImageReader(str(file), QByteArray(b"png"))
        reader.setAutoDetectImageFormat(False)  # see images.py
        extent = reader.size()
        image = reader.read() if extent.isValid() and max(extent.width(), extent.height()) <= SIDE else QImage()
        if not image.isNull() and image.text("Thumb::URI") == address and image.text("Thumb::MTime") == when:
            return image
    return None


def share_thumbnail(path: Path, image: QImage) -> None:
    """Give a small picture to all programs; where that can't be, nothing happens.

    Args:
        path: the file that it is of.
        image: at most :data:`SIDE` pixels across and down.
    """
    folder = _folder()
    with contextlib.suppress(OSError, ValueError):
        if os.path.abspath(path).startswith(f"{folder}{os.sep}"):
            return  # it is one itself
        address = _address(path)
        shared = image.copy()
        shared.setText("Thumb::URI", address)
        shared.setText("Thumb::MTime", str(int(path.stat().st_mtime)))
        shared.setText("Thumb::Size", str(path.stat().st_size))
        shared.setText("Software", "Rundlet")
        buffer = QBuffer()
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        if QImageWriter(buffer, QByteArray(b"png")).write(shared):
            keep_bytes(folder / "large" / _name(address), bytes(buffer.data().data()))
