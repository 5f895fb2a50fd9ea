"""Changing one file of an archive, against a bare copy of the same archive; and converting, against the codecs."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

import numpy as np

from benchmarks.measure import MIB, head, row, scratch, seconds
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.change_plan import AddClash, Addition, Changes, plan_change
from rundlet.core.plans.convert_plan import plan_convert
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work.changer import change
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack

_FILES, _SIZE = 400, 1 * MIB


def run() -> None:
    """Print the table."""
    head("changing")
    with scratch() as folder:
        items = _files(folder)
        for fmt in ("zip", "7z", "tar", "tar.gz", "tar.zst"):
            archive = folder / f"x{by_id(fmt).info.ending}"
            pack(plan_pack([items], target=archive, info=by_id(fmt).info, level=1))
            _change_rows(folder, items, archive, fmt)
            archive.unlink()
        _convert_row(folder, items)


def _files(folder: Path) -> Path:
    """Files of which half is noise, and half gets smaller."""
    root = folder / "files"
    root.mkdir()
    rng = np.random.default_rng(3)
    text = b"level;ford;heron\n" * (_SIZE // 34)
    for number in range(_FILES):
        (root / f"{number:04d}.bin").write_bytes(rng.bytes(_SIZE // 2) + text)
    (folder / "0000.bin").write_bytes(rng.bytes(_SIZE // 2) + text)
    return root


def _copied(source: Path, target: Path) -> None:
    """A bare copy that is on the disk when it is done, as a changed archive is."""
    shutil.copyfile(source, target)
    with target.open("rb") as file:
        os.fsync(file.fileno())


def _change_rows(folder: Path, items: Path, archive: Path, fmt: str) -> None:
    with closing(open_archive(archive)) as reader:
        names = [reader.catalog.path(row) for row in range(len(reader.catalog))]
        late = names.index(f"{items.name}/{_FILES - 20:04d}.bin")
    works: Sequence[tuple[str, Changes]] = (
        ("remove", Changes(removed=[late])),
        ("rename", Changes(renamed={late: f"{items.name}/renamed.bin"})),
        ("add", Changes(added=[Addition(folder / "0000.bin")])),
        ("replace", Changes(added=[Addition(folder / "0000.bin", items.name, f"{_FILES - 20:04d}.bin")])),
    )
    copy = folder / f"copy{archive.suffix}"
    bare = seconds(lambda: _copied(archive, copy))
    for name, changes in works:

        def prepare(changes: Changes = changes) -> Callable[[], object]:
            shutil.copyfile(archive, copy)
            options = WriteOptions(1)
            return lambda: change(plan_change(copy, changes, options=options, on_clash=AddClash.REPLACE))

        took = min(seconds(prepare(), runs=1) for _ in range(3))
        row(f"{name} one of {_FILES} files, late in a {fmt}", "a bare copy of it", bare / took, "0.67")
    copy.unlink()


def _convert_row(folder: Path, items: Path) -> None:
    source, target = folder / "x.zip", folder / "y.tar.zst"
    pack(plan_pack([items], target=source, info=by_id("zip").info, level=1))

    def apart() -> None:
        with closing(open_archive(source)) as reader:
            unpack(plan_unpack(reader, into=folder / "out"), reader)
        info = by_id("tar.zst").info
        pack(plan_pack([folder / "out" / items.name], target=target, info=info, on_clash=PackClash.REPLACE))
        shutil.rmtree(folder / "out")

    def converted() -> None:
        info = by_id("tar.zst").info
        with closing(open_archive(source)) as reader:
            contents = ArchiveContents(reader, range(len(reader.catalog)))
            options = WriteOptions(info.default_level)
            pack(plan_convert(reader, contents, target=target, info=info, options=options, on_clash=PackClash.REPLACE))
            contents.close()

    took = seconds(converted, runs=1)
    row("convert a zip to a tar.zst", "unpacking it and packing that", seconds(apart, runs=1) / took, "1")
