"""How and To for the parts of a plain file: what they make up, what is missing, and where a missing part can be found."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QListWidgetItem, QWidget

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, line_list, page_layout
from rundlet.desktop.views.gauge import Gauge
from rundlet.desktop.views.part_finders import PartFinders
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.findings import issue_line
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.work.joiner import PartState
    from rundlet.desktop.state.workspace import Workspace

_MOST = 500
_MOST_NAMED = 4


class JoinPage(QWidget):
    """What the parts make up."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._joining = workspace.joining
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label(
            "These parts don't contain an archive. Joining them restores the file that was split. The parts stay as they are.",
            "soft",
        )
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addWidget(heading("Parts"))
        self.list = line_list("Parts")
        column.addWidget(self.list, 1)
        self._joining.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.list

    def _show(self) -> None:
        plan = self._joining.plan
        if plan is None:
            return
        self.statement.setText(say("Join {count:part|parts}", count=len(plan.parts)))
        self.list.clear()
        for part in plan.parts[:_MOST]:
            item = QListWidgetItem(_part_line(part))
            item.setForeground(theme.color("moss" if part.is_whole else "amber"))
            self.list.addItem(item)
        if len(plan.parts) > _MOST:
            self.list.addItem(say("… and {count:number} more", count=len(plan.parts) - _MOST))


def _part_line(part: PartState) -> str:
    words = "✓ {name:shown}, {size:size}"
    if not part.there:
        words = "✗ {name:shown} is missing, {size:size}"
    elif not part.is_whole:
        words = "✗ {name:shown} is too short: {there:size} of {size:size}"
    return say(words, name=part.name, size=part.size, there=part.there)


class JoinTarget(TargetPage):
    """The file that the parts make up, and the button.

    Signals:
        part_found: a file that was chosen, and where the part should be.
    """

    part_found = Signal(object, object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("Join")
        self._workspace = workspace
        self._joining = workspace.joining
        column = self.column
        column.addWidget(heading("The file"))
        self.name = label("", "statement")
        self.more = label("", "soft")
        self.gauge = Gauge()
        column.addWidget(self.name)
        column.addWidget(self.more)
        column.addWidget(self.gauge)
        self.problems = label("", "warn")
        column.addWidget(self.problems)
        self.finders = PartFinders()
        column.addWidget(self.finders)
        column.addStretch(1)
        self.add_footer()
        self.finders.part_found.connect(self.part_found)
        self._joining.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.finders.buttons[0] if self.finders.buttons else self.go

    def _show(self) -> None:
        plan = self._joining.plan
        if plan is None:
            return
        lacking = plan.lacking
        self.name.setText(say("{name:name}", name=plan.name))
        words = "{size:size} when all parts are here" if lacking else "{size:size}, in the folder of the parts"
        self.more.setText(say(words, size=plan.size))
        self.gauge.show_sizes(plan.size, sum(min(part.there, part.size) for part in plan.parts))
        self.problems.setText("\n".join(map(issue_line, plan.issues)))
        self.problems.setVisible(bool(plan.issues))
        self.finders.show_missing(
            [(part.number, plan.first.with_name(part.name), part.size) for part in lacking if not part.there]
        )
        lack = ""
        if lacking:
            numbers = ", ".join(str(part.number) for part in lacking[:_MOST_NAMED])
            more = len(lacking) - _MOST_NAMED
            words = "Part {numbers} is not all here." if len(lacking) == 1 else "Parts {numbers} are not all here."
            words = "Parts {numbers} and {more:number} more are not all here." if more > 0 else words
            lack = say(words, numbers=numbers, more=more)
        self.say_last(lack or "Undo moves the new file to the trash.", warns=bool(lack))
        self.go.setText(say("Join {count:part|parts}", count=len(plan.parts)))
        self.go.set_ready(not lacking)
