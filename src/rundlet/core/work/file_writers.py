"""Helper processes that write small files beside this one."""

from __future__ import annotations

import contextlib
import select
import threading
from collections import deque
from pathlib import Path

from rundlet.core.codecs.whole import Whole
from rundlet.core.jobs.worker_process import Helper, command
from rundlet.core.limits import KIB
from rundlet.core.plans.unpack_plan import Step
from rundlet.core.work.file_writer_process import ANSWER, Errand

BATCH_FILES, BATCH_BYTES = 8 * ANSWER, 256 * KIB
"""When a batch is full: so few that nobody waits long for its end."""

_MOST = 4  # more can't be kept busy by one process that reads for all of them
_AHEAD = 2  # batches that each has, so that it need not wait for the next one; the pipe has room for them


SmallFile = tuple[Step, Whole]
"""A step of the plan with its content."""

Done = list[tuple[list[SmallFile], list[SmallFile]]]
"""What became of batches: the files that were written, and those that were not."""


class FileWriters:
    """The helpers of one run; safe to use from several threads.

    Args:
        root: the folder that the files go into.
        count: how many helpers would be of use.
    """

    def __init__(self, root: Path, count: int) -> None:
        self._lock = threading.Lock()
        self._file_writers: list[_FileWriter] = []
        self._done: Done = []
        with contextlib.suppress(OSError):  # no room for more processes: the work gets done without them
            for _ in range(min(count, _MOST)):
                self._file_writers.append(_FileWriter(root))

    def take(self, batch: list[SmallFile], errands: list[Errand]) -> bool:
        """Give a batch to a helper, which then comes back by :meth:`done`; False when all are busy.

        The folders that the files go into must be there.
        """
        with self._lock:
            for helper in self._file_writers:
                self._done += helper.answered(wait=False)
            ready = [helper for helper in self._file_writers if helper.alive and len(helper.waiting) < _AHEAD]
            return bool(ready) and min(ready, key=lambda helper: len(helper.waiting)).give(batch, errands)

    def done(self) -> Done:
        """What became of batches since the last call."""
        with self._lock:
            done, self._done = self._done, []
            return done

    def finish(self) -> Done:
        """Let the helpers end what they have; what :meth:`done` gives, for the rest."""
        with self._lock:
            for helper in self._file_writers:
                helper.no_more()
            for helper in self._file_writers:
                self._done += helper.answered(wait=True)
                helper.end()
        return self.done()


class _FileWriter(Helper):
    def __init__(self, root: Path) -> None:
        super().__init__(command("rundlet.core.work.file_writer_process", str(root)))
        self.waiting: deque[list[SmallFile]] = deque()
        self.alive = True
        self._poll = select.poll()
        self._poll.register(self.answers, select.POLLIN)

    def give(self, batch: list[SmallFile], errands: list[Errand]) -> bool:
        try:
            self.send(errands)
        except OSError:  # it is gone; what it began to write of this batch is looked at with the rest
            self.alive = False
        self.waiting.append(batch)
        return True

    def answered(self, *, wait: bool) -> Done:
        """What was done; a helper that is gone did none of what it had, for all that is known."""
        done: Done = []
        while self.waiting and (wait or not self.alive or self._poll.poll(0)):
            answer = self.answers.read(ANSWER)
            if len(answer) == ANSWER:
                bits = int.from_bytes(answer, "little")
                outcome: tuple[list[SmallFile], list[SmallFile]] = ([], [])
                for place, file in enumerate(self.waiting.popleft()):
                    outcome[bits >> place & 1].append(file)
                done.append(outcome)
            else:
                self.alive = False
                done += [([], batch) for batch in self.waiting]
                self.waiting.clear()
        return done
