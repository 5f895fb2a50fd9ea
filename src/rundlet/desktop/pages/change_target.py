"""To, when an archive is changed: this archive or a new one, its size before and after, and what will be in it."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QRadioButton, QWidget

from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import (
    Choices,
    Footer,
    go_button,
    heading,
    label,
    page_layout,
    radio_group,
    restyle,
    scrolling,
)
from rundlet.desktop.views.folder_field import FolderField, Quick
from rundlet.desktop.views.gauge import Gauge
from rundlet.desktop.views.result_tree import ResultView
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.desktop.state.workspace import Workspace


class ChangeTarget(QWidget):
    """The archive as it will be, and the button that saves it."""

    def __init__(self, workspace: Workspace, quick: Quick) -> None:
        super().__init__()
        self._workspace = workspace
        self._changing = workspace.changing
        self._shown: ArchiveTree | None = None
        whole = page_layout(self)
        inner = QWidget()
        column = page_layout(inner)
        column.setContentsMargins(0, 0, theme.sizes.space, 0)
        whole.addWidget(scrolling(inner), 1)
        self.what = Choices([("this", "This archive"), ("new", "A new archive")], name="Where to save")
        column.addWidget(self.what)
        self._add_new(quick)
        column.addWidget(self.new_box)
        self.size_heading = heading("Size")
        column.addWidget(self.size_heading)
        self.gauge = Gauge()
        column.addWidget(self.gauge)
        column.addWidget(heading("What will be in it"))
        self.view = ResultView()
        column.addWidget(self.view, 1)
        self.facts = label("", "soft")
        self.go = go_button("Save")
        whole.addWidget(Footer(self.facts, self.go))
        self.what.chosen.connect(self._what_chosen)
        self.name.textEdited.connect(self._name_typed)
        self.name.editingFinished.connect(self._changing.new.finish_stem)
        self.folder.changed.connect(self._changing.new.set_folder)
        for rule, button in self.clashes.items():
            button.clicked.connect(lambda _=False, rule=rule: self._changing.new.set_clash(rule))
        self._changing.changed.connect(self._show)
        workspace.relisted.connect(self._show)
        workspace.unpacking.changed.connect(self._show)

    def _add_new(self, quick: Quick) -> None:
        """The name and place of a new archive."""
        self.new_box = QWidget()
        inner = page_layout(self.new_box)
        inner.addWidget(heading("Name"))
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.gap)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the archive, without its extension")
        self.ending = label("", "ending", wrap=False)
        row.addWidget(self.name, 1)
        row.addWidget(self.ending)
        inner.addLayout(row)
        self.clash = label("", "warn")
        inner.addWidget(self.clash)
        self.ways_out = QWidget()
        self.clashes = {
            IfTaken.RENAME: QRadioButton("Add a number to the name"),
            IfTaken.REPLACE: QRadioButton("Replace; the old one goes to the trash"),
        }
        self._clash_group = radio_group(self, list(self.clashes.values()), page_layout(self.ways_out))
        inner.addWidget(self.ways_out)
        inner.addWidget(heading("Folder"))
        self.folder = FolderField("Folder for the archive", quick)
        inner.addWidget(self.folder)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.name if self._changing.as_new else self.view

    def _what_chosen(self, what: str) -> None:
        self._changing.as_new, self._changing.only = what == "new", None
        self._changing.changed.emit()

    def _name_typed(self, words: str) -> None:
        self._changing.new.set_stem(words)

    def _show(self, _: object = None) -> None:
        changing, opened = self._changing, self._workspace.archive
        if opened is None or not changing.wanted:
            return
        self.what.choose("new" if changing.as_new else "this")
        self._show_new()
        if opened.tree is not self._shown:
            self._shown = opened.tree
            self.view.show_result(opened)
        before = opened.reader.source.size
        after = changing.cost.size if changing.cost is not None else before
        self.gauge.show_sizes(
            before, after, limit=before if after > before else 0, roughly=after != before, changing=True
        )
        if changing.as_new:
            self.gauge.show_sizes(self._size(), changing.new_size, roughly=True)
        lack = self._lack()
        words = {
            (False, False): "",
            (False, True): "The archive as it was goes to the trash. Undo brings it back.",
            (True, False): "The archive here stays as it is.",
            (True, True): "The archive here stays as it is; the changes go into the new one.",
        }[changing.as_new, changing.count > 0]
        unlocked = self._loses_its_lock()
        self.facts.setText(lack or joined([words, unlocked]))
        restyle(self.facts, "role", "warn" if lack or unlocked else "soft")
        self.go.setText(self._button_words())
        ready = changing.as_new or (changing.count > 0 and changing.plan is not None)
        self.go.set_ready(
            ready and not lack and not changing.is_saving and not (changing.count and changing.plan is None)
        )

    def _size(self) -> int:
        """Bytes of what goes into a new archive, before it is packed."""
        changing, opened = self._changing, self._workspace.archive
        if opened is None:
            return 0
        sizes = opened.tree.catalog.size.clip(0)
        if changing.only is not None:
            return int(sizes[list(changing.only)].sum())
        gone = list(opened.staged.removed) if opened.staged is not None else []
        return int(sizes.sum() - sizes[gone].sum())

    def _loses_its_lock(self) -> str:
        """That a new archive is not locked though the one here is, or ""."""
        opened, changing = self._workspace.archive, self._changing
        if opened is None or not changing.as_new or changing.new.form.lock_wanted:
            return ""
        is_locked = opened.reader.names_hidden or bool(opened.reader.catalog.encrypted.any())
        return "The archive here is locked; the new one won't be." if is_locked else ""

    def _button_words(self) -> str:
        changing = self._changing
        if changing.as_new:
            return say("Save as {format}", format=changing.new.form.info.id)
        return say("Save {count:change|changes}", count=changing.count) if changing.count else "Save"

    def _show_new(self) -> None:
        new = self._changing.new
        self.new_box.setVisible(self._changing.as_new)
        if not self.name.hasFocus() and self.name.text() != new.form.stem:
            self.name.setText(new.form.stem)
            self.name.setCursorPosition(0)
        self.ending.setText(new.form.info.ending)
        self.folder.show_folder(new.folder, must_be_there=True)
        taken = self._changing.as_new and new.target_is_taken
        self.clash.setVisible(taken)
        self.ways_out.setVisible(taken and not os.path.isdir(new.asked_target))
        self.clashes[IfTaken.REPLACE].setEnabled(not self._is_this(new.asked_target))
        clash = new.clash if new.clash in self.clashes else IfTaken.RENAME
        self.clashes[clash].setChecked(True)
        if taken and clash is IfTaken.RENAME:
            self.clash.setText(
                say("That name is taken. This archive will be called {name:name}.", name=new.target.name)
            )
        elif taken:
            self.clash.setText(say("The existing {name:name} goes to the trash.", name=new.asked_target.name))

    def _is_this(self, path: object) -> bool:
        return str(path) == str(self._workspace.place.archive)

    def _lack(self) -> str:
        """What keeps the work from being begun, or ""."""
        changing = self._changing
        if self._workspace.needs_password and changing.only is None:
            return "Type the password first."
        if changing.is_saving:
            return "The changes are being saved."
        if not changing.as_new:
            plan = changing.plan
            if plan is not None and plan.needed > plan.free:
                return say(
                    "{needed:size} are needed, but only {free:size} are free there.", needed=plan.needed, free=plan.free
                )
            return ""
        new = changing.new
        if new.form.bad_parts:
            return "Type the part size with a unit, such as 20 MB."
        if new.name_is_too_long:
            return "The name is too long."
        if not os.path.isdir(new.folder):
            return "This folder doesn't exist."
        if new.form.lock_is_lost:
            return say("{format} can't be locked. Choose zip or 7z, or turn off the lock.", format=new.form.info.id)
        if new.form.hidden_names_are_lost:
            return say("{format} can't hide file names. Choose 7z, or turn off hiding.", format=new.form.info.id)
        if new.form.lock_is_open:
            return "Type the password twice, or show it."
        return ""
