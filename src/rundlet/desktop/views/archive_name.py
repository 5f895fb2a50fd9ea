"""What a new archive is called, where it goes, and what becomes of a name that is taken."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QRadioButton, QWidget

from rundlet.core.fs.disk_space import can_be_written
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, page_layout, radio_group, restyle
from rundlet.desktop.views.folder_field import FolderField, Quick
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.state.packing import Packing

_CLASHES = {
    IfTaken.RENAME: "Add a number to the name",
    IfTaken.REPLACE: "Replace; the old one goes to the trash",
    IfTaken.ADD: "Add to the existing archive",
}


class ArchiveName(QWidget):
    """Its fields, which say to ``packing`` what they are given.

    Args:
        rules: what may become of a name that is taken.
    """

    def __init__(self, packing: Packing, quick: Quick, rules: Iterable[IfTaken]) -> None:
        super().__init__()
        self._packing = packing
        self._typing = False
        column = page_layout(self)
        column.addWidget(heading("Name"))
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.gap)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the archive, without its extension")
        self.ending = label("", "ending", wrap=False)
        row.addWidget(self.name, 1)
        row.addWidget(self.ending)
        column.addLayout(row)
        self.clash = label("", "warn")
        column.addWidget(self.clash)
        self.ways_out = QWidget()
        self.clashes = {rule: QRadioButton(_CLASHES[rule]) for rule in rules}
        self._clash_group = radio_group(self, list(self.clashes.values()), page_layout(self.ways_out))
        column.addWidget(self.ways_out)
        column.addWidget(heading("Folder"))
        self.folder = FolderField("Folder for the archive", quick)
        column.addWidget(self.folder)
        self.name.textEdited.connect(self._name_typed)
        self.name.editingFinished.connect(self._name_finished)
        self.folder.changed.connect(packing.set_folder)
        for rule, button in self.clashes.items():
            button.clicked.connect(lambda _=False, rule=rule: packing.set_clash(rule))

    def refresh(self) -> None:
        """Show how things are now."""
        packing, form = self._packing, self._packing.form
        stem = "named after each item" if form.each else form.stem
        if not self._typing and self.name.text() != stem:
            self.name.setText(stem)
            self.name.setCursorPosition(0)
        self.ending.setText(form.info.ending)
        self.name.setEnabled(not form.each)
        self.folder.show_folder(packing.folder, must_be_there=True)
        taken, rule = packing.target_is_taken and not form.each, packing.clash
        self.clash.setVisible(taken)
        self.ways_out.setVisible(taken and not os.path.isdir(packing.asked_target))
        self.clashes[rule].setChecked(True)
        self.clash.setText(self._clash_words(rule) if taken else "")
        restyle(self.clash, "role", "soft" if rule is IfTaken.ADD else "warn")

    def _clash_words(self, rule: IfTaken) -> str:
        if rule is IfTaken.RENAME:
            name = self._packing.target.name
            return say("That name is taken. This archive will be called {name:name}.", name=name)
        existing = self._packing.asked_target.name
        if rule is IfTaken.REPLACE:
            return say("The existing {name:name} goes to the trash.", name=existing)
        return say("Everything already in {name:name} stays.", name=existing)

    def _name_typed(self, words: str) -> None:
        """While a name is being typed it is not tidied under the person's hands."""
        self._typing = True
        self._packing.set_stem(words)
        self._typing = False

    def _name_finished(self) -> None:
        self._packing.finish_stem()
        self.refresh()


READ_ONLY = "You can't write to this folder. Choose another one, such as one in your home folder."


def lack_of(packing: Packing) -> str:
    """What keeps a new archive from being written, or ""."""
    form = packing.form
    if form.bad_parts:
        return "Type the part size with a unit, such as 20 MB."
    if packing.name_is_too_long:
        return "The name is too long."
    if not os.path.isdir(packing.folder):
        return "This folder doesn't exist."
    if not can_be_written(packing.folder):
        return READ_ONLY
    if form.lock_is_lost:
        return say("{format} can't be locked. Choose zip or 7z, or turn off the lock.", format=form.info.id)
    if form.hidden_names_are_lost:
        return say("{format} can't hide file names. Choose 7z, or turn off hiding.", format=form.info.id)
    return "Type the password twice, or show it." if form.lock_is_open else ""
