"""Units of an archive handed to several workers."""

from __future__ import annotations

import resource
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING

from rundlet.core.limits import KIB

if TYPE_CHECKING:
    from rundlet.core.formats.base import Unit

_FINE = 4 * KIB
"""Bytes an entry below which going from one entry to the next takes longer than decoding them."""

_KNOWN_AFTER = 0.1
"""Seconds at fine units, after which it is known what they wait for; the system's own clock is coarse."""

_WORTH_IT = 0.8  # of the time of one worker; less is lost again by taking turns


class Shared:
    """Units that several workers take from: the first one the largest, the others the smallest.

    Large units keep a core busy in the codec, fine ones keep the interpreter and the file system busy. The interpreter
    runs one thread at a time, so that two workers at fine units are twice as slow as one alone, unless it is the file system
    that takes most of their time. How much of it does is measured on the first fine units, and as many workers are let
    at the others as find room beside each other.

    Args:
        helped: whether the one at fine units gives most of their work to other processes; then it stays the only one.
    """

    def __init__(self, units: Iterator[Unit], workers: int, *, helped: bool = False) -> None:
        listed = list(units)
        if workers > 1:
            listed.sort(key=lambda unit: unit.cost, reverse=True)
        self._units = deque(listed)
        self._turn = threading.Condition()
        self._at_fine = 0
        self._helped = helped
        # Seconds at fine units with no other worker there: in all, and in this process's own code.
        self._alone = self._own = 0.0

    def take(self, worker: int) -> Iterator[Unit]:
        """The units for one worker, until there are none left for anyone."""
        while (unit := self._next(worker)) is not None:
            if not _is_fine(unit):
                yield unit
                continue
            begin, own = time.monotonic(), _own_seconds()
            try:
                yield unit
            finally:
                self._leave_fine(time.monotonic() - begin, _own_seconds() - own)

    def _next(self, worker: int) -> Unit | None:
        with self._turn:
            while self._units:
                unit = self._units[-1 if worker else 0]
                if not _is_fine(unit) or self._has_room():
                    break
                unit = self._units[0]
                if not _is_fine(unit):
                    break
                self._turn.wait()
            else:
                return None
            self._at_fine += _is_fine(unit)
            return self._units.popleft() if unit is self._units[0] else self._units.pop()

    def _has_room(self) -> bool:
        """Whether one more worker at fine units would find the interpreter free."""
        known = self._alone > _KNOWN_AFTER
        return not self._at_fine or (
            known and not self._helped and (self._at_fine + 1) * self._own < _WORTH_IT * self._alone
        )

    def _leave_fine(self, took: float, own: float) -> None:
        with self._turn:
            if self._at_fine == 1:
                self._alone += took
                self._own += own
            self._at_fine -= 1
            self._turn.notify_all()

    def stop(self) -> None:
        """Give out no more units."""
        with self._turn:
            self._units.clear()
            self._turn.notify_all()


def _is_fine(unit: Unit) -> bool:
    return unit.cost < _FINE * len(unit.rows)


def _own_seconds() -> float:
    """Seconds that this thread has spent in the process's own code, and not in the system."""
    return resource.getrusage(resource.RUSAGE_THREAD).ru_utime


def run_side_by_side(
    units: Iterator[Unit], work: Callable[[Iterator[Unit]], None], workers: int, *, helped: bool = False
) -> None:
    """Call ``work`` in several threads, each with its share of the units; the first error ends all and is raised here.

    Args:
        helped: as in :class:`Shared`.
    """
    shared = Shared(units, workers, helped=helped)

    def guarded(worker: int) -> None:
        try:
            work(shared.take(worker))
        except BaseException:
            shared.stop()
            raise

    if workers == 1:
        guarded(0)
        return
    with ThreadPoolExecutor(workers, thread_name_prefix="units") as pool:
        futures = [pool.submit(guarded, worker) for worker in range(workers)]
        for future in futures:
            future.result()
