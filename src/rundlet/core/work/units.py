"""Units of an archive handed to several workers."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor

from rundlet.core.formats.base import Unit


class SharedUnits:
    """An iterator of units that several threads take from; stopped for all of them by :meth:`stop`."""

    def __init__(self, units: Iterator[Unit]) -> None:
        self._units = units
        self._lock = threading.Lock()
        self._stopped = False

    def __iter__(self) -> Iterator[Unit]:
        while True:
            with self._lock:
                unit = None if self._stopped else next(self._units, None)
            if unit is None:
                return
            yield unit

    def stop(self) -> None:
        """Give out no more units."""
        self._stopped = True


def run_side_by_side(units: Iterator[Unit], work: Callable[[SharedUnits], None], workers: int) -> None:
    """Call ``work`` in several threads with the same units; the first error ends all and is raised here."""
    shared = SharedUnits(units)

    def guarded() -> None:
        try:
            work(shared)
        except BaseException:
            shared.stop()
            raise

    if workers == 1:
        guarded()
        return
    with ThreadPoolExecutor(workers, thread_name_prefix="units") as pool:
        futures = [pool.submit(guarded) for _ in range(workers)]
        for future in futures:
            future.result()
