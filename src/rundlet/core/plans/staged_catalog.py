"""An archive as it will be once it is changed, with what goes still in it: what a list of staged changes shows."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from types import MappingProxyType
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.model.catalog import Catalog, NameTable, joined
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.item import PackItem
    from rundlet.core.plans.change_plan import ChangePlan


@dataclass(frozen=True, slots=True)
class StagedCatalog:
    """Rows before those of the archive's own count are its own, in its order; behind them stands what is new.

    Attributes:
        catalog: all of them, under their new paths.
        own: how many rows are the archive's.
        added: by rows what is put in there, both new items and what takes the place of others; the numbers are those of
            :attr:`ChangePlan.added`.
        items: what is put in.
        removed: rows that go.
        renamed: rows that get another path, with the path before.
        moves: the paths of what was renamed or moved as a whole, with the paths before.
        gone: the paths of what goes as a whole.
    """

    catalog: Catalog
    own: int
    added: Mapping[int, int]
    items: Sequence[PackItem]
    removed: frozenset[int]
    renamed: Mapping[int, str]
    moves: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))
    gone: frozenset[str] = frozenset()


def staged_catalog(reader: ArchiveReader, plan: ChangePlan) -> StagedCatalog:
    """What the archive of a plan will hold, and what it holds no more."""
    base = reader.catalog
    before = {plain_path(base.path(row)): row for row in plan.edits.removed}
    taken = {place: before[item.path] for place, item in enumerate(plan.added) if item.path in before}
    new = [place for place in range(len(plan.added)) if place not in taken]
    catalog = joined([_changed(base, reader, plan), _catalog_of([plan.added[place] for place in new])])
    for place, row in taken.items():
        item = plan.added[place]
        catalog.kind[row] = item.kind
        catalog.size[row], catalog.mtime_ns[row], catalog.packed[row] = item.size, item.mtime_ns, 0
    added = {row: place for place, row in taken.items()} | {len(base) + n: place for n, place in enumerate(new)}
    return StagedCatalog(
        catalog=catalog,
        own=len(base),
        added=added,
        items=plan.added,
        removed=frozenset(plan.edits.removed - set(taken.values())),
        renamed={row: plain_path(base.path(row)) for row in plan.edits.renamed if row not in plan.edits.removed},
    )


def _changed(base: Catalog, reader: ArchiveReader, plan: ChangePlan) -> Catalog:
    """The archive's own rows under their new paths."""
    if not plan.edits.renamed:
        return base
    names = base.names.all_raw()
    for row in plan.edits.renamed:
        names[row] = plan.edits.stored_path(reader, row)
    return replace(base, names=NameTable.of(names))


def _catalog_of(items: Sequence[PackItem]) -> Catalog:
    count = len(items)
    return Catalog(
        names=NameTable.of([item.path.encode("utf-8", "surrogateescape") for item in items]),
        kind=np.array([item.kind for item in items], np.uint8),
        size=np.array([item.size if item.kind == Kind.FILE else 0 for item in items], np.int64),
        packed=np.zeros(count, np.int64),  # as nothing of it is packed yet
        mtime_ns=np.array([item.mtime_ns or NO_TIME for item in items], np.int64),
        mode=np.array([item.mode for item in items], np.uint32),
        crc=np.full(count, UNKNOWN, np.int64),
        encrypted=np.zeros(count, np.bool_),
    )
