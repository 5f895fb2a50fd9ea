"""The folder tree of a catalog: built in one pass, kept in columns, sorted only where it is looked at."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from rundlet.core.model.catalog import Catalog, NameTable, spread
from rundlet.core.model.entry import NO_TIME, ROOT, UNKNOWN, Kind
from rundlet.core.model.natural import NATURAL_AT_MOST, natural_key

if TYPE_CHECKING:
    from numpy.typing import NDArray

_SLASH, _DOT = b"/."
_ROWS_AT_ONCE, _NAMES_AT_ONCE = 1 << 16, 1 << 12

_FOLDED, _ENDING = 64, 16  # bytes of a name and of its ending that count where very many are sorted
_LONGEST = 255  # bytes of a name, longer than any disk keeps
_NUMBER = re.compile(rb"0*(\d+)")
_DIGITS = [bytes([ord("0") + min(digits, 40)]) for digits in range(256)]
"""Stands before a number for how many digits it has, so that the longer of two comes later; below all letters."""


class ArchiveTree:
    """Folders in folders.

    Nodes are numbered: 0 is the archive, ``row + 1`` the entry of that row, and behind those the folders that
    are only implied by the paths of others. A folder listed more than once is one node; the totals of a folder count
    everything below it.

    Attributes:
        parent: the folder of each node; shape (nodes,).
        size, packed: bytes of each node with all below it; ``packed`` is -1 where the format can't tell.
        files: how many files are in each node, itself included.
    """

    def __init__(self, catalog: Catalog) -> None:
        self.catalog = catalog
        self._first_implied = len(catalog) + 1
        self._implied: list[bytes] = []
        self._merged: dict[int, int] = {}
        self.parent = self._place()
        placed = np.flatnonzero(self.parent >= 0)
        self._order = placed[np.argsort(self.parent[placed], kind="stable")]
        self._begin = np.concatenate(([0], np.cumsum(np.bincount(self.parent[placed], minlength=len(self.parent)))))
        self._is_folder = self._are_folders()
        self._folder_mask = self._is_folder.tobytes()  # where single nodes are asked for, bytes are quicker
        self._sum_up()

    def _place(self) -> NDArray[np.int64]:
        """Find the folder of every entry, making the implied ones."""
        names, kinds = self.catalog.names, self.catalog.kind
        folders: dict[bytes, int] = {b"": ROOT}
        listed = np.flatnonzero(kinds == Kind.DIR).tolist()
        paths = {row: _tidy(names.raw(row)) for row in listed}
        for row, path in paths.items():
            folders.setdefault(path, row + 1)
        for row, name in _odd_names(names):
            paths.setdefault(row, name)
        parents = np.zeros(self._first_implied, np.int64)
        extra: list[int] = []
        ends = head_ends(names)
        new = np.flatnonzero(_head_changes(names, ends))
        heads = [names.blob[a:b] for a, b in zip(names.starts[new].tolist(), ends[new].tolist(), strict=True)]
        found = [self._folder(head, folders, extra) for head in heads]
        parents[1:] = np.repeat(np.array(found, np.int64), np.diff(np.append(new, len(names))))
        for row, path in paths.items():
            if folders.get(path, row + 1) != row + 1 and kinds[row] == Kind.DIR:
                self._merged[row + 1] = folders[path]
                parents[row + 1] = -1
            else:
                parents[row + 1] = self._folder(path[: max(path.rfind(b"/"), 0)], folders, extra)
        parents[ROOT] = -1
        return np.concatenate((parents, np.array(extra, np.int64)))

    def _folder(self, path: bytes, folders: dict[bytes, int], extra: list[int]) -> int:
        """The node of a folder; it and those above it are made where no entry stands for them."""
        node = folders.get(path)
        if node is not None:
            return node
        path = _tidy(path)
        missing = []
        while (node := folders.get(path)) is None:
            missing.append(path)
            path = path[: max(path.rfind(b"/"), 0)]
        for path in reversed(missing):
            extra.append(node)
            self._implied.append(path)
            node = folders[path] = self._first_implied + len(extra) - 1
        return node

    def _sum_up(self) -> None:
        count = len(self.parent)
        rows = slice(1, self._first_implied)
        self.size = np.zeros(count, np.int64)
        self.packed = np.zeros(count, np.int64)
        self.files = np.zeros(count, np.int64)
        self.size[rows] = np.maximum(self.catalog.size, 0)
        known = self.catalog.packed != UNKNOWN
        self.packed[rows] = np.where(known, self.catalog.packed, 0)
        self.files[rows] = self.catalog.kind != Kind.DIR
        level = np.zeros(count, np.int32)
        above = self.parent.copy()
        while (up := above > 0).any():  # one round a level of folders
            level[up] += 1
            above[up] = self.parent[above[up]]
        for depth in range(int(level.max(initial=0)), -1, -1):
            nodes = np.flatnonzero((level == depth) & (self.parent >= 0))
            for column in (self.size, self.packed, self.files):
                np.add.at(column, self.parent[nodes], column[nodes])
        if not known.all() and len(known):
            self.packed[:] = UNKNOWN

    def __len__(self) -> int:
        return len(self.parent)

    def row(self, node: int) -> int | None:
        """The catalog row of a node, or None for the archive itself and for implied folders."""
        return node - 1 if 0 < node < self._first_implied else None

    def is_folder(self, node: int) -> bool:
        """Whether one can go into the node."""
        return self._folder_mask[node] != 0

    def path(self, node: int) -> str:
        """The path of a node in the archive, without a slash at its end."""
        row = self.row(node)
        if row is not None:
            path = self.catalog.path(row)
            return _tidy(path.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")
        return "" if node == ROOT else self._implied[node - self._first_implied].decode("utf-8", "surrogateescape")

    def name(self, node: int) -> str:
        """The last step of the path."""
        return self.path(node).rpartition("/")[2]

    def mtime_ns(self, node: int) -> int:
        """The time of change of a node, or ``NO_TIME``."""
        row = self.row(node)
        return NO_TIME if row is None else int(self.catalog.mtime_ns[row])

    def children(self, node: int) -> NDArray[np.int64]:
        """What lies directly in a folder, in the archive's order."""
        return self._order[self._begin[node] : self._begin[node + 1]]

    def sorted_children(self, node: int, key: str = "name", *, descending: bool = False) -> NDArray[np.int64]:
        """What lies directly in a folder, folders first.

        Args:
            key: ``"name"`` (natural order), ``"kind"`` (by ending), ``"size"``, ``"packed"`` or ``"changed"``.
            descending: largest, latest or last name first; folders stay in front.
        """
        nodes = self.children(node)
        if key in ("size", "packed"):
            ranks = (self.size if key == "size" else self.packed)[nodes]
        elif key == "changed":
            rows = np.clip(nodes - 1, 0, max(len(self.catalog) - 1, 0))
            listed = (nodes > 0) & (nodes < self._first_implied)
            ranks = np.where(listed, self.catalog.mtime_ns[rows], NO_TIME) if len(self.catalog) else nodes
        elif len(nodes) > NATURAL_AT_MOST:
            ranks = self._many_ranks(nodes, by_ending=key == "kind")
        else:
            ranks = _ranks([self.name(int(n)) for n in nodes], by_ending=key == "kind")
        ordered = nodes[np.argsort(-ranks if descending else ranks, kind="stable")]
        folder = self._is_folder[ordered]
        return np.concatenate((ordered[folder], ordered[~folder]))

    def _many_ranks(self, nodes: NDArray[np.int64], *, by_ending: bool) -> NDArray[np.int64]:
        """The place of each of very many nodes in the order of names, as far as ASCII letters and numbers tell.

        Any one call that goes through so many objects would keep all other threads waiting: arrays of bytes are filled
        in steps, and sorted beside the others.
        """
        names = np.empty(len(nodes), f"S{_FOLDED}")
        endings = np.empty(len(nodes) if by_ending else 0, f"S{_ENDING}")
        for first in range(0, len(nodes), _NAMES_AT_ONCE):
            some = self._raw_names(nodes[first : first + _NAMES_AT_ONCE])
            names[first : first + len(some)] = some
            if by_ending:
                endings[first : first + len(some)] = [name.rpartition(b".")[2][:_ENDING] for name in some]
        order = np.argsort(names, kind="stable")
        if by_ending:
            order = order[np.argsort(endings[order], kind="stable")]
        ranks = np.empty(len(names), np.int64)
        ranks[order] = np.arange(len(names))
        return ranks

    def _raw_names(self, nodes: NDArray[np.int64]) -> list[bytes]:
        """The names of nodes in lower case as far as they are ASCII, and with numbers that sort by their value."""
        names, listed = self.catalog.names, nodes < self._first_implied
        rows = np.where(listed, nodes - 1, 0)
        paths = [
            names.blob[a:b] for a, b in zip(names.starts[rows].tolist(), names.starts[rows + 1].tolist(), strict=True)
        ]
        for i in np.flatnonzero(~listed).tolist():
            paths[i] = self._implied[int(nodes[i]) - self._first_implied]
        lines = b"/".join([path.rstrip(b"/").rpartition(b"/")[2][:_LONGEST] for path in paths]).lower()
        return _NUMBER.sub(_by_value, lines).split(b"/")

    def _are_folders(self) -> NDArray[np.bool_]:
        """Which nodes one can go into."""
        folder = np.ones(len(self.parent), np.bool_)
        folder[1 : self._first_implied] = self.catalog.kind == Kind.DIR
        return folder

    def find(self, path: str) -> int | None:
        """The node of a path, or None."""
        node = ROOT
        for step in filter(None, path.split("/")):
            node = next((int(c) for c in self.children(node) if self.name(int(c)) == step), -1)
            if node < 0:
                return None
        return node

    def rows_below(self, nodes: Iterable[int]) -> NDArray[np.int64]:
        """The catalog rows of these nodes and of everything below them, in the archive's order."""
        wanted = np.zeros(len(self.parent), np.bool_)
        wanted[np.fromiter(nodes, np.int64)] = True
        if not (wanted & self._is_folder).any():
            return np.flatnonzero(wanted[1 : self._first_implied])
        if not wanted[ROOT]:
            above = self.parent.copy()
            while (up := above > 0).any():
                wanted[up] |= wanted[above[up]]
                above[up] = self.parent[above[up]]
        else:
            wanted[:] = True
        for again, node in self._merged.items():
            wanted[again] = wanted[node]
        return np.flatnonzero(wanted[1 : self._first_implied])


