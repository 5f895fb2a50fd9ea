"""Work off the interface's thread, with its results brought back by polling.

Threads touch no Qt object: they put what they have into a queue that a timer empties while anything is under way.
"""

from __future__ import annotations

import logging
import queue
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, TypeVar

from PySide6.QtCore import QObject, QTimer

from rundlet.core.errors import Cancelled, RundletError
from rundlet.core.jobs.interface_priority import first, let_go
from rundlet.core.jobs.job import Job
from rundlet.desktop.error_log import log_failure

T = TypeVar("T")

_log = logging.getLogger(__name__)

_POLL_MS = 16
_THREADS = 6  # that look: at folders, archives, files, sizes
_MOST_JOBS = 64  # at once; each has a thread to itself, so that a small one does not wait behind a large one
_FEW = 10_000  # objects, which go at once without being noticed

Done = Callable[[Any], None]
Failed = Callable[[BaseException], None]


class Task:
    """One piece of work under way."""

    def __init__(self, job: Job, done: Done, failed: Failed, *, matters: bool) -> None:
        self.job = job
        self.matters = matters
        self.done = done
        self.failed = failed
        self.dropped = False

    def drop(self) -> None:
        """Cancel the work and take no more notice of it."""
        self.dropped = True
        self.job.cancel()


class Background(QObject):
    """Runs work in threads and calls back on the interface's thread."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._looking = ThreadPoolExecutor(_THREADS, thread_name_prefix="looking")
        self._working = ThreadPoolExecutor(_MOST_JOBS, thread_name_prefix="working")
        self._results: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._running: set[Task] = set()
        self._closed = False
        self._timer = QTimer(self)
        self._timer.setInterval(_POLL_MS)
        self._timer.timeout.connect(self._deliver)

    def run(
        self, work: Callable[[Job], Any], *, done: Done, failed: Failed, job: Job | None = None, long: bool = False
    ) -> Task:
        """Start ``work(job)``; later call ``done(result)`` or ``failed(error)``, never both, here and not in the thread.

        Args:
            job: the token that the work carries; one of its own by default.
            long: whether it is a job that may take long, which has other threads than what the window looks at, and whose
                outcome is told even when the window is closed meanwhile.
        """
        task = Task(job or Job(), done, failed, matters=long)
        if self._closed:
            return task
        self._running.add(task)
        (self._working if long else self._looking).submit(self._work, task, work)
        self._timer.start()
        return task

    def _work(self, task: Task, work: Callable[[Job], Any]) -> None:
        try:
            result = work(task.job)
        except BaseException as error:  # noqa: BLE001 - handed to the interface's thread, whatever it is
            if not isinstance(error, RundletError | Cancelled):
                _log.error("A background task failed unexpectedly", exc_info=error)
            self._results.put(partial(self._finish, task, task.failed, error))
        else:
            self._results.put(partial(self._finish, task, task.done, result))

    def let_go(self, things: list[Any]) -> None:
        """Let go of what may be very many objects, bit by bit beside the interface."""
        if len(things) > _FEW and not self._closed:
            self.run(lambda _: let_go(things), done=lambda _: None, failed=log_failure)

    def tell(self, call: Callable[[], None]) -> None:
        """From a working thread: have something called on the interface's thread."""
        self._results.put(call)

    def _finish(self, task: Task, callback: Callable[[Any], None], value: Any) -> None:
        self._running.discard(task)
        if not task.dropped:
            callback(value)

    def _deliver(self) -> None:
        with first():
            while not self._results.empty():
                self._results.get()()
        if not self._running:
            self._timer.stop()

    @property
    def busy(self) -> bool:
        """Whether anything is under way."""
        return bool(self._running)

    def close(self) -> None:
        """Cancel everything and wait for the threads to end; only what became of work that is to be heard of comes after this."""
        for task in tuple(self._running):
            if task.matters:
                task.job.cancel()
            else:
                task.drop()
        self._closed = True
        for pool in (self._looking, self._working):
            pool.shutdown(cancel_futures=True)
        self._timer.stop()
        while not self._results.empty():
            self._results.get()()
        self._running.clear()


class Latest:
    """Work of which only the newest counts: starting anew drops what is still under way."""

    def __init__(self, background: Background) -> None:
        self._background = background
        self._task: Task | None = None

    def run(self, work: Callable[[Job], Any], *, done: Done, failed: Failed) -> None:
        """As :meth:`Background.run`, after dropping the work before."""
        self.drop()
        self._task = self._background.run(work, done=done, failed=failed)

    def drop(self) -> None:
        """Take no more notice of what is under way."""
        if self._task is not None:
            self._task.drop()
            self._task = None
