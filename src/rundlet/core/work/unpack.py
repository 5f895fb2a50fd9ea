"""Unpacking: a plan becomes files."""

from __future__ import annotations

import contextlib
import errno
import threading
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

import numpy as np

from rundlet.core.codecs.side_by_side import cores
from rundlet.core.errors import Corrupt, FileProblem, NoSpace, OutOfDate, RundletError, file_problem
from rundlet.core.files.landing import Landing, Made, make_root
from rundlet.core.files.names import safe_link
from rundlet.core.files.space import free_bytes
from rundlet.core.files.trash import from_trash, trash_one
from rundlet.core.formats.base import NO_TIME, ArchiveReader, Kind, Unit
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.limits import CHUNK, KIB, MAX_LINK_TARGET, MIB
from rundlet.core.plans.unpack import Action, Step, UnpackPlan
from rundlet.core.text import lower, quoted, size
from rundlet.core.work.units import run_side_by_side

_PERMISSIONS = 0o777
_LOOK_EVERY = 64 * MIB
_SAID_BYTES, _SAID_ENTRIES = CHUNK, 16
_HOLE = 64 * KIB  # runs of zeros from this size on become holes
_ZEROS = bytes(CHUNK)
_FULL = (errno.ENOSPC, errno.EDQUOT)


