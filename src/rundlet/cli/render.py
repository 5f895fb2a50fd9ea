"""What the command line prints: lines for people, JSON for programs, progress on a terminal."""

from __future__ import annotations

import json
import re
import signal
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO, TypeVar

from rundlet.core.errors import Cancelled, RundletError
from rundlet.core.jobs.job import Job
from rundlet.core.text import shown

if TYPE_CHECKING:
    from concurrent.futures import Future

    from rundlet.core.jobs.findings import Issue
    from rundlet.core.jobs.outcomes import Outcome

T = TypeVar("T")

_POLL_SECONDS = 0.1


SCHEMA = 1
"""The version of what programs are told; it changes when something in it goes or means something else."""


class Output:
    """Where a verb says things.

    Args:
        json: whether programs read it.
        quiet: whether only what was asked for and what went wrong is said.
        verbose: whether each item is named, and what is known of each error.

    Attributes:
        beside: whether what is said goes to standard error, as standard output gets something else.
        is_the_work: whether what was asked for is what is printed.
    """

    def __init__(self, *, json: bool = False, quiet: bool = False, verbose: bool = False) -> None:
        self.json, self._quiet, self._verbose = json, quiet, verbose
        self.beside = self.is_the_work = False
        self._value: object = None
        self._errors: list[dict[str, Any]] = []

    def data(self, text: str) -> None:
        """A line of what was asked for; nothing when programs read it."""
        self.is_the_work = True
        self._print(text)

    def _print(self, text: str) -> None:
        if not self.json:
            with _written():
                print(text.encode("utf-8", "backslashreplace").decode(), file=self._file)

    def say(self, text: str) -> None:
        """A line on what was done, for people."""
        if not self._quiet:
            self._print(text)

    def detail(self, text: str) -> None:
        """A line that is wanted only where much is to be said."""
        if self._verbose:
            self._print(text)

    @property
    def _file(self) -> TextIO:
        return sys.stderr if self.beside else sys.stdout

    def value(self, value: object) -> None:
        """What programs are told; said when the verb has ended."""
        self._value = value

    def line(self, what: object) -> None:
        """One line on standard error; an error is told to programs, too."""
        details = ""
        if isinstance(what, RundletError):
            self._errors.append(error_value(what))
            details = f" [{_details(what)}]" if self._verbose else ""
        print(f"rundlet: {shown(str(what))}{details}", file=sys.stderr)

    def failed(self, message: str, kind: str) -> None:
        """The verb ended early for a reason that is no error of an archive, such as a word that is not known."""
        self._errors.append(
            {"message": message, "kind": kind, "hint": None, "archive": None, "item": None, "offset": None}
        )

    def end(self, verb: str, status: int) -> None:
        """Tell programs all of it, in one object as ``docs/rundlet.schema.json`` describes it."""
        if self.json:
            told = {"schema": SCHEMA, "verb": verb, "status": status, "result": self._value, "errors": self._errors}
            with _written():
                json.dump(told, self._file, indent=1)
                print(file=self._file)

    def issues(self, issues: Iterable[Issue]) -> bool:
        """A line for each issue; whether any of them is a problem."""
        problem = False
        from rundlet.presentation.findings import issue_line  # where all went well there is nothing to say

        for issue in issues:
            if issue.problem or not self._quiet:
                self.line(issue_line(issue))
            problem |= issue.problem
        return problem

    def flush(self) -> None:
        """Hand over all that was said. Raises :class:`OutputError` where it can't be."""
        with _written():
            sys.stdout.flush()


class OutputError(Exception):
    """Standard output can't be written."""

    def __init__(self, why: OSError) -> None:
        super().__init__(why.strerror or "")


@contextmanager
def _written() -> Iterator[None]:
    """Tell output that can't be written from all else that the system may refuse; nobody reading is no error."""
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as error:
        raise OutputError(error) from error


