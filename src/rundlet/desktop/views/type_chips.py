"""Type chips: what lies here by its types, with counts; one of them narrows the list."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton, QWidget

from rundlet.core import text
from rundlet.core.model.file_type import FileType
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout
from rundlet.presentation.sentences import say


class TypeChips(QWidget):
    """One chip for everything and one for each type that there is.

    Attributes:
        chips: the buttons; the one for everything under None.
        chosen: the type that is shown alone, or None.

    Signals:
        changed: another chip was clicked.
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._flow = FlowLayout(theme.sizes.space)
        self.setLayout(self._flow)
        self.chips: dict[FileType | None, QPushButton] = {}
        self.chosen: FileType | None = None

    def show_counts(self, counts: Mapping[FileType, int]) -> None:
        """Show how many rows there are of each type; the chosen one stays so, as long as there are any of it."""
        words: dict[FileType | None, str] = {}
        if len(counts) > 1:
            words[None] = say("All {count:number}", count=sum(counts.values()))
            words |= {which: f"{which.value} {text.number(counts[which])}" for which in FileType if counts.get(which)}
        self.setVisible(bool(words))
        if list(words) != list(self.chips):  # else a chip that has the focus keeps it
            self._make(words)
        for which, chip in self.chips.items():
            chip.setText(words[which])
            chip.setAccessibleName(_spoken(which, words[which]))
        self.choose(self.chosen if self.chosen in self.chips else None)

    def choose(self, file_type: FileType | None) -> None:
        """Mark one chip as the chosen one."""
        self.chosen = file_type
        for which, chip in self.chips.items():
            chip.setChecked(which == file_type)

    def _make(self, types: Iterable[FileType | None]) -> None:
        while (item := self._flow.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()  # it goes when the loop comes round, and must not be seen until then
                widget.deleteLater()
        self.chips.clear()
        for file_type in types:
            chip = QPushButton()
            chip.setProperty("role", "chip")
            chip.setCheckable(True)
            chip.setProperty("file_type", file_type.name if file_type else "")
            chip.clicked.connect(self._clicked)
            self._flow.addWidget(chip)
            self.chips[file_type] = chip

    def _clicked(self) -> None:
        name = self.sender().property("file_type")
        self.choose(FileType[name] if name else None)
        self.changed.emit()


def _spoken(file_type: FileType | None, words: str) -> str:
    return say("Show only {words}", words=words) if file_type else say("Show {words}", words=words)
