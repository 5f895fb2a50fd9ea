"""How and To, when an archive is checked: what is read, the verdict, what is wrong, and what can be done."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QCheckBox, QFileDialog, QPushButton, QWidget

from rundlet.core.errors import file_problem
from rundlet.core.model.entry import Kind
from rundlet.core.streams.parts import JoinedSource
from rundlet.core.text import plain_path
from rundlet.core.work.checker import Verdict, rows_to_check
from rundlet.desktop.locations.place import with_others
from rundlet.desktop.views.basics import button_row, heading, label, line_list, page_layout
from rundlet.desktop.views.lock_field import LockField
from rundlet.desktop.views.part_finders import PartFinders
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.checks import report_lines, report_values
from rundlet.presentation.findings import issue_line, issue_values
from rundlet.presentation.outcomes import verdict
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError
    from rundlet.core.jobs.outcomes import Checked
    from rundlet.desktop.state.workspace import Workspace

_MOST = 500  # lines of what is wrong; the report has all of them


class CheckPage(QWidget):
    """What is read, and the lock."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("Each file is read to its end and compared with its checksum. Nothing is written.", "soft")
        self.lock = LockField("Password of the archive")
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addWidget(self.lock)
        column.addWidget(heading("What can be told"))
        self.kinds = label("", "soft")
        column.addWidget(self.kinds)
        column.addStretch(1)
        self.lock.typed.connect(workspace.unlock)
        workspace.opener.unlock_failed.connect(self._refuse)
        workspace.unpacking.changed.connect(self._show)
        workspace.checking.changed.connect(self._show)

    def _refuse(self, error: RundletError) -> None:
        self.lock.refuse(error.message)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.lock.edit

    def _show(self) -> None:
        opened, selection = self._workspace.archive, self._workspace.selection
        if opened is None or not self._workspace.checking.wanted:
            return
        self.lock.ask(self._workspace.needs_password)
        if selection.items:
            self.statement.setText(say("{items:selected item|selected items}", items=selection.items))
        else:
            self.statement.setText("Everything in it")
        rows = rows_to_check(opened.reader)
        catalog = opened.reader.catalog
        filled = int(((catalog.kind[rows] == Kind.FILE) & (catalog.size[rows] != 0)).sum())
        untold = int(opened.reader.lacks_checksum(rows).sum())
        if untold and untold == filled:
            words = "The format {format} keeps no checksums of contents. That its files can be read is all that can be told."
        elif untold:
            words = "{untold:file has|files have} no checksum; that they can be read is all that can be told of them."
        else:
            words = "Whether each file is, byte for byte, as it was packed."
        self.kinds.setText(say(words, format=opened.reader.info.id, untold=untold))