def unpack(plan: UnpackPlan, reader: ArchiveReader, job: Job | None = None, *, workers: int | None = None) -> Report:
    """Write the entries of a plan.

    One damaged entry does not stop the others: it is named in the report and leaves no file. Cancelled work, and
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
        raise OutOfDate(f"{quoted(plan.archive)} was changed meanwhile; open it again.")
    if plan.size > (free := free_bytes(plan.root)):
        raise NoSpace(f"{size(plan.size)} are needed in {quoted(str(plan.root))}, and only {size(free)} are free.")
    wanted = [
        step.content if step.content >= 0 else step.row
        for step in plan.steps
        if step.kind != Kind.DIR and step.action.writes
    ]
    reader.require_password(np.array(wanted, np.int64))
    job.begin("Unpacking", total_bytes=plan.size, total_entries=len(plan.steps))
    made = Made()
    report = Report("unpack", plan.root, issues=list(plan.issues))
    try:
        if any(step.action.writes for step in plan.steps):
            make_root(plan.root, made)
            _Run(plan, reader, job, made, report).run(workers or cores())
    except BaseException:
        made.take_back()
        for path in report.trashed:
            with contextlib.suppress(FileProblem):
                from_trash(Path(path))
        raise
    report.created = [*made.folders, *made.files]
    report.seconds = time.monotonic() - started
    return report


@dataclass(slots=True)
class _Tally:
    """What one worker did; added up when it ends, so that workers need not wait for each other at every file."""

    made: list[str] = field(default_factory=list)
    rows: list[int] = field(default_factory=list)
    bytes_out: int = 0
    until_look: int = _LOOK_EVERY
    unsaid_bytes: int = 0
    unsaid_entries: int = 0


class _Run:
    """One run of a plan."""

    def __init__(self, plan: UnpackPlan, reader: ArchiveReader, job: Job, made: Made, report: Report) -> None:
        self._plan = plan
        self._reader = reader
        self._job = job
        self._made = made
        self._report = report
        self._lock = threading.Lock()
        self._links: list[tuple[Step, str]] = []
        self._failed: set[int] = set()

    def run(self, workers: int) -> None:
        landing = Landing(self._plan.root, self._made)
        tally = _Tally()
        try:
            folders = [s for s in self._plan.steps if s.kind == Kind.DIR and s.action in (Action.MAKE, Action.JOIN)]
            self._make_folders(folders, landing)
            wanted, more_names = self._wanted()
            rows = np.fromiter(wanted, np.int64, len(wanted))
            run_side_by_side(self._reader.units(rows), partial(self._work, wanted), workers)
            for first, step in more_names:
                self._guarded(step, partial(self._link_again, first, step, landing, tally))
                self._job.advance(entries=1)
            for step, target in self._links:
                self._guarded(step, partial(self._make_link, step, target, landing, tally))
            self._finish_folders(folders, landing)
        finally:
            self._add_up(tally)
            landing.close()

    def _add_up(self, tally: _Tally) -> None:
        with self._lock:
            self._made.files += tally.made
            self._report.files += len(tally.rows)
            self._report.bytes_in += int(np.maximum(self._reader.catalog.packed[tally.rows], 0).sum())
            self._report.bytes_out += tally.bytes_out

    def _wanted(self) -> tuple[dict[int, Step], list[tuple[Step, Step]]]:
        """The steps that write, by the row of their content, and those that are one more name of one of them."""
        wanted: dict[int, Step] = {}
        others = []
        writing = [s for s in self._plan.steps if s.kind != Kind.DIR and s.action.writes]
        for step in sorted(writing, key=lambda s: s.kind == Kind.HARD):
            content = step.content if step.kind == Kind.HARD else step.row
            if content in wanted:
                others.append((wanted[content], step))
            else:
                wanted[content] = step
        return wanted, others

    def _link_again(self, first: Step, step: Step, landing: Landing, tally: _Tally) -> None:
        if first.row in self._failed:
            raise Corrupt("The file that it is one more name of could not be unpacked.")
        landing.hard_link(first.target, step.target, replace=self._make_room(step, landing))
        self._done(step, 0, landing, tally)

    def _work(self, wanted: dict[int, Step], units: Iterator[Unit]) -> None:
        """What one worker does: take units until there are none."""
        landing = Landing(self._plan.root, self._made)
        tally = _Tally()
        try:
            for unit in units:
                for row, chunks in unit.stream():
                    step = wanted[row]
                    try:
                        if step.kind is Kind.LINK:
                            self._read_link(step, chunks)
                        elif type(chunks) is tuple and len(chunks[0]) < _HOLE and step.action is not Action.REPLACE:
                            self._put_file(step, chunks[0], landing, tally)
                        else:
                            self._write_file(step, chunks, landing, tally)
                    except (RundletError, OSError) as error:
                        self._went_wrong(step, error)
                    tally.unsaid_entries += 1
                    if tally.unsaid_entries >= _SAID_ENTRIES or tally.unsaid_bytes >= _SAID_BYTES:
                        self._tell(tally)
            self._tell(tally)
        finally:
            self._add_up(tally)
            landing.close()

    def _tell(self, tally: _Tally) -> None:
        """Say how far the work is; not at each small file, as that takes as long as writing it."""
        count, entries = tally.unsaid_bytes, tally.unsaid_entries
        tally.unsaid_bytes = tally.unsaid_entries = 0
        self._job.advance(count, entries=entries)

    def _guarded(self, step: Step, task: partial[None]) -> None:
        """Run a task for one entry; what goes wrong is said of that entry and the others go on."""
        try:
            task()
        except (RundletError, OSError) as error:
            self._went_wrong(step, error)

    def _went_wrong(self, step: Step, error: RundletError | OSError) -> None:
        if isinstance(error, RundletError):
            self._say(step, error)
        elif error.errno in _FULL:
            raise NoSpace(
                f"The disk with {quoted(str(self._plan.root))} is full. What was unpacked was taken away again."
            ) from error
        else:
            self._say(step, file_problem(error, "write", self._plan.root.joinpath(*step.target)))

    def _say(self, step: Step, error: RundletError) -> None:
        with self._lock:
            self._failed.add(step.row)
            message = lower(error.message).rstrip(".")
            self._report.add(self._reader.catalog.path(step.row), f"was left out: {message}")

    def _put_file(self, step: Step, data: bytes, landing: Landing, tally: _Tally) -> None:
        """What :meth:`_write_file` does, for a small file that is there as a whole."""
        catalog, row = self._reader.catalog, step.row
        mtime_ns = catalog.mtime_ns.item(row)
        times = (mtime_ns, mtime_ns) if mtime_ns != NO_TIME else None
        landing.put(step.target, data, mode=catalog.mode.item(row) & _PERMISSIONS, times=times)
        tally.made.append(landing.path_text(step.target))
        tally.rows.append(row)
        size = len(data)
        tally.bytes_out += size
        tally.unsaid_bytes += size
        tally.until_look -= size
        if tally.until_look < 0:
            self._look_at_space(tally)

    def _write_file(self, step: Step, chunks: Iterable[bytes], landing: Landing, tally: _Tally) -> None:
        catalog, row = self._reader.catalog, step.row
        mode, mtime_ns = catalog.mode.item(row), catalog.mtime_ns.item(row)
        written = 0
        new = landing.new_file(step.target)
        try:
            for data in chunks:
                size = len(data)
                if size < _HOLE or data[0] or data[-1] or data != _ZEROS[:size]:
                    new.write(data)
                else:
                    new.skip(size)
                written += size
                tally.until_look -= size
                if tally.until_look < 0:
                    self._look_at_space(tally)
                tally.unsaid_bytes += size
                if tally.unsaid_bytes >= _SAID_BYTES or not size:  # nothing yet: a chance to stop
                    self._tell(tally)
            new.finish(mode=mode & _PERMISSIONS, times=(mtime_ns, mtime_ns) if mtime_ns != NO_TIME else None)
            new.commit(replace=self._make_room(step, landing))
        finally:
            new.discard()
        self._done(step, written, landing, tally)

    def _make_room(self, step: Step, landing: Landing) -> bool:
        """Move what is to be replaced to the trash, where that is asked for; whether there is still something to replace.

        Raises:
            FileProblem: when it can't be moved there; it stays then.
        """
        if step.action != Action.REPLACE or not self._plan.keep_replaced:
            return step.action == Action.REPLACE
        path = landing.path(step.target)
        trash_one(path)
        with self._lock:
            self._report.trashed.append(str(path))
        return False

    def _done(self, step: Step, written: int, landing: Landing, tally: _Tally) -> None:
        if step.action != Action.REPLACE or self._plan.keep_replaced:
            tally.made.append(landing.path_text(step.target))
        tally.rows.append(step.row)
        tally.bytes_out += written

    def _look_at_space(self, tally: _Tally) -> None:
        """Look at the free space now and then: an entry may unpack to more than it said."""
        tally.until_look = _LOOK_EVERY
        if free_bytes(self._plan.root) < MIB:
            raise OSError(errno.ENOSPC, "")

    def _read_link(self, step: Step, chunks: Iterable[bytes]) -> None:
        """Links are made when all files are there, so that no file can be written through one."""
        target = b""
        for data in chunks:
            target += data
            if len(target) > MAX_LINK_TARGET:
                raise Corrupt("it is a link without a usable target.")
        with self._lock:
            self._links.append((step, target.decode("utf-8", "surrogateescape")))

    def _make_link(self, step: Step, target: str, landing: Landing, tally: _Tally) -> None:
        refused = safe_link(step.target, target)
        if refused:
            with self._lock:
                self._report.add(self._reader.catalog.path(step.row), f"was left out: {refused}")
            return
        landing.link(step.target, target, replace=self._make_room(step, landing))
        self._done(step, 0, landing, tally)

    def _make_folders(self, folders: list[Step], landing: Landing) -> None:
        for step in folders:
            self._guarded(step, partial(self._make_folder, step, landing))
            self._job.advance(entries=1)

    def _make_folder(self, step: Step, landing: Landing) -> None:
        landing.folder(step.target)

    def _finish_folders(self, folders: list[Step], landing: Landing) -> None:
        """Permissions and times of new folders, the deepest first, as writing into a folder changes its time."""
        for step in sorted(folders, key=lambda s: len(s.target), reverse=True):
            if step.action == Action.MAKE:
                mode = int(self._reader.catalog.mode[step.row]) & _PERMISSIONS
                mtime_ns = int(self._reader.catalog.mtime_ns[step.row])
                times = (mtime_ns, mtime_ns) if mtime_ns != NO_TIME else None
                self._guarded(step, partial(landing.finish_folder, step.target, mode=mode, times=times))
