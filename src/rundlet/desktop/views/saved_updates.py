"""Bringing an archive up to date with a folder, and doing so again under a name."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QToolButton, QWidget

from rundlet.core.userdata.updates import Update
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, page_layout
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.state.workspace import Workspace


class SavedUpdates(QWidget):
    """A button for each that is saved, and one for another folder.

    Signals:
        compare_wanted: with the :class:`Update` that is to be made.
    """

    compare_wanted = Signal(object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._shown: tuple[Path | None, dict[str, Update]] | None = None
        self.buttons: dict[str, QPushButton] = {}
        self.deletes: dict[str, QToolButton] = {}
        column = page_layout(self, gap=theme.sizes.space)
        column.addWidget(heading("Bring up to date"))
        holder = QWidget()
        self._list = page_layout(holder, gap=theme.sizes.space)
        column.addWidget(holder)
        self.other = QPushButton("Compare with a folder …")
        column.addWidget(self.other, 0, Qt.AlignmentFlag.AlignLeft)
        self.delete_gone = QCheckBox("Remove what the folder no longer has")
        self.compare_content = QCheckBox("Compare the content of all files, too")
        self.compare_content.setToolTip("Also of files with the same size and time; takes longer")
        column.addWidget(self.delete_gone)
        column.addWidget(self.compare_content)
        self.other.clicked.connect(self._pick)

    @property
    def _archive(self) -> Path | None:
        place = self._workspace.place
        return place.archive if place.outer is None else None

    def refresh(self) -> None:
        """Show those of the archive where the window stands."""
        archive = self._archive
        saved = dict(self._workspace.updates.of(archive)) if archive is not None else {}
        beside = self._beside()
        if beside is not None and all(update.folder != beside for update in saved.values()):
            saved[beside.name] = Update(beside)  # where it probably came from
        if (archive, saved) == self._shown:
            return
        self._shown = archive, saved
        while (item := self._list.takeAt(0)) is not None:
            if (row := item.widget()) is not None:
                row.hide()
                row.deleteLater()
        self.buttons, self.deletes = {}, {}
        for name, update in saved.items():
            self._add(name, update)

    def _add(self, name: str, update: Update) -> None:
        row = QWidget()
        across = QHBoxLayout(row)
        across.setContentsMargins(0, 0, 0, 0)
        button = QPushButton(say("Compare with “{name:shown}”", name=name))
        button.setToolTip(str(update.folder))
        button.setEnabled(os.path.isdir(update.folder))
        button.clicked.connect(partial(self._again, name, update))
        delete = QToolButton()
        delete.setIcon(theme.icon("cancel", "soft"))
        words = say("Delete {name:name}", name=name)
        delete.setAccessibleName(words)
        delete.setToolTip(words)
        delete.clicked.connect(partial(self._delete, name))
        across.addWidget(button)
        across.addWidget(delete)
        across.addStretch(1)
        delete.setVisible(self._is_saved(name))
        self.buttons[name], self.deletes[name] = button, delete
        self._list.addWidget(row)

    def _beside(self) -> Path | None:
        """The folder of the archive's name that lies beside it, or None."""
        place = self._workspace.place
        beside = place.folder / self._workspace.unpacking.own_folder_name
        return beside if place.outer is None and beside != place.folder and os.path.isdir(beside) else None

    def _again(self, name: str, update: Update, _: bool = False) -> None:
        """Compare once more: as it was saved, or, with a folder that is only offered, as the boxes say."""
        if self._is_saved(name):
            self.compare_wanted.emit(update)
        else:
            self._compare(update.folder)

    def _is_saved(self, name: str) -> bool:
        archive = self._archive
        return archive is not None and name in self._workspace.updates.of(archive)

    def _pick(self) -> None:
        folder = QFileDialog.getExistingDirectory(
            self, "Choose the folder to compare with", str(self._workspace.place.folder)
        )
        if folder:
            self._compare(Path(folder))

    def _compare(self, folder: Path) -> None:
        self.compare_wanted.emit(Update(folder, self.delete_gone.isChecked(), self.compare_content.isChecked()))

    def _delete(self, name: str, _: bool = False) -> None:
        if self._archive is not None:
            self._workspace.updates.delete(self._archive, name)
            self.refresh()


class UpdateName(QWidget):
    """Asks under which name a comparison is saved.

    Args:
        saved: told when that was done.
    """

    def __init__(self, workspace: Workspace, saved: Callable[[], object]) -> None:
        super().__init__()
        self._workspace = workspace
        self._saved = saved
        self._update: tuple[Path, Update] | None = None
        column = page_layout(self, gap=theme.sizes.space)
        column.addWidget(label("To compare again with one press, save this under a name:", "soft"))
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.gap)
        column.addLayout(row)
        self.edit = QLineEdit()
        self.edit.setPlaceholderText("Name of this comparison")
        self.edit.setAccessibleName("Name to save this comparison under")
        self.button = QPushButton("Save")
        self.button.setAccessibleName("Save this comparison under the name")
        row.addWidget(self.edit, 1)
        row.addWidget(self.button)
        self.button.clicked.connect(self._save)
        self.edit.returnPressed.connect(self._save)
        self.setVisible(False)

    def ask(self, archive: Path | None, update: Update) -> None:
        """Offer to save a comparison that was made, unless it is saved already."""
        is_new = archive is not None and update not in self._workspace.updates.of(archive).values()
        self._update = (archive, update) if archive is not None and is_new else None
        self.edit.setText(update.folder.name)
        self.refresh()

    def refresh(self) -> None:
        """Be there only where the comparison was made, and until it is saved."""
        place = self._workspace.place
        self.setVisible(self._update is not None and place.outer is None and place.archive == self._update[0])

    def _save(self) -> None:
        name = self.edit.text().strip()
        if self._update is not None and name:
            archive, update = self._update
            self._workspace.updates.save(archive, name, update)
            self._update = None
            self.refresh()
            self._saved()
