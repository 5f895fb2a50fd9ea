"""To, when an archive is changed: this archive or a new one, its size before and after, and what will be in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.fs.disk_space import can_be_written
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.views.archive_name import ArchiveName, lack_of
from rundlet.desktop.views.basics import Choices, heading
from rundlet.desktop.views.gauge import Gauge
from rundlet.desktop.views.result_tree import ResultView
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

    from rundlet.core.model.tree import ArchiveTree
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.folder_field import Quick


class ChangeTarget(TargetPage):
    """The archive as it will be, and the button that saves it."""

    def __init__(self, workspace: Workspace, quick: Quick) -> None:
        super().__init__("Save")
        self._workspace = workspace
        self._changing = workspace.changing
        self._shown: tuple[ArchiveTree, tuple[int, ...] | None] | None = None
        column = self.column
        self.what = Choices([("this", "This archive"), ("new", "A new archive")], name="Where to save")
        column.addWidget(self.what)
        self.archive = ArchiveName(workspace.changing.new, quick, (IfTaken.RENAME, IfTaken.REPLACE))
        column.addWidget(self.archive)
        self.size_heading = heading("Size")
        column.addWidget(self.size_heading)
        self.gauge = Gauge()
        column.addWidget(self.gauge)
        column.addWidget(heading("What will be in it"))
        self.view = ResultView()
        column.addWidget(self.view, 1)
        self.add_footer()
        self.what.chosen.connect(self._what_chosen)
        self._changing.changed.connect(self._show)
        workspace.relisted.connect(self._show)
        workspace.unpacking.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.archive.name if self._changing.as_new else self.view

    def _what_chosen(self, what: str) -> None:
        self._changing.as_new, self._changing.only = what == "new", None
        self._changing.changed.emit()

    def _show(self, _: object = None) -> None:
        changing, opened = self._changing, self._workspace.archive
        if opened is None or not changing.wanted:
            return
        self.what.choose("new" if changing.as_new else "this")
        self.archive.setVisible(changing.as_new)
        self.archive.refresh()
        self.archive.clashes[IfTaken.REPLACE].setEnabled(changing.new.asked_target != self._workspace.place.archive)
        if self._shown is None or opened.tree is not self._shown[0] or changing.only != self._shown[1]:
            self._shown = opened.tree, changing.only
            self.view.show_result(opened, changing.only)
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
        if changing.only is not None:
            words = "The archive here stays as it is. A report is saved beside the new one."
        unlocked = self._loses_its_lock()
        empty = "The archive will be empty." if self._will_be_empty() else ""
        self.say_last(lack or joined([words, unlocked, empty]), warns=bool(lack or unlocked or empty))
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

    def _will_be_empty(self) -> bool:
        """Whether the changes leave nothing in the archive."""
        opened = self._workspace.archive
        staged = opened.staged if opened is not None else None
        return staged is not None and self._changing.count > 0 and len(staged.removed) == len(staged.catalog)

    def _loses_its_lock(self) -> str:
        """That a new archive is not locked though the one here is, or ""."""
        opened, changing = self._workspace.archive, self._changing
        if opened is None or not changing.as_new or changing.new.form.lock_wanted:
            return ""
        return "The archive here is locked; the new one won't be." if opened.is_locked else ""

    def _button_words(self) -> str:
        changing = self._changing
        if changing.as_new:
            return say("Save as {format}", format=changing.new.form.info.id)
        return say("Save {count:change|changes}", count=changing.count) if changing.count else "Save"

    def _lack(self) -> str:
        """What keeps the work from being begun, or ""."""
        changing = self._changing
        if self._workspace.needs_password and changing.only is None:
            return "Type the password first."
        if changing.is_saving:
            return "The changes are being saved."
        if not changing.as_new:
            plan = changing.plan
            outermost = self._workspace.place.outermost
            if changing.count and outermost is not None and not can_be_written(outermost.parent):
                return "You can't write to the folder of this archive. Save it as a new archive in another folder."
            if plan is not None and plan.needed > plan.free:
                return say(
                    "{needed:size} are needed, but only {free:size} are free there.", needed=plan.needed, free=plan.free
                )
            return ""
        return lack_of(changing.new)