class CheckTarget(TargetPage):
    """The verdict, what is wrong, and what can be done about it.

    Signals:
        select_wanted: rows are to be selected.
        part_found: a file that was chosen for a missing part, and where that should be.
    """

    select_wanted = Signal(object)
    part_found = Signal(object, object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("Check")
        self._workspace = workspace
        self._checking = workspace.checking
        column = self.column
        column.addWidget(heading("Result"))
        self.verdict = label("", "statement")
        self.more = label("", "soft")
        column.addWidget(self.verdict)
        column.addWidget(self.more)
        self.wrong = line_list("What is wrong")
        column.addWidget(self.wrong, 1)
        self.select_bad = QPushButton("Select the damaged files")
        self.select_good = QPushButton("Select the intact files")
        self.unpack_good = QPushButton("Unpack the intact files")
        self.save_good = QPushButton("New archive of the intact files …")
        self.damaged_too = QCheckBox("Also what is left of damaged files")
        self.copy = QPushButton("Copy report")
        self.save = QPushButton("Save report …")
        self._for_bad = (self.select_bad, self.select_good, self.unpack_good, self.save_good, self.damaged_too)
        self.buttons = button_row(*self._for_bad, self.copy, self.save)
        column.addWidget(self.buttons)
        self.finders = PartFinders()
        self.finders.part_found.connect(self.part_found)
        column.addWidget(self.finders)
        column.addStretch(0)
        self.add_footer()
        self._shown: Checked | None = None
        self.select_bad.clicked.connect(lambda: self.select_wanted.emit(self._checking.nodes(good=False)))
        self.select_good.clicked.connect(lambda: self.select_wanted.emit(self._checking.nodes(good=True)))
        self.unpack_good.clicked.connect(self._unpack_good)
        self.save_good.clicked.connect(self._save_good)
        self.copy.clicked.connect(self._copy)
        self.save.clicked.connect(self._save)
        self._checking.changed.connect(self._show)
        workspace.unpacking.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.wrong if self.wrong.isVisible() else self.go

    def _show(self) -> None:
        opened, selection = self._workspace.archive, self._workspace.selection
        if opened is None or not self._checking.wanted:
            return
        found = self._checking.found
        outcome = found.outcome if found is not None else None
        running = found is not None and found.running
        bad = outcome.bad + outcome.doubtful if outcome is not None else 0
        wrong = [issue for issue in outcome.issues if issue.problem or bad == 0] if outcome is not None else []
        self.verdict.setText(self._words(outcome, running=running))
        if outcome is not self._shown:
            self._shown = outcome
            self.wrong.clear()
            self.wrong.addItems([issue_line(issue) for issue in wrong[:_MOST]])
            if len(wrong) > _MOST:
                self.wrong.addItem(say("… and {count:number} more, in the report", count=len(wrong) - _MOST))
        self.wrong.setVisible(bool(wrong))
        self.more.setText(
            ""
            if outcome is None
            else say("{bytes:size} read in {seconds:duration}.", bytes=outcome.bytes_out, seconds=outcome.seconds)
        )
        self.more.setVisible(outcome is not None)
        self.buttons.setVisible(outcome is not None)
        for button in self._for_bad:
            button.setVisible(bad > 0)
        source, folder = opened.reader.source, self._workspace.place.folder
        parts = source.parts if isinstance(source, JoinedSource) and self._workspace.place.outer is None else []
        lacking = [part for part in parts if part.source is None]
        self.finders.show_missing([(part.number, folder / part.name, part.size) for part in lacking])
        rows = opened.rows_below(selection.nodes) if selection.items else None
        count = len(rows_to_check(opened.reader, rows))
        words = say("Check {count:file|files}", count=count)
        if outcome is not None and not selection.items:
            words = "Check again"
        self.go.setText(with_others(words, selection) if selection.items else words)
        locked = self._workspace.needs_password
        self.say_last("Locked files can't be read without the password." if locked else "", warns=locked)
        self.go.set_ready(count > 0 and not running)

    def _words(self, outcome: Checked | None, *, running: bool) -> str:
        if running:
            return "Checking …"
        return "Not checked yet" if outcome is None else verdict(outcome)

    def _unpack_good(self) -> None:
        self.select_wanted.emit(self._checking.nodes(good=True))
        self._checking.want(False)

    def _save_good(self) -> None:
        """Have a new archive of what is intact."""
        changing = self._workspace.changing
        changing.only = tuple(node - 1 for node in self._checking.readable())
        changing.as_new, changing.damaged_too = True, self.damaged_too.isChecked()
        changing.want(True)

    # The report

    def _verdicts(self) -> list[tuple[str, Verdict]]:
        opened, found = self._workspace.archive, self._checking.found
        if opened is None or found is None:
            return []
        catalog = opened.reader.catalog
        return [
            (plain_path(catalog.path(row)), Verdict(judged))
            for row, judged in enumerate(found.verdicts.tolist())
            if judged
        ]

    def report(self, *, as_json: bool = False) -> str:
        """All that was found out."""
        outcome = self._shown
        if outcome is None:
            return ""
        if as_json:
            return json.dumps(report_values(outcome, self._verdicts(), issue_values(outcome.issues)), indent=1) + "\n"
        return "\n".join(report_lines(outcome, self._verdicts())) + "\n"

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.report())

    def _save(self) -> None:
        opened = self._workspace.archive
        name = say("{name} report.txt", name=opened.path.name if opened is not None else "")
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save the report", str(self._workspace.place.folder / name), "Text (*.txt);;JSON (*.json)"
        )
        if not chosen:
            return
        try:
            Path(chosen).write_text(self.report(as_json=chosen.lower().endswith(".json")), "utf-8", "surrogateescape")
        except OSError as error:
            self.say_last(str(file_problem(error, "write", chosen)), warns=True)
