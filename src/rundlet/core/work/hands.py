"""Helper processes that write small files beside this one."""

from __future__ import annotations

import contextlib
import fcntl
import pickle
import select
import subprocess
import threading
from collections import deque
from pathlib import Path

from rundlet.core.codecs.whole import Whole
from rundlet.core.jobs.helpers import command
from rundlet.core.limits import KIB, MIB
from rundlet.core.plans.unpack import Step
from rundlet.core.work.hand import ANSWER, Errand

WORTH_IT = 2000
"""Small files from which on a helper writes enough of them to make up for its start (some 60 ms)."""

BATCH_FILES, BATCH_BYTES = 64, 256 * KIB
"""When a batch is full: so few that nobody waits long for its end."""

_MOST = 4  # more can't be kept busy by one process that reads for all of them
_AHEAD = 2  # batches that each has, so that it need not wait for the next one
_PIPE = MIB  # bytes: room for these batches, so that giving them does not wait


SmallFile = tuple[Step, Whole]
"""A step of the plan with its content."""

Done = list[tuple[list[SmallFile], list[SmallFile]]]
"""What became of batches: the files that were written, and those that were not."""


class Hands:
    """The helpers of one run; safe to use from several threads.

    Args:
        root: the folder that the files go into.
        count: how many helpers would be of use.
    """

    def __init__(self, root: Path, count: int) -> None:
        self._lock = threading.Lock()
        self._hands: list[_Hand] = []
        self._done: Done = []
        with contextlib.suppress(OSError):  # no room for more processes: the work gets done without them
            for _ in range(min(count, _MOST)):
                self._hands.append(_Hand(root))

    def take(self, batch: list[SmallFile], errands: list[Errand]) -> bool:
        """Give a batch to a helper, which then comes back by :meth:`done`; False when all are busy.

        The folders that the files go into must be there.
        """
        with self._lock:
            for hand in self._hands:
                self._done += hand.answered(wait=False)
            ready = [hand for hand in self._hands if hand.alive and len(hand.waiting) < _AHEAD]
            return bool(ready) and min(ready, key=lambda hand: len(hand.waiting)).give(batch, errands)

    def done(self) -> Done:
        """What became of batches since the last call."""
        with self._lock:
            done, self._done = self._done, []
            return done

    def finish(self) -> Done:
        """Let the helpers end what they have; what :meth:`done` gives, for the rest."""
        with self._lock:
            for hand in self._hands:
                hand.give_no_more()
            for hand in self._hands:
                self._done += hand.answered(wait=True)
                hand.end()
        return self.done()


class _Hand:
    def __init__(self, root: Path) -> None:
        self.waiting: deque[list[SmallFile]] = deque()
        self.alive = True
        # Not in the terminal's group: an interrupt is for the master, which then still hears what was written.
        self._child = subprocess.Popen(
            command("rundlet.core.work.hand", str(root)),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            bufsize=0,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        assert self._child.stdin is not None and self._child.stdout is not None
        self._orders, self._answers = self._child.stdin, self._child.stdout
        with contextlib.suppress(OSError):  # then giving waits now and then
            fcntl.fcntl(self._orders, fcntl.F_SETPIPE_SZ, _PIPE)
        self._poll = select.poll()
        self._poll.register(self._answers, select.POLLIN)

    def give(self, batch: list[SmallFile], errands: list[Errand]) -> bool:
        try:
            left = memoryview(pickle.dumps(errands, pickle.HIGHEST_PROTOCOL))
            while left:
                left = left[self._orders.write(left) :]
        except OSError:  # it is gone; what it began to write of this batch is looked at with the rest
            self.alive = False
        self.waiting.append(batch)
        return True

    def answered(self, *, wait: bool) -> Done:
        """What was done; a helper that is gone did none of what it had, for all that is known."""
        done: Done = []
        while self.waiting and (wait or not self.alive or self._poll.poll(0)):
            answer = self._answers.read(ANSWER)
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

    def give_no_more(self) -> None:
        with contextlib.suppress(OSError):
            self._orders.close()

    def end(self) -> None:
        self._answers.close()
        self._child.wait()
