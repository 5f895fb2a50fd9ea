"""How and To for several archives that are unpacked one after the other."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QRadioButton, QWidget

from rundlet.core import text
from rundlet.core.plans.unpack_plan import Action, UnpackClash, UnpackPlan
from rundlet.desktop.views.basics import (
    CLASH_WORDS,
    SHOW_WORDS,
    go_button,
    heading,
    label,
    page_layout,
    radio_group,
    restyle,
)
from rundlet.desktop.views.folder_field import FolderField, Quick
from rundlet.desktop.views.landing_tree import LandingView, Taken, set_rule, taken_hint
from rundlet.desktop.views.lock_field import LockField
from rundlet.presentation.findings import finding_words

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
        self.statement.setText(f"Unpack {text.plural(len(form.archives), 'archive')}")
        self._show_lock(form)
        self.clash[form.on_clash].setChecked(True)
        self.trash.setChecked(form.trash)
        stays = [(o.path, o.plan.lacking) for o in form.ready if o.plan is not None and o.plan.lacking is not None]
        stays = stays if form.trash else []
        self.stays.setVisible(bool(stays))
        if stays:
            name = text.quoted(stays[0][0].name)
            more = f" and {text.plural(len(stays) - 1, 'other archive')}" if len(stays) > 1 else ""
            self.stays.setText(
                f"{name}{more} stay{'' if more else 's'} where {'they are' if more else 'it is'}, "
                f"as {finding_words(stays[0][1])}."
            )
        self.show_files.setChecked(form.show)

    def _show_lock(self, form: BatchForm) -> None:
        if not form.outlooks and form.archives == self._asked_for:
            return  # a password is being tried
        asks = bool(form.locked)
        new = asks and form.archives != self._asked_for
        self._asked_for = form.archives if asks else ()
        if new:
            self.lock.ask(False)  # what was typed for others
        self.lock.ask(asks)
        if not asks:
            return
        count = len(form.locked)
        if form.typed:
            what = "it" if count == 1 else f"{count} of them"
            self.lock.refuse(f"This password doesn't open {what}. Check it and try again.")
        elif len(form.archives) > 1:
            locked = (
                "1 archive is locked." if count == 1 else f"{count} archives are locked. One password is tried on all."
            )
            self.lock.show_words(locked)
        if new:
            self.password_wanted.emit()

    def _changed(self, _: object = None) -> None:
        rule = next(rule for rule, button in self.clash.items() if button.isChecked())
        trash, show = self.trash.isChecked(), self.show_files.isChecked()

        def change(form: BatchForm) -> None:
            form.on_clash, form.trash, form.show = rule, trash, show

        self._batch.change(change)


class BatchTarget(QWidget):
    """The folder, and what each of the archives will be in it."""

    def __init__(self, batch: ArchiveBatch, quick: Quick) -> None:
        super().__init__()
        self._batch = batch
        column = page_layout(self)
        self.folder = FolderField("Folder to unpack the archives into", quick)
        column.addWidget(self.folder)
        column.addWidget(heading("What will be there"))
        self.view = LandingView(self._rule_of)
        column.addWidget(self.view, 1)
        self.hint = taken_hint()
        column.addWidget(self.hint)
        self.facts = label("", "soft")
        column.addWidget(self.facts)
        self.go = go_button("Unpack")
        column.addWidget(self.go)
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
        self.go.setText(f"Unpack {text.plural(count, 'archive')}" if count else "Nothing to unpack")
        size, free = sum(plan.needed for plan in plans), min((plan.free for plan in plans), default=0)
        fits = size <= free
        restyle(self.facts, "role", "soft" if fits else "warn")
        if not form.outlooks:
            self.facts.setText("Opening the archives …")
        elif fits:
            self.facts.setText(_words(plans, len(form.outlooks) - len(plans)))
        else:
            self.facts.setText(f"{text.size(size)} are needed, but only {text.size(free)} are free there.")
        self.go.set_ready(bool(plans) and fits)


def _words(plans: list[UnpackPlan], without: int) -> str:
    """What will be there, in a line."""
    words = []
    if plans:
        words.append(f"{text.size(sum(plan.size for plan in plans))} of {text.size(plans[0].free)} free")
        words.append(text.plural(sum(plan.files for plan in plans), "file"))
    taken = sum(plan.taken for plan in plans)
    if taken:
        words.append(f"{text.plural(taken, 'name')} already taken")
    if without:
        words.append(f"{text.plural(without, 'archive')} can't be unpacked")
    return " · ".join(words)
