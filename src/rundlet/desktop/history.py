"""What was done: jobs are noted as they end, shown in the log, and taken back."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from rundlet.core.files.journal import Journal, Record, record_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.text import quoted
from rundlet.core.work.undo import undo, undo_words
from rundlet.desktop.background import Background
from rundlet.desktop.file_manager import show_in_file_manager
from rundlet.desktop.jobs import Jobs, Outcome, RunningJob
from rundlet.desktop.log import LogWindow


class History(QObject):
    """The journal of a window's jobs, and the log that shows it.

    Attributes:
        last_record: the last job, as long as it was not taken back.
        log: the log, once it was opened.

    Signals:
        noted: the last job is another one; with what taking it back would do, or "" when it can't be.
    """

    noted = Signal(str)

    def __init__(self, journal: Journal, jobs: Jobs, background: Background, window: QWidget) -> None:
        super().__init__(window)
        self.journal = journal
        self._jobs = jobs
        self._background = background
        self._window = window
        self.last_record: Record | None = None
        self.log: LogWindow | None = None

    def note(self, running: RunningJob, outcome: Outcome) -> None:
        """Keep a record of a job that has just ended."""
        report = outcome.report
        if report is None or report.verb == "lend":
            return
        if report.verb == "undo":
            self._fill_log()
            return

        def work(_: Job) -> Record:
            record, puts = record_of(report, running.source, outcome.words, expected=running.expected)
            self.journal.add(record, puts)
            return record

        self._background.run(work, done=self._noted, failed=lambda _: None)

    def _noted(self, record: Record) -> None:
        self.last_record = record
        self.noted.emit(undo_words(record) if record.can_undo else "")
        self._fill_log()

    def undo_last(self) -> None:
        """Take the last job back, as long as it was not taken back already."""
        if self.last_record is not None and self.last_record.can_undo:
            self.undo(self.last_record)

    def undo(self, record: Record) -> None:
        """Take a job back."""
        if record == self.last_record:
            self.last_record = None
            self.noted.emit("")

        def work(job: Job) -> Report:
            report = undo(record, self.journal.puts(record), job)
            self.journal.undone(record)
            return report

        self._jobs.start(f"Taking back {quoted(Path(record.target).name)}", work)

    def open_log(self) -> None:
        """Show the log."""
        if self.log is None:
            self.log = LogWindow(self._window)
            self.log.show_wanted.connect(show_in_file_manager)
            self.log.undo_wanted.connect(self.undo)
        self._fill_log()
        self.log.show()
        self.log.raise_()

    def _fill_log(self) -> None:
        if self.log is not None:
            self._background.run(lambda _: self.journal.records(), done=self.log.show_records, failed=lambda _: None)
