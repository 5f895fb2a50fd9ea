"""The token that long work carries: it is told what was done and says when to wait or to stop."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass

from rundlet.core.errors import Cancelled
from rundlet.core.jobs.interface_priority import step_aside

_NEARLY = 0.99


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a job is.

    Attributes:
        phase: what is being done, as a few words.
        done_bytes, total_bytes: bytes handled and to be handled; a total of 0 means not known.
        done_entries, total_entries: the same in entries.
        elapsed: seconds of work, pauses not counted.
        paused: whether it waits.
    """

    phase: str
    done_bytes: int
    total_bytes: int
    done_entries: int
    total_entries: int
    elapsed: float
    paused: bool

    @property
    def fraction(self) -> float | None:
        """The share that is done, 0 to 1, or None while it can't be known; never all of it, as then the work has ended."""
        if self.total_bytes:
            return min(self.done_bytes / self.total_bytes, _NEARLY)
        if self.total_entries:
            return min(self.done_entries / self.total_entries, _NEARLY)
        return None

    @property
    def speed(self) -> float:
        """Bytes a second since the phase began."""
        return self.done_bytes / self.elapsed if self.elapsed > 0 else 0.0

    @property
    def seconds_left(self) -> float | None:
        """Seconds still to go at the pace so far, or None before half a second has shown a pace."""
        share = self.fraction
        if not share or self.elapsed < 0.5:
            return None
        return self.elapsed * (1 - share) / share


class Job:
    """Progress, pause and cancel of one piece of work; safe to use from several threads.

    Work calls :meth:`advance` at least every 256 KiB or 50 ms. The interface polls :meth:`snapshot`.
    """

    def __init__(self) -> None:
        self._lock = threading.RLock()  # a signal may cancel while its own thread is looking
        self._running = threading.Event()
        self._running.set()
        self._cancelled = False
        self._phase = ""
        self._done_bytes = self._total_bytes = 0
        self._done_entries = self._total_entries = 0
        self._started = time.monotonic()
        self._paused_at: float | None = None
        self._paused_for = 0.0

    def begin(self, phase: str, *, total_bytes: int = 0, total_entries: int = 0) -> None:
        """Start a phase: the counts begin again at nothing."""
        with self._lock:
            self._phase = phase
            self._done_bytes, self._total_bytes = 0, total_bytes
            self._done_entries, self._total_entries = 0, total_entries
            self._started = time.monotonic()
            self._paused_for = 0.0
        self.checkpoint()

    def expect(self, count: int) -> None:
        """Add bytes to what is to be handled in this phase, for work that turns out to be needed beside it."""
        with self._lock:
            self._total_bytes += count

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        """Add to what is done, then wait while paused.

        Raises:
            Cancelled: when the person has cancelled the job.
        """
        with self._lock:
            self._done_bytes += count
            self._done_entries += entries
        self.checkpoint()

    def checkpoint(self) -> None:
        """Wait while paused; raise :class:`Cancelled` once cancelled."""
        step_aside()
        if not self._running.is_set():
            self._running.wait()
        if self._cancelled:
            raise Cancelled

    def pause(self) -> None:
        """Let the work wait at its next step."""
        with self._lock:
            if self._paused_at is None and not self._cancelled:
                self._paused_at = time.monotonic()
                self._running.clear()

    def resume(self) -> None:
        """Let paused work go on."""
        with self._lock:
            if self._paused_at is not None:
                self._paused_for += time.monotonic() - self._paused_at
                self._paused_at = None
        self._running.set()

    def cancel(self) -> None:
        """Make the work stop at its next step and clear up after itself."""
        self._cancelled = True
        self.resume()

    @property
    def cancelled(self) -> bool:
        """Whether the job was told to stop."""
        return self._cancelled

    def snapshot(self) -> Progress:
        """How far the work is just now."""
        with self._lock:
            now = self._paused_at if self._paused_at is not None else time.monotonic()
            return Progress(
                phase=self._phase,
                done_bytes=self._done_bytes,
                total_bytes=self._total_bytes,
                done_entries=self._done_entries,
                total_entries=self._total_entries,
                elapsed=max(now - self._started - self._paused_for, 0.0),
                paused=self._paused_at is not None,
            )
