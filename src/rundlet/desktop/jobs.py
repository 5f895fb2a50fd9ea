"""Running jobs and what became of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import Cancelled, OutOfDate, RundletError
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Outcome, Undone
from rundlet.core.sentences import Sentence, several
from rundlet.core.userdata.journal import new_id

if TYPE_CHECKING:
    from rundlet.desktop.background import Background


_POLL_MS = 100


@dataclass(slots=True, eq=False)
class RunningJob:
    """A job under way.

    Attributes:
        title: what it does, such as ``Packing “minutes.zip”``.
        kind, target: what comes of it, also when nothing does.
        work: does it.
        job: the token that the work carries.
        queued, waits: whether it takes turns with others, and whether its turn is still to come.
        source: what it takes: the items, or the archive.
        expected: bytes and seconds that were estimated, or zeros.
        shows: whether what came of it is shown in the file manager at once.
        how: how it packs; see :class:`~rundlet.core.userdata.journal.Record`.
        id: what the log calls it.
    """

    kind: type[Outcome]
    target: Path
    work: Callable[[Job], Outcome]
    source: tuple[Path, ...] = ()
    expected: tuple[int, float] = (0, 0.0)
    shows: bool = False
    job: Job = field(default_factory=Job)
    waits: bool = False
    queued: bool = False
    how: dict[str, Any] = field(default_factory=dict)
    id: str = field(default_factory=new_id)

    @property
    def title(self) -> str:
        """What it does."""

        from rundlet.presentation.outcomes import title_of  # the window stands before there is a job

        return title_of(self.kind, self.target, self.source)


@dataclass(frozen=True, slots=True)
class JobResult:
    """What became of a job: its outcome, or why there is none.

    Attributes:
        words: one sentence.
        details: a line for each problem.
        cancelled: whether it was cancelled.
        show: what *Show* leads to, or None.
        good: whether everything went as asked.
        why: why there is no outcome, for the log.
        outdated: whether there is none as files were changed meanwhile.
    """

    title: str
    words: str
    details: tuple[str, ...] = ()
    show: Path | None = None
    good: bool = True
    outcome: Outcome | None = None
    cancelled: bool = False
    why: Sentence | None = None
    outdated: bool = False


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
        kind: type[Outcome],
        target: Path,
        work: Callable[[Job], Outcome],
        *,
        source: Sequence[Path] = (),
        expected: tuple[int, float] = (0, 0.0),
        shows: bool = False,
        queued: bool = False,
        how: dict[str, Any] | None = None,
    ) -> RunningJob:
        """Start a job; see :class:`RunningJob`.

        Args:
            queued: whether it waits until the queued ones before it have ended.
        """
        running = RunningJob(kind, target, work, tuple(source), expected, shows, queued=queued, how=how or {})
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
            done=lambda outcome: self._end(running, result_of(running.title, outcome, running.expected)),
            failed=lambda error: self._end(running, failure_of(running.title, error, running.kind)),
            job=running.job,
            long=True,
        )

    def cancel(self, running: RunningJob) -> None:
        """Cancel a job; one whose turn has not come ends at once."""
        running.job.cancel()
        if running.waits and running in self.running:
            self._end(running, failure_of(running.title, Cancelled(), running.kind))

    def _poll(self) -> None:
        for running in self.running:
            self.progressed.emit(running)

    def _end(self, running: RunningJob, result: JobResult) -> None:
        self.running.remove(running)
        following = next((other for other in self.running if other.waits), None)
        if running.queued and not running.waits and following is not None:
            self._begin(following)
        if not self.running:
            self._timer.stop()
        self.ended.emit(running, result)


def result_of(title: str, outcome: Outcome, expected: tuple[int, float] = (0, 0.0)) -> JobResult:
    """An outcome in a sentence, and where it leads."""

    from rundlet.presentation.findings import issue_line
    from rundlet.presentation.outcomes import outcome_words

    problems = outcome.problems
    lines = tuple(map(issue_line, problems))
    return JobResult(title, outcome_words(outcome, expected), lines, outcome.shown, not problems, outcome)


def failure_of(title: str, error: BaseException, kind: type[Outcome] | None = None) -> JobResult:
    """Why a job came to nothing, in a sentence."""
    if isinstance(error, Cancelled) and kind is Undone:
        why = Sentence("{title} was cancelled. What was undone stays undone, and you can try again.", {"title": title})
        return JobResult(title, str(why), good=True, cancelled=True, why=why)
    if isinstance(error, Cancelled):
        why = Sentence("{title} was cancelled. Nothing was left behind.", {"title": title})
        return JobResult(title, str(why), good=True, cancelled=True, why=why)
    if isinstance(error, RundletError):
        why = several([error.sentence, error.advice]) if error.advice else error.sentence
        return JobResult(title, str(why), good=False, why=why, outdated=isinstance(error, OutOfDate))
    why = Sentence(
        "{title} failed because of an error in Rundlet itself: {error}", {"title": title, "error": str(error)}
    )
    return JobResult(title, str(why), (type(error).__name__,), good=False, why=why)
