"""What was done: jobs are noted as they end, shown in the log, and undone."""

from __future__ import annotations

import logging
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.jobs.outcomes import Outcome, Packed, Undone
from rundlet.core.userdata.journal import Journal, Put, Record, failed_record, record_of
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.file_manager import copy_files, show_in_file_manager

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

    from rundlet.core.jobs.job import Job
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob
    from rundlet.desktop.log import LogWindow

_log = logging.getLogger(__name__)


class History(QObject):
    """The journal of a window's jobs, and the log that shows it. Undoing goes back from the newest job to the oldest.

    Attributes:
        last_record: the newest job that was not undone yet.
        log: the log, once it was opened.

    Signals:
        noted: another job is the next to be undone; with the words for the button and what it would do, or "" for none.
        recalled: what was done last before this window was opened.
        compare_wanted: with an archive that is to be compared with what was packed into it.
        again_wanted: with the record of a job that is to be done once more.
    """

    noted = Signal(str, str)
    recalled = Signal(object)
    compare_wanted = Signal(object)
    again_wanted = Signal(object)

    def __init__(self, journal: Journal, jobs: Jobs, background: Background, window: QWidget) -> None:
        super().__init__(window)
        self.journal = journal
        self._jobs = jobs
        self._background = background
        self._window = window
        self._task = Latest(background)
        self._undoing: set[str] = set()
        self.last_record: Record | None = None
        self.log: LogWindow | None = None

    def recall(self) -> None:
        """Look up what was done before this window was opened."""

        def done(found: tuple[Record | None, str]) -> None:
            self._next(found)
            if found[0] is not None:
                self.recalled.emit(found[0])

        self._task.run(lambda _: self._newest(), done=done, failed=self._failed)

    def note(self, running: RunningJob, result: JobResult) -> None:
        """Keep a record of a job that has just ended, of one that failed or was cancelled too."""
        if not running.kind.is_noted:
            self._look_again()
            return
        self._background.run(
            lambda _: self._write(running, result), done=lambda _: self._look_again(), failed=self._failed
        )

    def note_now(self, running: RunningJob, result: JobResult) -> None:
        """The same at once, as the window is being closed."""
        if running.kind.is_noted:
            self._write(running, result)

    def _write(self, running: RunningJob, result: JobResult) -> None:
        outcome = result.outcome
        puts: Sequence[Put] = ()
        if outcome is not None:
            record, puts = record_of(outcome, running.source, expected=running.expected, id=running.id, how=running.how)
            self.journal.add(record, puts, outcome.problems)
        else:
            record = failed_record(
                running.kind,
                running.source,
                running.target,
                result.why or result.words,
                cancelled=result.cancelled,
                id=running.id,
            )
            self.journal.add(record, ())

    def _look_again(self) -> None:
        self._task.run(lambda _: self._newest(), done=self._next, failed=self._failed)
        self._fill_log()

    def _newest(self) -> tuple[Record | None, str]:
        """The next job to be undone, and what the button says; worked out beside the interface."""
        for record in self.journal.records():
            if record.can_undo and not record.undone and record.id not in self._undoing:
                from rundlet.presentation.undoing import (
                    undo_label,  # the window stands before there is anything to undo
                )

                return record, undo_label(record)
        return None, ""

    def _next(self, found: tuple[Record | None, str]) -> None:
        self.last_record, words = found[0], ""
        if found[0] is not None:
            from rundlet.presentation.undoing import undo_words

            words = undo_words(found[0])
        self.noted.emit(found[1], words)

    def _failed(self, error: BaseException) -> None:
        _log.error("The log could not be read or written", exc_info=error)

    def originals_of(self, archive: Path) -> list[Path]:
        """What was packed into an archive, by the log; reads it, so it is called beside the interface."""
        for record in self.journal.records():
            outcome = record.outcome
            if isinstance(outcome, Packed) and outcome.target == archive and record.result == "done":
                return [Path(source) for source in record.source]
        return []

    def clear(self) -> None:
        """Forget all jobs, which can't be undone any more then.

        Raises:
            FileProblem: when the system refuses.
        """
        self.journal.clear()
        self._look_again()

    def undo_last(self) -> bool:
        """Undo the newest job that was not undone yet; whether there is one, or one is being undone."""
        if self.last_record is None:
            return bool(self._undoing)
        self.undo(self.last_record)
        return True

    def undo_job(self, id: str) -> None:
        """Undo the job of this id, where it can be."""

        def done(found: Record | None) -> None:
            if found is not None:
                self.undo(found)

        def find(_: Job) -> Record | None:
            records = self.journal.records()
            return next((each for each in records if each.id == id and each.can_undo and not each.undone), None)

        self._background.run(find, done=done, failed=self._failed)

    def undo(self, record: Record) -> None:
        """Undo a job; one that could not be undone wholly can be tried again."""
        if record.id in self._undoing:
            return
        self._undoing.add(record.id)
        if self.last_record is not None and record.id == self.last_record.id:
            self.last_record = None
            self.noted.emit("", "")

        def work(job: Job) -> Outcome:
            from rundlet.core.work.undo import undo

            outcome = Undone(record.outcome.target)
            # Another window may have undone it, or a part of it, since this one has looked.
            now = next((known for known in self.journal.records() if known.id == record.id), record)
            try:
                undo(now, self.journal.puts(now), job, outcome)
            except BaseException:
                self.journal.tried(record, outcome.created)
                raise
            finally:
                self._undoing.discard(record.id)
            if outcome.problems:
                self.journal.tried(record, outcome.created)
            else:
                self.journal.undone(record)
            return outcome

        self._jobs.start(Undone, record.outcome.target, work)

    def open_log(self, record_id: str = "") -> None:
        """Show the log.

        Args:
            record_id: the job to show in it; the newest one by default.
        """
        if self.log is None:
            from rundlet.desktop.log import LogWindow

            self.log = LogWindow(self._window, self.journal.problems, self._files_of)
            self.log.copy_wanted.connect(copy_files)
            self.log.show_wanted.connect(show_in_file_manager)
            self.log.undo_wanted.connect(self.undo)
            self.log.compare_wanted.connect(self.compare_wanted)
            self.log.again_wanted.connect(self.again_wanted)
        self._fill_log(record_id)
        self.log.show()
        self.log.raise_()

    def say_in_log(self, words: str) -> None:
        """Say something where the log is looked at."""
        if self.log is not None:
            self.log.words.setText(words)

    def _files_of(self, record: Record) -> list[Path]:
        """The files of the archive that a job made, as far as they are still there."""
        from rundlet.presentation.outcomes import presenter_of

        if record.result != "done" or record.undone or not presenter_of(record.outcome).makes_archive:
            return []
        files = [Path(put.path) for put in self.journal.puts(record)] or [record.outcome.target]
        return [file for file in files if os.path.isfile(file)]

    def _fill_log(self, record_id: str = "") -> None:
        log = self.log
        if log is not None:
            self._background.run(
                lambda _: self.journal.records(),
                done=lambda records: log.show_records(records, record_id),
                failed=self._failed,
            )
