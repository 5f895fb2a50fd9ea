"""Packing: a plan becomes an archive, in one step or not at all."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING, BinaryIO

from rundlet.core.codecs.parallel import Pool, cores
from rundlet.core.errors import NoSpace, OutOfDate, PlanError
from rundlet.core.formats.detect import by_id
from rundlet.core.fs.replaced import settle_backup
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import said_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Outcome, Packed
from rundlet.core.streams.parts import PartsSink
from rundlet.core.streams.sinks import ArchiveSink, ForwardSink
from rundlet.core.work.originals import clear_up
from rundlet.core.work.verify import Proof, read_back

if TYPE_CHECKING:
    from rundlet.core.formats.base import Sink
    from rundlet.core.plans.pack_plan import PackPlan


def pack(plan: PackPlan, job: Job | None = None, *, workers: int | None = None) -> Packed:
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
        Corrupt: when the archive was to be read back and is not what went in; it is not kept then.
    """
    job = job or Job()
    started = time.monotonic()
    if not plan.free:
        raise NoSpace("The disk with {folder:name} is full.", folder=str(plan.target.parent))
    if not plan.part_size and os.path.lexists(plan.target) != plan.replaces:
        raise OutOfDate("{name:name} was made or moved away meanwhile; look at the plan again.", name=plan.target.name)
    outcome = Packed(plan.target, issues=list(plan.issues))
    proof = _write(plan, job, outcome, workers)
    if plan.originals and proof is not None:
        clear_up(plan.originals, proof, job, outcome)
    outcome.seconds = time.monotonic() - started
    return outcome


def pack_to(plan: PackPlan, stream: BinaryIO, job: Job, *, workers: int | None = None) -> Packed:
    """Write the archive of a plan to a stream, forwards only.

    Args:
        plan: as :func:`~rundlet.core.plans.pack_plan.plan_stream` makes it.
        stream: where to.
        job, workers: as in :func:`pack`.

    Raises:
        FileProblem: when the stream can't be written, or a large file can't be read to its end. What was written by then is no
            whole archive.
        PlanError: when none of the files could be read.
        BrokenPipeError: when nobody reads any more.
    """
    started = time.monotonic()
    outcome = Packed(plan.target, issues=list(plan.issues))
    pool = Pool(workers or cores(), "pack")
    try:
        sink = ForwardSink(stream)
        job.begin("Packing", total_bytes=plan.size, total_entries=len(plan.items))
        _fill(plan, sink, pool, job, outcome)
        sink.flush()
    finally:
        pool.shutdown(cancel_futures=True)
    outcome.bytes_out = sink.tell()
    outcome.seconds = time.monotonic() - started
    return outcome


def _fill(plan: PackPlan, sink: Sink, pool: Pool, job: Job, outcome: Outcome) -> None:
    """Write all items. Raises ``PlanError`` when none of the files could be read."""
    writer = by_id(plan.info.id).create(sink, plan.options)
    writer.write(plan.items, pool=pool, job=job, outcome=outcome)
    writer.finish()
    if plan.files and not outcome.files and len(outcome.problems) >= plan.files:
        last = outcome.problems[-1]
        raise PlanError(
            "None of the files could be read. {item:name}: {cause:clause}.", item=last.item, cause=said_of(last)
        )


def _write(plan: PackPlan, job: Job, outcome: Outcome, workers: int | None) -> Proof | None:
    """Write the archive and put it in its place; what it was seen to hold, where it was read back."""
    pool = Pool(workers or cores(), "pack")
    sink: ArchiveSink | PartsSink | None = None
    proof = None
    try:
        if plan.part_size:
            sink = PartsSink(plan.target, plan.part_size, replace=plan.replaces)
        else:
            sink = ArchiveSink(plan.target, replace=plan.replaces)
        job.begin("Packing", total_bytes=plan.size, total_entries=len(plan.items))
        _fill(plan, sink, pool, job, outcome)
        outcome.bytes_out = sink.tell()
        if plan.read_back:
            proof = read_back(plan, sink, job, outcome, workers=workers)
        job.checkpoint()
        paths = sink.paths
        with noted([plan.target.parent]):
            settle_backup(sink.commit(), outcome, keep=plan.keep_replaced)
    finally:
        pool.shutdown(cancel_futures=True)
        if sink is not None:
            sink.close()
    outcome.created += map(str, paths)
    return proof
