"""How, when unpacking: the lock, folders, taken names, and what becomes of the archive."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QCheckBox,
    QRadioButton,
    QWidget,
)

from rundlet.core import text
from rundlet.core.model.entry import ROOT, UNKNOWN
from rundlet.core.plans.unpack_plan import Afterwards
from rundlet.desktop.views.basics import (
    CLASH_WORDS,
    SHOW_WORDS,
    heading,
    label,
    page_layout,
    radio_group,
)
from rundlet.desktop.views.gauge import Gauge
from rundlet.desktop.views.lock_field import LockField
from rundlet.presentation.findings import finding_words, issue_words
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError
    from rundlet.desktop.state.forms import UnpackForm
    from rundlet.desktop.state.workspace import Workspace

_AFTER_WORDS = {
    Afterwards.STAYS: "Keep the archive where it is",
    Afterwards.TRASH: "Move the archive to the trash",
    Afterwards.INTO: "Move the archive into the folder",
}


class UnpackPage(QWidget):
    """What is taken out, with or without folders, and what becomes of names that are taken."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("", "soft")
        self.gauge = Gauge()
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addWidget(self.gauge)
        self.unsaved = label("", "warn")
        column.addWidget(self.unsaved)
        self.lock = LockField("Password of the archive")
        column.addWidget(self.lock)
        column.addWidget(heading("Folders"))
        self.with_folders = QRadioButton("Keep the folders")
        self.just_files = QRadioButton("Just the files, without folders")
        self._folder_group = radio_group(self, [self.with_folders, self.just_files], column)
        column.addWidget(heading("If a name is taken"))
        self.clash = {rule: QRadioButton(words) for rule, words in CLASH_WORDS.items()}
        self._clash_group = radio_group(self, list(self.clash.values()), column)
        column.addWidget(heading("If everything was unpacked"))
        self.after = {after: QRadioButton(words) for after, words in _AFTER_WORDS.items()}
        self._after_group = radio_group(self, list(self.after.values()), column)
        self.stays = label("", "warn")
        column.addWidget(self.stays)
        self.show_files = QCheckBox(SHOW_WORDS)
        column.addWidget(self.show_files)
        self.not_kept = label("", "soft")
        column.addWidget(self.not_kept)
        column.addStretch(1)
        self.show_files.clicked.connect(self._show_chosen)
        self._after_group.buttonClicked.connect(self._after_chosen)
        self._folder_group.buttonClicked.connect(self._folders_chosen)
        self._clash_group.buttonClicked.connect(self._clash_chosen)
        self.lock.typed.connect(workspace.unlock)
        workspace.opener.unlock_failed.connect(self._refuse)
        workspace.unpacking.changed.connect(self._show)
        workspace.unpacking.landed.connect(self._show_outcome)
        workspace.changing.changed.connect(self._show)

    def _refuse(self, error: RundletError) -> None:
        self.lock.refuse(error.message)

    def _show_outcome(self, *_: object) -> None:
        """What is not kept, and that the archive stays where it would not go though that is asked for."""
        plan = self._workspace.unpacking.plan
        lacking = (
            plan.lacking if plan is not None and self._workspace.unpacking.form.after != Afterwards.STAYS else None
        )
        self.stays.setText(
            say("The archive stays where it is, as {reason}.", reason=finding_words(lacking)) if lacking else ""
        )
        self.stays.setVisible(lacking is not None)
        losses = plan.losses if plan is not None else ()
        self.not_kept.setText("\n".join(text.sentence(issue_words(loss)) for loss in losses))
        self.not_kept.setVisible(bool(losses))

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.lock.edit if self._workspace.needs_password else self.with_folders

    def _show(self) -> None:
        self._show_outcome()
        count = self._workspace.changing.count
        self.unsaved.setText(
            say("{count:change is|changes are} not saved. Unpacking takes the archive as it is.", count=count)
        )
        self.unsaved.setVisible(count > 0)
        self.lock.ask(self._workspace.needs_password)
        form, selection = self._workspace.unpacking.form, self._workspace.selection
        (self.with_folders if form.keep_folders else self.just_files).setChecked(True)
        self.clash[form.on_clash].setChecked(True)
        self.after[form.after].setChecked(True)
        self.show_files.setChecked(form.show)
        for widget in self.after.values():
            widget.setVisible(self._workspace.place.outer is None)  # else it is a copy, which goes by itself
        listing = self._workspace.listing
        self.gauge.setVisible(listing is not None)
        if listing is None:
            self.statement.setText("Locked, with hidden names")
            self.more.setText("Type the password to see what is in it.")
            return
        whole, inner = listing.whole(), self._workspace.place.inner
        if selection.items:
            self.statement.setText(text.plural(selection.items, "selected item"))
            self.more.setText(
                say("{files:file|files}, {size:size} once unpacked", files=selection.files, size=selection.size)
            )
        else:
            where = inner.rpartition("/")[2]
            self.statement.setText(say("Everything in {where:name}", where=where) if inner else "Everything")
            self.more.setText(say("{files:file|files}, {size:size} once unpacked", files=whole.files, size=whole.size))
        what = selection if selection.items else whole
        packed, opened = what.packed, self._workspace.archive
        if packed == UNKNOWN and opened is not None and what.size == int(opened.tree.size[ROOT]):
            packed = opened.reader.source.size  # entries share what they take; only all of them together have a size
        self.gauge.show_sizes(what.size, None if packed == UNKNOWN else packed, unpacking=True)

    def _after_chosen(self) -> None:
        chosen = next(after for after, button in self.after.items() if button.isChecked())

        def change(form: UnpackForm) -> None:
            form.after = chosen

        self._workspace.unpacking.change(change)

    def _show_chosen(self, on: bool) -> None:
        def change(form: UnpackForm) -> None:
            form.show = on

        self._workspace.unpacking.change(change)

    def _folders_chosen(self) -> None:
        keep = self.with_folders.isChecked()
        opened = self._workspace.archive

        def change(form: UnpackForm) -> None:
            if form.keep_folders != keep:  # without their folders all files lie loose, so one of their own is proposed
                form.own_folder = not keep or (opened is not None and opened.is_loose)
            form.keep_folders = keep

        self._workspace.unpacking.change(change)

    def _clash_chosen(self) -> None:
        rule = next(rule for rule, button in self.clash.items() if button.isChecked())

        def change(form: UnpackForm) -> None:
            form.on_clash = rule

        self._workspace.unpacking.change(change)
