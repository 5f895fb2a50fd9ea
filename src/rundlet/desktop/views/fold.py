"""Settings that are seldom changed, folded away under a line that says how they are set."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QWidget

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, page_layout


class Fold(QWidget):
    """A button that folds out what is below it.

    Args:
        name: what is in it.

    Attributes:
        column: the layout of what is folded away.
    """

    def __init__(self, name: str) -> None:
        super().__init__()
        outer = page_layout(self, gap=0)
        self.line = QPushButton(name)
        self.line.setCheckable(True)
        self.line.setProperty("role", "link")
        self.words = label("", "soft")
        self.inner = QWidget()
        self.column = page_layout(self.inner, gap=theme.sizes.space)
        self.column.setContentsMargins(0, theme.sizes.space, 0, 0)
        outer.addWidget(self.line, 0, Qt.AlignmentFlag.AlignLeft)
        outer.addWidget(self.words)
        outer.addWidget(self.inner)
        self.line.toggled.connect(self._turn)
        self._turn(False)

    def say(self, words: str) -> None:
        """Say how things are set."""
        self.words.setText(words)
        self.line.setAccessibleDescription(words)

    def open(self) -> None:
        """Fold it out."""
        self.line.setChecked(True)

    def _turn(self, out: bool) -> None:
        self.inner.setVisible(out)
        self.line.setIcon(theme.icon("folded out" if out else "folded", "soft"))
