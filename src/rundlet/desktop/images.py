"""Pictures from untrusted bytes, small enough to show; safe to call from any thread."""

from __future__ import annotations

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt
from PySide6.QtGui import QImage, QImageReader


def decoded(data: bytes, largest: QSize) -> QImage:
    """A picture no larger than this, the right way up; a null image when the bytes are none that Qt can read."""
    buffer = QBuffer()
    buffer.setData(QByteArray(data))
    buffer.open(QIODevice.OpenModeFlag.ReadOnly)
    reader = QImageReader(buffer)
    reader.setDecideFormatFromContent(True)
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and (size.width() > largest.width() or size.height() > largest.height()):
        reader.setScaledSize(size.scaled(largest, Qt.AspectRatioMode.KeepAspectRatio))
    image = reader.read()
    if image.width() > largest.width() or image.height() > largest.height():
        return image.scaled(largest, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    return image
