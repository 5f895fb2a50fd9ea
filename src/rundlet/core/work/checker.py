"""Checking: every entry is read to its end and judged; nothing is written."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Iterator
from enum import IntEnum
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import RundletError
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Checked
from rundlet.core.model.entry import Kind
from rundlet.core.work.checksums import parts_that_differ
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader, Unit


class Verdict(IntEnum):
    """What is so of one entry."""

    UNREAD = 0
    INTACT = 1
    UNTOLD = 2
    """It can be read, but the archive has no checksum that would tell whether it is as it was packed."""
    DAMAGED = 3
    MISSING = 4
    """It lies in a part that is not there."""
    UNREADABLE = 5
    """It is locked, or packed in a way that Rundlet does not read."""
    DOUBTFUL = 6
    """It can be read, and lies in a stretch whose checksum is wrong: whether it is damaged itself can't be told."""

    @property
    def is_good(self) -> bool:
        """Whether the entry can be read, and nothing is known against it."""
        return self in (Verdict.INTACT, Verdict.UNTOLD)

    @property
    def can_be_had(self) -> bool:
        """Whether the entry can be read to its end, be it as it was packed or not."""
        return self.is_good or self is Verdict.DOUBTFUL


_VERDICTS = {
    Reason.LIES_IN_DAMAGE: Verdict.DOUBTFUL,
    Reason.MISSING_PART: Verdict.MISSING,
    Reason.UNSUPPORTED: Verdict.UNREADABLE,
    Reason.LOCKED: Verdict.UNREADABLE,
    Reason.WRONG_PASSWORD: Verdict.UNREADABLE,
    Reason.LIMIT: Verdict.UNREADABLE,
    Reason.SYSTEM: Verdict.UNREADABLE,
}

Tell = Callable[[int, Verdict], None]
"""Told of each row as soon as it is judged, on any thread."""


def rows_to_check(reader: ArchiveReader, rows: NDArray[np.int64] | None = None) -> NDArray[np.int64]:
    """Those of some rows, or of all, that have content of their own to be read."""
    kinds = reader.catalog.kind
    wanted: NDArray[np.int64] = np.arange(len(kinds)) if rows is None else rows
    filled: NDArray[np.int64] = wanted[(kinds[wanted] != Kind.DIR) & (kinds[wanted] != Kind.HARD)]
    return filled


def check(
    reader: ArchiveReader,
    job: Job | None = None,
    *,
    rows: NDArray[np.int64] | None = None,
    tell: Tell | None = None,
    workers: int | None = None,
) -> Checked:
    """Read entries; the outcome names those that are damaged.

    Args:
        reader: the archive.
        job: told of the progress; may cancel.
        rows: what is read; None for everything.
        tell: told what is so of each entry.
        workers: how many cores to use; all by default.
    """
    job = job or Job()
    started = time.monotonic()
    catalog = reader.catalog
    whole = rows is None
    rows = rows_to_check(reader, rows)
    reader.require_password(rows)
    job.begin("Checking", total_bytes=int(np.maximum(catalog.size[rows], 0).sum()), total_entries=len(rows))
    outcome = Checked(Path(reader.source.name), issues=list(reader.notices))
    untold = frozenset(rows[reader.lacks_checksum(rows)].tolist())
    lock = threading.Lock()

    def judged(row: int, why: Issue | None) -> None:
        verdict = Verdict.UNTOLD if row in untold else Verdict.INTACT
        if why is not None and why.problem:
            verdict = _VERDICTS.get(why.reason, Verdict.DAMAGED)
        with lock:
            if why is not None:
                outcome.issues.append(why)
            outcome.files += verdict.is_good
            outcome.unverified += verdict is Verdict.UNTOLD
            outcome.missing += verdict is Verdict.MISSING
            outcome.unreadable += verdict is Verdict.UNREADABLE
            outcome.damaged += verdict is Verdict.DAMAGED
            outcome.doubtful += verdict is Verdict.DOUBTFUL
        if tell is not None:
            tell(row, verdict)

    def work(units: Iterator[Unit]) -> None:
        for unit in units:
            for row, chunks in unit.stream():
                read = 0
                why: Issue | None = None
                try:
                    for data in chunks:
                        read += len(data)
                        job.advance(len(data))
                except RundletError as error:
                    why = issue_of(catalog.path(row), error)
                if why is None and row in reader.doubtful:
                    why = issue(catalog.path(row), Reason.LIES_IN_DAMAGE)
                if why is None and (told := reader.contradiction(row)) is not None:
                    why = Issue(catalog.path(row), told)
                with lock:
                    outcome.bytes_out += read
                judged(row, why)
                job.advance(entries=1)

    run_side_by_side(reader.units(rows), work, workers or cores())
    if whole:
        outcome.issues += parts_that_differ(reader.source, job)
        with contextlib.suppress(RundletError):  # what can't be read was said of the entries
            if strays := reader.strays():
                outcome.issues.append(issue(reader.source.name, Reason.JUNK_BETWEEN, count=strays))
    outcome.whole = whole
    outcome.seconds = time.monotonic() - started
    return outcome
