"""Icons from the icon package's font, one font loaded instead of all that the package carries: a quarter of a second."""

from __future__ import annotations

import functools
import importlib.util
import json
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QIconEngine, QPainter, QPixmap

_FAMILY = "phosphor"


@functools.cache
def _font() -> tuple[str, dict[str, str]]:
    """The font's name and the character of each icon."""
    spec = importlib.util.find_spec("qtawesome")
    if spec is None or not spec.submodule_search_locations:
        raise FileNotFoundError("the icon package is not installed")
    folder = Path(spec.submodule_search_locations[0]) / "fonts"
    font = next(folder.glob(f"{_FAMILY}-[0-9]*.ttf"))
    characters = json.loads(next(folder.glob(f"{_FAMILY}-charmap-*.json")).read_text("utf-8"))
    families = QFontDatabase.applicationFontFamilies(QFontDatabase.addApplicationFont(str(font)))
    return families[0], {name: chr(int(code, 16)) for name, code in characters.items()}


class _GlyphEngine(QIconEngine):
    """Paints one character at any size."""

    def __init__(self, name: str, color: Callable[[], QColor], turned: bool) -> None:
        super().__init__()
        self._name, self._color, self._turned = name, color, turned
        self._pixmaps: dict[tuple[int, int, QIcon.Mode, str], QPixmap] = {}

    def paint(self, painter: QPainter, rect: QRect, mode: QIcon.Mode, state: QIcon.State) -> None:
        family, characters = _font()
        font = QFont(family)
        font.setPixelSize(min(rect.width(), rect.height()))
        painter.save()
        painter.setFont(font)
        color = QColor(self._color())
        if mode == QIcon.Mode.Disabled:
            color.setAlphaF(0.4)
        painter.setPen(color)
        painter.translate(rect.center().x() + 0.5, rect.center().y() + 0.5)
        if self._turned:
            painter.rotate(90)
        box = QRect(-rect.width() // 2, -rect.height() // 2, rect.width(), rect.height())
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, characters[self._name])
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
        return _GlyphEngine(self._name, self._color, self._turned)


def glyph_icon(name: str, color: Callable[[], QColor], *, turned: bool = False) -> QIcon:
    """An icon by its name in the font.

    Args:
        color: asked each time that it is painted, so that it follows a change between light and dark.
        turned: whether it is turned by a quarter.
    """
    return QIcon(_GlyphEngine(name, color, turned))
