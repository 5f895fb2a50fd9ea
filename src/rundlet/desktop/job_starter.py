"""What the one button does: the sentence that the columns make becomes a job."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import asdict, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QApplication

from rundlet.core.errors import OutOfDate
from rundlet.core.jobs.outcomes import (
    Changed,
    Checked,
    Compared,
    Copied,
    Joined,
    Outcome,
    Packed,
    Salvaged,
    Summed,
    Trashed,
    Unpacked,
)
from rundlet.core.plans.pack_plan import PackClash, plan_pack, suggested_stem
from rundlet.core.plans.unpack_plan import Afterwards
from rundlet.desktop.state.forms import IfTaken

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob
    from rundlet.desktop.locations.place import OpenArchive
    from rundlet.desktop.state.archive_batch import ArchiveBatch
    from rundlet.desktop.state.archive_checks import Line
    from rundlet.desktop.state.changing import Kept
    from rundlet.desktop.state.checking import Found
    from rundlet.desktop.state.comparing import Found as Comparing
    from rundlet.desktop.state.sums import Summed as Sums
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace

_LOOKING = "Looking through the files"


class JobStarter:
    """Starts the window's packing, unpacking, changing and checking. One press starts one job, however quickly it is repeated.

    Args:
        note_folder: told of each folder that something is put into.

    Attributes:
        locks: the passwords that archives under way are locked with, by the ids of their jobs.
    """

    def __init__(
        self,
        workspace: Workspace,
        batch: ArchiveBatch,
        trials: TrialRunner,
        jobs: Jobs,
        note_folder: Callable[[Path], None],
    ) -> None:
        self._workspace = workspace
        self._batch = batch
        self._trials = trials
        self._jobs = jobs
        self._note_folder = note_folder
        self.locks: dict[str, str] = {}
        self._packing: list[RunningJob] = []
        self._unpacking: list[RunningJob] = []
        self._changing: dict[RunningJob, Kept] = {}
        jobs.ended.connect(self._changed)
        self._checks: dict[RunningJob, Found] = {}
        jobs.ended.connect(self._checked)
        jobs.progressed.connect(self._progressed)
        self._comparisons: dict[RunningJob, Comparing] = {}
        self._summing: dict[RunningJob, Sums] = {}
        self._joining: list[RunningJob] = []
        self._lines: dict[RunningJob, Line] = {}
        jobs.ended.connect(self._checked_one)
        jobs.ended.connect(self._summed)
        jobs.ended.connect(self._compared)
        self._pressed = 0.0
        self._said: tuple[object, ...] = ()

    # Whether a press would start the same once more

    def _too_soon(self) -> bool:
        """Whether the same sentence was pressed a moment ago."""
        just_now = time.monotonic() - self._pressed < QApplication.doubleClickInterval() / 1000
        return just_now and self._said == self._sentence()

    def _sentence(self) -> tuple[object, ...]:
        """What the button would do, as far as it tells one press from another."""
        ws = self._workspace
        form = ws.packing.form
        if ws.place.in_archive and ws.changing.wanted:
            return ws.place, tuple(ws.changing.staging.changes if ws.changing.staging else ()), ws.changing.as_new
        if ws.place.in_archive and ws.checking.wanted:
            return ws.place, "check", ws.selection.nodes
        if ws.place.in_archive and ws.comparing.wanted:
            return ws.place, "compare", ws.comparing.other, ws.comparing.certain
        if ws.sums.wanted:
            return ws.selector.paths(), tuple(ws.sums.all_algorithms), ws.sums.text
        return ws.place, ws.selection.nodes, ws.selector.paths(), form.info.id, form.level, form.folder, form.part_size

    def _under_way(self, started: list[RunningJob]) -> list[RunningJob]:
        started[:] = [running for running in started if running in self._jobs.running]
        return started

    @property
    def holds_packing(self) -> bool:
        """Whether what was pressed last has yet to be taken over by its job, which then has a plan of its own."""
        return self._too_soon() or any(
            not running.waits and not (now := running.job.snapshot()).paused and now.phase in ("", _LOOKING)
            for running in self._under_way(self._packing)
        )

    @property
    def holds_unpacking(self) -> bool:
        """Whether the archive in which the window stands is being unpacked: the same plan must not be run twice."""
        opened = self._workspace.archive
        return self._too_soon() or any(
            opened is not None and running.source == (opened.path,) for running in self._under_way(self._unpacking)
        )

    @property
    def holds_batch(self) -> bool:
        """Whether one of the archives that are chosen on the disk is being unpacked."""
        chosen = set(self._batch.form.archives)
        return self._too_soon() or any(
            not chosen.isdisjoint(running.source) for running in self._under_way(self._unpacking)
        )

    def start_pack(self) -> None:
        """Pack what is chosen, as the sentence says; behind what is being packed already."""
        ws = self._workspace
        items, form = ws.selector.paths(), ws.packing.form
        if not items or self.holds_packing:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        self._note_folder(ws.packing.folder)
        point = self._trials.point
        expected = (point.size, point.seconds) if point is not None else (0, 0.0)
        if not form.each:
            self._pack(list(items), ws.packing.asked_target, ws.packing.target.name, expected)
        else:
            for item in items:
                target = ws.packing.folder / (suggested_stem([item]) + form.info.ending)
                self._pack([item], target, target.name, (0, 0.0))
        ws.packing.end_set()

    def _pack(self, items: list[Path], target: Path, name: str, expected: tuple[int, float]) -> None:
        form, clash = replace(self._workspace.packing.form), self._workspace.packing.clash
        adds = clash is IfTaken.ADD and os.path.lexists(target)
        how: dict[str, Any] = {
            "options": form.options,
            "exclude": form.exclude,
            "leave_out": form.leave_out,
            "follow": form.follow,
            "read_back": form.read_back,
            "trash": form.trash,
            "keep_replaced": True,
        }

        def add(job: Job) -> Outcome:
            from rundlet.core.plans.change_plan import Addition, Changes, plan_change
            from rundlet.core.work.changer import change

            job.begin(_LOOKING)
            changes = Changes(added=[Addition(item) for item in items])
            return change(plan_change(target, changes, **how, job=job), job)

        def work(job: Job) -> Outcome:
            from rundlet.core.work.packer import pack

            job.begin(_LOOKING)
            plan = plan_pack(
                items,
                target=target,
                info=form.info,
                part_size=form.part_size,
                on_clash=PackClash.REPLACE if clash is IfTaken.REPLACE else PackClash.RENAME,
                **how,
                job=job,
            )
            outcome = pack(plan, job)
            outcome.limit, outcome.part_size = form.limit, form.part_size
            return outcome

        kind, do = (Changed, add) if adds else (Packed, work)
        repeats = {**asdict(form.settings), "each": False, "locked": bool(form.options.password)} if not adds else None
        running = self._jobs.start(
            kind, target.with_name(name), do, source=items, expected=expected, queued=True, how=repeats
        )
        self._packing.append(running)
        if form.options.password and not adds:
            self.locks[running.id] = form.options.password

    def start_unpack(self) -> None:
        """Unpack as the landing tree says."""
        plan, opened = self._workspace.unpacking.plan, self._workspace.archive
        if plan is None or opened is None or self.holds_unpacking:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        self._note_folder(self._workspace.unpacking.folder)
        path, form = opened.path, self._workspace.unpacking.form
        after = form.after
        if self._workspace.place.outer is not None:
            after = Afterwards.STAYS  # it is a copy, and goes by itself

        def work(job: Job) -> Outcome:
            from rundlet.core.work.extractor import put_away, unpack

            reader = opened.reopened()
            try:
                outcome = unpack(plan, reader, job)
                put_away(plan, reader, outcome, job, after)
                return outcome
            finally:
                reader.close()

        self._unpacking.append(self._jobs.start(Unpacked, plan.root, work, source=[path], shows=form.show))

    @property
    def holds_changing(self) -> bool:
        """Whether the changes of the archive in which the window stands are being saved."""
        return self._too_soon() or self._workspace.changing.is_saving

    def start_change(self) -> None:
        """Save the changes of the archive, or all of it as a new one."""
        ws = self._workspace
        changing, opened = ws.changing, ws.archive
        if opened is None or self.holds_changing or (changing.count and changing.plan is None):
            return
        if not changing.as_new and not changing.count:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        if changing.only is not None and not changing.count and not changing.new.form.part_size:
            self._salvage(opened)
            return
        if changing.as_new:
            self._convert(opened)
            return
        kept = changing.kept_here
        if kept is not None:
            self.save(kept)

    def save(self, kept: Kept, *, queued: bool = False) -> RunningJob | None:
        """Save the changes of an archive, be it the one where the window stands or another one.

        Args:
            queued: whether it waits for the jobs before it.
        """
        from rundlet.desktop.saving import levels_of, save_changes  # when there are changes

        ws, outermost = self._workspace, kept.place.outermost
        if outermost is None or kept.saving:
            return None
        ws.changing.begin_saving(kept)
        staged, on_clash = kept.staging.outcome(), kept.staging.on_clash
        issues = kept.staging.issues
        sources = [Path(change.items[min(change.items)].source) for change in kept.staging.changes if change.items]
        levels = levels_of(kept.place, ws.opener.password_of)
        seen, new_folder = kept.seen, ws.temp_copies.new_folder

        def work(job: Job) -> Outcome:
            outcome = save_changes(levels, staged, on_clash, seen, new_folder, job)
            outcome.issues[:0] = issues
            return outcome

        named = [path for path in sources if path.name]
        running = self._jobs.start(Changed, outermost, work, source=named, queued=queued)
        self._changing[running] = kept
        return running

    def _changed(self, running: RunningJob, result: JobResult) -> None:
        kept = self._changing.pop(running, None)
        if kept is not None:
            self._workspace.changing.end_saving(kept, saved=result.outcome is not None)
            if result.outdated and kept.place.chain == self._workspace.place.chain:
                self._workspace.read_again()

    def _salvage(self, opened: OpenArchive) -> None:
        """Write a new archive of what is intact in the one where the window stands, with a report beside it."""
        changing = self._workspace.changing
        form, target, parts_too = replace(changing.new.form), changing.new.asked_target, changing.damaged_too
        clash = PackClash.REPLACE if changing.new.clash is IfTaken.REPLACE else PackClash.RENAME
        self._note_folder(changing.new.folder)

        def work(job: Job) -> Outcome:
            from rundlet.core.work.salvager import salvage
            from rundlet.presentation.checks import salvage_report

            reader = opened.reopened()
            try:
                return salvage(
                    reader,
                    target,
                    form.info,
                    job,
                    options=form.options,
                    parts_too=parts_too,
                    on_clash=clash,
                    report=partial(salvage_report, opened.path, reader.catalog),
                )
            finally:
                reader.close()

        self._jobs.start(Salvaged, changing.new.target, work, source=[opened.path])
        changing.new.end_set()

    def _convert(self, opened: OpenArchive) -> None:
        """Write a new archive of all that the one where the window stands holds, with what is to be changed in it."""
        changing = self._workspace.changing
        kept = changing.kept_here
        changing.begin_saving(kept)
        form, target, plan = replace(changing.new.form), changing.new.asked_target, changing.plan
        only, issues = changing.only, kept.staging.issues if kept is not None else []
        clash = PackClash.REPLACE if changing.new.clash is IfTaken.REPLACE else PackClash.RENAME
        self._note_folder(changing.new.folder)

        def work(job: Job) -> Outcome:
            from rundlet.core.formats.edits import NOTHING
            from rundlet.core.formats.entry_contents import ArchiveContents
            from rundlet.core.plans.convert_plan import plan_convert
            from rundlet.core.plans.staging import as_they_are_now
            from rundlet.core.work.packer import pack

            job.begin(_LOOKING)
            reader = opened.reopened()
            if reader.source.fingerprint() != opened.seen:
                reader.close()
                raise OutOfDate("{archive:name} was changed meanwhile; open it again.", archive=opened.path.name)
            contents = ArchiveContents(reader, range(len(reader.catalog)) if only is None else only)
            try:
                made = plan_convert(
                    reader,
                    contents,
                    target=target,
                    info=form.info,
                    options=form.options,
                    rows=only,
                    edits=plan.edits if plan is not None else NOTHING,
                    added=as_they_are_now(plan.added) if plan is not None else (),
                    part_size=form.part_size,
                    read_back=True,
                    on_clash=clash,
                    keep_replaced=True,
                    job=job,
                )
                outcome = pack(made, job)
                outcome.issues[:0] = issues
                outcome.part_size = form.part_size
                return outcome
            finally:
                contents.close()
                reader.close()

        running = self._jobs.start(Packed, changing.new.target, work, source=[opened.path])
        if kept is not None:
            self._changing[running] = kept
        changing.new.end_set()

    @property
    def holds_checking(self) -> bool:
        """Whether the archive in which the window stands is being read."""
        found = self._workspace.checking.found
        return self._too_soon() or (found is not None and found.running)

    def start_check(self) -> None:
        """Read what is selected in the archive, or all of it, and show of each item whether it is intact."""
        ws = self._workspace
        opened, checking, nodes = ws.archive, ws.checking, ws.selection.nodes
        if opened is None or self.holds_checking:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        found, opened = checking.begin(opened), replace(opened)
        rows = opened.rows_below(nodes) if nodes else None

        def work(job: Job) -> Outcome:
            from rundlet.core.work.checker import Verdict, check

            def tell(row: int, verdict: Verdict) -> None:
                found.verdicts[row] = verdict

            reader = opened.reopened()
            try:
                outcome = check(reader, job, rows=rows, tell=tell)
            finally:
                reader.close()
            outcome.target = opened.path
            return outcome

        running = self._jobs.start(Checked, ws.place.outermost or opened.path, work, source=[opened.path])
        self._checks[running] = found

    def _progressed(self, running: RunningJob) -> None:
        if running in self._checks:
            self._workspace.checking.progressed.emit()

    def _checked(self, running: RunningJob, result: JobResult) -> None:
        found = self._checks.pop(running, None)
        if found is not None:
            outcome = result.outcome
            self._workspace.checking.end(found, outcome if isinstance(outcome, Checked) else None)

    @property
    def holds_comparing(self) -> bool:
        """Whether the archive in which the window stands is being compared."""
        found = self._workspace.comparing.found
        return self._too_soon() or (found is not None and found.running)

    def start_compare(self) -> None:
        """Compare the archive with what was chosen."""
        ws = self._workspace
        opened, comparing = ws.archive, ws.comparing
        other, certain = comparing.other, comparing.certain
        if opened is None or other is None or self.holds_comparing:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        found, opened = comparing.begin(opened, other), replace(opened)
        password = ws.opener.password_of(other.path)

        def work(job: Job) -> Outcome:
            from rundlet.core.work.compared_sides import ArchiveSide, FolderSide
            from rundlet.core.work.comparer import compare, outcome_of

            started = time.monotonic()
            with contextlib.ExitStack() as held:
                here = ArchiveSide(held.enter_context(_as_it_was(opened, found.seen)))
                if os.path.isdir(other.path):
                    folder = FolderSide(other.path, other.only, job, without=[opened.path])
                    found.comparison = compare(here, folder, job, certain=certain)
                else:
                    second = held.enter_context(_opened(other.path, password, job))
                    found.comparison = compare(here, ArchiveSide(second), job, certain=certain)
            return outcome_of(found.comparison, opened.path, started)

        running = self._jobs.start(Compared, ws.place.outermost or opened.path, work, source=[opened.path, *other.tops])
        self._comparisons[running] = found

    def _compared(self, running: RunningJob, result: JobResult) -> None:
        found = self._comparisons.pop(running, None)
        if found is not None:
            outcome = result.outcome
            self._workspace.comparing.end(found, outcome if isinstance(outcome, Compared) else None)

    def trash_compared(self) -> None:
        """Move the folder that the archive was compared with to the trash, as far as it is still what it was then."""
        found, archive = self._workspace.comparing.found, self._workspace.archive
        comparison = found.comparison if found is not None else None
        if found is None or comparison is None or archive is None or self._workspace.place.outer is not None:
            return
        if not comparison.folder_may_go or self._too_soon():
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        tops, archive = found.other.tops, replace(archive)

        def work(job: Job) -> Outcome:
            from rundlet.core.work.originals import clear_up

            outcome = Trashed(found.other.path)
            with _as_it_was(archive, found.seen):
                clear_up(tops, comparison.proof(), job, outcome)
            return outcome

        self._jobs.start(Trashed, found.other.path, work, source=tops)

    @property
    def holds_sums(self) -> bool:
        """Whether checksums of what is selected are being computed."""
        found = self._workspace.sums.found
        return self._too_soon() or (found is not None and found.running)

    def start_sums(self) -> None:
        """Compute the checksums of what is selected, or hold files against the list that is."""
        sums = self._workspace.sums
        if not sums.paths or self.holds_sums:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        found, algorithms, lines, list_file = sums.begin(), sums.all_algorithms, list(sums.listed), sums.list_file

        def work(job: Job) -> Outcome:
            from rundlet.core.userdata.sum_cache import SumCache
            from rundlet.core.work.checksums import sums_of, verify
            from rundlet.desktop.state.sums import extra_beside, files_below

            started, cache = time.monotonic(), SumCache()
            outcome = Summed(found.paths[0])
            if list_file is not None:
                found.verified = verify(lines, list_file.parent, job, cache=cache)
                found.extra = extra_beside(list_file, lines)
                outcome.files = len(found.verified)
            else:
                job.begin(_LOOKING)
                found.sums = sums_of(files_below(found.paths, job.checkpoint), algorithms, job, cache=cache)
                outcome.files = len(found.sums)
            outcome.bytes_in, outcome.seconds = job.snapshot().done_bytes, time.monotonic() - started
            return outcome

        self._summing[self._jobs.start(Summed, found.paths[0], work, source=found.paths)] = found

    def _summed(self, running: RunningJob, result: JobResult) -> None:
        found = self._summing.pop(running, None)
        if found is not None:
            self._workspace.sums.end(found, done=isinstance(result.outcome, Summed))

    @property
    def holds_checks(self) -> bool:
        """Whether one of the archives that are selected is being checked."""
        lines = [self._workspace.archive_checks.line(archive) for archive in self._batch.form.archives]
        return self._too_soon() or any(line is not None and line.running for line in lines)

    def start_checks(self) -> None:
        """Check each archive that is selected on the disk, one after the other."""
        archives, checks = self._batch.form.archives, self._workspace.archive_checks
        if not archives or self.holds_checks:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        for archive in archives:
            line = checks.begin(archive)
            work = _checking(archive, self._workspace.opener.password_of(archive))
            self._lines[self._jobs.start(Checked, archive, work, source=[archive], queued=True)] = line

    def _checked_one(self, running: RunningJob, result: JobResult) -> None:
        line = self._lines.pop(running, None)
        if line is not None:
            outcome = result.outcome if isinstance(result.outcome, Checked) else None
            self._workspace.archive_checks.end(line, outcome, "" if outcome is not None else result.words)

    def start_join(self) -> None:
        """Join the parts of a plain file that are selected."""
        plan = self._workspace.joining.plan
        if plan is None or plan.lacking or self.holds_joining:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        target = plan.first.with_name(plan.name)

        def work(job: Job) -> Outcome:
            from rundlet.core.work.joiner import join

            return join(plan, target, job, on_clash=PackClash.RENAME)

        self._joining.append(self._jobs.start(Joined, target, work, source=[plan.first]))

    @property
    def holds_joining(self) -> bool:
        """Whether parts are being joined."""
        return self._too_soon() or bool(self._under_way(self._joining))

    def take_part(self, found: Path, part: Path) -> None:
        """Copy a part that was found elsewhere beside the others."""

        def work(job: Job) -> Outcome:
            from rundlet.core.work.joiner import take_part

            return take_part(found, part, job)

        self._jobs.start(Copied, part.parent, work, source=[found])

    def start_several(self) -> None:
        """Unpack the archives that are chosen on the disk."""
        form, into = replace(self._batch.form), self._batch.folder
        if self.holds_batch:
            return
        self._pressed, self._said = time.monotonic(), self._sentence()
        self._note_folder(into)
        ready = [outlook.path for outlook in form.ready]
        rules = {path: dict(own) for path, own in form.rules.items()}
        passwords = {outlook.path: outlook.password for outlook in form.ready if outlook.password}

        def work(job: Job) -> Outcome:
            from rundlet.core.work.extract_many import unpack_several

            return unpack_several(
                ready,
                into=into,
                on_clash=form.on_clash,
                rules=rules,
                passwords=passwords,
                keep_replaced=True,
                after=Afterwards.TRASH if form.trash else Afterwards.STAYS,
                job=job,
            )

        self._unpacking.append(self._jobs.start(Unpacked, into, work, source=ready, shows=form.show))


def _checking(archive: Path, password: str) -> Callable[[Job], Outcome]:
    """Work that reads an archive through."""

    def work(job: Job) -> Outcome:
        from rundlet.core.work.checker import check

        with _opened(archive, password, job) as reader:
            outcome = check(reader, job)
        outcome.target = archive
        return outcome

    return work


@contextlib.contextmanager
def _opened(archive: Path, password: str, job: Job) -> Iterator[ArchiveReader]:
    """An archive on the disk, unlocked where the password fits; what is not locked can be read all the same."""
    from rundlet.core.errors import PasswordNeeded
    from rundlet.core.formats.detect import open_archive, open_unlocked
    from rundlet.core.model.opening import Opening

    try:
        reader, _ = open_unlocked(archive, [password] if password else [], Opening(job=job))
    except PasswordNeeded:
        reader = open_archive(archive, Opening(job=job))
    with contextlib.closing(reader):
        yield reader


@contextlib.contextmanager
def _as_it_was(opened: OpenArchive, seen: tuple[int, ...]) -> Iterator[ArchiveReader]:
    """One more reader of an archive that the window is in. Raises ``OutOfDate`` where it has been changed since."""
    with contextlib.closing(opened.reopened()) as reader:
        if reader.source.fingerprint() != seen:
            raise OutOfDate("{archive:name} was changed meanwhile.", archive=reader.source.name, hint="Compare again.")
        yield reader
