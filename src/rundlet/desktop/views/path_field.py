"""The path as text, in place of its steps, to be typed, copied or pasted."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLineEdit

if TYPE_CHECKING:
    from PySide6.QtGui import QFocusEvent, QKeyEvent


class PathField(QLineEdit):
    """A path to type.

    Signals:
        left: it is not wanted any longer: Escape was pressed, or the focus went elsewhere.
    """

    left = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Path of a folder or an archive")
        self.setPlaceholderText("Path of a folder or an archive")
        self.setVisible(False)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        elsewhere = event.reason() not in (
            Qt.FocusReason.PopupFocusReason,  # its own menu
            Qt.FocusReason.ActiveWindowFocusReason,
        )
        if elsewhere and self.isVisible():
            self.left.emit()
