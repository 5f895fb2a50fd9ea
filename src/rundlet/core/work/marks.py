"""The permissions and times of what entries become."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.model.entry import NO_TIME
from rundlet.core.streams.sinks import allowed

if TYPE_CHECKING:
    from rundlet.core.model.catalog import Catalog

Times = tuple[int, int]
"""When something was last read and changed, in nanoseconds since 1970."""


def marks_of(catalog: Catalog, row: int) -> tuple[int, Times | None]:
    """Permission bits of one entry, as far as they may be given, and its times; None for times that are not known."""
    mtime_ns = catalog.mtime_ns.item(row)
    return allowed(catalog.mode.item(row)), (mtime_ns, mtime_ns) if mtime_ns != NO_TIME else None


def marks_of_many(catalog: Catalog, rows: list[int]) -> list[tuple[int, int | None]]:
    """The same of many entries at once, with only the time of change."""
    modes = map(allowed, catalog.mode[rows].tolist())
    times = (None if time == NO_TIME else time for time in catalog.mtime_ns[rows].tolist())
    return list(zip(modes, times, strict=True))
