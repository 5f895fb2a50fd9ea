"""What the benchmarks share: corpora, clocks and the table."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

MIB = 1 << 20
_RUNS = 3


def seconds(work: Callable[[], object], *, runs: int = _RUNS) -> float:
    """The median time of a few runs."""
    times = []
    for _ in range(runs):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return statistics.median(times)


def best_of_pair(bare: Callable[[], object], ours: Callable[[], object], *, runs: int = 5) -> tuple[float, float]:
    """The best time of each of two works that take turns, so that a busy moment of the machine meets both."""
    pairs = [(seconds(bare, runs=1), seconds(ours, runs=1)) for _ in range(runs)]
    return min(bare for bare, _ in pairs), min(ours for _, ours in pairs)


@contextmanager
def scratch(*, memory: bool = False) -> Iterator[Path]:
    """A fresh folder, on the disk or in a memory file system."""
    base = "/dev/shm" if memory and Path("/dev/shm").is_dir() else None
    folder = Path(tempfile.mkdtemp(prefix="rundlet-bench-", dir=base))
    try:
        yield folder
    finally:
        shutil.rmtree(folder)


def mixed_corpus(folder: Path, size: int) -> Path:
    """Programs, source code, tables and noise, about a quarter each: the same bytes on the same machine."""
    corpus = folder / "corpus"
    corpus.mkdir()
    rng = np.random.default_rng(7)
    quarter = size // 4
    _gather(corpus / "programs", [Path(sys.base_prefix), Path("/usr/lib")], (".so", ".a"), quarter)
    _gather(corpus / "code", [Path(sys.base_prefix), Path("/usr/lib")], (".py", ".h", ".txt"), quarter)
    table = corpus / "table.csv"
    with table.open("w") as out:
        number = 0
        while out.tell() < quarter:
            values = rng.normal(10, 3, 2000)
            out.write("\n".join(f"{number + i},{v:.3f},{int(v * 7) % 91}" for i, v in enumerate(values)) + "\n")
            number += 2000
    (corpus / "noise.bin").write_bytes(rng.bytes(quarter))
    return corpus


def _gather(target: Path, places: list[Path], endings: tuple[str, ...], size: int) -> None:
    target.mkdir()
    total = number = 0
    for place in places:
        for path in sorted(place.rglob("*")):
            if path.suffix in endings and path.is_file() and not path.is_symlink():
                shutil.copyfile(path, target / f"{number:05d}{path.suffix}")
                total += path.stat().st_size
                number += 1
                if total >= size:
                    return


def small_files(folder: Path, count: int) -> Path:
    """Many files of a few kB."""
    root = folder / "small"
    rng = np.random.default_rng(11)
    words = rng.choice(["brook", "weir", "level", "heron", "ford", "rain"], 2_000_000).tolist()
    for number in range(count):
        place = root / f"{number // 500:03d}"
        if not number % 500:
            place.mkdir(parents=True)
        at = (number * 97) % 1_990_000
        (place / f"{number:06d}.txt").write_text(" ".join(words[at : at + 600]))
    return root


def million_entries(folder: Path, name: str) -> Path:
    """A zip of 1,000,000 empty entries; ``name`` is filled in with the thousand and the number of each."""
    target = folder / "million.zip"
    with zipfile.ZipFile(target, "w") as out:
        for number in range(1_000_000):
            out.writestr(zipfile.ZipInfo(name.format(number // 1000, number)), b"")
    return target


def all_bytes(root: Path) -> list[bytes]:
    """Every file's content, in memory."""
    return [path.read_bytes() for path in sorted(root.rglob("*")) if path.is_file()]


OPEN_WITH_TREE = """
import sys, time
from pathlib import Path
from rundlet.core.formats.detect import open_archive
from rundlet.core.model.tree import ArchiveTree
begin = time.perf_counter()
reader = open_archive(Path(sys.argv[1]))
tree = ArchiveTree(reader.catalog)
print(time.perf_counter() - begin)
"""


def peak_memory(code: str, *words: str) -> tuple[float, int]:
    """Run Python code in a process of its own: what it printed as a number of seconds, and its peak memory in bytes."""
    # The system's own "most ever" of a process counts what its parent held when it was started; the mapping's does not.
    measured = (
        f"{code}\nprint(next(int(l.split()[1]) * 1024 for l in open('/proc/self/status') if l.startswith('VmHWM')))"
    )
    done = subprocess.run(
        [sys.executable, "-c", measured, *words], capture_output=True, text=True, check=True, env=os.environ
    )
    took, peak = done.stdout.split()
    return float(took), int(peak)


def row(work: str, against: str, ratio: float, goal: str, note: str = "") -> None:
    """One line of the table: ratios over 1 mean that we are faster."""
    print(f"| {work} | {against} | {ratio:.2f} | {goal} | {note} |", flush=True)


def head(title: str) -> None:
    """The head of a table."""
    print(f"\n### {title}\n\n| work | against | ratio | goal | note |\n|---|---|---|---|---|", flush=True)
