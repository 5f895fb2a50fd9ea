"""Small files that are unpacked: written in batches, by helper processes where there are some."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.codecs.whole import Whole
from rundlet.core.errors import RundletError
from rundlet.core.work.file_writer_process import Errand, do
from rundlet.core.work.file_writers import BATCH_BYTES, BATCH_FILES, Done, SmallFile
from rundlet.core.work.marks import marks_of_many

if TYPE_CHECKING:
    from rundlet.core.fs.safe_root import SafeRoot
    from rundlet.core.plans.unpack_plan import Step
    from rundlet.core.work.unpack_run import Run, WorkerReport


class SmallFiles:
    """The small files of one worker, which wait until a batch of them is full. Not to be shared between threads."""

    def __init__(self, run: Run, root: SafeRoot, report: WorkerReport) -> None:
        self._run = run
        self._root = root
        self._report = report
        self._batch: list[SmallFile] = []
        self._waiting = 0  # bytes in it

    def add(self, step: Step, content: Whole) -> None:
        """One more file."""
        self._batch.append((step, content))
        self._waiting += len(content.data)
        if self._waiting > BATCH_BYTES or len(self._batch) == BATCH_FILES:
            self.write()

    def write(self) -> None:
        """Write those that wait, or let a helper do so."""
        batch, self._batch, self._waiting = self._batch, [], 0
        if not batch:
            return
        errands, helpers = self._errands(batch), self._run.file_writers
        if helpers is not None and self._folders_are_there(batch):
            taken = helpers.take(batch, errands)
            self.settle(helpers.done())
            if taken:
                return
        for (step, content), errand in zip(batch, errands, strict=True):
            if self._run.guarded(step, self._do, errand):
                self._written(step, content)
            self._report.one_more()

    def _written(self, step: Step, content: Whole) -> None:
        self._report.count(content.size)
        self._report.done(step.row, content.size, self._root.path_text(step.target))

    def _errands(self, batch: list[SmallFile]) -> list[Errand]:
        marks = marks_of_many(self._run.reader.catalog, [step.row for step, _ in batch])
        return [
            (step.target, content.data, content.deflated, content.size, content.crc, mode, time)
            for (step, content), (mode, time) in zip(batch, marks, strict=True)
        ]

    def _folders_are_there(self, batch: list[SmallFile]) -> bool:
        """Make the folders that helpers need; what is in the way of one is said of the files that it hits."""
        try:
            for folder in {step.target[:-1] for step, _ in batch}:
                self._root.folder(folder)
        except (RundletError, OSError):
            return False
        return True

    def settle(self, done: Done) -> None:
        """Take note of what helpers did, and do what they could not, which says what is in the way."""
        for written, _ in done:  # of all of them before anything can end the work, as it is taken back by these notes
            self.note(written)
        for _, undone in done:
            for (step, content), errand in zip(undone, self._errands(undone), strict=True):
                if self._run.guarded(step, self._do_again, errand):
                    self._written(step, content)
                self._report.one_more()
        if done:
            self._report.tell()

    def note(self, written: list[SmallFile]) -> None:
        """Take note of what a helper did."""
        size = sum(content.size for _, content in written)
        paths = [self._root.path_text(step.target) for step, _ in written]
        self._report.done_by_helper([step.row for step, _ in written], size, paths)

    def _do(self, errand: Errand) -> None:
        self._run.note_marks(do(errand, self._root))

    def _do_again(self, errand: Errand) -> None:
        try:
            self._do(errand)
        except FileExistsError:
            # A helper that came to its end before it could say so may have written it.
            target, data, deflated, size, crc, *_ = errand
            if not self._root.holds(target, Whole(data, deflated, size, crc).content()):
                raise
