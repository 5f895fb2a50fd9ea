"""Work done on several cores whose results come back in order."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


def cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0))


class Pool(ThreadPoolExecutor):
    """Threads that know how many they are.

    Args:
        workers: how many run at once.
    """

    def __init__(self, workers: int, name: str) -> None:
        super().__init__(workers, thread_name_prefix=name)
        self.workers = workers


def in_order(pool: ThreadPoolExecutor, tasks: Iterable[Callable[[], T]], *, ahead: int) -> Generator[T, None, None]:
    """Run tasks side by side and yield their results in the order of the tasks.

    Args:
        pool: where they run.
        tasks: asked for one by one, as the ones before come to an end.
        ahead: how many may be under way or waiting to be taken; bounds the memory that they hold.
    """
    waiting: deque[Future[T]] = deque()
    try:
        for task in tasks:
            waiting.append(pool.submit(task))
            if len(waiting) >= ahead:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        for future in waiting:
            future.cancel()
