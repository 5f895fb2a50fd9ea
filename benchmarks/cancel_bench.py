"""How long a person waits after Cancel and Pause, and how often progress moves, in every format at quick and slow levels."""

from __future__ import annotations

import contextlib
import threading
import time
from pathlib import Path

from benchmarks.measure import MIB, mixed_corpus, scratch
from rundlet.core.errors import Cancelled
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.jobs.job import Job
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.work.packer import pack

_LEVELS = (1, 5, 9)
_CORPUS = 192 * MIB
_LOOK = 0.02  # seconds between two looks at the progress
_UNDER_WAY = 1.5  # seconds after which the work is paused


def run() -> None:
    """Print the table; goals are half a second for each."""
    print("\nwaiting: seconds (goal 0.5)")
    print(
        f"{'format':>8}  {'level':>5}  {'to pause':>8}  {'to cancel':>9}  {'longest without progress':>24}  share at the end"
    )
    with scratch() as folder:
        corpus = mixed_corpus(folder, _CORPUS)
        for known in WRITABLE:
            for level in _LEVELS:
                if level in known.info.levels:
                    _row(folder, corpus, known.info.id, level)


def _row(folder: Path, corpus: Path, fmt: str, level: int) -> None:
    info = next(known.info for known in WRITABLE if known.info.id == fmt)
    job = Job()
    plan = plan_pack([corpus], target=folder / f"x{info.ending}", info=info, level=level, on_clash=PackClash.REPLACE)

    def work() -> None:
        with contextlib.suppress(Cancelled):
            pack(plan, job)

    thread = threading.Thread(target=work)
    thread.start()
    longest, largest, last, since = 0.0, 0.0, -1, time.perf_counter()
    begin = since
    while thread.is_alive() and time.perf_counter() - begin < _UNDER_WAY:
        time.sleep(_LOOK)
        now = job.snapshot()
        largest = max(largest, now.fraction or 0.0)
        if now.done_bytes != last:
            last, since = now.done_bytes, time.perf_counter()
        longest = max(longest, time.perf_counter() - since)
    paused = _time_until_still(job) if thread.is_alive() else 0.0
    begin = time.perf_counter()
    ended_before = not thread.is_alive()
    job.cancel()
    thread.join()
    cancelled = 0.0 if ended_before else time.perf_counter() - begin
    print(f"{fmt:>8}  {level:>5}  {paused:>8.2f}  {cancelled:>9.2f}  {longest:>24.2f}  {largest:.0%}", flush=True)


def _time_until_still(job: Job) -> float:
    """Seconds from Pause until this process computes no more."""
    begin = time.perf_counter()
    job.pause()
    used, still = time.process_time(), begin
    while time.perf_counter() - still < 5 * _LOOK:
        time.sleep(_LOOK)
        now = time.process_time()
        if now - used > _LOOK / 4:
            still = time.perf_counter()
        used = now
    return still - begin
