"""What the command line prints: lines for people, JSON for programs, progress on a terminal."""

from __future__ import annotations

import json
import sys
import threading
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from tqdm import tqdm

from rundlet.core.files.journal import Journal, record_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Issue, Report
from rundlet.core.text import shown
from rundlet.core.work.words import words_of

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
        for issue in issues:
            self.line(issue)
            problem |= issue.problem
        return problem


def issue_values(issues: Iterable[Issue]) -> list[dict[str, Any]]:
    """Issues for programs."""
    return [{"about": i.about, "message": i.message, "problem": i.problem} for i in issues]


def report_value(report: Report) -> dict[str, Any]:
    """A report for programs: sizes in bytes, time in seconds."""
    return {
        "target": str(report.target),
        "files": report.files,
        "bytes_in": report.bytes_in,
        "bytes_out": report.bytes_out,
        "seconds": round(report.seconds, 3),
        "issues": issue_values(report.issues),
    }


def note(report: Report, source: Sequence[Path]) -> None:
    """Keep a record of the work in the log that the window shows, from where it can be taken back."""
    record, puts = record_of(report, [Path(path).absolute() for path in source], words_of(report))
    Journal().add(record, puts)


def with_progress(work: Callable[[Job], T]) -> T:
    """Run work in a thread and show its progress where there is a terminal; Ctrl+C cancels it."""
    job = Job()
    outcome: list[T] = []
    failure: list[BaseException] = []

    def target() -> None:
        try:
            outcome.append(work(job))
        except BaseException as error:  # noqa: BLE001 - handed on below
            failure.append(error)

    thread = threading.Thread(target=target)
    thread.start()
    try:
        _watch(thread, job)
    except KeyboardInterrupt:
        job.cancel()
        thread.join()
    if failure:
        raise failure[0]
    return outcome[0]


def _watch(thread: threading.Thread, job: Job) -> None:
    if not sys.stderr.isatty():
        thread.join()
        return
    with tqdm(unit="B", unit_scale=True, leave=False, file=sys.stderr) as bar:
        while thread.is_alive():
            thread.join(_POLL_SECONDS)
            progress = job.snapshot()
            bar.desc = progress.phase
            bar.total = progress.total_bytes or None
            bar.n = progress.done_bytes
            bar.refresh()
