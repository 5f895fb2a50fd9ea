"""Writing what is unpacked: what one worker does."""

from __future__ import annotations

import errno
import itertools
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.whole import Whole
from rundlet.core.errors import Corrupt, NoSpace, RundletError, file_problem
from rundlet.core.fs.disk_space import free_bytes
from rundlet.core.fs.replaced import Replaced
from rundlet.core.fs.safe_names import safe_link
from rundlet.core.fs.safe_root import Made, SafeRoot
from rundlet.core.jobs.findings import Reason
from rundlet.core.limits import CHUNK, KIB, MAX_LINK_TARGET, MIB
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.plans.unpack_plan import Action, Step, UnpackPlan
from rundlet.core.streams.sinks import allowed
from rundlet.core.text import quoted
from rundlet.core.work.file_writer_process import Errand, do
from rundlet.core.work.file_writers import BATCH_BYTES, BATCH_FILES, Done, FileWriters, SmallFile

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome

_LOOK_EVERY = 64 * MIB
_SAID_BYTES, _SAID_ENTRIES = CHUNK, 16
HOLE = 64 * KIB
"""Runs of zeros from this size on become holes; files below it are written at once."""
_ZEROS = bytes(CHUNK)
_FULL = (errno.ENOSPC, errno.EDQUOT)
_LINK, _REPLACE = Kind.LINK, Action.REPLACE  # found quicker than by way of their class


@dataclass(slots=True)
class Run:
    """What all workers of one run share.

    Attributes:
        replaced: what stood in the places of files that were replaced.
        unmarked: how many files and folders could not get their times or permissions.
    """

    plan: UnpackPlan
    reader: ArchiveReader
    job: Job
    made: Made
    outcome: Outcome
    file_writers: FileWriters | None = None
    links: list[tuple[Step, str]] = field(default_factory=list)
    replaced: Replaced = field(default_factory=Replaced)
    unmarked: int = 0
    failed: set[int] = field(default_factory=set)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def no_space(self) -> NoSpace:
        """That the disk is full."""
        return NoSpace(f"The disk with {quoted(str(self.plan.root))} is full. What was unpacked was taken away again.")


