"""Units of an archive handed to several workers."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor

from rundlet.core.formats.base import Unit


class Shared:
    """Units that several workers take from: the first one the largest, the others the smallest.

    Large units keep a core busy in the codec, small ones keep the interpreter busy; side by side they hardly wait for each
    other, while two workers at small units do.
    """

    def __init__(self, units: Iterator[Unit], workers: int) -> None:
        listed = list(units)
        if workers > 1:
            listed.sort(key=lambda unit: unit.cost, reverse=True)
        self._units = deque(listed)
        self._lock = threading.Lock()

    def take(self, worker: int) -> Iterator[Unit]:
        """The units for one worker, until there are none left for anyone."""
        while True:
            with self._lock:
                if not self._units:
                    return
                unit = self._units.pop() if worker else self._units.popleft()
            yield unit

    def stop(self) -> None:
        """Give out no more units."""
        with self._lock:
            self._units.clear()


def run_side_by_side(units: Iterator[Unit], work: Callable[[Iterator[Unit]], None], workers: int) -> None:
    """Call ``work`` in several threads, each with its share of the units; the first error ends all and is raised here."""
    shared = Shared(units, workers)

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