def _by_value(number: re.Match[bytes]) -> bytes:
    digits = number[1]
    return _DIGITS[len(digits)] + digits


def _ranks(names: list[str], *, by_ending: bool) -> NDArray[np.int64]:
    """The place of each name in sorted order."""
    ranks = np.empty(len(names), np.int64)
    keys: list[Any] = [
        (n.rpartition(".")[2].casefold(), natural_key(n)) if by_ending else natural_key(n) for n in names
    ]
    ranks[sorted(range(len(names)), key=keys.__getitem__)] = np.arange(len(names))
    return ranks


def _odd_names(names: NameTable) -> Iterator[tuple[int, bytes]]:
    """The rows whose paths have empty steps or steps to themselves, with their tidy paths."""
    octets = np.frombuffer(names.blob, np.uint8)
    marked = np.zeros(len(octets), np.bool_)
    begins = names.starts[:-1][names.starts[:-1] < names.starts[1:]]
    marked[begins] = (octets[begins] == _SLASH) | (octets[begins] == _DOT)
    for pattern in (b"//", b"/./"):
        at = names.blob.find(pattern)
        while at >= 0:
            marked[at] = True
            at = names.blob.find(pattern, at + 1)
    for row in names.rows_with(marked):
        yield row, _tidy(names.raw(row))


