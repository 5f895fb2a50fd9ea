"""To, when unpacking: the folder, and what will be in it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QCheckBox,
    QWidget,
)

from rundlet.core import text
from rundlet.core.fs.disk_space import can_be_written
from rundlet.core.limits import MIB
from rundlet.core.plans.unpack_plan import Action, UnpackClash, UnpackPlan
from rundlet.desktop.locations.place import with_others
from rundlet.desktop.views.archive_name import READ_ONLY
from rundlet.desktop.views.basics import heading
from rundlet.desktop.views.folder_field import FolderField, Quick
from rundlet.desktop.views.landing_tree import LandingView, Taken, set_rule, taken_hint
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError
    from rundlet.desktop.locations.landing_rows import LandingListing
    from rundlet.desktop.state.forms import UnpackForm
    from rundlet.desktop.state.workspace import Workspace

_LONG = 5.0  # seconds
_WORTH_SAYING = 64 * MIB  # about a second of reading


class UnpackTarget(TargetPage):
    """The folder and the landing tree."""

    def __init__(self, workspace: Workspace, quick: Quick) -> None:
        super().__init__("Unpack")
        self._workspace = workspace
        column = self.column
        self.folder = FolderField("Folder to unpack into", quick)
        column.addWidget(self.folder)
        self.own = QCheckBox("Create a folder")
        column.addWidget(self.own)
        column.addWidget(heading("What will be there"))
        self.view = LandingView(lambda taken: workspace.unpacking.form.rules.get(taken[1]))
        column.addWidget(self.view, 1)
        self.hint = taken_hint()
        column.addWidget(self.hint)
        self.view.ruled.connect(self._set_rule)
        self.add_footer()
        self.folder.changed.connect(self._folder_changed)
        self.own.toggled.connect(self._own_toggled)
        workspace.unpacking.changed.connect(self._show)
        workspace.unpacking.landed.connect(self._landed)
        workspace.unpacking.landing_failed.connect(self._landing_failed)

    def _folder_changed(self, folder: Path) -> None:
        def change(form: UnpackForm) -> None:
            if form.folder != folder:
                form.rules.clear()
            form.folder = folder

        self._workspace.unpacking.change(change)

    def _set_rule(self, taken: Taken, rule: UnpackClash | None) -> None:
        def change(form: UnpackForm) -> None:
            set_rule(form.rules, taken[1], rule)

        self._workspace.unpacking.change(change)

    def _own_toggled(self, own: bool) -> None:
        def change(form: UnpackForm) -> None:
            form.own_folder = own
            form.rules.clear()

        self._workspace.unpacking.change(change)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.folder.edit

    def _show(self) -> None:
        ws = self._workspace
        if not ws.place.in_archive:
            return
        self.folder.show_folder(ws.unpacking.folder)
        self.own.blockSignals(True)
        self.own.setChecked(ws.unpacking.form.own_folder)
        self.own.blockSignals(False)
        self.own.setVisible(bool(ws.unpacking.own_folder_name))
        self.own.setText(
            say("Create the folder “{own_folder_name:shown}”", own_folder_name=ws.unpacking.own_folder_name)
        )
        count = ws.selection.items
        self.go.setText(
            with_others(say("Unpack {count:item|items}", count=count), ws.selection) if count else "Unpack everything"
        )
        self.go.set_ready(False)  # until the plan for this is there
        if ws.listing is None:
            self.view.show_landing(None)
            self.say_last("")

    def _landed(self, plan: UnpackPlan, landing: LandingListing) -> None:
        self.view.show_landing(landing)
        self.hint.setVisible(plan.taken + plan.counts[Action.SAME] > 0)
        fits = plan.needed <= plan.free
        writable = can_be_written(plan.root)
        is_locked = self._workspace.selected_is_locked
        locked = "Type the password first. " if is_locked else ""
        self.say_last(locked + (landing_words(plan) if writable else READ_ONLY), warns=not (fits and writable))
        self.go.set_ready(fits and writable and any(step.action.writes for step in plan.steps) and not is_locked)

    def _landing_failed(self, error: RundletError) -> None:
        self.view.show_landing(None)
        self.say_last(str(error), warns=True)


def landing_words(plan: UnpackPlan) -> str:
    """The landing in a sentence."""
    if plan.needed > plan.free:
        return say("{needed:size} are needed, but only {free:size} are free there.", needed=plan.needed, free=plan.free)
    parts = [say("{size:size} of {free:size} free", size=plan.size, free=plan.free)]
    if plan.read_through >= _WORTH_SAYING:
        parts.append(say("{read_through:size} before them must be read first", read_through=plan.read_through))
    if plan.unlock_seconds >= _LONG:
        parts.append(
            say(
                "unlocking its old kind of lock takes {unlock_seconds:about}",
                unlock_seconds=plan.unlock_seconds,
            )
        )
    new = plan.files - plan.counts[Action.NUMBER] - plan.counts[Action.REPLACE] - plan.unreadable
    if new > 0:
        parts.append(text.plural(new, "new file"))
    if plan.unreadable:
        parts.append(say("{unreadable:file|files} in a missing part", unreadable=plan.unreadable))
    words = {Action.NUMBER: "both kept", Action.REPLACE: "replaced", Action.SKIP: "existing files kept"}
    for action, result in words.items():
        if plan.counts[action]:
            parts.append(say("{count:name|names} already taken, {result}", count=plan.counts[action], result=result))
    if plan.counts[Action.SAME]:
        parts.append(say("{count:file|files} already there with the same content", count=plan.counts[Action.SAME]))
    if plan.counts[Action.REFUSE]:
        parts.append(say("{count:item|items} left out", count=plan.counts[Action.REFUSE]))
    return " · ".join(parts)
