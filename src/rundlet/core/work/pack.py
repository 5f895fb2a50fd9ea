"""Packing: a plan becomes an archive, in one step or not at all."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor

from rundlet.core.codecs.side_by_side import cores
from rundlet.core.errors import NoSpace, OutOfDate, PlanError
from rundlet.core.formats.detect import by_id
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.plans.pack import PackPlan
from rundlet.core.streams.parts import PartsSink
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.text import quoted, size

_LEAST_FREE = 1 << 20


def pack(plan: PackPlan, job: Job | None = None, *, workers: int | None = None) -> Report:
    """Write the archive of a plan.

    Args:
        plan: what goes in.
        job: told of the progress; may cancel, which leaves nothing behind.
        workers: how many cores to use; all by default. The archive's bytes are the same for any number.

    Raises:
        OutOfDate: when the name was taken since the plan was made.
        NoSpace: when not even a little is free at the target.
        FileProblem: when the archive can't be written.
        PlanError: when none of the files could be read.
    """
    job = job or Job()
    started = time.monotonic()
    if plan.free < _LEAST_FREE:
        raise NoSpace(f"Only {size(plan.free)} are free in {quoted(str(plan.target.parent))}.")
    if not plan.part_size and plan.target.exists() != plan.replaces:
        raise OutOfDate(f"{quoted(plan.target.name)} was made or moved away meanwhile; look at the plan again.")
    report = Report("pack", plan.target, issues=list(plan.issues))
    job.begin("Packing", total_bytes=plan.size, total_entries=len(plan.items))
    pool = ThreadPoolExecutor(workers or cores(), thread_name_prefix="pack")
    sink: ArchiveSink | PartsSink | None = None
    try:
        if plan.part_size:
            sink = PartsSink(plan.target, plan.part_size, replace=plan.replaces)
        else:
            sink = ArchiveSink(plan.target, replace=plan.replaces)
        writer = by_id(plan.info.id).create(sink, plan.options)
        writer.write(plan.items, pool=pool, job=job, report=report)
        if plan.files and not report.files and len(report.problems) >= plan.files:
            raise PlanError(f"None of the files could be read. {report.problems[-1]}.")
        writer.finish()
        report.bytes_out = sink.tell()
        job.checkpoint()
        paths = sink.paths
        sink.commit()
    finally:
        pool.shutdown(cancel_futures=True)
        if sink is not None:
            sink.close()
    report.created += map(str, paths)
    report.seconds = time.monotonic() - started
    return report
