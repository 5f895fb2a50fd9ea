"""Icons: drawings of one colour, painted at any size in the colour that the theme has at the time."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QIconEngine, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer

if TYPE_CHECKING:
    from collections.abc import Callable

_OWN_COLOUR = "currentColor"


@functools.cache
def _drawing(name: str) -> str:
    """An icon as SVG, with a word where its colour is to be."""
    return (Path(__file__).parent / "svg" / f"{name}.svg").read_text("utf-8")


@functools.lru_cache(maxsize=256)
def _renderer(name: str, color: str) -> QSvgRenderer:
    """What paints an icon in a colour, given as ``#rrggbb``."""
    return QSvgRenderer(QByteArray(_drawing(name).replace(_OWN_COLOUR, color).encode()))


class _IconEngine(QIconEngine):
    """Paints one drawing at any size."""

    def __init__(self, name: str, color: Callable[[], QColor], turned: int) -> None:
        super().__init__()
        self._name, self._color, self._turned = name, color, turned
        self._pixmaps: dict[tuple[int, int, QIcon.Mode, str], QPixmap] = {}

    def paint(self, painter: QPainter, rect: QRect, mode: QIcon.Mode, state: QIcon.State) -> None:
        color, side = self._color(), min(rect.width(), rect.height())
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setOpacity(painter.opacity() * color.alphaF() * (0.4 if mode == QIcon.Mode.Disabled else 1))
        painter.translate(QRectF(rect).center())
        painter.rotate(self._turned)
        _renderer(self._name, color.name()).render(painter, QRectF(-side / 2, -side / 2, side, side))
        painter.restore()

    def pixmap(self, size: QSize, mode: QIcon.Mode, state: QIcon.State) -> QPixmap:
        key = (size.width(), size.height(), mode, self._color().name(QColor.NameFormat.HexArgb))
        pixmap = self._pixmaps.get(key)
        if pixmap is None:
            pixmap = self._pixmaps[key] = QPixmap(size)
            pixmap.fill(Qt.GlobalColor.transparent)
            painter = QPainter(pixmap)
            self.paint(painter, QRect(0, 0, size.width(), size.height()), mode, state)
            painter.end()
        return pixmap

    def clone(self) -> QIconEngine:
        return _IconEngine(self._name, self._color, self._turned)


def drawn_icon(name: str, color: Callable[[], QColor], *, turned: int = 0) -> QIcon:
    """An icon by the name of its drawing.

    Args:
        color: asked each time that it is painted, so that it follows a change between light and dark.
        turned: by how many degrees it is turned, clockwise.
    """
    return QIcon(_IconEngine(name, color, turned))
