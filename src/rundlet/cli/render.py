"""What the command line prints: lines for people, JSON for programs, progress on a terminal."""

from __future__ import annotations

import json
import signal
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from rundlet.core.jobs.job import Job
from rundlet.core.text import shown

if TYPE_CHECKING:
    from concurrent.futures import Future

    from rundlet.core.jobs.findings import Issue
    from rundlet.core.jobs.outcomes import Outcome

T = TypeVar("T")

_POLL_SECONDS = 0.1


class Output:
    """Where a verb says things.

    Args:
        json: whether programs read it.
    """

    def __init__(self, *, json: bool) -> None:
        self.json = json

    def say(self, text: str) -> None:
        """A line for people on standard output; nothing when programs read it."""
        if not self.json:
            print(text.encode("utf-8", "backslashreplace").decode())

    def value(self, value: object) -> None:
        """A value for programs."""
        json.dump(value, sys.stdout, indent=1)
        print()

    def line(self, what: object) -> None:
        """One line on standard error."""
        print(f"rundlet: {shown(str(what))}", file=sys.stderr)

    def issues(self, issues: Iterable[Issue]) -> bool:
        """A line for each issue; whether any of them is a problem."""
        problem = False
        from rundlet.presentation.findings import issue_line  # where all went well there is nothing to say

        for issue in issues:
            self.line(issue_line(issue))
            problem |= issue.problem
        return problem


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


def note(outcome: Outcome, source: Sequence[Path]) -> None:
    """Keep a record of the work in the log that the window shows, from where it can be taken back."""
    from rundlet.core.userdata.journal import Journal, record_of  # listing and checking leave no record

    record, puts = record_of(outcome, [Path(path).absolute() for path in source])
    Journal().add(record, puts, outcome.problems)


def with_progress(work: Callable[[Job], T]) -> T:
    """Run work in a thread and show its progress where there is a terminal; what ends programs cancels it."""
    from concurrent.futures import ThreadPoolExecutor

    job = Job()
    with _cancelled_by_signals(job), ThreadPoolExecutor(1) as pool:
        future = pool.submit(work, job)
        _watch(future, job)
        return future.result()


@contextmanager
def _cancelled_by_signals(job: Job) -> Iterator[None]:
    """Ctrl+C, being told to end, and a closed terminal cancel the job, so that it clears up; what is ignored still is.

    Nothing is raised, as that could hit in the middle of waiting for threads, which then count as ended.
    """
    if threading.current_thread() is not threading.main_thread():
        yield  # which is the only one that may ask for signals
        return
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    taken = {number: handler for number, handler in before.items() if handler not in (signal.SIG_IGN, None)}
    for number in taken:
        signal.signal(number, lambda *_: job.cancel())
    try:
        yield
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
