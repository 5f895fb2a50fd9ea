"""What saving changes will cost: how large the archive will be, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.limits import MIB
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.work.sample import take_sample
from rundlet.core.work.trial import try_one

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.plans.change_plan import ChangePlan

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


def _freed(reader: ArchiveReader, removed: np.ndarray[tuple[int], np.dtype[np.int64]]) -> int:
    """Bytes that items take in the archive; by their share of all content where that is not known of each."""
    catalog = reader.catalog
    packed = catalog.packed[removed]
    if bool((packed != UNKNOWN).all()):
        return int(packed.sum())
    whole = int(np.maximum(catalog.size, 0).sum())
    return int(reader.source.size * int(np.maximum(catalog.size[removed], 0).sum()) / whole) if whole else 0
