"""One run of unpacking: what its workers share, and what each of them reports."""

from __future__ import annotations

import errno
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import NoSpace, RundletError, file_problem
from rundlet.core.fs.disk_space import free_bytes
from rundlet.core.fs.replaced import Replaced
from rundlet.core.jobs.findings import Finding, Reason
from rundlet.core.limits import CHUNK, MIB

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.fs.safe_root import Made
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Unpacked
    from rundlet.core.plans.unpack_plan import Step, UnpackPlan
    from rundlet.core.work.file_writers import FileWriters

_LOOK_EVERY = 64 * MIB
_SAID_BYTES, _SAID_ENTRIES = CHUNK, 16
_FULL = (errno.ENOSPC, errno.EDQUOT)


@dataclass(slots=True)
class Run:
    """What all workers of one run share.

    Attributes:
        file_writers: helper processes, where there are enough small files for them.
        links: the links, which are made when all files are there, with where they point.
        replaced: what stood in the places of files that were replaced.
        unmarked: how many files and folders could not get their times or permissions.
        failed: the rows that could not be unpacked.
    """

    plan: UnpackPlan
    reader: ArchiveReader
    job: Job
    made: Made
    outcome: Unpacked
    file_writers: FileWriters | None = None
    links: list[tuple[Step, str]] = field(default_factory=list)
    replaced: Replaced = field(default_factory=Replaced)
    unmarked: int = 0
    failed: set[int] = field(default_factory=set)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def no_space(self) -> NoSpace:
        """That the disk is full."""
        return NoSpace(
            "The disk with {folder:name} is full. What was unpacked was taken away again.", folder=str(self.plan.root)
        )

    def left_out(self, step: Step, cause: Finding) -> None:
        """Note that an entry is not unpacked."""
        with self.lock:
            self.outcome.left_out += 1
            self.outcome.add(self.reader.catalog.path(step.row), Reason.LEFT_OUT, cause=cause)

    def failed_to_write(self, step: Step, error: RundletError | OSError) -> None:
        """Note what went wrong with an entry; a full disk ends the run. Raises :class:`NoSpace`."""
        if isinstance(error, NoSpace):
            raise error
        if isinstance(error, OSError):
            if error.errno in _FULL:
                raise self.no_space() from error
            error = file_problem(error, "write", self.plan.root.joinpath(*step.target))
        with self.lock:
            self.failed.add(step.row)
            self.outcome.add_error(self.reader.catalog.path(step.row), error, Reason.LEFT_OUT)

    def guarded(self, step: Step, task: Callable[..., object], *words: object) -> bool:
        """Run a task for one entry, and whether it was done: what goes wrong is said of that entry and the others go on."""
        try:
            task(*words)
        except (RundletError, OSError) as error:
            self.failed_to_write(step, error)
            return False
        return True

    def note_marks(self, kept: bool) -> None:
        """Note whether the disk has kept the times and permissions of something."""
        if not kept:
            with self.lock:
                self.unmarked += 1


class WorkerReport:
    """What one worker did. It is added up when the worker ends, so that none waits for another at every file.

    Not to be shared between threads.
    """

    def __init__(self, run: Run) -> None:
        self._run = run
        self._made: list[str] = []
        self._rows: list[int] = []
        self._bytes_out = 0
        self._until_look = _LOOK_EVERY
        self._unsaid_bytes = self._unsaid_entries = 0

    def close(self) -> None:
        """Add up what was done."""
        run, packed = self._run, self._run.reader.catalog.packed
        with run.lock:
            run.made.files += self._made
            run.outcome.files += len(self._rows)
            run.outcome.bytes_in += int(np.maximum(packed[self._rows], 0).sum())
            run.outcome.bytes_out += self._bytes_out

    def done(self, row: int, size: int, path: str = "") -> None:
        """An entry was written.

        Args:
            size: its bytes.
            path: where it stands, when it is to go again if the job does not come to its end; "" otherwise.
        """
        if path:
            self._made.append(path)
        self._rows.append(row)
        self._bytes_out += size

    def done_by_helper(self, rows: list[int], size: int, paths: list[str]) -> None:
        """A helper has written some files."""
        self._made += paths
        self._rows += rows
        self._bytes_out += size
        self._unsaid_bytes += size
        self._unsaid_entries += len(rows)

    def count(self, size: int) -> None:
        """Some bytes were written, which is told with the next entry."""
        self._unsaid_bytes += size

    def count_in_entry(self, size: int) -> None:
        """Some bytes of a large entry were written; told at once when they are many, or none, which is a chance to stop."""
        self._unsaid_bytes += size
        if self._unsaid_bytes >= _SAID_BYTES or not size:
            self.tell()

    def one_more(self) -> None:
        """One more entry was dealt with."""
        self._unsaid_entries += 1
        if self._unsaid_entries >= _SAID_ENTRIES or self._unsaid_bytes >= _SAID_BYTES:
            self.tell()

    def tell(self) -> None:
        """Say how far the work is; not at each small file, as that takes as long as writing it.

        Raises:
            NoSpace: when the disk is about to be full.
            Cancelled: when the job was cancelled.
        """
        count, entries = self._unsaid_bytes, self._unsaid_entries
        self._unsaid_bytes = self._unsaid_entries = 0
        self._until_look -= count
        if self._until_look < 0:
            self._until_look = _LOOK_EVERY  # now and then, as an entry may unpack to more than it said
            if free_bytes(self._run.plan.root) < MIB:
                raise self._run.no_space()
        self._run.job.advance(count, entries=entries)
