"""Writing what is unpacked: what one worker does."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING

from rundlet.core.codecs.whole import Whole
from rundlet.core.errors import Corrupt, RundletError
from rundlet.core.fs.safe_names import safe_link
from rundlet.core.fs.safe_root import SafeRoot
from rundlet.core.limits import CHUNK, KIB, MAX_LINK_TARGET
from rundlet.core.model.entry import Kind
from rundlet.core.plans.unpack_plan import Action, Step
from rundlet.core.work.marks import marks_of
from rundlet.core.work.small_files import SmallFiles
from rundlet.core.work.unpack_run import Run, WorkerReport

if TYPE_CHECKING:
    from rundlet.core.formats.base import Unit

HOLE = 64 * KIB
"""Runs of zeros from this size on become holes; files below it are written at once."""
_ZEROS = bytes(CHUNK)
_LINK, _REPLACE = Kind.LINK, Action.REPLACE  # found quicker than by way of their class


class EntryWriter:
    """One worker. Not to be shared between threads."""

    def __init__(self, run: Run) -> None:
        self._run = run
        self._catalog = run.reader.catalog
        self.root = SafeRoot(run.plan.root, run.made)
        self._report = WorkerReport(run)
        self.small = SmallFiles(run, self.root, self._report)

    def close(self) -> None:
        """Add up what was done, and let go of the folders."""
        self._report.close()
        self.root.close()

    def write(self, wanted: dict[int, Step], units: Iterator[Unit]) -> None:
        """Take units until there are none, and write their entries.

        Args:
            wanted: the step for the content of each row.
        """
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
                        self.small.add(step, content)
                        continue
                    if step.kind is _LINK:
                        self._read_link(step, content)
                    else:
                        self._write_file(step, content)
                except (RundletError, OSError) as error:
                    self._run.failed_to_write(step, error)
                self._report.one_more()
        self.small.write()
        self._report.tell()

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
                self._report.tell()
        return Whole(b"".join(taken), False, size, None)

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
                self._report.count_in_entry(size)
            mode, times = marks_of(self._catalog, step.row)
            self._run.note_marks(new.finish(mode=mode, times=times))
            self._put_in_place(step, lambda replace: new.commit(replace=replace))
        finally:
            new.discard()
        self._done(step, written)

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
                raise Corrupt("It is a link without a usable target.")
        with self._run.lock:
            self._run.links.append((step, target.decode("utf-8", "surrogateescape")))

    def link(self, step: Step, target: str) -> None:
        """Make a symbolic link, unless it would lead out of the folder. Raises what a safe root does."""
        refused = safe_link(step.target, target)
        if refused is not None:
            self._run.left_out(step, refused)
            return
        times = marks_of(self._catalog, step.row)[1]
        self._put_in_place(step, lambda replace: self.root.link(step.target, target, replace=replace, times=times))
        self._done(step, 0)

    def link_again(self, first: Step | None, step: Step) -> None:
        """Give a file that was written one more name. Raises what a safe root does.

        Args:
            first: the file; None for that of an earlier piece of the archive.
        """
        if first is not None and first.row in self._run.failed:
            raise Corrupt("The file that it is one more name of could not be unpacked.")
        target = step.first if first is None else first.target
        self._put_in_place(step, lambda replace: self.root.hard_link(target, step.target, replace=replace))
        self._done(step, 0)

    def _done(self, step: Step, written: int) -> None:
        is_ours = step.action is not _REPLACE or self._run.plan.keep_replaced
        self._report.done(step.row, written, self.root.path_text(step.target) if is_ours else "")
