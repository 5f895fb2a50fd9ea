"""A message in the place of a list."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from rundlet.desktop.views.basics import label


class MessagePage(QWidget):
    """Says why there is nothing to show, and what can be done; with a way back, where there is one."""

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Message")
        column = QVBoxLayout(self)
        self.message = label("", "statement")
        self.more = label("", "soft")
        self.back = QPushButton()
        column.addStretch(1)
        column.addWidget(self.message)
        column.addWidget(self.more)
        column.addWidget(self.back, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(2)

    def say(self, words: str, more: str, *, back: str) -> None:
        """Show a sentence, what else there is to it, and the words on the way back; no way with ""."""
        self.message.setText(words)
        self.more.setText(more)
        self.back.setText(back)
        self.back.setVisible(bool(back))
