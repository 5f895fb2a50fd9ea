"""Helper processes that read and deflate small files beside this one."""

from __future__ import annotations

import contextlib
import io
import pickle
import queue
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rundlet.core.jobs.worker_process import Helper, command

if TYPE_CHECKING:
    from rundlet.core.formats.deflate_process import Content


class _Deflater(Helper):
    def __init__(self) -> None:
        super().__init__(command("rundlet.core.formats.deflate_process"))
        self._answers = io.BufferedReader(self.answers)
        self._is_gone = False

    def packed(self, files: list[tuple[str, int]], level: int) -> Sequence[Content | None]:
        if not self._is_gone:
            try:
                self.send((level, files))
                answer: list[Content | None] = pickle.load(self._answers)
                return answer
            except (OSError, EOFError, pickle.UnpicklingError):
                self._is_gone = True
        return [None] * len(files)


class Deflaters:
    """The helpers of one run; safe to use from several threads, each of which has one to itself while it asks.

    Args:
        count: how many there are to be.
    """

    def __init__(self, count: int) -> None:
        self._count = 0
        self._idle: queue.SimpleQueue[_Deflater] = queue.SimpleQueue()
        with contextlib.suppress(OSError):  # no room for more processes: the work gets done without them
            for _ in range(count):
                self._idle.put(_Deflater())
                self._count += 1

    def packed(self, files: list[tuple[str, int]], level: int) -> Sequence[Content | None]:
        """What came of files, given as paths and sizes; None for those that no helper could read, or all when none is idle."""
        try:
            helper = self._idle.get_nowait()
        except queue.Empty:
            return [None] * len(files)
        try:
            return helper.packed(files, level)
        finally:
            self._idle.put(helper)

    def close(self) -> None:
        """End the helpers, each when the thread that asks it has its answer."""
        for _ in range(self._count):
            self._idle.get().end()
