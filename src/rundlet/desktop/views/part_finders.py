"""Buttons that find missing parts elsewhere: each copies the file that is chosen beside the other parts, under the right name."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QPushButton, QWidget

from rundlet.core.text import size
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout
from rundlet.presentation.sentences import say

_MOST = 4

Missing = tuple[int, Path, int]
"""The number of a part, where it should be, and how many bytes it should have."""


class PartFinders(QWidget):
    """A button for each of the first missing parts.

    Signals:
        part_found: a file that was chosen, and where the part should be.
    """

    part_found = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._flow = FlowLayout(theme.sizes.space)
        self.setLayout(self._flow)
        self._shown: list[Missing] = []
        self.buttons: list[QPushButton] = []

    def show_missing(self, missing: Sequence[Missing]) -> None:
        """Offer to find these."""
        wanted = list(missing[:_MOST])
        self.setVisible(bool(wanted))
        if wanted == self._shown:
            return
        self._shown = wanted
        for button in self.buttons:
            self._flow.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons = []
        for number, path, least in wanted:
            button = QPushButton(say("Find part {number} …", number=number))
            button.setToolTip(say("{name:shown}, {size}", name=path.name, size=size(least)))
            button.clicked.connect(partial(self._find, path))
            self._flow.addWidget(button)
            self.buttons.append(button)

    def _find(self, part: Path, _: bool = False) -> None:
        words = say("Find {name}", name=part.name)
        chosen, _filter = QFileDialog.getOpenFileName(self, words, str(part.parent))
        if chosen:
            self.part_found.emit(Path(chosen), part)