def head_ends(names: NameTable) -> NDArray[np.int64]:
    """Where the folder part of each path ends: at its last slash, or at its begin when it has none."""
    slashes = np.flatnonzero(np.frombuffer(names.blob, np.uint8) == _SLASH)
    last = np.searchsorted(slashes, names.starts[1:]) - 1
    ends = slashes[np.maximum(last, 0)] if len(slashes) else np.zeros(len(names), np.int64)
    return np.where((last >= 0) & (ends > names.starts[:-1]), ends, names.starts[:-1])


def _head_changes(names: NameTable, ends: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which rows have another folder part than the row before; most have the same."""
    octets = np.frombuffer(names.blob, np.uint8)
    begins = names.starts[:-1]
    lengths = ends - begins
    changes = np.ones(len(names), np.bool_)
    if len(names) < 2:
        return changes
    for first in range(1, len(names), _ROWS_AT_ONCE):
        rows = np.arange(first, min(first + _ROWS_AT_ONCE, len(names)))
        rows = rows[lengths[rows] == lengths[rows - 1]]
        changes[rows] = False
        rows = rows[lengths[rows] > 0]
        differs = octets[spread(begins[rows], lengths[rows])] != octets[spread(begins[rows - 1], lengths[rows])]
        bounds = np.cumsum(lengths[rows]) - lengths[rows]
        if len(rows):
            changes[rows] = np.logical_or.reduceat(differs, bounds)
    return changes


def _tidy(path: bytes) -> bytes:
    """A path without empty steps, steps to itself, or a slash at its end."""
    return b"/".join(step for step in path.split(b"/") if step not in (b"", b"."))
