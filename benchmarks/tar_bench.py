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

from benchmarks.measure import (
    MIB,
    OPEN_WITH_TREE,
    all_bytes,
    best_of_pair,
    head,
    mixed_corpus,
    peak_memory,
    row,
    scratch,
    seconds,
)
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.formats.forward_opening import open_forward
from rundlet.core.jobs.job import Job
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams.pipes import piped
from rundlet.core.work.extractor import unpack
from rundlet.core.work.forward_work import check_forward
from rundlet.core.work.packer import pack

_MILLION = 1_000_000

_LEVELS = (1, 3, 6, 9)
_RAW: dict[str, tuple[Callable[[bytes, int], bytes], Callable[[bytes], bytes]]] = {
    "tar.gz": (gzip.compress, gzip.decompress),
    "tar.bz2": (bz2.compress, bz2.decompress),
    "tar.xz": (lambda data, level: lzma.compress(data, preset=level), lzma.decompress),
    "tar.zst": (lambda data, level: zstd.compress(data, (0, 1, 0, 3, 0, 0, 7, 0, 0, 19)[level]), zstd.decompress),
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
    with scratch(memory=True) as folder:
        _pipe_rows(folder)


def _pack_rows(folder: Path) -> None:
    corpus = mixed_corpus(folder, 32 * MIB)
    data = b"".join(all_bytes(corpus))
    for fmt, (packs, unpacks) in _RAW.items():
        for level in _LEVELS:
            packed: list[bytes] = []
            bare = seconds(lambda packs=packs, level=level: packed.append(packs(data, level)), runs=1)  # type: ignore[misc] # noqa: B023
            target = folder / f"{level}.{fmt}"
            for workers in (1, 2):
                took = seconds(lambda: _pack(corpus, target, fmt, level, workers), runs=1)  # noqa: B023
                larger = target.stat().st_size / len(packed[0]) - 1
                row(f"pack {fmt}, level {level}, {_cores(workers)}", _ALONE, bare / took, "", f"{larger:+.1%}")
        _unpack_rows(folder, f"unpack {fmt}", folder / f"6.{fmt}", unpacks)
    _foreign_rows(folder, data)


_ALONE = "the codec alone, one thread"


def _cores(workers: int) -> str:
    return f"{workers} core{'s' * (workers > 1)}"


def _pack(corpus: Path, target: Path, fmt: str, level: int, workers: int) -> None:
    plan = plan_pack([corpus], target=target, info=by_id(fmt).info, level=level, on_clash=PackClash.REPLACE)
    pack(plan, workers=workers)


def _unpack_rows(folder: Path, work: str, archive: Path, unpacks: Callable[[bytes], bytes]) -> None:
    bare = seconds(lambda: unpacks(archive.read_bytes()))
    for workers in (1, 2):

        def once(workers: int = workers) -> None:
            reader = open_archive(archive)
            plan = plan_unpack(reader, into=folder / os.urandom(4).hex())
            unpack(plan, reader, workers=workers)
            reader.close()

        row(f"{work}, {_cores(workers)}", _ALONE, bare / seconds(once), "", "opening it is in it")


def _foreign_rows(folder: Path, data: bytes) -> None:
    """Listing what other writers made in one stream: the blocks of bzip2 are found and decoded side by side."""
    archive = folder / "foreign.tar.bz2"
    with tarfile.open(archive, "w:bz2") as out:
        info = tarfile.TarInfo("all of it")
        info.size = len(data)
        out.addfile(info, io.BytesIO(data))
    bare = seconds(lambda: bz2.decompress(archive.read_bytes()), runs=1)
    row("list a tar.bz2 of another writer", _ALONE, bare / seconds(lambda: open_archive(archive).close(), runs=1), "")


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


def _pipe_rows(folder: Path) -> None:
    """Checking what comes through a pipe, which goes through a tar or zip once, on one core."""
    corpus = mixed_corpus(folder, 100 * MIB)
    for fmt in ("tar.gz", "zip"):
        target = folder / f"x.{fmt}"
        _pack(corpus, target, fmt, 6, 1)
        packed = gzip.compress(b"".join(all_bytes(corpus)), 6)

        def forward(target: Path = target) -> None:
            with target.open("rb") as file:
                check_forward(open_forward(piped(file, lambda _: None), Opening()), Job(), workers=1)

        bare, ours = best_of_pair(lambda packed=packed: gzip.decompress(packed), forward)  # type: ignore[misc]
        row(f"check {fmt} through a pipe, one core", "standard inflate of the same bytes", bare / ours, "1")


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
