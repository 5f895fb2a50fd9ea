"""How, when an archive is changed: the changes that are not saved yet, each with its undo, and what saving them costs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QRadioButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.plans.change_plan import AddClash
from rundlet.core.plans.staging import ChangeKind, StagedChange
from rundlet.core.sentences import fill
from rundlet.desktop.pages.pack_page import level_word
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import Choices, OneLine, heading, label, page_layout, radio_group
from rundlet.desktop.views.dropdown import Dropdown
from rundlet.desktop.views.lock_field import LockField
from rundlet.desktop.views.pack_options import PackOptions
from rundlet.desktop.views.saved_updates import SavedUpdates, UpdateName
from rundlet.presentation.changes import cost_words
from rundlet.presentation.findings import issue_line
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError
    from rundlet.core.plans.change_plan import ChangePlan
    from rundlet.core.userdata.updates import Update
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.temp_copies import Copy

_MOST = 100  # lines of one kind; a person reads no more
_MOST_ISSUES = 5

_GROUPS = {
    ChangeKind.ADDED: ("Added", "+ {path:shown}", "good"),
    ChangeKind.REPLACED: ("Replaced", "↻ {path:shown}", "slate"),
    ChangeKind.RENAMED: ("Renamed", "✎ {new_path:shown}", "slate"),
    ChangeKind.MOVED: ("Moved", "✎ {new_path:shown}", "slate"),
    ChangeKind.REMOVED: ("Removed", "– {path:shown}", "warn"),
    ChangeKind.LEFT_OUT: ("Not added", "– {path:shown}", "soft"),
}
"""For each kind of change its heading, its line, and the role that it is written in."""

CLASHES = {
    AddClash.RENAME: "Keep both, rename the new item",
    AddClash.REPLACE: "Replace the item in the archive",
    AddClash.SKIP: "Keep the item in the archive",
}
"""What becomes of a name that the archive holds already, in words."""


class Lines(QWidget):
    """One line for each thing, with a button or a choice; rebuilt whenever these are others."""

    def __init__(self) -> None:
        super().__init__()
        self._column = page_layout(self, gap=theme.sizes.space)
        self._rows: list[QWidget] = []
        self._shown: list[object] = []
        self.buttons: list[QPushButton] = []

    def is_for(self, things: Sequence[object]) -> bool:
        """Show these from now on: whether they are others than before, so that their lines are to be added anew."""
        if self._shown == list(things):
            return False
        self._shown = list(things)
        for row in self._rows:
            self._column.removeWidget(row)
            row.hide()
            row.deleteLater()
        self._rows, self.buttons = [], []
        return True

    def add_heading(self, words: str) -> None:
        """A heading above those that follow."""
        self._add(heading(words))

    def add_words(self, words: str) -> None:
        """A line with no button."""
        self._add(label(words, "soft"))

    def add(self, words: str, role: str, does: str, spoken: str, call: Callable[[], object]) -> None:
        """A line with a button.

        Args:
            role: how the line is written.
            does: the words of the button.
            spoken: the same for who can't see the line beside it.
        """
        row = QWidget()
        across = QHBoxLayout(row)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(theme.sizes.gap)
        line = OneLine(role)
        line.setText(words)
        line.setToolTip(words)
        button = QPushButton(does)
        button.setAccessibleName(spoken)
        button.clicked.connect(lambda: call())
        across.addWidget(line, 1)
        across.addWidget(button)
        self.buttons.append(button)
        self._add(row)

    def add_choice(
        self, words: str, choices: Sequence[tuple[str, object]], chosen: object, call: Callable[[object], object]
    ) -> None:
        """A line with one thing of several to choose."""
        self._add(label(words, "warn"))
        box = Dropdown()
        box.setAccessibleName(words)
        values = [value for _, value in choices]
        box.addItems([what for what, _ in choices])
        box.setCurrentIndex(values.index(chosen))
        box.activated.connect(lambda index: call(values[index]))  # the toolkit would give words back for what is one
        self._add(box)

    def _add(self, row: QWidget) -> None:
        self._rows.append(row)
        self._column.addWidget(row)


class ChangePage(QWidget):
    """The changes, grouped and counted, and how a new archive is written where one is wanted.

    Signals:
        put_back_wanted: copies that were opened and changed are to be put back, as a list.
    """

    put_back_wanted = Signal(object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._changing = workspace.changing
        self._shown: list[StagedChange] = []
        column = page_layout(self)
        column.setContentsMargins(0, 0, theme.sizes.space, 0)
        self.statement = label("", "statement")
        column.addWidget(self.statement)
        self.more = label("", "soft")
        column.addWidget(self.more)
        self.why_not = label("", "warn")
        column.addWidget(self.why_not)
        self.lock = LockField("Password of the archive")
        column.addWidget(self.lock)
        self.lines = Lines()
        column.addWidget(self.lines)
        self.discard_all = QPushButton("Discard all")
        column.addWidget(self.discard_all, 0, Qt.AlignmentFlag.AlignLeft)
        self._add_clashes(column)
        self.copies = Lines()
        column.addWidget(self.copies)
        self._add_new(column)
        self.updates = SavedUpdates(workspace)
        column.addWidget(self.updates)
        self.update_name = UpdateName(workspace, self.updates.refresh)
        column.addWidget(self.update_name)
        self.cost = label("", "soft")
        column.addWidget(self.cost)
        self.issues = label("", "soft")
        column.addWidget(self.issues)
        column.addStretch(1)
        self._wire()

    def _add_clashes(self, column: QVBoxLayout) -> None:
        self.clash_box = QWidget()
        inner = page_layout(self.clash_box, gap=theme.sizes.space)
        inner.addWidget(heading("If a name is taken"))
        self.clash = {rule: QRadioButton(words) for rule, words in CLASHES.items()}
        self._clash_group = radio_group(self, list(self.clash.values()), inner)
        self.taken = Lines()
        inner.addWidget(self.taken)
        column.addWidget(self.clash_box)

    def _add_new(self, column: QVBoxLayout) -> None:
        """How a new archive is written."""
        self.new_box = QWidget()
        inner = page_layout(self.new_box)
        inner.addWidget(heading("Format"))
        self.formats = Choices([(each.info.id, each.info.id) for each in WRITABLE], name="Format")
        inner.addWidget(self.formats)
        inner.addWidget(heading("Level"))
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setPageStep(1)
        self.level.setAccessibleName("Level, from 0 (uncompressed) to 9 (smallest)")
        inner.addWidget(self.level)
        self.level_words = label("", "soft")
        inner.addWidget(self.level_words)
        self.options = PackOptions(self._workspace, self._changing.new, of_archive=True)
        inner.addWidget(self.options)
        column.addWidget(self.new_box)

    def _wire(self) -> None:
        changing = self._changing
        self.lock.typed.connect(self._workspace.unlock)
        self._workspace.opener.unlock_failed.connect(self._refuse)
        self.discard_all.clicked.connect(changing.discard_all)
        self._clash_group.buttonClicked.connect(self._clash_chosen)
        self.formats.chosen.connect(changing.new.set_format)
        self.level.valueChanged.connect(changing.new.set_level)
        self.updates.compare_wanted.connect(self.compare_with)
        changing.changed.connect(self._show)
        self._workspace.unpacking.changed.connect(self._show)
        self._workspace.temp_copies.changed.connect(self._show_copies)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        if self.lines.buttons:
            return self.lines.buttons[0]
        return self.formats.first if self._changing.as_new else self.updates.other

    def _refuse(self, error: RundletError) -> None:
        self.lock.refuse(error.message)

    def _show(self) -> None:
        changing = self._changing
        if self._workspace.archive is None or not changing.wanted:
            return
        self.lock.ask(self._workspace.needs_password)
        count = changing.count
        error = None if self._workspace.needs_password else changing.why_not()
        if changing.as_new and (changing.only is not None or not count):
            self.statement.setText(
                "A new archive of the same content"
                if changing.only is None
                else say("A new archive of {count:intact file|intact files}", count=len(changing.only))
            )
        else:
            nothing = "No changes yet" if error is None else "This archive can't be changed"
            self.statement.setText(text.plural(count, "change") if count else nothing)
        hints = {
            True: "Everything in it goes into the new archive, without being unpacked onto the disk. The old one stays.",
            False: "Delete, rename, paste and drop in the list as in a folder. Nothing is written until you save.",
        }
        self.more.setText(hints[changing.as_new])
        self.more.setVisible(error is None or changing.as_new)
        self.why_not.setText(str(error) if error is not None else "")
        self.why_not.setVisible(error is not None)
        self._shown = list(changing.staging.changes) if changing.staging is not None else []
        paths = [
            (change, change.path) for change in self._shown
        ]  # a change of what is new itself has another path then
        if self.lines.is_for(paths):
            self._show_changes(self._shown)
        self.discard_all.setVisible(count > 1)
        for button in (*self.lines.buttons, self.discard_all):
            button.setEnabled(not changing.is_saving)
        self._show_taken(changing.plan)
        self._show_copies()
        self._show_new()
        self.updates.setVisible(error is None and not count and not changing.as_new)
        self.updates.refresh()
        self.update_name.refresh()
        outer, size = self._outer_archives()
        self.cost.setText(cost_words(changing.plan, changing.cost, outer, size) if not changing.as_new else "")
        staged = changing.staging.issues if changing.staging is not None else []
        issues = [*staged, *(changing.plan.issues if changing.plan else ())]
        lines = [issue_line(issue) for issue in issues[:_MOST_ISSUES]]
        if len(issues) > _MOST_ISSUES:
            lines.append(say("… and {count:number} more", count=len(issues) - _MOST_ISSUES))
        self.issues.setText("\n".join(lines))
        self.issues.setVisible(bool(lines))

    def _outer_archives(self) -> tuple[list[str], int]:
        """The archives that the one here lies in, the innermost first, and the bytes of the outermost."""
        names, at = list[str](), self._workspace.place.outer
        size = 0
        while at is not None and at.archive is not None:
            names.append(at.archive.name)
            try:
                size = at.archive.stat().st_size
            except OSError:
                size = 0
            at = at.outer
        return names, size

    def _show_changes(self, changes: list[StagedChange]) -> None:
        for kind, (name, line, role) in _GROUPS.items():
            some = [change for change in changes if change.kind is kind]
            if some:
                self.lines.add_heading(say("{name} {count:number}", name=name, count=len(some)))
            for change in some[:_MOST]:
                facts = {"path": change.path, "new_path": change.new_path}
                words = fill(line, facts)
                spoken = say("Undo: {what}", what=words)
                self.lines.add(words, role, "Undo", spoken, partial(self._changing.discard, [change]))
            if len(some) > _MOST:
                self.lines.add_words(say("… and {count:number} more", count=len(some) - _MOST))

    def _show_taken(self, plan: ChangePlan | None) -> None:
        staging = self._changing.staging
        replaced = {change.path for change in self._shown if change.kind is ChangeKind.REPLACED}
        taken = [each for each in (plan.taken if plan is not None else ()) if each.path not in replaced]
        if plan is None and self._changing.count:
            return  # it is being worked out; what is shown may well hold
        self.clash_box.setVisible(bool(taken))
        if staging is None:
            return
        self.clash[staging.on_clash].setChecked(True)
        ruled = [(each.path, staging.rules.get(each.path)) for each in taken[:_MOST]] if len(taken) > 1 else []
        if not self.taken.is_for(ruled):
            return
        choices = [("As above", None), *((words, rule) for rule, words in CLASHES.items())]
        for path, rule in ruled:
            self.taken.add_choice(text.shown(path), choices, rule, partial(self._set_rule, path))

    def _set_rule(self, path: str, rule: object) -> None:
        self._changing.set_rule(path, rule if isinstance(rule, AddClash) else None)

    def _clash_chosen(self) -> None:
        self._changing.set_clash(next(rule for rule, button in self.clash.items() if button.isChecked()))

    # Copies that were opened in other programs

    def _changed_copies(self) -> list[Copy]:
        place = self._workspace.place
        if place.outer is not None:
            return []
        staged = {item.source for change in self._shown for item in change.items.values()}
        return [
            copy
            for copy in self._workspace.temp_copies.unkept
            if copy.origin is not None and copy.origin.archive == place.archive and str(copy.path) not in staged
        ]

    def _show_copies(self, *_: object) -> None:
        copies = self._changed_copies()
        self.copies.setVisible(bool(copies))
        if not self.copies.is_for(copies) or not copies:
            return
        self.copies.add_heading("Changed copies")
        for copy in copies:
            assert copy.origin is not None
            words = text.shown(copy.origin.inner)
            spoken = say("Put back: {what}", what=words)
            self.copies.add(words, "slate", "Put back", spoken, partial(self.put_back_wanted.emit, [copy]))
        if len(copies) > 1:
            words = say("All {count:number} of them", count=len(copies))
            self.copies.add(words, "body", "Put all back", "Put all back", partial(self.put_back_wanted.emit, copies))

    # A new archive

    def _show_new(self) -> None:
        form = self._changing.new.form
        self.new_box.setVisible(self._changing.as_new)
        self.formats.choose(form.info.id)
        self.level.blockSignals(True)
        self.level.setRange(form.info.levels[0], form.info.levels[-1])
        self.level.setValue(form.level)
        self.level.blockSignals(False)
        self.level.setEnabled(len(form.info.levels) > 1)
        how = say("Level {level}: {word}.", level=form.level, word=level_word(form.level))
        self.level_words.setText(joined([how if len(form.info.levels) > 1 else "", form.info.about]))

    # Bringing up to date

    def compare_with(self, update: Update) -> None:
        """Collect what is new or newer in a folder, and what is gone from it where that is wanted."""
        place = self._workspace.place
        self.update_name.ask(place.archive if place.outer is None else None, update)
        self._changing.bring_up_to_date(
            update.folder, delete_gone=update.delete_gone, compare_content=update.compare_content
        )
