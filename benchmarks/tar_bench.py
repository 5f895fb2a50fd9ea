"""tar: packing in every packing, listing, and one entry out of a large compressed archive."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import tarfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
from backports import zstd

from benchmarks.measure import MIB, OPEN_WITH_TREE, all_bytes, head, mixed_corpus, peak_memory, row, scratch, seconds
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.plans.pack import PackClash, plan_pack
from rundlet.core.work.pack import pack

_MILLION = 1_000_000

_RAW: dict[str, Callable[[bytes], bytes]] = {
    "tar.gz": lambda data: gzip.compress(data, 6),
    "tar.bz2": bz2.compress,
    "tar.xz": lambda data: lzma.compress(data, preset=6),
    "tar.zst": lambda data: zstd.compress(data, 7),
}


def run() -> None:
    """Print the table."""
    head("tar")
    with scratch(memory=True) as folder:
        _pack_rows(folder)
    with scratch(memory=True) as folder:
        _list_row(folder)
    with scratch() as folder:
        _fetch_row(folder)


def _pack_rows(folder: Path) -> None:
    corpus = mixed_corpus(folder, 48 * MIB)
    data = b"".join(all_bytes(corpus))
    for fmt, raw in _RAW.items():
        sizes: list[int] = []
        bare = seconds(lambda raw=raw, sizes=sizes: sizes.append(len(raw(data))), runs=1)  # type: ignore[misc]
        info = by_id(fmt).info
        target = folder / f"x.{fmt}"
        for workers in (1, 2):

            def once(workers: int = workers) -> None:
                plan = plan_pack([corpus], target=target, info=info, on_clash=PackClash.REPLACE)  # noqa: B023
                pack(plan, workers=workers)

            took = seconds(once, runs=1)
            name = f"pack {fmt}, usual level, {workers} core{'s' * (workers > 1)}"
            row(name, "the codec alone, one thread", bare / took, "", f"{target.stat().st_size / sizes[0] - 1:+.1%}")


_THEIRS = """
import sys, time, tarfile
begin = time.perf_counter()
members = tarfile.open(sys.argv[1]).getmembers()
print(time.perf_counter() - begin)
"""


def _list_row(folder: Path) -> None:
    target = folder / "million.tar"
    with target.open("wb") as out:
        for i in range(_MILLION):
            info = tarfile.TarInfo(f"folder {i // 1000:04d}/entry number {i:07d}.txt")
            info.mtime = 1_700_000_000
            out.write(info.tobuf(tarfile.USTAR_FORMAT))
        out.write(bytes(1024))
    ours, our_peak = peak_memory(OPEN_WITH_TREE, str(target))
    theirs, their_peak = peak_memory(_THEIRS, str(target))
    note = f"{ours:.1f} s; memory {our_peak / MIB:.0f} against {their_peak / MIB:.0f} MiB"
    row("open 1,000,000 entries with the folder tree", "the standard library", theirs / ours, "12", note)


def _fetch_row(folder: Path) -> None:
    os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
    target = folder / "large.tar.gz"
    rng = np.random.default_rng(3)
    words = rng.bytes(3 * MIB) + b"the brook was clear today " * 240_000
    with tarfile.open(target, "w:gz", compresslevel=1) as out:
        for i in range(110):
            info = tarfile.TarInfo(f"file {i}")
            info.size = len(words)
            out.addfile(info, io.BytesIO(words))

    def up_to_it() -> None:
        with gzip.open(target) as stream:
            while stream.read(MIB):
                pass

    def fetch() -> None:
        reader = open_archive(target)
        for unit in reader.units(np.array([105])):
            for _, chunks in unit.stream():
                for _chunk in chunks:
                    pass
        reader.close()

    through = seconds(up_to_it, runs=1)
    first = seconds(fetch, runs=1)
    again = seconds(fetch)
    row(
        "one entry out of a 1 GB tar.gz of another writer, second time",
        "decompressing up to it",
        through / again,
        "20",
        f"first time {through / first:.2f}",
    )
