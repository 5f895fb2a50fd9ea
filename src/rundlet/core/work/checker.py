"""Checking: every entry is read to its end and judged; nothing is written."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import RundletError
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Checked
from rundlet.core.model.entry import Kind
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit


def check(reader: ArchiveReader, job: Job | None = None, *, workers: int | None = None) -> Checked:
    """Read every entry; the outcome names those that are damaged.

    Args:
        reader: the archive.
        job: told of the progress; may cancel.
        workers: how many cores to use; all by default.
    """
    job = job or Job()
    started = time.monotonic()
    catalog = reader.catalog
    rows = np.flatnonzero((catalog.kind != Kind.DIR) & (catalog.kind != Kind.HARD))
    reader.require_password(rows)
    job.begin("Checking", total_bytes=int(np.maximum(catalog.size[rows], 0).sum()), total_entries=len(rows))
    outcome = Checked(Path(reader.source.name), issues=list(reader.notices))
    lock = threading.Lock()

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
                with lock:
                    outcome.bytes_out += read
                    if why is not None:
                        outcome.issues.append(why)
                    else:
                        outcome.files += 1
                job.advance(entries=1)

    run_side_by_side(reader.units(rows), work, workers or cores())
    outcome.unverified = reader.without_checksum(rows[catalog.kind[rows] == Kind.FILE])
    outcome.seconds = time.monotonic() - started
    return outcome
