"""What saving changes will cost: how large the archive will be, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import RundletError
from rundlet.core.limits import KIB, MIB
from rundlet.core.model.contents import BytesContent
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.item import PackItem
from rundlet.core.work.preview_reader import heads_of_entries
from rundlet.core.work.sample import TAR_BLOCK, take_sample
from rundlet.core.work.trial import try_one

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.plans.change_plan import ChangePlan

_HEADS, _LEAST_HEAD = 128, KIB  # files whose beginnings are looked at, and bytes of each at least
_READ_THROUGH = 64 * MIB  # of a solid archive
_BUDGET = 2 * MIB  # of what is added; enough to tell its kind, and tried at once
_COPIED_A_SECOND = 500e6
_PACKED_A_SECOND = {
    "zip": 60e6,
    "7z": 7e6,
    "tar": 900e6,
    "tar.gz": 60e6,
    "tar.zst": 150e6,
    "tar.xz": 7e6,
    "tar.bz2": 14e6,
}
"""Bytes a second that one core packs at the usual level, where nothing was tried."""


@dataclass(frozen=True, slots=True)
class ChangeCost:
    """An estimate.

    Attributes:
        size: bytes of the archive afterwards.
        seconds: how long saving takes.
        packed: files that are put in.
        again: bytes of what stays that are packed anew all the same, as they share a stream with what changes.
        files: files that the archive holds afterwards.
    """

    size: int
    seconds: float
    packed: int
    again: int
    files: int


def cost_of(plan: ChangePlan, reader: ArchiveReader, job: Job) -> ChangeCost:
    """Estimate it, as the trial does, by a sample of what is put in.

    Args:
        reader: of the archive, open.
    """
    catalog = reader.catalog
    removed = np.fromiter(plan.edits.removed, np.int64, len(plan.edits.removed))
    put_in = [item for item in plan.added if item.kind == Kind.FILE]
    fresh = sum(item.size for item in put_in)
    again = plan.packed_anew - sum(item.size for item in plan.added)
    size, seconds = plan.size_before - _freed(reader, removed), 0.0
    speed = _PACKED_A_SECOND.get(plan.info.id, 60e6) * cores()
    if fresh:
        sample = take_sample(put_in, job, budget=_BUDGET)
        point = try_one(sample, plan.info, plan.options.level)
        size, seconds = size + point.size, point.seconds
        if point.seconds > 0 and fresh >= MIB:
            speed = fresh / point.seconds
    copied = max(plan.size_before - again, 0)
    seconds += again / speed + copied / _COPIED_A_SECOND
    files = int((catalog.kind != Kind.DIR).sum()) - int((catalog.kind[removed] != Kind.DIR).sum())
    return ChangeCost(
        max(size, 0), seconds, len(put_in), max(again, 0), files + sum(i.kind != Kind.DIR for i in plan.added)
    )


def new_size_of(
    reader: ArchiveReader, rows: Sequence[int], added: Sequence[PackItem], info: FormatInfo, level: int, job: Job
) -> int:
    """Estimate how large a new archive of what one holds will be, by the beginnings of some of its files.

    Args:
        rows: what goes in, and ``added`` besides.
    """
    catalog = reader.catalog
    wanted = np.array(rows, np.int64)
    files = wanted[(catalog.kind[wanted] == Kind.FILE) & (catalog.size[wanted] > 0)]
    if reader.extents(files[:1]) is None:  # they can only be read one after the other
        files = files[np.cumsum(catalog.size[files]) - catalog.size[files] < _READ_THROUGH]
    files = files[:: max(len(files) // _HEADS, 1)]
    share = _BUDGET / max(int(catalog.size[files].sum()), 1)  # each has the part in the sample that it has in the whole
    items = list(added)
    for row, head in heads_of_entries(reader, files.tolist(), lambda row: _head_of(int(catalog.size[row]), share), job):
        if not isinstance(head, RundletError):
            content = BytesContent(head.data)
            items.append(PackItem(catalog.path(row), Kind.FILE, "", len(head.data), 0, 0o644, content=content))
    total = int(np.maximum(catalog.size[wanted], 0).sum()) + sum(item.size for item in added)
    if not info.id.startswith("tar"):  # where each further name of a file becomes a file
        targets = map(reader.hard_target, wanted[catalog.kind[wanted] == Kind.HARD].tolist())
        total += sum(int(catalog.size[target]) for target in targets if target is not None)
    count = len(wanted) + len(added)
    names = sum(len(item.path) for item in items) * count // max(len(items), 1)
    padding = count * TAR_BLOCK // 2
    sample = take_sample(items, job, budget=_BUDGET)
    whole = replace(sample, total=total, files=count, entries=count, name_bytes=names, padding=padding)
    return try_one(whole, info, level).size


def _head_of(size: int, share: float) -> int:
    return max(int(size * share), min(size, _LEAST_HEAD))


def _freed(reader: ArchiveReader, removed: np.ndarray[tuple[int], np.dtype[np.int64]]) -> int:
    """Bytes that items take in the archive; by their share of all content where that is not known of each."""
    catalog = reader.catalog
    packed = catalog.packed[removed]
    if bool((packed != UNKNOWN).all()):
        return int(packed.sum())
    whole = int(np.maximum(catalog.size, 0).sum())
    return int(reader.source.size * int(np.maximum(catalog.size[removed], 0).sum()) / whole) if whole else 0
