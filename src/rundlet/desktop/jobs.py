"""Running jobs and what became of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core import text
from rundlet.core.errors import Cancelled, RundletError
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.desktop.background import Background, Task

_POLL_MS = 100


@dataclass(slots=True, eq=False)
class RunningJob:
    """A job under way.

    Attributes:
        title: what it does, e.g. ``Packing “minutes.zip”``.
    """

    title: str
    task: Task | None = None

    @property
    def job(self) -> Job:
        """The token that the work carries."""
        assert self.task is not None
        return self.task.job


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a job: a report, or why there is none.

    Attributes:
        words: one sentence.
        details: a line for each problem.
        show: what *Show* leads to, or None.
        good: whether everything went as asked.
    """

    title: str
    words: str
    details: tuple[str, ...] = ()
    show: Path | None = None
    good: bool = True
    report: Report | None = None


class Jobs(QObject):
    """All jobs of the window.

    Signals:
        started, progressed: with the :class:`RunningJob`.
        ended: with the :class:`RunningJob` and its :class:`Outcome`.
    """

    started = Signal(object)
    progressed = Signal(object)
    ended = Signal(object, object)

    def __init__(self, background: Background, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._background = background
        self.running: list[RunningJob] = []
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._poll)

    def start(self, title: str, work: Callable[[Job], Report]) -> RunningJob:
        """Start a job."""
        running = RunningJob(title)
        running.task = self._background.run(
            work,
            done=lambda report: self._end(running, outcome_of(title, report)),
            failed=lambda error: self._end(running, failure_of(title, error)),
        )
        self.running.append(running)
        self._timer.start()
        self.started.emit(running)
        return running

    def _poll(self) -> None:
        for running in self.running:
            self.progressed.emit(running)

    def _end(self, running: RunningJob, outcome: Outcome) -> None:
        self.running.remove(running)
        if not self.running:
            self._timer.stop()
        self.ended.emit(running, outcome)


def outcome_of(title: str, report: Report) -> Outcome:
    """A report in a sentence."""
    problems = report.problems
    left = ""
    if problems:
        first = ", the first" if len(problems) > 1 else ""
        left = f" {text.plural(len(problems), 'problem')}{first}: {problems[0]}."
    if report.verb == "pack":
        saved = report.bytes_in - report.bytes_out
        gain = f", {text.size(saved)} saved" if saved > 0 else ""
        words = (
            f"Packed “{text.shown(report.target.name)}”: {text.size(report.bytes_out)} from "
            f"{text.size(report.bytes_in)}{gain}, in {text.duration(report.seconds)}.{left}"
        )
        show = report.target
    else:
        words = (
            f"Unpacked {text.plural(report.files, 'file')}, {text.size(report.bytes_out)}, into "
            f"“{text.shown(report.target.name)}” in {text.duration(report.seconds)}.{left}"
        )
        show = Path(report.created[0]) if report.created else report.target
    return Outcome(title, words, tuple(map(str, problems)), show, not problems, report)


def failure_of(title: str, error: BaseException) -> Outcome:
    """Why a job came to nothing, in a sentence."""
    if isinstance(error, Cancelled):
        return Outcome(title, f"{title} was cancelled; nothing of it was left behind.", good=True)
    if isinstance(error, RundletError):
        return Outcome(title, str(error), good=False)
    return Outcome(
        title, f"{title} ended through a fault in Rundlet itself: {error}", (type(error).__name__,), good=False
    )
