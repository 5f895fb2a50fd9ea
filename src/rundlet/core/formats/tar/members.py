"""The entries of a tar as they are found, in columns."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.model.entry import UNKNOWN

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.sentences import Sentence

_FEW = 64

Stretches = list[tuple[int, int]]


@dataclass(slots=True)
class Rows:
    """Entries in columns.

    Attributes:
        data_at: where the data of each entry begins, in decoded bytes.
        stored: how many bytes of data it has in the archive.
    """

    names: NameTable
    kind: NDArray[np.uint8]
    size: NDArray[np.int64]
    mtime_ns: NDArray[np.int64]
    mode: NDArray[np.uint32]
    data_at: NDArray[np.int64]
    stored: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.kind)

    def behind(self, first: int) -> Rows:
        """The rows from one on."""
        if not first:
            return self
        return Rows(
            NameTable.of(self.names.all_raw()[first:]), **{column: getattr(self, column)[first:] for column in _NUMERIC}
        )

    def singly(self) -> Iterator[Loose]:
        """One row after the other."""
        return zip(self.names.all_raw(), *(getattr(self, column).tolist() for column in _NUMERIC), strict=True)


Loose = tuple[bytes, int, int, int, int, int, int]
"""One row: name, kind, size, time, mode, place and length of its data."""

_NUMERIC = {
    "kind": np.uint8,
    "size": np.int64,
    "mtime_ns": np.int64,
    "mode": np.uint32,
    "data_at": np.int64,
    "stored": np.int64,
}


@dataclass(slots=True)
class Members:
    """The entries found so far; the index is the row.

    Attributes:
        links: targets of links by row.
        sparse: stretches with data of sparse files by row; ``None`` when the map stands before the data.
        damaged: what ended the walk early, or None.
        lost: what hides entries between those that were found, or None.
        wrong: whether something contradicted itself, and was not only missing.
        globals: the keywords of attributes that hold for all entries behind them.
    """

    links: dict[int, bytes] = field(default_factory=dict)
    sparse: dict[int, Stretches | None] = field(default_factory=dict)
    damaged: Sentence | None = None
    lost: Sentence | None = None
    wrong: bool = False
    globals: set[bytes] = field(default_factory=set)
    _many: list[Rows] = field(default_factory=list)
    _loose: list[Loose] = field(default_factory=list)
    _count: int = 0

    def __len__(self) -> int:
        return self._count

    def add(self, row: Loose) -> None:
        """One more entry."""
        self._loose.append(row)
        self._count += 1

    def add_many(self, rows: Rows) -> None:
        """More entries at once; a few are kept singly, as many small columns would take more memory than they hold."""
        self._count += len(rows)
        if len(rows) < _FEW:
            self._loose += rows.singly()
        else:
            self._settle()
            self._many.append(rows)

    def cut_last(self, stored: int) -> None:
        """The last entry has less data than its header says."""
        *rest, _ = self._loose.pop() if self._loose else self._popped()
        self._loose.append((*rest, stored))  # type: ignore[arg-type]

    def _popped(self) -> Loose:
        rows = self._many.pop()
        (last,) = rows.behind(len(rows) - 1).singly()
        columns = {column: getattr(rows, column)[:-1] for column in _NUMERIC}
        self._many.append(Rows(NameTable.of(rows.names.all_raw()[:-1]), **columns))
        return last

    def _settle(self) -> None:
        """The single rows as columns too."""
        if self._loose:
            names, *numbers = zip(*self._loose, strict=True)
            columns = {name: np.array(n, kind) for (name, kind), n in zip(_NUMERIC.items(), numbers, strict=True)}
            self._many.append(Rows(NameTable.of(names), **columns))
            self._loose = []

    def rows(self, first: int = 0) -> Rows:
        """The entries from a row on, as one piece."""
        self._settle()
        wanted: list[Rows] = []
        begin = self._count
        for rows in reversed(self._many):
            if begin <= first:
                break
            begin -= len(rows)
            wanted.insert(0, rows.behind(max(first - begin, 0)))
        if len(wanted) == 1:
            return wanted[0]
        columns = {
            name: np.concatenate([np.array([], kind), *(getattr(rows, name) for rows in wanted)])
            for name, kind in _NUMERIC.items()
        }
        return Rows(NameTable.end_to_end([rows.names for rows in wanted]), **columns)

    def catalog(self, *, shared: bool, first: int = 0) -> Catalog:
        """As a catalog, from a row on; ``shared`` when entries have no packed size of their own."""
        return as_catalog(self.rows(first), shared=shared)


def as_catalog(rows: Rows, *, shared: bool) -> Catalog:
    """Rows as a catalog; ``shared`` when entries have no packed size of their own."""
    return Catalog(
        names=rows.names,
        kind=rows.kind,
        size=rows.size,
        packed=np.full(len(rows), UNKNOWN, np.int64) if shared else rows.stored,
        mtime_ns=rows.mtime_ns,
        mode=rows.mode,
        crc=np.full(len(rows), UNKNOWN, np.int64),
        encrypted=np.zeros(len(rows), np.bool_),
    )
