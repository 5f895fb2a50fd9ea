"""Pictures from untrusted bytes, small enough to show; safe to call from any thread.

Nothing here makes or ends a connection of signals, not even by telling formats apart as Qt does: the lock of connections is held while
Python is asked for a method, so that the interface's thread and this one would wait for each other for ever.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager

from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QImage, QImageReader, QPainter
from PySide6.QtSvg import QSvgRenderer

_STARTS: tuple[tuple[bytes, bytes], ...] = (
    (b"png", rb"\x89PNG\r\n"),
    (b"jpeg", rb"\xff\xd8\xff"),
    (b"gif", rb"GIF8"),
    (b"webp", rb"RIFF....WEBP"),
    (b"bmp", rb"BM"),
    (b"tiff", rb"II\*\0|MM\0\*"),
    (b"ico", rb"\0\0\x01\0"),
    (b"cur", rb"\0\0\x02\0"),
    (b"icns", rb"icns"),
    (b"pbm", rb"P[14]\s"),
    (b"pgm", rb"P[25]\s"),
    (b"ppm", rb"P[36]\s"),
    (b"xpm", rb"/\* XPM \*/"),
    (b"xbm", rb"#define\s"),
    (b"svgz", rb"\x1f\x8b"),
    (b"svg", rb"[^\0]{,4096}<svg\b"),
)
"""How the pictures of each kind begin, by the names that Qt has for them."""

_KINDS = [(kind, re.compile(start, re.DOTALL)) for kind, start in _STARTS]
_DRAWINGS = (b"svg", b"svgz")


def decoded(data: bytes, largest: QSize) -> QImage:
    """A picture no larger than this, the right way up; a null image when the bytes are none that Qt can read."""
    kind = next((kind for kind, start in _KINDS if start.match(data)), None)
    if kind is None:
        return QImage()
    if kind in _DRAWINGS:
        return _drawn(data, largest)
    with _in_a_file(data) as name:
        reader = QImageReader(name, QByteArray(kind))
        reader.setAutoDetectImageFormat(False)
        reader.setAutoTransform(True)
        size = reader.size()
        if size.isValid() and _is_larger(size, largest):
            reader.setScaledSize(size.scaled(largest, Qt.AspectRatioMode.KeepAspectRatio))
        image = reader.read()
    if _is_larger(image.size(), largest):
        return image.scaled(largest, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    return image


def _drawn(data: bytes, largest: QSize) -> QImage:
    renderer = QSvgRenderer(QByteArray(data))
    size = renderer.defaultSize()
    if not renderer.isValid() or size.isEmpty():
        return QImage()
    if _is_larger(size, largest):
        size = size.scaled(largest, Qt.AspectRatioMode.KeepAspectRatio).expandedTo(QSize(1, 1))
    image = QImage(size, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(0)
    painter = QPainter(image)
    renderer.render(painter)
    painter.end()
    return image


def _is_larger(size: QSize, largest: QSize) -> bool:
    return size.width() > largest.width() or size.height() > largest.height()


@contextmanager
def _in_a_file(data: bytes) -> Iterator[str]:
    """The name of a file in memory with these bytes."""
    descriptor = os.memfd_create("picture")
    try:
        view = memoryview(data)
        while view:
            view = view[os.write(descriptor, view) :]
        yield os.path.join("/proc/self/fd", str(descriptor))  # noqa: PTH118 - Qt takes no paths
    finally:
        os.close(descriptor)
