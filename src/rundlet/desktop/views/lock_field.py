"""Asks in place for the password of locked archives."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QKeyCombination, Qt, Signal
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, page_layout

if TYPE_CHECKING:
    from PySide6.QtGui import QKeyEvent

_TYPING = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.KeypadModifier)
_OWN_KEYS = (QKeySequence.StandardKey.Paste, QKeySequence.StandardKey.Undo)


class LockField(QWidget):
    """A field for a password; gone when there is no need of one.

    Signals:
        typed: with the password that is to be tried.
        unused_key: a key that an empty password field has no use for.
    """

    typed = Signal(str)
    unused_key = Signal(QKeyCombination)

    def __init__(self, name: str) -> None:
        super().__init__()
        column = page_layout(self, gap=theme.sizes.space)
        column.addWidget(heading("Locked"))
        row = QHBoxLayout()
        self.edit = _PasswordEdit()
        self.edit.setEchoMode(QLineEdit.EchoMode.Password)
        self.edit.setPlaceholderText("Password")
        self.edit.setAccessibleName(name)
        self.open = QPushButton("Unlock")
        row.addWidget(self.edit, 1)
        row.addWidget(self.open)
        column.addLayout(row)
        self.words = label("", "warn")
        column.addWidget(self.words)
        self.edit.returnPressed.connect(self._try)
        self.open.clicked.connect(self._try)
        self.edit.unused_key.connect(self.unused_key)
        self.show_words("")

    def ask(self, needed: bool) -> None:
        """Show the field, or put it away with what was typed."""
        self.setVisible(needed)
        if not needed:
            self.edit.clear()
            self.show_words("")

    def show_words(self, words: str) -> None:
        """Say something of the password below it."""
        self.words.setText(words)
        self.words.setVisible(bool(words))

    def refuse(self, words: str) -> None:
        """The password does not fit: say so, and have it typed again."""
        self.show_words(words)
        self.edit.selectAll()
        self.edit.setFocus()

    def _try(self) -> None:
        self.show_words("")
        self.typed.emit(self.edit.text())


class _PasswordEdit(QLineEdit):
    """Keeps the keys that type; while it is empty, it tells of all others."""

    unused_key = Signal(QKeyCombination)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        types = bool(event.text()) and event.text().isprintable() and event.modifiers() in _TYPING
        moves_on = event.key() in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if self.text() or types or moves_on or any(map(event.matches, _OWN_KEYS)):
            super().keyPressEvent(event)
        else:
            self.unused_key.emit(event.keyCombination())
