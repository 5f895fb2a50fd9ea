"""How and To, when several archives that are selected on the disk are checked: one line for each."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QListWidgetItem, QPushButton, QWidget

from rundlet.core.text import shown
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, line_list, page_layout
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.findings import issue_line
from rundlet.presentation.outcomes import verdict
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.state.archive_batch import ArchiveBatch
    from rundlet.desktop.state.archive_checks import ArchiveChecks, Line
    from rundlet.desktop.state.workspace import Workspace


class ChecksPage(QWidget):
    """What is read."""

    def __init__(self, workspace: Workspace, batch: ArchiveBatch) -> None:
        super().__init__()
        self._batch = batch
        self._checks: ArchiveChecks = workspace.archive_checks
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label(
            "Each archive is read to its end, and each file compared with its checksum. Nothing is written.", "soft"
        )
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addStretch(1)
        self._checks.changed.connect(self._show)
        batch.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self

    def _show(self) -> None:
        self.statement.setText(say("Check {count:archive|archives}", count=len(self._batch.form.archives)))


class ChecksTarget(TargetPage):
    """The verdict on each archive.

    Signals:
        enter_wanted: with an archive that is to be looked into, with what is wrong in it.
    """

    enter_wanted = Signal(object)

    def __init__(self, workspace: Workspace, batch: ArchiveBatch) -> None:
        super().__init__("Check")
        self._batch = batch
        self._checks: ArchiveChecks = workspace.archive_checks
        column = self.column
        column.addWidget(heading("Result"))
        self.verdict = label("", "statement")
        column.addWidget(self.verdict)
        self.list = line_list("Archives")
        column.addWidget(self.list, 1)
        self.copy = QPushButton("Copy report")
        column.addWidget(self.copy, 0, Qt.AlignmentFlag.AlignLeft)
        self.add_footer()
        self.facts.setText("Double-click an archive to see what is wrong in it.")
        self.copy.clicked.connect(self._copy)
        self.list.itemActivated.connect(self._enter)
        self._checks.changed.connect(self._show)
        batch.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.list if self.list.count() else self.go

    @property
    def _lines(self) -> list[tuple[Path, Line | None]]:
        return [(archive, self._checks.line(archive)) for archive in self._batch.form.archives]

    def _show(self) -> None:
        if not self._checks.wanted:
            return
        lines = self._lines
        known = [line for _, line in lines if line is not None and not line.running]
        running = any(line is not None and line.running for _, line in lines)
        good = sum(line.is_good for line in known)
        if not known:
            self.verdict.setText("Checking …" if running else "Not checked yet")
        else:
            words = "{good:number} of {count:archive|archives} {good:=is|are} intact."
            self.verdict.setText(say(words, good=good, count=len(lines)))
        self.list.clear()
        for archive, line in lines:
            words, token = _words(archive, line)
            item = QListWidgetItem(words)
            item.setForeground(theme.color(token))
            item.setData(Qt.ItemDataRole.UserRole, str(archive))
            self.list.addItem(item)
        for widget in (self.copy, self.facts):
            widget.setVisible(bool(known))
        again = len(known) == len(lines)
        self.go.setText(say("Check again" if again else "Check {count:archive|archives}", count=len(lines)))
        self.go.set_ready(bool(lines) and not running)

    def _enter(self, item: QListWidgetItem) -> None:
        self.enter_wanted.emit(Path(item.data(Qt.ItemDataRole.UserRole)))

    def _copy(self) -> None:
        text = []
        for archive, line in self._lines:
            text.append(_words(archive, line)[0])
            if line is not None and line.outcome is not None:
                text += [f"    {issue_line(each)}" for each in line.outcome.issues]
        QGuiApplication.clipboard().setText("\n".join(text) + "\n")


def _words(archive: Path, line: Line | None) -> tuple[str, str]:
    """The verdict on an archive, and the token that it is written in."""
    name = shown(archive.name)
    if line is None:
        return name, "ink"
    if line.running:
        return say("{name} …", name=name), "soft"
    if line.outcome is None:
        words = "✗ {why}" if archive.name in line.why else "✗ {name}: {why}"
        return say(words, name=name, why=line.why), "amber"
    words = verdict(line.outcome)
    return (say("✓ {words}", words=words), "moss") if line.is_good else (say("✗ {words}", words=words), "amber")
