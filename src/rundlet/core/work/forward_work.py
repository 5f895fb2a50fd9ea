"""Checking and unpacking what is read as it comes, piece by piece."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Corrupt, RundletError, WrongPassword, file_problem
from rundlet.core.fs.replaced import Replaced
from rundlet.core.fs.safe_names import safe_link
from rundlet.core.fs.safe_root import Made, SafeRoot, make_root
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Checked, Unpacked
from rundlet.core.limits import MAX_LINK_TARGET
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.plans.unpack_plan import Action, Steps
from rundlet.core.streams.pipes import NAME
from rundlet.core.text import plain_path
from rundlet.core.work.checker import Verdict, check
from rundlet.core.work.extractor import changed_folders, finish, lacks_space, tidy, write_contents
from rundlet.core.work.marks import marks_of
from rundlet.core.work.unpack_run import Run

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.forward_reading import ForwardArchive
    from rundlet.core.model.entry import Entry
    from rundlet.core.plans.unpack_plan import UnpackPlan
    from rundlet.core.plans.unpack_planner import Planner

Choose = Callable[["ArchiveReader"], "NDArray[np.int64] | None"]
"""The selected rows of a piece; None for all of them."""


class _PieceJob(Job):
    """What work on a piece is told by and stopped with: the job of the whole, which begins once."""

    def __init__(self, whole: Job) -> None:
        super().__init__()
        self._whole = whole

    def begin(self, phase: str, *, total_bytes: int = 0, total_entries: int = 0) -> None:
        self._whole.checkpoint()

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        self._whole.advance(count, entries=entries)

    def checkpoint(self) -> None:
        self._whole.checkpoint()


def unlocked_pieces(archive: ForwardArchive, password: str | None) -> Iterator[ArchiveReader]:
    """The pieces, opened with a password where one was given.

    Raises:
        PasswordNeeded: when all files of the first piece that has some are locked, and none was given.
        WrongPassword: when it does not open the first piece that is locked.
    """
    any_readable = opened = False
    for reader in archive.pieces():
        if password is not None and bool(reader.catalog.encrypted.any()):
            try:
                reader.unlock(password)
                opened = True
            except WrongPassword:
                if not opened:
                    raise
        any_filled = bool((reader.catalog.size != 0).any())
        if any_filled and not any_readable:
            reader.require_password(np.arange(len(reader.catalog)))
        any_readable |= any_filled
        reader.unlocked = True  # what is locked all the same is said of each file
        yield reader
        reader.close()


def check_forward(
    archive: ForwardArchive,
    job: Job,
    *,
    password: str | None = None,
    tell: Callable[[str, Verdict], None] | None = None,
    workers: int | None = None,
) -> Checked:
    """Read everything as it comes; the outcome names what is damaged.

    Args:
        tell: told what is so of each item, when all was read: a checksum of the whole comes last.

    Raises:
        PasswordNeeded, WrongPassword: as :func:`unlocked_pieces` does.
        RundletError: when nothing more can be read, which is no fault of the archive.
    """
    started = time.monotonic()
    job.begin("Checking")
    outcome = Checked(Path(NAME))
    judged: list[tuple[str, Verdict]] = []
    for reader in unlocked_pieces(archive, password):
        found: dict[int, Verdict] = {}
        piece = check(reader, _PieceJob(job), tell=found.__setitem__ if tell is not None else None, workers=workers)
        outcome.include(piece)
        judged += ((plain_path(reader.catalog.path(row)), verdict) for row, verdict in sorted(found.items()))
    if archive.vouches:
        doubtful = min(archive.unvouched, outcome.unverified)
        judged = list(_judged_at_last(judged, doubtful, is_wrong=archive.wrong))
        outcome.unverified = 0 if archive.wrong else doubtful
        if archive.wrong:
            outcome.doubtful += doubtful
            outcome.files -= doubtful
    for path, verdict in judged if tell is not None else ():
        tell(path, verdict)  # type: ignore[misc]
    outcome.issues = [*archive.notices, *outcome.issues]
    outcome.seconds = time.monotonic() - started
    return outcome


def _judged_at_last(
    judged: list[tuple[str, Verdict]], doubtful: int, *, is_wrong: bool
) -> Iterator[tuple[str, Verdict]]:
    """What is so of each item once it is known up to where the checksums of the whole are right.

    Args:
        doubtful: how many of the last files that could be read have no such checksum behind them.
    """
    left = sum(verdict is Verdict.UNTOLD for _, verdict in judged) - doubtful
    for path, verdict in judged:
        if verdict is Verdict.UNTOLD:
            left -= 1
            if left >= 0:
                verdict = Verdict.INTACT
            elif is_wrong:
                verdict = Verdict.DOUBTFUL
        yield path, verdict


def unpack_forward(
    archive: ForwardArchive,
    planner: Planner,
    job: Job,
    *,
    choose: Choose | None = None,
    chosen: Callable[[], None] | None = None,
    wrote: Callable[[UnpackPlan], None] | None = None,
    password: str | None = None,
    workers: int | None = None,
) -> Unpacked:
    """Write entries as they come. Cancelled work, and work that a full disk ends, takes back what it put there.

    Args:
        planner: where everything lands; one that plans in pieces.
        choose: the rows of a piece that are wanted; None for all.
        chosen: called when all pieces were seen; may raise ``PlanError`` to have everything taken back.
        wrote: told of the plan of each piece that was written.

    Raises:
        NoSpace: when the disk is too full.
        PasswordNeeded, WrongPassword: as :func:`unlocked_pieces` does.
        RundletError: when nothing more can be read, or the folder can't be made or written to at all.
    """
    started = time.monotonic()
    job.begin("Unpacking")
    run = _ForwardRun(archive, planner, job, workers or cores())
    with ExitStack() as notes:
        try:
            for reader in unlocked_pieces(archive, password):
                plan = planner.plan(reader, choose(reader) if choose is not None else None)
                run.piece(reader, plan, notes)
                if wrote is not None:
                    wrote(plan)
            if chosen is not None:
                chosen()
            run.finish()
            job.checkpoint()
        except BaseException:
            run.made.take_back()
            run.replaced.give_all_back()
            raise
        outcome = run.outcome
        run.replaced.settle(outcome, keep=run.keeps_replaced)
    outcome.issues = list(_together([*archive.notices, *outcome.issues]))
    outcome.created = [*run.made.folders, *run.made.files]
    outcome.seconds = time.monotonic() - started
    return outcome


class _ForwardRun:
    """One run of unpacking in pieces."""

    def __init__(self, archive: ForwardArchive, planner: Planner, job: Job, workers: int) -> None:
        self.made, self.replaced = Made(), Replaced()
        self.outcome = Unpacked(planner.root)
        self.keeps_replaced = False
        self._archive, self._planner, self._workers = archive, planner, workers
        self._job = _PieceJob(job)
        self._kept: list[Run] = []  # pieces with something to be done at last
        # What became of entries, and their times, by what the archive's file list knows them by.
        self._landed: dict[int, tuple[Kind, Steps, int]] = {}
        self._noted: set[Path] = set()
        self._unmarked = 0
        self._has_root = False

    def piece(self, reader: ArchiveReader, plan: UnpackPlan, notes: ExitStack) -> None:
        """Write the contents of one piece."""
        if (problem := lacks_space(plan)) is not None:
            raise problem
        outcome = self.outcome
        outcome.same += plan.counts[Action.SAME]
        outcome.skipped += plan.counts[Action.SKIP]
        outcome.renamed += plan.counts[Action.NUMBER]
        outcome.left_out += plan.counts[Action.REFUSE]
        self.keeps_replaced = plan.keep_replaced
        run = Run(plan, reader, self._job, self.made, outcome, replaced=self.replaced)
        before = len(outcome.issues)
        if any(step.action.writes for step in plan.steps):
            if not self._has_root:
                tidy(plan)
                make_root(plan.root, self.made)
                self._has_root = True
            folders = [folder for folder in changed_folders(plan) if folder not in self._noted]
            if folders:
                self._noted.update(folders)
                notes.enter_context(noted(folders))
            write_contents(run, self._workers, helped=False)
        failed = {reader.catalog.path(row) for row in run.failed}
        said = [one for one in plan.issues if one.item not in failed]
        outcome.issues[before:before] = said
        outcome.left_out += len(run.failed)
        for path in failed if self._planner.landed is not None else ():
            self._planner.landed.pop(plain_path(path), None)  # type: ignore[union-attr]
        self._unmarked += run.unmarked
        self._note_places(run)
        last = tuple(step for step in plan.steps if step.kind == Kind.DIR and step.action == Action.MAKE)
        if last or run.links:
            self._kept.append(
                Run(replace(plan, steps=last), reader, self._job, self.made, outcome, None, run.links, self.replaced)
            )

    def _note_places(self, run: Run) -> None:
        places = self._archive.places(run.reader)
        if places is None:
            return
        for step in run.plan.steps:
            if step.action.writes and step.kind in (Kind.FILE, Kind.DIR) and step.row not in run.failed:
                mtime_ns = run.reader.catalog.mtime_ns.item(step.row)
                self._landed[places.item(step.row)] = step.kind, step.target, mtime_ns

    def finish(self) -> None:
        """Do what is done when all files are there."""
        listed = self._archive.listed
        folders: list[tuple[Steps, int]] = []
        if listed is not None and self._has_root:
            root = SafeRoot(self._planner.root, self.made)
            try:
                folders = self._go_by_list(listed, root)
            finally:
                root.close()
        finish(self._kept)
        self._unmarked += sum(run.unmarked for run in self._kept)
        if listed is not None and folders:
            root = SafeRoot(self._planner.root, self.made)
            try:
                for target, row in sorted(folders, key=lambda one: len(one[0]), reverse=True):
                    mode, times = marks_of(listed.catalog, row)
                    self._unmarked += not root.finish_folder(target, mode=mode, times=times)
            finally:
                root.close()
        if self._unmarked:
            self.outcome.add(self._planner.root.name, Reason.DISK_KEEPS_NO_MARKS, count=self._unmarked)

    def _go_by_list(self, listed: ArchiveReader, root: SafeRoot) -> list[tuple[Steps, int]]:
        """Give files the permissions and times that the archive's file list has for them, and make links of those that are; the folders
        with their rows are left for later."""
        places = self._archive.places(listed)
        folders: list[tuple[Steps, int]] = []
        for row, place in enumerate(places.tolist() if places is not None else ()):
            if not row % 64:
                self._job.checkpoint()
            kind, target, mtime_ns = self._landed.get(place, (Kind.OTHER, (), NO_TIME))
            mode, times = marks_of(listed.catalog, row)
            if kind == Kind.DIR:
                folders.append((target, row))
            elif kind == Kind.FILE and listed.catalog.kind[row] == Kind.LINK:
                self._make_link(listed.catalog.entry(row), target, root, times)
            elif kind == Kind.FILE and (mode or listed.catalog.mtime_ns[row] != mtime_ns):
                self._unmarked += not root.mark_file(target, mode=mode, times=times)
        return folders

    def _make_link(self, entry: Entry, target: Steps, root: SafeRoot, times: tuple[int, int] | None) -> None:
        """Make a link of a file that holds where it points, or take that away where it can't be one."""
        outcome = self.outcome
        outcome.bytes_out -= entry.size
        try:
            data = root.content(target, MAX_LINK_TARGET + 1)
            if len(data) > MAX_LINK_TARGET:
                raise Corrupt("It is a link without a usable target.")
            leads = data.decode("utf-8", "surrogateescape")
            refused = safe_link(target, leads)
            if refused is None:
                root.link(target, leads, replace=True, times=times)
                return
            outcome.add(entry.path, Reason.LEFT_OUT, cause=refused)
        except RundletError as error:
            outcome.add_error(entry.path, error, Reason.LEFT_OUT)
        except OSError as error:
            problem = file_problem(error, "write", self._planner.root.joinpath(*target))
            outcome.add_error(entry.path, problem, Reason.LEFT_OUT)
        root.remove(target)
        self.replaced.give_back(root.path(target[:-1]), target[-1])
        if (text := root.path_text(target)) in self.made.files:
            self.made.files.remove(text)
        outcome.files -= 1
        outcome.left_out += 1


def _together(issues: list[Issue]) -> Iterator[Issue]:
    """Issues with those that were counted piece by piece as one."""
    counted: dict[tuple[str, Reason], int] = {}
    for one in issues:
        count = one.finding.facts.get("count")
        if set(one.finding.facts) == {"count"} and isinstance(count, int):
            counted[one.item, one.reason] = counted.get((one.item, one.reason), 0) + count
    seen = set()
    for one in issues:
        key = one.item, one.reason
        if key in counted and set(one.finding.facts) == {"count"}:
            if key not in seen:
                yield issue(one.item, one.reason, count=counted[key])
        elif key not in seen or one.finding.facts:
            yield one
        seen.add(key)
