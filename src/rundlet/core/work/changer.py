"""Changing an archive: a plan becomes a new archive in the place of the old one, in one step or not at all."""

from __future__ import annotations

import contextlib
import time
from typing import TYPE_CHECKING

from rundlet.core.codecs.parallel import Pool, cores
from rundlet.core.errors import NoSpace, OutOfDate, PlanError
from rundlet.core.formats.rewriting import rewrite
from rundlet.core.fs.replaced import claimed, settle_backup
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import said_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Changed
from rundlet.core.model.entry import Kind
from rundlet.core.plans.changeable import open_changeable
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.work.originals import clear_up
from rundlet.core.work.verify import Proof, kept_of, read_back, same_as_before

if TYPE_CHECKING:
    from rundlet.core.plans.change_plan import ChangePlan


def change(plan: ChangePlan, job: Job | None = None, *, workers: int | None = None) -> Changed:
    """Write the archive anew, as planned, and put it in the place of the old one.

    What stays is copied as it is packed, as far as the format lets it. Until the last step the old archive is whole.

    Args:
        job: told of the progress; may cancel, which leaves everything as it was.
        workers: how many cores to use; all by default.

    Raises:
        OutOfDate: when the archive was changed since the plan was made, or another job changes it.
        NoSpace: when not even a little is free there.
        PlanError: when the archive can't be changed, or none of the new files could be read.
        FileProblem: when the new archive can't be written.
        Corrupt: when it was to be checked and does not hold what it should; it is not kept then.
    """
    job = job or Job()
    started = time.monotonic()
    name = plan.archive.name
    if not plan.free:
        raise NoSpace("The disk with {folder:name} is full.", folder=str(plan.archive.parent))
    outcome = Changed(
        plan.archive,
        issues=list(plan.issues),
        added=len(plan.added) - len(plan.replaced),
        new=len(plan.replaced),
        removed=max(plan.removed, 0),
        renamed=len(plan.edits.renamed),
        counts=dict(plan.counts),
    )
    proof: Proof | None = None
    with contextlib.ExitStack() as held:
        if not held.enter_context(claimed(plan.archive)):
            raise OutOfDate("Another job is changing {archive:name}; change it when that is done.", archive=name)
        reader = open_changeable(plan.archive, plan.options.password, job)
        held.callback(reader.close)
        if reader.source.fingerprint() != plan.fingerprint:
            raise OutOfDate("{archive:name} was changed meanwhile; look at the plan again.", archive=name)
        pool = Pool(workers or cores(), "change")
        held.callback(pool.shutdown, cancel_futures=True)
        sink = ArchiveSink(plan.archive, replace=True)
        held.callback(sink.close)
        job.begin("Saving", total_bytes=plan.size_before + plan.packed_anew, total_entries=len(plan.added))
        rewrite(reader, sink, plan.edits, added=plan.added, options=plan.options, pool=pool, job=job, outcome=outcome)
        wanted = sum(item.kind == Kind.FILE for item in plan.added)
        if wanted and not outcome.files and len(outcome.problems) >= wanted:
            last = outcome.problems[-1]
            raise PlanError(
                "None of the files could be read. {item:name}: {cause:clause}.", item=last.item, cause=said_of(last)
            )
        outcome.bytes_in, outcome.bytes_out = plan.size_before, sink.tell()
        if plan.read_back:
            proof = read_back(plan, sink, job, outcome, kept=kept_of(reader, plan.edits), workers=workers)
            same_as_before(plan, reader, plan.edits, sink, job)
        job.checkpoint()
        paths = sink.paths
        with noted([plan.archive.parent]):
            settle_backup(sink.commit(), outcome, keep=plan.keep_replaced)
    if outcome.replaced:
        outcome.created += map(str, paths)
    if plan.originals and proof is not None:
        clear_up(plan.originals, proof, job, outcome)
    outcome.seconds = time.monotonic() - started
    return outcome
