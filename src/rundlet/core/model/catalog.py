"""The entries of an archive in columns: a million of them are a few arrays."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.model.entry import Entry, Kind

if TYPE_CHECKING:
    from numpy.typing import NDArray

_GATHER_ROWS = 1 << 16
_ENTRIES_AT_ONCE = 1 << 10
_KINDS = {int(kind): kind for kind in Kind}


def spread(at: NDArray[np.int64], lengths: NDArray[np.int64]) -> NDArray[np.int64]:
    """The places of every byte of many stretches, one after the other."""
    begins = np.cumsum(lengths) - lengths
    return np.repeat(at - begins, lengths) + np.arange(int(lengths.sum()))


class NameTable:
    """The paths of all entries, as UTF-8 in one stretch of bytes.

    Args:
        blob: all paths end to end.
        starts: where each begins, and at last where the last one ends; shape (n + 1,).
    """

    def __init__(self, blob: bytes, starts: NDArray[np.int64]) -> None:
        self.blob = blob
        self.starts = starts

    @classmethod
    def of(cls, names: Sequence[bytes]) -> NameTable:
        """A table of these names, each UTF-8."""
        lengths = np.fromiter(map(len, names), np.int64, len(names))
        return cls(b"".join(names), np.concatenate(([0], np.cumsum(lengths))))

    @classmethod
    def end_to_end(cls, tables: Sequence[NameTable]) -> NameTable:
        """Tables one after the other as one."""
        lengths = np.concatenate([np.array([], np.int64), *(np.diff(table.starts) for table in tables)])
        return cls(b"".join([table.blob for table in tables]), np.concatenate(([0], np.cumsum(lengths))))

    @classmethod
    def other_folders(cls, blob: bytes, at: NDArray[np.int64], lengths: NDArray[np.int64]) -> NameTable:
        """A table of names that stand at places in a larger stretch of bytes."""
        octets = np.frombuffer(blob, np.uint8)
        starts = np.concatenate(([0], np.cumsum(lengths)))
        out = np.empty(int(starts[-1]), np.uint8)
        for first in range(0, len(at), _GATHER_ROWS):
            last = min(first + _GATHER_ROWS, len(at))
            out[starts[first] : starts[last]] = octets[spread(at[first:last], lengths[first:last])]
        return cls(out.tobytes(), starts)

    def rows_with(self, marked: NDArray[np.bool_]) -> list[int]:
        """The rows that have a marked byte; ``marked`` has one place for each byte of the table."""
        places = np.flatnonzero(marked)
        rows: list[int] = np.unique(np.searchsorted(self.starts, places, side="right") - 1).tolist()
        return rows

    def __len__(self) -> int:
        return len(self.starts) - 1

    def raw(self, row: int) -> bytes:
        """The bytes of one path."""
        return self.blob[self.starts[row] : self.starts[row + 1]]

    def all_raw(self) -> list[bytes]:
        """The bytes of every path."""
        blob, starts = self.blob, self.starts.tolist()
        return [blob[a:b] for a, b in itertools.pairwise(starts)]


@dataclass(slots=True)
class Catalog:
    """All entries of an archive in columns; the names say what :class:`Entry` says of each."""

    names: NameTable
    kind: NDArray[np.uint8]
    size: NDArray[np.int64]
    packed: NDArray[np.int64]
    mtime_ns: NDArray[np.int64]
    mode: NDArray[np.uint32]
    crc: NDArray[np.int64]
    encrypted: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.kind)

    def path(self, row: int) -> str:
        """The path of one entry."""
        return self.names.raw(row).decode("utf-8", "surrogateescape")

    def entry(self, row: int) -> Entry:
        """One row as an object."""
        return next(self.entries(np.array([row], np.int64)))

    def entries(self, rows: NDArray[np.int64]) -> Iterator[Entry]:
        """Rows as objects, in the order given."""
        blob, starts = self.names.blob, self.names.starts
        for first in range(0, len(rows), _ENTRIES_AT_ONCE):
            some = rows[first : first + _ENTRIES_AT_ONCE]
            begins, ends = starts[some].tolist(), starts[some + 1].tolist()
            yield from map(
                Entry,
                some.tolist(),
                [blob[a:b].decode("utf-8", "surrogateescape") for a, b in zip(begins, ends, strict=True)],
                [_KINDS[kind] for kind in self.kind[some].tolist()],
                self.size[some].tolist(),
                self.packed[some].tolist(),
                self.mtime_ns[some].tolist(),
                self.mode[some].tolist(),
                self.crc[some].tolist(),
                self.encrypted[some].tolist(),
            )

    def __iter__(self) -> Iterator[Entry]:
        return self.entries(np.arange(len(self)))


def joined(catalogs: Sequence[Catalog]) -> Catalog:
    """Catalogs one after the other as one."""
    columns = ("kind", "size", "packed", "mtime_ns", "mode", "crc", "encrypted")
    names = NameTable.end_to_end([c.names for c in catalogs])
    return Catalog(
        names=names, **{column: np.concatenate([getattr(c, column) for c in catalogs]) for column in columns}
    )
