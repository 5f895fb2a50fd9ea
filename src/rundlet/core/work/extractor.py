"""Unpacking: a plan becomes files."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Cancelled, NoSpace, OutOfDate
from rundlet.core.fs.disk_space import free_bytes
from rundlet.core.fs.moving import move_into
from rundlet.core.fs.replaced import recover_folder
from rundlet.core.fs.safe_root import Made, SafeRoot, make_root
from rundlet.core.fs.trash import to_trash
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Finding, Reason
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Unpacked
from rundlet.core.jobs.worker_process import WORTH_IT
from rundlet.core.model.entry import Kind
from rundlet.core.plans.unpack_plan import Action, Afterwards, Step, UnpackPlan
from rundlet.core.streams.parts import files_of
from rundlet.core.streams.renaming import sync_disk
from rundlet.core.work.entry_writer import HOLE, EntryWriter
from rundlet.core.work.file_writers import FileWriters
from rundlet.core.work.marks import marks_of
from rundlet.core.work.scheduler import run_side_by_side
from rundlet.core.work.unpack_run import Run

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit


def unpack(plan: UnpackPlan, reader: ArchiveReader, job: Job | None = None, *, workers: int | None = None) -> Unpacked:
    """Write the entries of a plan.

    One damaged entry does not stop the others: it is named in the outcome and leaves no file. Cancelled work, and
    work that a full disk ends, takes back what it put there.

    Args:
        plan: where everything lands.
        reader: the archive that the plan was made for, still open.
        job: told of the progress; may cancel.
        workers: how many cores to use; all by default.

    Raises:
        OutOfDate: when the archive changed since the plan was made.
        NoSpace: when the disk is too full, seen before or while writing.
        FileProblem: when the folder can't be made or written to at all.
    """
    job = job or Job()
    started = time.monotonic()
    if reader.source.fingerprint() != plan.fingerprint:
        raise OutOfDate("{archive:name} was changed meanwhile; open it again.", archive=plan.archive)
    if (problem := lacks_space(plan)) is not None:
        raise problem
    wanted = [
        step.content if step.content >= 0 else step.row
        for step in plan.steps
        if step.kind != Kind.DIR and step.action.writes and not step.first
    ]
    reader.require_password(np.array(wanted, np.int64))
    job.begin("Unpacking", total_bytes=plan.size, total_entries=len(plan.steps))
    made = Made()
    outcome = Unpacked(plan.root, issues=list(plan.issues))
    outcome.same, outcome.skipped = plan.counts[Action.SAME], plan.counts[Action.SKIP]
    outcome.renamed, outcome.left_out = plan.counts[Action.NUMBER], plan.counts[Action.REFUSE]
    run = Run(plan, reader, job, made, outcome)
    if any(step.action.writes for step in plan.steps):
        with noted(changed_folders(plan)):
            _do(run, workers or cores())
    failed = {reader.catalog.path(row) for row in run.failed}
    # What was said beforehand of something that then did not come out at all does not hold any more.
    outcome.issues = [i for n, i in enumerate(outcome.issues) if n >= len(plan.issues) or i.item not in failed]
    outcome.left_out += len(run.failed)
    if run.unmarked:
        outcome.add(plan.root.name, Reason.DISK_KEEPS_NO_MARKS, count=run.unmarked)
    outcome.created = [*made.folders, *made.files]
    outcome.seconds = time.monotonic() - started
    return outcome


def lacks_space(plan: UnpackPlan) -> NoSpace | None:
    """What to say where the disk has no room for what a plan writes; None where it has."""
    if plan.needed <= (free := free_bytes(plan.root)):
        return None
    return NoSpace(
        "{needed:size} are needed in {folder:name}, and only {free:size} are free.",
        needed=plan.needed,
        folder=str(plan.root),
        free=free,
    )


def _do(run: Run, workers: int) -> None:
    """Write everything; what is replaced comes back when that does not come to its end, and goes to the trash when it does.

    From then on nothing is withdrawn any more.
    """
    try:
        tidy(run.plan)
        make_root(run.plan.root, run.made)
        _run(run, workers)
        run.job.checkpoint()
    except BaseException:
        run.made.take_back()
        run.replaced.give_all_back()
        raise
    run.replaced.settle(run.outcome, keep=run.plan.keep_replaced)


def changed_folders(plan: UnpackPlan) -> list[Path]:
    """The folders in which something is replaced."""
    steps = {step.target[:-1] for step in plan.steps if step.action == Action.REPLACE}
    return [plan.root.joinpath(*folder) for folder in sorted(steps)]


def tidy(plan: UnpackPlan) -> None:
    """Clear up what jobs that were killed left in the folders that are there already."""
    if not plan.root_is_new:
        recover_folder(plan.root)
        for step in plan.steps:
            if step.action == Action.JOIN:
                recover_folder(plan.root.joinpath(*step.target))


def put_away(plan: UnpackPlan, reader: ArchiveReader, outcome: Unpacked, job: Job, after: Afterwards) -> None:
    """Move an archive that was unpacked to the trash or to what came out of it, but only when everything in it came out.

    Otherwise it stays, and that is said in the outcome.

    Args:
        outcome: of that unpacking.
    """
    if after == Afterwards.STAYS:
        return
    files = files_of(reader.source)
    why = plan.lacking
    if why is None and outcome.problems:
        why = Finding(Reason.NOT_ALL_UNPACKED)
    if why is None and (not files or reader.source.fingerprint() != plan.fingerprint):
        why = Finding(Reason.CHANGED_MEANWHILE)
    if why is not None:
        outcome.add(plan.archive, Reason.ARCHIVE_STAYS, cause=why)
        return
    _write_through(plan.root)
    try:
        if after == Afterwards.TRASH:
            to_trash(files, outcome, job)
        elif all(file.parent == plan.root for file in files):
            outcome.add(plan.archive, Reason.ARCHIVE_THERE_ALREADY)
        else:
            move_into(files, plan.root, outcome, job)
    except Cancelled:
        outcome.add(plan.archive, Reason.ARCHIVE_STAYS_CANCELLED)


def _write_through(folder: Path) -> None:
    """See to it that all that was unpacked is on the disk before the archive goes."""
    with contextlib.suppress(OSError):
        fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            sync_disk(fd)
        finally:
            os.close(fd)


def _run(run: Run, workers: int) -> None:
    write_contents(run, workers)
    finish([run])


def write_contents(run: Run, workers: int, *, helped: bool = True) -> None:
    """Make the folders of a plan and write its files; what must wait until all files are there is left to :func:`finish`.

    Args:
        helped: whether other processes may write small files, which takes a moment to begin with.

    Raises:
        NoSpace: when the disk is full.
    """
    plan, reader = run.plan, run.reader
    folders = [s for s in plan.steps if s.kind == Kind.DIR and s.action in (Action.MAKE, Action.JOIN)]
    wanted, more_names = _wanted(plan)
    rows = np.fromiter(wanted, np.int64, len(wanted))
    main = EntryWriter(run)

    def work(units: Iterator[Unit]) -> None:
        writer = EntryWriter(run)
        try:
            writer.write(wanted, units)
        finally:
            writer.close()

    try:
        if helped and workers > 1 and np.count_nonzero(reader.catalog.size[rows] < HOLE) >= WORTH_IT:
            run.file_writers = FileWriters(plan.root, workers - 1)
        for step in folders:
            run.guarded(step, main.root.folder, step.target)
            run.job.advance(entries=1)
        run_side_by_side(reader.units(rows), work, workers, helped=run.file_writers is not None)
        if run.file_writers:
            main.small.settle(run.file_writers.finish())
        for first, step in more_names:
            run.guarded(step, main.link_again, first, step)
            run.job.advance(entries=1)
    finally:
        if run.file_writers:
            for written, _ in run.file_writers.finish():
                main.small.note(written)
        main.close()


def finish(runs: Sequence[Run]) -> None:
    """What comes when all files are there: the links, and the permissions and times of folders, the deepest first, as writing
    into a folder changes its time.

    Args:
        runs: those into one folder, with their catalogs still there.
    """
    for run in runs:
        writer = EntryWriter(run)
        try:
            for step, target in run.links:
                run.guarded(step, writer.link, step, target)
        finally:
            writer.close()
    made = [(run, s) for run in runs for s in run.plan.steps if s.kind == Kind.DIR and s.action == Action.MAKE]
    if not made:
        return
    root = SafeRoot(made[0][0].plan.root, made[0][0].made)
    try:
        for run, step in sorted(made, key=lambda one: len(one[1].target), reverse=True):
            run.guarded(step, _finish_folder, run, root, step)
    finally:
        root.close()


def _finish_folder(run: Run, root: SafeRoot, step: Step) -> None:
    mode, times = marks_of(run.reader.catalog, step.row)
    run.note_marks(root.finish_folder(step.target, mode=mode, times=times))


def _wanted(plan: UnpackPlan) -> tuple[dict[int, Step], list[tuple[Step | None, Step]]]:
    """The steps that write, by the row of their content, and those that are one more name of one of them, or of a file that
    was written before."""
    wanted: dict[int, Step] = {}
    others: list[tuple[Step | None, Step]] = []
    writing = [s for s in plan.steps if s.kind != Kind.DIR and s.action.writes]
    for step in sorted(writing, key=lambda s: s.kind == Kind.HARD):
        content = step.content if step.kind == Kind.HARD else step.row
        if step.first:
            others.append((None, step))
        elif content in wanted:
            others.append((wanted[content], step))
        else:
            wanted[content] = step
    return wanted, others
