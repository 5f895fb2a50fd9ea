"""A field that one thing of several is chosen in, with a mark that says so."""

from __future__ import annotations

from PySide6.QtCore import QRect
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox

from rundlet.desktop.theme.theme import theme


class Dropdown(QComboBox):
    """The toolkit's own, which loses its mark under a style sheet."""

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        side = theme.sizes.caret
        left = self.width() - (theme.sizes.choose + side) // 2
        painter = QPainter(self)
        theme.paint_icon(painter, QRect(left, (self.height() - side) // 2, side, side), "choose", "soft")
        painter.end()
