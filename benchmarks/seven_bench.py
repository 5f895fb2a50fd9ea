"""7z: packing, unpacking, and opening a header of a million files."""

from __future__ import annotations

import lzma
import os
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
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
)
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.formats.sevenz import fields
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack

_MILLION = 1_000_000
_CHAIN = [{"id": lzma.FILTER_LZMA2, "preset": 3}]


def run() -> None:
    """Print the table."""
    head("7z")
    with scratch(memory=True) as folder:
        _codec_rows(folder)
    with scratch(memory=True) as folder:
        _list_row(folder)


@contextmanager
def _cores(count: int) -> Iterator[None]:
    """This process on so many cores."""
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, sorted(before)[:count])
    try:
        yield
    finally:
        os.sched_setaffinity(0, before)


def _packed(data: bytes, preset: int) -> bytes:
    return lzma.compress(data, lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA2, "preset": preset}])


def _codec_rows(folder: Path) -> None:
    corpus = mixed_corpus(folder, 48 * MIB)
    (corpus / "noise.bin").unlink()  # it would be copied and measure nothing
    data = b"".join(all_bytes(corpus))
    target = folder / "x.7z"
    for level in (1, 3, 5, 9):
        for count in (1, 2):
            sizes: list[int] = []

            def bare(level: int = level, sizes: list[int] = sizes) -> None:
                sizes.append(len(_packed(data, level)))

            def ours(level: int = level, count: int = count) -> None:
                with _cores(count):
                    plan = plan_pack(
                        [corpus], target=target, info=by_id("7z").info, level=level, on_clash=PackClash.REPLACE
                    )
                    pack(plan, workers=count)

            raw, took = best_of_pair(bare, ours, runs=1)
            goal = "1.8, 1 % larger" if (level, count) == (5, 2) else ""
            larger = target.stat().st_size / sizes[0] - 1
            name = f"pack 7z, level {level}, {count} core{'s' * (count > 1)}"
            row(name, "liblzma at the same preset, one thread", raw / took, goal, f"{larger:+.1%}")
    _unpack_rows(folder, data)
    _, peak = peak_memory(_PACK, str(corpus), str(folder / "peak.7z"))
    print(f"\nPeak memory of packing at level 9 on two cores: {peak / MIB:.0f} MiB.\n")


_PACK = """
import sys, time
from pathlib import Path
from rundlet.core.formats.detect import by_id
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.packer import pack
begin = time.perf_counter()
pack(plan_pack([Path(sys.argv[1])], target=Path(sys.argv[2]), info=by_id("7z").info, level=9))
print(time.perf_counter() - begin)
"""


def _unpack_rows(folder: Path, data: bytes) -> None:
    source = folder / "one file"
    source.write_bytes(data)
    target = folder / "y.7z"
    pack(plan_pack([source], target=target, info=by_id("7z").info, level=3))
    packed = _packed(data, 3)
    number = 0
    for count in (1, 2):

        def ours(count: int = count) -> None:
            nonlocal number
            number += 1
            with _cores(count):
                reader = open_archive(target)
                unpack(plan_unpack(reader, into=folder / f"out-{number}"), reader, workers=count)
                reader.close()
            (folder / f"out-{number}" / "one file").unlink()

        raw, took = best_of_pair(
            lambda: len(lzma.decompress(packed, lzma.FORMAT_RAW, filters=_CHAIN)),
            ours,
            runs=3,
        )
        name = f"unpack 7z in pieces to memory, {count} core{'s' * (count > 1)}"
        row(name, "liblzma, one thread", raw / took, "1.7" if count == 2 else "")


def _list_row(folder: Path) -> None:
    seven, zipped = folder / "million.7z", folder / "million.zip"
    names = [f"folder {i // 1000:04d}/entry number {i:07d}.txt" for i in range(_MILLION)]
    _write_header(seven, names)
    with zipfile.ZipFile(zipped, "w") as out:
        for name in names:
            out.writestr(zipfile.ZipInfo(name), b"")
    ours, our_peak = peak_memory(OPEN_WITH_TREE, str(seven))
    theirs, their_peak = peak_memory(OPEN_WITH_TREE, str(zipped))
    note = f"{ours:.1f} s; memory {our_peak / MIB:.0f} against {their_peak / MIB:.0f} MiB"
    row(
        "open a 7z header of 1,000,000 files with the folder tree",
        "our zip of the same names",
        theirs / ours,
        "1",
        note,
    )


def _write_header(target: Path, names: list[str]) -> None:
    """A block of a million small files, as far as its header goes."""
    rng = np.random.default_rng(3)
    sizes = rng.integers(100, 100_000, _MILLION)
    crcs = rng.integers(0, 1 << 32, _MILLION).astype("<u4").tobytes()
    total = int(sizes.sum())
    text = "\0".join(names).encode("utf-16-le") + b"\0\0\0"
    times = np.full(_MILLION, 133_000_000_000_000_000, "<u8").tobytes()
    parts = [
        b"\x01\x04\x06\0\x01\x09\x01\0\x07\x0b\x01\0\x01\x01\0\x0c" + fields.number(total) + b"\0",
        b"\x08\x0d" + fields.number(_MILLION) + b"\x09" + fields.numbers(sizes[:-1]) + b"\x0a\x01" + crcs + b"\0\0",
        b"\x05" + fields.number(_MILLION) + b"\x11" + fields.number(len(text) + 0) + b"\0" + text[:-1],
        b"\x14" + fields.number(len(times) + 2) + b"\x01\0" + times + b"\0\0",
    ]
    header = b"".join(parts)
    start = struct.pack("<QQI", 1, len(header), zlib.crc32(header))
    head_bytes = b"7z\xbc\xaf\x27\x1c\0\x04" + struct.pack("<I", zlib.crc32(start)) + start
    target.write_bytes(head_bytes + b"\0" + header)
