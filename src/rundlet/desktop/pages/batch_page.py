"""How and To for several archives that are unpacked one after the other."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QRadioButton, QWidget

from rundlet.core import text
from rundlet.core.plans.unpack_plan import Action, UnpackClash, UnpackPlan
from rundlet.desktop.views.basics import CLASH_WORDS, SHOW_WORDS, heading, label, page_layout, radio_group
from rundlet.desktop.views.folder_field import FolderField, Quick
from rundlet.desktop.views.landing_tree import LandingView, Taken, set_rule, taken_hint
from rundlet.desktop.views.lock_field import LockField
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.findings import finding_words
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.state.archive_batch import ArchiveBatch, BatchForm


class BatchPage(QWidget):
    """The lock, what becomes of taken names, and of the archives afterwards, when several are unpacked.

    Signals:
        password_wanted: a locked archive is selected, and its password is not known.
    """

    password_wanted = Signal()

    def __init__(self, batch: ArchiveBatch) -> None:
        super().__init__()
        self._batch = batch
        self._asked_for: tuple[Path, ...] = ()
        self._tries = 0  # passwords that were judged
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("Each archive gets its own folder, unless it already holds a single folder.", "soft")
        column.addWidget(self.statement)
        column.addWidget(self.more)
        self.lock = LockField("Password of the locked archives")
        column.addWidget(self.lock)
        column.addWidget(heading("If a name is taken"))
        self.clash = {rule: QRadioButton(words) for rule, words in CLASH_WORDS.items()}
        self._clash_group = radio_group(self, list(self.clash.values()), column)
        column.addWidget(heading("If everything was unpacked"))
        self.trash = QCheckBox("Move the archives to the trash")
        self.show_files = QCheckBox(SHOW_WORDS)
        column.addWidget(self.trash)
        self.stays = label("", "warn")
        column.addWidget(self.stays)
        column.addWidget(self.show_files)
        column.addStretch(1)
        self._clash_group.buttonClicked.connect(self._changed)
        self.trash.clicked.connect(self._changed)
        self.show_files.clicked.connect(self._changed)
        self.lock.typed.connect(batch.unlock)
        batch.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.lock.edit if self._batch.form.locked else self.clash[self._batch.form.on_clash]

    def _show(self) -> None:
        form = self._batch.form
        self.statement.setText(say("Unpack {count:archive|archives}", count=len(form.archives)))
        self._show_lock(form)
        self.clash[form.on_clash].setChecked(True)
        self.trash.setChecked(form.trash)
        stays = [(o.path, o.plan.lacking) for o in form.ready if o.plan is not None and o.plan.lacking is not None]
        stays = stays if form.trash else []
        self.stays.setVisible(bool(stays))
        if stays:
            words = "{name:name} stays where it is, as {reason}."
            if len(stays) > 1:
                words = "{name:name} and {more:other archive|other archives} stay where they are, as {reason}."
            (path, lacking), more = stays[0], len(stays) - 1
            self.stays.setText(say(words, name=path.name, more=more, reason=finding_words(lacking)))
        self.show_files.setChecked(form.show)

    def _show_lock(self, form: BatchForm) -> None:
        if not form.outlooks and form.archives == self._asked_for:
            return  # a password is being tried
        asks = bool(form.locked)
        new = asks and form.archives != self._asked_for
        self._asked_for = form.archives if asks else ()
        judged, self._tries = not new and form.tries == self._tries, form.tries
        if new:
            self.lock.ask(False)  # what was typed for others
        self.lock.ask(asks)
        if not asks or judged:  # else each other change would take the focus here
            return
        count = len(form.locked)
        if form.tries:
            words = "This password doesn't open {count:number} of them. Check it and try again."
            self.lock.refuse(
                say(words if count > 1 else "This password doesn't open it. Check it and try again.", count=count)
            )
        elif len(form.archives) > 1:
            words = "{count:number} archives are locked. One password is tried on all."
            self.lock.show_words(say(words if count > 1 else "1 archive is locked.", count=count))
        if new:
            self.password_wanted.emit()

    def _changed(self, _: object = None) -> None:
        rule = next(rule for rule, button in self.clash.items() if button.isChecked())
        trash, show = self.trash.isChecked(), self.show_files.isChecked()

        def change(form: BatchForm) -> None:
            form.on_clash, form.trash, form.show = rule, trash, show

        self._batch.change(change)


class BatchTarget(TargetPage):
    """The folder, and what each of the archives will be in it."""

    def __init__(self, batch: ArchiveBatch, quick: Quick) -> None:
        super().__init__("Unpack")
        self._batch = batch
        column = self.column
        self.folder = FolderField("Folder to unpack the archives into", quick)
        column.addWidget(self.folder)
        column.addWidget(heading("What will be there"))
        self.view = LandingView(self._rule_of)
        column.addWidget(self.view, 1)
        self.hint = taken_hint()
        column.addWidget(self.hint)
        self.add_footer()
        self.folder.changed.connect(self._folder_changed)
        self.view.ruled.connect(self._set_rule)
        batch.changed.connect(self._show)

    def _rule_of(self, taken: Taken) -> UnpackClash | None:
        path = self._batch.form.ready[taken[0]].path
        return self._batch.form.rules.get(path, {}).get(taken[1])

    def _set_rule(self, taken: Taken, rule: UnpackClash | None) -> None:
        path = self._batch.form.ready[taken[0]].path

        def change(form: BatchForm) -> None:
            set_rule(form.rules.setdefault(path, {}), taken[1], rule)

        self._batch.change(change)

    def _folder_changed(self, folder: Path) -> None:
        def change(form: BatchForm) -> None:
            form.folder = folder
            form.rules.clear()

        self._batch.change(change)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.folder.edit

    def _show(self) -> None:
        if not self._batch.unpacks:
            return
        form = self._batch.form
        self.folder.show_folder(self._batch.folder)
        plans = [outlook.plan for outlook in form.ready if outlook.plan is not None]
        self.view.show_landing(form.landing)
        self.hint.setVisible(any(plan.taken + plan.counts[Action.SAME] for plan in plans))
        count = len(plans) if form.outlooks else len(form.archives)
        self.go.setText(say("Unpack {count:archive|archives}", count=count) if count else "Nothing to unpack")
        size, free = sum(plan.needed for plan in plans), min((plan.free for plan in plans), default=0)
        fits = size <= free
        if not form.outlooks:
            words = "Opening the archives …"
        elif fits:
            words = _words(plans, len(form.outlooks) - len(plans))
        else:
            words = say("{size:size} are needed, but only {free:size} are free there.", size=size, free=free)
        self.say_last(words, warns=not fits)
        self.go.set_ready(bool(plans) and fits)


def _words(plans: list[UnpackPlan], without: int) -> str:
    """What will be there, in a line."""
    words = []
    if plans:
        words.append(
            say("{needed:size} of {free:size} free", needed=sum(plan.size for plan in plans), free=plans[0].free)
        )
        words.append(text.plural(sum(plan.files for plan in plans), "file"))
    taken = sum(plan.taken for plan in plans)
    if taken:
        words.append(say("{taken:name|names} already taken", taken=taken))
    if without:
        words.append(say("{without:archive|archives} can't be unpacked", without=without))
    return " · ".join(words)
