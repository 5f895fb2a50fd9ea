"""Packing: a plan becomes an archive, in one step or not at all."""

from __future__ import annotations

import contextlib
import os
import time
from typing import TYPE_CHECKING

from rundlet.core.codecs.parallel import Pool, cores
from rundlet.core.errors import Cancelled, NoSpace, OutOfDate, PlanError
from rundlet.core.formats.detect import by_id
from rundlet.core.formats.edits import NOTHING
from rundlet.core.formats.rewriting import rewrite
from rundlet.core.fs.replaced import claimed, settle_backup
from rundlet.core.fs.trash import to_trash
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Reason, words_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Added, Outcome, Packed
from rundlet.core.plans.adding import open_base
from rundlet.core.streams.parts import PartsSink
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.text import quoted
from rundlet.core.work.verify import Proof, kept_of, read_back

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.plans.pack_plan import PackPlan


def pack(plan: PackPlan, job: Job | None = None, *, workers: int | None = None) -> Packed | Added:
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
        raise NoSpace(f"The disk with {quoted(str(plan.target.parent))} is full.")
    if not plan.part_size and os.path.lexists(plan.target) != plan.replaces:
        raise OutOfDate(f"{quoted(plan.target.name)} was made or moved away meanwhile; look at the plan again.")
    kind: type[Packed | Added] = Added if plan.base else Packed
    outcome = kind(plan.target, issues=list(plan.issues))
    with contextlib.ExitStack() as held:
        if plan.base is not None and not held.enter_context(claimed(plan.target)):
            raise OutOfDate(f"Another job is adding to {quoted(plan.target.name)}; add to it when that is done.")
        proof = _write(plan, job, outcome, workers)
    if plan.originals and proof is not None:
        _clear_up(plan, proof, job, outcome)
    outcome.seconds = time.monotonic() - started
    return outcome


def _write(plan: PackPlan, job: Job, outcome: Outcome, workers: int | None) -> Proof | None:
    """Write the archive and put it in its place; what it was seen to hold, where it was read back."""
    pool = Pool(workers or cores(), "pack")
    sink: ArchiveSink | PartsSink | None = None
    base: ArchiveReader | None = None
    proof = None
    try:
        if plan.part_size:
            sink = PartsSink(plan.target, plan.part_size, replace=plan.replaces)
        else:
            sink = ArchiveSink(plan.target, replace=plan.replaces)
        base = _opened_base(plan, job)
        before = base.source.size if base is not None else 0
        job.begin("Packing", total_bytes=plan.size + before, total_entries=len(plan.items))
        if base is None:
            writer = by_id(plan.info.id).create(sink, plan.options)
            writer.write(plan.items, pool=pool, job=job, outcome=outcome)
            writer.finish()
        else:
            rewrite(base, sink, NOTHING, added=plan.items, options=plan.options, pool=pool, job=job, outcome=outcome)
        if plan.files and not outcome.files and len(outcome.problems) >= plan.files:
            last = outcome.problems[-1]
            raise PlanError(f"None of the files could be read. {quoted(last.item)}: {words_of(last)}.")
        outcome.bytes_out = max(sink.tell() - before, 0)
        if plan.read_back:
            proof = read_back(
                plan, sink, job, outcome, kept=kept_of(base) if base is not None else None, workers=workers
            )
        job.checkpoint()
        paths = sink.paths
        with noted([plan.target.parent]):
            settle_backup(sink.commit(), outcome, keep=plan.keep_replaced)
    finally:
        pool.shutdown(cancel_futures=True)
        if base is not None:
            base.close()
        if sink is not None:
            sink.close()
    if plan.base is None or outcome.replaced:
        outcome.created += map(str, paths)
    return proof


def _opened_base(plan: PackPlan, job: Job) -> ArchiveReader | None:
    """The archive that is added to, when it still is what it was when the plan was made."""
    if plan.base is None:
        return None
    base = open_base(plan.target, plan.info, plan.options, job)
    if base.source.fingerprint() != plan.base.fingerprint:
        base.close()
        raise OutOfDate(f"{quoted(plan.target.name)} was changed meanwhile; look at the plan again.")
    return base


def _clear_up(plan: PackPlan, proof: Proof, job: Job, outcome: Outcome) -> None:
    """Move the originals to the trash, each only when all of it was seen in the archive and is still what it was then.

    The archive is in its place by now, so that being cancelled leaves the other originals where they are, and that is said.
    """
    try:
        job.begin("Moving the originals to the trash", total_entries=len(plan.originals))
        for original in plan.originals:
            job.checkpoint()
            why = proof.lacks(original)
            if why is not None:
                outcome.add(original.name, Reason.ORIGINAL_STAYS, cause=why)
            else:
                to_trash([original], outcome, job)
    except Cancelled:
        left = [path for path in plan.originals if str(path) not in outcome.trashed and os.path.lexists(path)]
        outcome.add(plan.target.name, Reason.ORIGINALS_STAY_CANCELLED, count=len(left))
