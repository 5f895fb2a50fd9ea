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
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.model.entry import Kind
from rundlet.core.text import lower
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit


def check(reader: ArchiveReader, job: Job | None = None, *, workers: int | None = None) -> Report:
    """Read every entry; the report names those that are damaged.

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
    report = Report("check", Path(reader.source.name), issues=list(reader.notices))
    lock = threading.Lock()

    def work(units: Iterator[Unit]) -> None:
        for unit in units:
            for row, chunks in unit.stream():
                read, why = 0, ""
                try:
                    for data in chunks:
                        read += len(data)
                        job.advance(len(data))
                except RundletError as error:
                    why = lower(error.message).rstrip(".")
                if not why and row in reader.doubtful:
                    why = "may be damaged, as it lies in a stretch that is"
                with lock:
                    report.bytes_out += read
                    if why:
                        report.add(catalog.path(row), why)
                    else:
                        report.files += 1
                job.advance(entries=1)

    run_side_by_side(reader.units(rows), work, workers or cores())
    report.unverified = reader.without_checksum(rows[catalog.kind[rows] == Kind.FILE])
    report.seconds = time.monotonic() - started
    return report