class Writer:
    """One worker. What it did is added up when it ends, so that workers need not wait for each other at every file.

    Not to be shared between threads.
    """

    def __init__(self, run: Run) -> None:
        self._run = run
        self._catalog = run.reader.catalog
        self.root = SafeRoot(run.plan.root, run.made)
        self._made: list[str] = []
        self._rows: list[int] = []
        self._bytes_out = 0
        self._until_look = _LOOK_EVERY
        self._unsaid_bytes = self._unsaid_entries = 0

    def close(self) -> None:
        """Add up what was done, and let go of the folders."""
        run = self._run
        with run.lock:
            run.made.files += self._made
            run.outcome.files += len(self._rows)
            run.outcome.bytes_in += int(np.maximum(self._catalog.packed[self._rows], 0).sum())
            run.outcome.bytes_out += self._bytes_out
        self.root.close()

    def write(self, wanted: dict[int, Step], units: Iterator[Unit]) -> None:
        """Take units until there are none, and write their entries.

        Args:
            wanted: the step for the content of each row.
        """
        batch: list[SmallFile] = []
        waiting = 0  # bytes in it
        for unit in units:
            for row, chunks in unit.stream():
                step = wanted[row]
                try:
                    content = chunks if type(chunks) is Whole else self._gathered(step, chunks)
                    if (
                        type(content) is Whole
                        and content.size < HOLE
                        and not (step.kind is _LINK or step.action is _REPLACE)
                    ):
                        batch.append((step, content))
                        waiting += len(content.data)
                        if waiting > BATCH_BYTES or len(batch) == BATCH_FILES:
                            full, batch, waiting = batch, [], 0
                            self._put(full)
                        continue
                    if step.kind is _LINK:
                        self._read_link(step, content)
                    else:
                        self._write_file(step, content)
                except (RundletError, OSError) as error:
                    self._went_wrong(step, error)
                self._one_more()
        if batch:
            self._put(batch)
        self._tell()

    def _gathered(self, step: Step, chunks: Iterable[bytes]) -> Iterable[bytes]:
        """The content as a whole when it is small."""
        if not 0 <= step.size < HOLE:
            return chunks
        taken, rest = [], iter(chunks)
        size = 0
        for data in rest:
            taken.append(data)
            size += len(data)
            if size >= HOLE:
                return itertools.chain(taken, rest)
            if not data:  # nothing yet: a chance to stop
                self._tell()
        return Whole(b"".join(taken), False, size, None)

    # Small files

    def _put(self, batch: list[SmallFile]) -> None:
        """Write small files, or let a helper do so."""
        file_writers = self._run.file_writers
        errands = self._errands(batch)
        if file_writers and self._folders_are_there(batch):
            taken = file_writers.take(batch, errands)
            self.settle(file_writers.done())
            if taken:
                return
        for (step, content), errand in zip(batch, errands, strict=True):
            if self.guarded(step, self._do, errand):
                self._unsaid_bytes += content.size
                self._done(step, content.size)
            self._one_more()

    def _errands(self, batch: list[SmallFile]) -> list[Errand]:
        rows = [step.row for step, _ in batch]
        modes = [allowed(mode) for mode in self._catalog.mode[rows].tolist()]
        times = [None if time == NO_TIME else time for time in self._catalog.mtime_ns[rows].tolist()]
        return [
            (step.target, content.data, content.deflated, content.size, content.crc, mode, time)
            for (step, content), mode, time in zip(batch, modes, times, strict=True)
        ]

    def _folders_are_there(self, batch: list[SmallFile]) -> bool:
        """Make the folders that helpers need; what is in the way of one is said of the files that it hits."""
        try:
            for folder in {step.target[:-1] for step, _ in batch}:
                self.root.folder(folder)
        except (RundletError, OSError):
            return False
        return True

    def settle(self, done: Done) -> None:
        """Take note of what helpers did, and do what they could not, which says what is in the way."""
        for written, _ in done:  # of all of them before anything can end the work, as it is taken back by these notes
            self.note(written)
        for _, undone in done:
            for (step, content), errand in zip(undone, self._errands(undone), strict=True):
                if self.guarded(step, self._do_again, errand):
                    self._unsaid_bytes += content.size
                    self._done(step, content.size)
                self._one_more()
        if done:
            self._tell()

    def note(self, written: list[SmallFile]) -> None:
        """Take note of what a helper did."""
        size = sum(content.size for _, content in written)
        self._made += [self.root.path_text(step.target) for step, _ in written]
        self._rows += [step.row for step, _ in written]
        self._bytes_out += size
        self._unsaid_bytes += size
        self._unsaid_entries += len(written)

    def _do(self, errand: Errand) -> None:
        self._note_marks(do(errand, self.root))

    def _note_marks(self, kept: bool) -> None:
        if not kept:
            with self._run.lock:
                self._run.unmarked += 1

    def _do_again(self, errand: Errand) -> None:
        try:
            self._do(errand)
        except FileExistsError:
            # A helper that came to its end before it could say so may have written it.
            target, data, deflated, size, crc, *_ = errand
            if not self.root.holds(target, Whole(data, deflated, size, crc).content()):
                raise

    # All others

    def _write_file(self, step: Step, chunks: Iterable[bytes]) -> None:
        written = 0
        new = self.root.new_file(step.target)
        try:
            for data in chunks:
                size = len(data)
                if size < HOLE or data[0] or data[-1] or data != _ZEROS[:size]:
                    new.write(data)
                else:
                    new.skip(size)
                written += size
                self._unsaid_bytes += size
                if self._unsaid_bytes >= _SAID_BYTES or not size:  # nothing yet: a chance to stop
                    self._tell()
            mode, times = self._marks(step)
            self._note_marks(new.finish(mode=mode, times=times))
            self._put_in_place(step, lambda replace: new.commit(replace=replace))
        finally:
            new.discard()
        self._done(step, written)

    def _marks(self, step: Step) -> tuple[int, tuple[int, int] | None]:
        """Permission bits and times of what an entry becomes."""
        mtime_ns = self._catalog.mtime_ns.item(step.row)
        return allowed(self._catalog.mode.item(step.row)), (mtime_ns, mtime_ns) if mtime_ns != NO_TIME else None

    def _put_in_place(self, step: Step, put: Callable[[bool], None]) -> None:
        """Put something in its place; what stands there and is to be replaced is kept until the job has come to its end.

        Args:
            put: told whether there is something to replace. Raises ``OSError`` and what a safe root does.
        """
        if step.action is not _REPLACE:
            put(False)
            return
        where, name = self.root.path(step.target[:-1]), step.target[-1]
        replaced = self._run.replaced
        still = replaced.take(self.root.folder(step.target[:-1]), where, name)
        try:
            put(still)
        except BaseException:
            if not still:
                replaced.give_back(where, name)
            raise

    def _read_link(self, step: Step, chunks: Iterable[bytes]) -> None:
        """Links are made when all files are there, so that no file can be written through one."""
        target = b""
        for data in chunks:
            target += data
            if len(target) > MAX_LINK_TARGET:
                raise Corrupt("it is a link without a usable target.")
        with self._run.lock:
            self._run.links.append((step, target.decode("utf-8", "surrogateescape")))

    def link(self, step: Step, target: str) -> None:
        """Make a symbolic link, unless it would lead out of the folder. Raises what a safe root does."""
        refused = safe_link(step.target, target)
        if refused is not None:
            with self._run.lock:
                self._run.outcome.add(self._catalog.path(step.row), Reason.LEFT_OUT, cause=refused)
            return
        times = self._marks(step)[1]
        self._put_in_place(step, lambda replace: self.root.link(step.target, target, replace=replace, times=times))
        self._done(step, 0)

    def link_again(self, first: Step, step: Step) -> None:
        """Give a file that was written one more name. Raises what a safe root does."""
        if first.row in self._run.failed:
            raise Corrupt("The file that it is one more name of could not be unpacked.")
        self._put_in_place(step, lambda replace: self.root.hard_link(first.target, step.target, replace=replace))
        self._done(step, 0)

    def finish_folder(self, step: Step) -> None:
        """Give a folder its permissions and times, once everything is in it. Raises what a safe root does."""
        mode, times = self._marks(step)
        self._note_marks(self.root.finish_folder(step.target, mode=mode, times=times))

    # What was done and what went wrong

    def _done(self, step: Step, written: int) -> None:
        if step.action is not _REPLACE or self._run.plan.keep_replaced:
            self._made.append(self.root.path_text(step.target))
        self._rows.append(step.row)
        self._bytes_out += written

    def _one_more(self) -> None:
        self._unsaid_entries += 1
        if self._unsaid_entries >= _SAID_ENTRIES or self._unsaid_bytes >= _SAID_BYTES:
            self._tell()

    def _tell(self) -> None:
        """Say how far the work is; not at each small file, as that takes as long as writing it."""
        count, entries = self._unsaid_bytes, self._unsaid_entries
        self._unsaid_bytes = self._unsaid_entries = 0
        self._until_look -= count
        if self._until_look < 0:
            self._until_look = _LOOK_EVERY  # now and then, as an entry may unpack to more than it said
            if free_bytes(self._run.plan.root) < MIB:
                raise self._run.no_space()
        self._run.job.advance(count, entries=entries)

    def guarded(self, step: Step, task: Callable[..., object], *words: object) -> bool:
        """Run a task for one entry, and whether it was done: what goes wrong is said of that entry and the others go on."""
        try:
            task(*words)
        except (RundletError, OSError) as error:
            self._went_wrong(step, error)
            return False
        return True

    def _went_wrong(self, step: Step, error: RundletError | OSError) -> None:
        run = self._run
        if isinstance(error, NoSpace):
            raise error
        if isinstance(error, OSError):
            if error.errno in _FULL:
                raise run.no_space() from error
            error = file_problem(error, "write", run.plan.root.joinpath(*step.target))
        with run.lock:
            run.failed.add(step.row)
            run.outcome.add_error(self._catalog.path(step.row), error, Reason.LEFT_OUT)
