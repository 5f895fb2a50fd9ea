"""A folder as a path that can be typed, or chosen among the places that one comes back to."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QMenu, QPushButton, QToolButton, QVBoxLayout, QWidget

from rundlet.core.errors import FileProblem, file_problem
from rundlet.core.fs.moving import free_path
from rundlet.core.text import shown
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, short_path
from rundlet.presentation.sentences import say

Quick = Callable[[], list[tuple[str, Path]]]
"""Places to offer, each with its words."""

_NEW = "New folder"


class FolderField(QWidget):
    """The path, a menu of places beside it, and the way to a folder that is not there yet.

    Args:
        quick: the places that the menu offers, asked whenever it opens.

    Signals:
        changed: with the folder.
    """

    changed = Signal(object)

    def __init__(self, name: str, quick: Quick) -> None:
        super().__init__()
        self._quick = quick
        self._shown = Path()
        self._offered = Path(), ""
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(theme.sizes.space)
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.gap)
        self.edit = QLineEdit()
        self.edit.setAccessibleName(name)
        self.pick = QToolButton()
        self.pick.setIcon(theme.icon("open", "soft"))
        self.pick.setAccessibleName(say("Choose another {what}", what=name.lower()))
        self.pick.setToolTip("Choose another folder")
        self.pick.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self.fill)
        self.pick.setMenu(self.menu)
        row.addWidget(self.edit, 1)
        row.addWidget(self.pick)
        column.addLayout(row)
        self.make = QPushButton("Create this folder")
        self.make.setVisible(False)
        self.make.clicked.connect(self._make)
        self.words = label("", "warn")
        self.words.setVisible(False)
        column.addWidget(self.make, 0, Qt.AlignmentFlag.AlignLeft)
        column.addWidget(self.words)
        self.edit.editingFinished.connect(self._typed)

    def show_folder(self, folder: Path, *, must_be_there: bool = False) -> None:
        """Show a folder, with the home folder in short; one that must be there can be made."""
        if folder != self._shown:
            self.words.setVisible(False)
        self._shown = folder
        self.make.setVisible(must_be_there and not os.path.isdir(folder))
        if not self.edit.hasFocus():
            self._show_text(folder)
            self.edit.setToolTip(shown(str(folder)))
            self.edit.setCursorPosition(0)

    def fill(self) -> None:
        """Fill the menu anew."""
        self.menu.clear()
        seen: set[Path] = set()
        for words, path in self._quick():
            if path not in seen:
                seen.add(path)
                action = self.menu.addAction(theme.icon("folder", "oak"), shown(words))
                action.setData(str(path))
                action.setToolTip(str(path))
                action.triggered.connect(self._place_chosen)
        self.menu.addSeparator()
        self.menu.addAction(theme.icon("new folder", "oak"), "New folder here").triggered.connect(self._name_new)
        self.menu.addAction(theme.icon("open", "oak"), "Another folder …").triggered.connect(self._pick)

    def _place_chosen(self) -> None:
        self.take(Path(self.sender().data()))  # type: ignore[attr-defined]

    def _name_new(self) -> None:
        """Offer a name for a new folder, to be typed over."""
        path = free_path(self._shown / _NEW)
        self.edit.setFocus()
        self.edit.setText(short_path(path))
        self.edit.setSelection(len(self.edit.text()) - len(path.name), len(path.name))

    def _make(self) -> None:
        try:
            self._shown.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            problem: FileProblem = file_problem(error, "make the folder", self._shown)
            self.words.setText(str(problem))
            self.words.setVisible(True)
            return
        self.changed.emit(self._shown)

    def _typed(self) -> None:
        words = self.edit.text().strip()
        if words and self._offered != (self._shown, words):  # a path that is no text can't be had from its text again
            whole = self._shown / os.path.expanduser(words)  # noqa: PTH111 - a Path raises where there is no such person
            folder = Path(os.path.abspath(whole))
            if folder != self._shown:  # else Tab has only passed by
                self.changed.emit(folder)

    def take(self, folder: Path) -> None:
        """Choose a folder for the person."""
        self._show_text(folder)
        self.changed.emit(folder)

    def _show_text(self, folder: Path) -> None:
        self._offered = folder, shown(short_path(folder))
        self.edit.setText(self._offered[1])

    def _pick(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Choose a folder", str(Path(self.edit.text()).expanduser()))
        if chosen:
            self.take(Path(chosen))
