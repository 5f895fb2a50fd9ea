"""zip: packing, unpacking and listing."""

from __future__ import annotations

import os
import zlib
from collections import deque
from pathlib import Path

from benchmarks.measure import (
    MIB,
    OPEN_WITH_TREE,
    all_bytes,
    best_of_pair,
    head,
    million_entries,
    mixed_corpus,
    peak_memory,
    row,
    scratch,
    small_files,
)
from rundlet.core.codecs.legacy_cipher import LegacyCipher, decrypt_together
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack


def run() -> None:
    """Print the table."""
    head("zip")
    with scratch(memory=True) as folder:
        _codec_rows(folder)
    for memory in (False, True):
        with scratch(memory=memory) as folder:
            _small_rows(folder, ", in memory" if memory else "")
    with scratch(memory=True) as folder:
        _list_row(folder)
    _lock_row()


def _pack(target: Path, items: list[Path], level: int, workers: int | None = None) -> None:
    plan = plan_pack(items, target=target, info=by_id("zip").info, level=level, on_clash=PackClash.REPLACE)
    pack(plan, workers=workers)


def _unpack(archive: Path, into: Path, workers: int | None = None) -> None:
    reader = open_archive(archive)
    unpack(plan_unpack(reader, into=into), reader, workers=workers)
    reader.close()


def _packed_size(archive: Path) -> int:
    """The packed data alone, without headers and names, as the bare codec has none."""
    reader = open_archive(archive)
    try:
        return int(reader.catalog.packed.sum())
    finally:
        reader.close()


def _codec_rows(folder: Path) -> None:
    corpus = mixed_corpus(folder, 120 * MIB)
    data = all_bytes(corpus)
    packed = [zlib.compress(d, 6, -15) for d in data]
    raw_size = sum(map(len, packed))
    target = folder / "x.zip"
    goals = {1: "12, 10 % larger", 3: "", 5: "4, no larger (default)", 6: "", 9: ""}
    for level, goal in goals.items():
        for workers in (1, 2):
            raw, took = best_of_pair(
                lambda: [zlib.compress(d, 6, -15) for d in data],
                lambda level=level, workers=workers: _pack(target, [corpus], level, workers),  # type: ignore[misc]
                runs=1 if level > 6 else 3,
            )
            larger = _packed_size(target) / raw_size - 1
            name = f"pack, level {level}, {workers} core{'s' * (workers > 1)}"
            row(name, "zlib level 6, one thread", raw / took, goal if workers == 2 else "", f"{larger:+.1%}")
    _pack(target, [corpus], 6)
    _unpack_rows("unpack to memory, many small files among it", target, folder, packed)
    large = [corpus / "table.csv", *sorted((corpus / "programs").iterdir(), key=lambda path: path.stat().st_size)[-8:]]
    bare = [zlib.compress(path.read_bytes(), 6, -15) for path in large]
    _pack(target, large, 6)
    _unpack_rows("unpack to memory, large files", target, folder, bare)


def _unpack_rows(work: str, target: Path, folder: Path, packed: list[bytes]) -> None:
    for workers in (1, 2):
        number = 0

        def once(workers: int = workers) -> None:
            nonlocal number
            number += 1
            _unpack(target, folder / f"out-{target.stat().st_size}-{workers}-{number}", workers)

        inflate, took = best_of_pair(lambda: [zlib.decompress(d, -15) for d in packed], once)
        name = f"{work}, {workers} core{'s' * (workers > 1)}"
        row(name, "zlib inflate, one thread", inflate / took, "2.5" if workers == 2 else "")


def _small_rows(folder: Path, where: str) -> None:
    root = small_files(folder, 20_000)
    number = 0

    def bare_copy() -> None:
        nonlocal number
        number += 1
        for i, path in enumerate(paths):
            if not i % 500:
                (folder / f"bare-{number}" / f"{i // 500}").mkdir(parents=True)
            with open(path, "rb") as file:  # noqa: PTH123 - bare on purpose
                data = file.read()
            with open(f"{folder}/bare-{number}/{i // 500}/{i}", "wb") as file:  # noqa: PTH123
                file.write(data)

    paths = [str(path) for path in root.rglob("*.txt")]
    target = folder / "small.zip"
    works = {
        "pack": lambda: _pack(target, [root], 5),
        "unpack": lambda: _unpack(target, folder / f"ours-{os.urandom(4).hex()}"),
    }
    for name, work in works.items():
        copying, took = best_of_pair(bare_copy, work)
        row(f"{name} 20,000 small files{where}", "bare loop that copies them", copying / took, "0.67", f"{took:.2f} s")


def _lock_row() -> None:
    datas = [os.urandom(20_000) for _ in range(500)]
    ciphers = [LegacyCipher(b"password")] * len(datas)
    alone, together = best_of_pair(
        lambda: [cipher.decrypt(data) for cipher, data in zip(ciphers, datas, strict=True)],
        lambda: deque(decrypt_together(ciphers, datas), maxlen=0),
        runs=1,
    )
    row("undo the old lock of 500 entries of 20 kB", "one after the other", alone / together, "", f"{together:.2f} s")


_THEIRS = """
import sys, time, zipfile
begin = time.perf_counter()
archive = zipfile.ZipFile(sys.argv[1])
print(time.perf_counter() - begin)
"""


def _list_row(folder: Path) -> None:
    target = million_entries(folder, "folder {0:04d}/entry number {1:07d}.txt")
    ours, our_peak = peak_memory(OPEN_WITH_TREE, str(target))
    theirs, their_peak = peak_memory(_THEIRS, str(target))
    note = f"{ours:.1f} s; memory {our_peak / MIB:.0f} against {their_peak / MIB:.0f} MiB"
    row("open 1,000,000 entries with the folder tree", "the standard library", theirs / ours, "5", note)