def error_value(error: RundletError) -> dict[str, Any]:
    """An error for programs."""
    return {
        "message": error.message,
        "kind": _kind(error),
        "hint": error.hint or None,
        "archive": error.archive,
        "item": error.entry,
        "offset": error.offset,
    }


def _kind(error: RundletError) -> str:
    """The name of an error in words with hyphens: ``wrong-password``."""
    return re.sub(r"(?<!^)(?=[A-Z])", "-", type(error).__name__).lower()


def _details(error: RundletError) -> str:
    facts = {"in": error.archive, "item": error.entry, "at byte": error.offset}
    said = [f"{name} {fact}" for name, fact in facts.items() if fact is not None]
    return shown(", ".join([_kind(error), *said]))


def issue_values(issues: Iterable[Issue]) -> list[dict[str, Any]]:
    """Issues for programs."""
    from rundlet.presentation import findings  # where all went well there is nothing to say

    return findings.issue_values(issues)


def outcome_value(outcome: Outcome) -> dict[str, Any]:
    """A report for programs: sizes in bytes, time in seconds."""
    return {
        "target": str(outcome.target),
        "files": outcome.files,
        "bytes_in": outcome.bytes_in,
        "bytes_out": outcome.bytes_out,
        "seconds": round(outcome.seconds, 3),
        "issues": issue_values(outcome.issues),
    }


def note(outcome: Outcome, source: Sequence[Path], how: dict[str, Any] | None = None) -> None:
    """Keep a record of the work in the log that the window shows, from where it can be taken back.

    Args:
        how: how it was packed, so that it can be done again.
    """
    from rundlet.core.userdata.journal import Journal, record_of  # listing and checking leave no record

    record, puts = record_of(outcome, [Path(path).absolute() for path in source], how=how)
    Journal().add(record, puts, outcome.problems)


class Stopped(Cancelled):
    """A signal ended the work.

    Attributes:
        number: of the signal.
    """

    def __init__(self, number: int) -> None:
        super().__init__()
        self.number = number


def with_progress(work: Callable[[Job], T]) -> T:
    """Run work in a thread and show its progress where there is a terminal; what ends programs cancels it."""
    from concurrent.futures import ThreadPoolExecutor

    job = Job()
    with _cancelled_by_signals(job) as came, ThreadPoolExecutor(1) as pool:
        future = pool.submit(work, job)
        _watch(future, job)
        try:
            return future.result()
        except Cancelled:
            if came:
                raise Stopped(came[0]) from None
            raise


@contextmanager
def _cancelled_by_signals(job: Job) -> Iterator[list[int]]:
    """Ctrl+C, being told to end, and a closed terminal cancel the job, so that it clears up; what is ignored still is.

    Nothing is raised, as that could hit in the middle of waiting for threads, which then count as ended. Gives those that came.
    """
    came: list[int] = []

    def cancel(number: int, _: object) -> None:
        came.append(number)
        job.cancel()

    if threading.current_thread() is not threading.main_thread():
        yield came  # which is the only one that may ask for signals
        return
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    taken = {number: handler for number, handler in before.items() if handler not in (signal.SIG_IGN, None)}
    for number in taken:
        signal.signal(number, cancel)
    try:
        yield came
    finally:
        for number, handler in taken.items():
            signal.signal(number, handler)


def _watch(future: Future[T], job: Job) -> None:
    from concurrent.futures import wait

    if not sys.stderr.isatty():
        while wait([future], _POLL_SECONDS).not_done:
            pass  # a signal that comes just before a wait, or to another thread, is heard only when the wait ends
        return
    from tqdm import tqdm  # slow to import, and needed on terminals only

    with tqdm(unit="B", unit_scale=True, leave=False, file=sys.stderr) as bar:
        while wait([future], _POLL_SECONDS).not_done:
            progress = job.snapshot()
            bar.desc = progress.phase
            bar.total = progress.total_bytes or None
            bar.n = progress.done_bytes
            bar.refresh()
