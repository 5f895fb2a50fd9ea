"""Running jobs and what became of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import Cancelled, RundletError
from rundlet.core.jobs.job import Job
from rundlet.core.userdata.journal import new_id
from rundlet.core.work.words import words_of

if TYPE_CHECKING:
    from rundlet.core.jobs.report import Report
    from rundlet.desktop.background import Background


_POLL_MS = 100


@dataclass(slots=True, eq=False)
class RunningJob:
    """A job under way.

    Attributes:
        title: what it does, e.g. ``Packing “minutes.zip”``.
        work: does it.
        job: the token that the work carries.
        queued, waits: whether it takes turns with others, and whether its turn is still to come.
        source: what it takes: the items, or the archive.
        expected: bytes and seconds that were foretold, or nothing.
        shows: whether what came of it is shown in the file manager at once.
        verb, target: as in a report, for when there is none.
        id: what the log calls it.
    """

    title: str
    work: Callable[[Job], Report]
    verb: str = ""
    target: Path | None = None
    source: tuple[Path, ...] = ()
    expected: tuple[int, float] = (0, 0.0)
    shows: bool = False
    job: Job = field(default_factory=Job)
    waits: bool = False
    queued: bool = False
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a job: a report, or why there is none.

    Attributes:
        words: one sentence.
        details: a line for each problem.
        cancelled: whether it was cancelled.
        show: what *Show* leads to, or None.
        good: whether everything went as asked.
    """

    title: str
    words: str
    details: tuple[str, ...] = ()
    show: Path | None = None
    good: bool = True
    report: Report | None = None
    cancelled: bool = False


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

    def start(
        self,
        title: str,
        work: Callable[[Job], Report],
        *,
        source: Sequence[Path] = (),
        expected: tuple[int, float] = (0, 0.0),
        shows: bool = False,
        queued: bool = False,
        verb: str = "",
        target: Path | None = None,
    ) -> RunningJob:
        """Start a job; see :class:`RunningJob`.

        Args:
            queued: whether it waits until the queued ones before it have ended.
        """
        running = RunningJob(title, work, verb, target, tuple(source), expected, shows, queued=queued)
        running.waits = queued and any(other.queued for other in self.running)
        self.running.append(running)
        self._timer.start()
        self.started.emit(running)
        if not running.waits:
            self._begin(running)
        return running

    def _begin(self, running: RunningJob) -> None:
        running.waits = False
        self._background.run(
            running.work,
            done=lambda report: self._end(running, outcome_of(running.title, report, running.expected)),
            failed=lambda error: self._end(running, failure_of(running.title, error, running.verb)),
            job=running.job,
            long=True,
        )

    def cancel(self, running: RunningJob) -> None:
        """Cancel a job; one whose turn has not come ends at once."""
        running.job.cancel()
        if running.waits and running in self.running:
            self._end(running, failure_of(running.title, Cancelled(), running.verb))

    def _poll(self) -> None:
        for running in self.running:
            self.progressed.emit(running)

    def _end(self, running: RunningJob, outcome: Outcome) -> None:
        self.running.remove(running)
        following = next((other for other in self.running if other.waits), None)
        if running.queued and not running.waits and following is not None:
            self._begin(following)
        if not self.running:
            self._timer.stop()
        self.ended.emit(running, outcome)


def outcome_of(title: str, report: Report, expected: tuple[int, float] = (0, 0.0)) -> Outcome:
    """A report in a sentence, and where it leads."""
    created = Path(report.created[0]) if report.created else None
    show = {
        "pack": report.target,
        "add": report.target,
        "unpack": created or report.target,
        "copy": created,
        "move": report.target,
        "rename": report.target,
        "folder": report.target,
    }
    problems = report.problems
    where = show.get(report.verb, created if report.verb == "undo" else None)
    return Outcome(title, words_of(report, expected), tuple(map(str, problems)), where, not problems, report)


def failure_of(title: str, error: BaseException, verb: str = "") -> Outcome:
    """Why a job came to nothing, in a sentence."""
    if isinstance(error, Cancelled) and verb == "undo":
        words = f"{title} was cancelled; what was undone before stays so, and it can be tried again."
        return Outcome(title, words, good=True, cancelled=True)
    if isinstance(error, Cancelled):
        return Outcome(title, f"{title} was cancelled; nothing of it was left behind.", good=True, cancelled=True)
    if isinstance(error, RundletError):
        return Outcome(title, str(error), good=False)
    return Outcome(
        title, f"{title} ended through a fault in Rundlet itself: {error}", (type(error).__name__,), good=False
    )
