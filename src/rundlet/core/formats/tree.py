"""The folder tree of a catalog: built in one pass, kept in columns, sorted only where it is looked at."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from natsort import natsort_keygen, ns
from numpy.typing import NDArray

from rundlet.core.formats.base import NO_TIME, UNKNOWN, Catalog, Kind

ROOT = 0
"""The node that stands for the archive itself."""

NATURAL_AT_MOST = 20_000
"""Names in one folder that are put in natural order, which takes some 10 µs each."""

natural_key = natsort_keygen(alg=ns.IGNORECASE)
"""Sort key for names as people order them: ``part 2`` before ``part 10``."""


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
        raw = catalog.names.all_raw()
        self._first_implied = len(catalog) + 1
        self._implied: list[bytes] = []
        parents, merged = self._place(raw, catalog.kind.tolist())
        self.parent = np.array(parents, np.int64)
        self._merged = merged
        placed = np.flatnonzero(self.parent >= 0)
        self._order = placed[np.argsort(self.parent[placed], kind="stable")]
        self._begin = np.concatenate(([0], np.cumsum(np.bincount(self.parent[placed], minlength=len(self.parent)))))
        self._sum_up()

    def _place(self, raw: list[bytes], kinds: list[int]) -> tuple[list[int], dict[int, int]]:
        """Find the folder of every entry, making the implied ones.

        Returns the parents by node, and for each folder listed again the node that already stands for it.
        """
        folders: dict[bytes, int] = {b"": ROOT}
        is_dir = int(Kind.DIR)
        for row, kind in enumerate(kinds):
            if kind == is_dir:
                folders.setdefault(_tidy(raw[row]), row + 1)
        parents = [ROOT] * self._first_implied
        merged: dict[int, int] = {}
        for row, name in enumerate(raw):
            if kinds[row] == is_dir or b"//" in name or name[:1] in (b"/", b".") or b"/./" in name:
                name = _tidy(name)
                if kinds[row] == is_dir and folders[name] != row + 1:
                    merged[row + 1] = folders[name]
                    parents[row + 1] = -1
                    continue
            head = name[: max(name.rfind(b"/"), 0)]
            parent = folders.get(head)
            if parent is None:
                parent = self._imply(head, folders, parents)
            parents[row + 1] = parent
        parents[ROOT] = -1
        return parents, merged

    def _imply(self, path: bytes, folders: dict[bytes, int], parents: list[int]) -> int:
        missing = []
        while (node := folders.get(path)) is None:
            missing.append(path)
            path = path[: max(path.rfind(b"/"), 0)]
        for path in reversed(missing):
            parents.append(node)
            self._implied.append(path)
            node = folders[path] = len(parents) - 1
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
        row = self.row(node)
        return row is None or int(self.catalog.kind[row]) == Kind.DIR

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
            ranks = np.array([self.mtime_ns(int(n)) for n in nodes], np.int64)
        else:
            ranks = _ranks([self.name(int(n)) for n in nodes], by_ending=key == "kind")
        folder = np.array([self.is_folder(int(n)) for n in nodes], np.bool_)
        order = np.argsort(-ranks if descending else ranks, kind="stable")
        order = order[np.argsort(~folder[order], kind="stable")]
        return nodes[order]

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


def _ranks(names: list[str], *, by_ending: bool) -> NDArray[np.int64]:
    """The place of each name in sorted order. Very long lists do without the natural order of numbers in names."""
    natural = natural_key if len(names) <= NATURAL_AT_MOST else str.casefold
    keys: list[Any] = [(n.rpartition(".")[2].casefold(), natural(n)) if by_ending else natural(n) for n in names]
    ranks = np.empty(len(names), np.int64)
    ranks[sorted(range(len(names)), key=keys.__getitem__)] = np.arange(len(names))
    return ranks


def _tidy(path: bytes) -> bytes:
    """A path without empty steps, steps to itself, or a slash at its end."""
    return b"/".join(step for step in path.split(b"/") if step not in (b"", b"."))
