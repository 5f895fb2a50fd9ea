"""What stands in the place of a form that can't be used yet: a sentence, and ways to go on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from rundlet.core import text
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, page_layout
from rundlet.desktop.views.breadcrumbs import UNSAVED_MARK
from rundlet.presentation.sentences import say


class QuietPage(QWidget):
    """A sentence, and below it files that can be opened.

    Attributes:
        unsaved: says how many changes of an archive are not saved.

    Signals:
        opened: with the file that was chosen.
    """

    opened = Signal(object)

    def __init__(self, statement: str, more: str, files_heading: str = "") -> None:
        super().__init__()
        column = page_layout(self)
        self.statement = label(statement, "statement")
        self.more = label(more, "soft")
        column.addWidget(self.statement)
        column.addWidget(self.more)
        self._heading = heading(files_heading)
        self._heading.setVisible(False)
        column.addSpacing(theme.sizes.gap)
        column.addWidget(self._heading)
        self._list = QVBoxLayout()
        self._list.setSpacing(theme.sizes.space)
        column.addLayout(self._list)
        column.addStretch(1)
        self.buttons: list[QPushButton] = []
        self._files: tuple[Path, ...] = ()
        self.unsaved: Callable[[Path], int] = lambda _: 0
        self._counts: list[int] = []

    def show_files(self, files: Sequence[Path]) -> None:
        """Offer these files."""
        counts = list(map(self.unsaved, files))
        if (tuple(files), counts) == (self._files, self._counts):
            return
        self._files, self._counts = tuple(files), counts
        for button in self.buttons:
            self._list.removeWidget(button)
            button.deleteLater()
        self.buttons = [self._button(path) for path in files]
        self._heading.setVisible(bool(files))

    def _button(self, path: Path) -> QPushButton:
        unsaved = self.unsaved(path)
        button = QPushButton(text.shown(text.shortened(path.name)) + (UNSAVED_MARK if unsaved else ""))
        button.setProperty("role", "link")
        button.setIcon(theme.icon("archive", "oak"))
        words = "{path}, {count:change|changes} not saved" if unsaved else "{path}"
        button.setToolTip(say(words, path=text.shown(str(path)), count=unsaved))
        words = "Open {name:name}, {count:change|changes} not saved" if unsaved else "Open {name:name}"
        button.setAccessibleName(say(words, name=path.name, count=unsaved))
        button.clicked.connect(self._clicked)
        self._list.addWidget(button)
        return button

    def _clicked(self) -> None:
        self.opened.emit(self._files[self.buttons.index(self.sender())])  # type: ignore[arg-type]
