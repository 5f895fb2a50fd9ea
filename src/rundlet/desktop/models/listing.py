"""What the columns list, without a word of Qt: nodes that are numbers, and records for the rows that are looked at."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from rundlet.core.errors import file_problem
from rundlet.core.files.types import Sort, sort_of, word_for
from rundlet.core.formats.base import NO_TIME, UNKNOWN, Kind
from rundlet.core.formats.tree import ArchiveTree, natural_key
from rundlet.core.plans.unpack import Action, UnpackPlan

_LONGEST_ENDING = 16

TOP = 0
"""The node whose children are the listing's top rows."""

COLUMNS = ("name", "kind", "size", "share", "changed")


@dataclass(frozen=True, slots=True)
class Record:
    """What a row shows.

    Attributes:
        name: the name.
        sort: the group of its type.
        word: what it is, in words.
        size: bytes, or :data:`UNKNOWN` while they are not counted.
        packed: bytes in the archive, or :data:`UNKNOWN` outside of archives.
        share: its part of the largest row beside it, 0 to 1.
        mtime_ns: when it was changed, or :data:`NO_TIME`.
        tone: the token its name is written in.
        note: words behind the name.
    """

    name: str
    sort: Sort
    word: str = ""
    size: int = UNKNOWN
    packed: int = UNKNOWN
    share: float = 0.0
    mtime_ns: int = NO_TIME
    tone: str = "ink"
    note: str = ""


class Listing(Protocol):
    """A tree of rows."""

    def children(self, node: int) -> Sequence[int]:
        """The rows in a folder, sorted and narrowed."""

    def is_folder(self, node: int) -> bool:
        """Whether one can go into a row."""

    def expands(self, node: int) -> bool:
        """Whether a row shows what is in it right below."""

    def record(self, node: int) -> Record:
        """What a row shows."""

    def sort(self, key: str, *, descending: bool) -> None:
        """Put the rows in another order: one of :data:`COLUMNS`."""

    def narrow(self, text: str, sort: Sort | None) -> None:
        """Show only rows with ``text`` in their names and of this type, with the folders they sit in."""

    def counts(self) -> dict[Sort, int]:
        """How many rows of each type there are."""


@dataclass(slots=True)
class DiskItem:
    """One thing in a folder on the disk."""

    path: Path
    kind: Kind
    size: int
    files: int
    mtime_ns: int

    @property
    def sort(self) -> Sort:
        """The group of its type."""
        if self.kind == Kind.DIR:
            return Sort.FOLDERS
        return Sort.LINKS if self.kind == Kind.LINK else sort_of(self.path.name)


class DiskListing:
    """A folder on the disk, one level of it. Node ``n`` is ``items[n - 1]``."""

    def __init__(self, folder: Path, items: list[DiskItem]) -> None:
        self.folder = folder
        self.items = items
        self._shown: list[int] = []
        self._key, self._descending = "name", False
        self._text = ""
        self._sort: Sort | None = None
        self._largest = 1
        self._arrange()

    @classmethod
    def read(cls, folder: Path, *, hidden: bool = False) -> DiskListing:
        """List a folder. Folders come without a size; see :meth:`set_size`.

        Raises:
            FileProblem: when it can't be read.
        """
        items = []
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if hidden or not entry.name.startswith("."):
                        items.append(_disk_item(entry))
        except OSError as error:
            raise file_problem(error, "open the folder", folder) from error
        return cls(folder, items)

    def children(self, node: int) -> Sequence[int]:
        return self._shown if node == TOP else ()

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.items[node - 1].kind == Kind.DIR

    def expands(self, node: int) -> bool:
        return node == TOP

    def record(self, node: int) -> Record:
        item = self.items[node - 1]
        word = {Kind.DIR: "Folder", Kind.LINK: "Link"}.get(item.kind) or word_for(item.path.name)
        return Record(
            name=item.path.name,
            sort=item.sort,
            word=word,
            size=item.size,
            share=max(item.size, 0) / self._largest,
            mtime_ns=item.mtime_ns,
        )

    def sort(self, key: str, *, descending: bool) -> None:
        self._key, self._descending = key, descending
        self._arrange()

    def narrow(self, text: str, sort: Sort | None) -> None:
        self._text, self._sort = text.casefold(), sort
        self._arrange()

    def counts(self) -> dict[Sort, int]:
        counts: dict[Sort, int] = {}
        for item in self.items:
            counts[item.sort] = counts.get(item.sort, 0) + 1
        return counts

    def set_size(self, node: int, size: int, files: int) -> None:
        """Fill in what a folder holds, once it is counted; the order of the rows stays."""
        self.items[node - 1].size, self.items[node - 1].files = size, files
        self._largest = max(self._largest, size)

    def node_of(self, path: Path) -> int | None:
        """The row of a path, or None."""
        return next((i for i, item in enumerate(self.items, 1) if item.path == path), None)

    def _arrange(self) -> None:
        self._largest = max((item.size for item in self.items), default=1) or 1
        shown = [i for i, item in enumerate(self.items, 1) if self._fits(item)]
        shown.sort(key=lambda i: natural_key(self.items[i - 1].path.name))
        if self._key == "kind":
            shown.sort(key=lambda i: self.items[i - 1].path.suffix.casefold())
        elif self._key in ("size", "share"):
            shown.sort(key=lambda i: self.items[i - 1].size)
        elif self._key == "changed":
            shown.sort(key=lambda i: self.items[i - 1].mtime_ns)
        if self._descending:
            shown.reverse()
        shown.sort(key=lambda i: self.items[i - 1].kind != Kind.DIR)
        self._shown = shown

    def _fits(self, item: DiskItem) -> bool:
        return (not self._text or self._text in item.path.name.casefold()) and self._sort in (None, item.sort)


def _disk_item(entry: os.DirEntry[str]) -> DiskItem:
    kind, size, mtime_ns = Kind.OTHER, 0, NO_TIME
    try:
        status = entry.stat(follow_symlinks=False)
        mtime_ns = status.st_mtime_ns
        if stat.S_ISREG(status.st_mode):
            kind, size = Kind.FILE, status.st_size
        elif stat.S_ISDIR(status.st_mode):
            kind, size = Kind.DIR, UNKNOWN
        elif stat.S_ISLNK(status.st_mode):
            kind = Kind.LINK
    except OSError:
        pass  # it vanished while the folder was read
    return DiskItem(Path(entry.path), kind, size, int(kind == Kind.FILE), mtime_ns)


class ArchiveListing:
    """A folder of an archive and everything below it. Nodes are those of the tree, but for :data:`TOP`.

    Args:
        sorts: the type of every node; see :func:`sorts_of`.
    """

    def __init__(self, tree: ArchiveTree, folder: int, sorts: NDArray[np.int64]) -> None:
        self.tree = tree
        self.folder = folder
        self.sorts = sorts
        self._key, self._descending = "name", False
        self._keep: NDArray[np.bool_] | None = None
        self._sorted: dict[int, list[int]] = {}

    def children(self, node: int) -> Sequence[int]:
        node = self.folder if node == TOP else node
        known = self._sorted.get(node)
        if known is None:
            key = "packed" if self._key == "share" else self._key
            nodes = self.tree.sorted_children(node, key, descending=self._descending)
            if self._keep is not None:
                nodes = nodes[self._keep[nodes]]
            known = self._sorted[node] = nodes.tolist()
        return known

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.tree.is_folder(node)

    def expands(self, node: int) -> bool:
        return self.is_folder(node) and len(self.children(node)) > 0

    def record(self, node: int) -> Record:
        tree = self.tree
        name = tree.name(node)
        row = tree.row(node)
        kind = Kind.DIR if row is None else Kind(int(tree.catalog.kind[row]))
        siblings = int(tree.parent[node])
        largest = max(int(tree.size[tree.children(siblings)].max(initial=1)), 1)
        sort = Sort.FOLDERS if kind == Kind.DIR else Sort.LINKS if kind == Kind.LINK else sort_of(name)
        return Record(
            name=name,
            sort=sort,
            word={Kind.DIR: "Folder", Kind.LINK: "Link", Kind.OTHER: "Device"}.get(kind) or word_for(name),
            size=int(tree.size[node]),
            packed=int(tree.packed[node]),
            share=int(tree.size[node]) / largest,
            mtime_ns=tree.mtime_ns(node),
            note="locked" if row is not None and tree.catalog.encrypted[row] else "",
        )

    def sort(self, key: str, *, descending: bool) -> None:
        self._key, self._descending = key, descending
        self._sorted.clear()

    def narrow(self, text: str, sort: Sort | None) -> None:
        self._sorted.clear()
        self._keep = None
        if not text and sort is None:
            return
        tree = self.tree
        keep = named(tree, text) if text else np.ones(len(tree), np.bool_)
        if sort is not None:
            keep &= self.sorts == list(Sort).index(sort)
        keep[0] = False
        above = np.flatnonzero(keep)
        while len(above):
            above = np.unique(tree.parent[above])
            above = above[above > 0]
            keep[above] = True
        self._keep = keep

    def counts(self) -> dict[Sort, int]:
        numbers, how_many = np.unique(self.sorts[1:], return_counts=True)
        sorts = list(Sort)
        return {sorts[n]: int(count) for n, count in zip(numbers.tolist(), how_many.tolist(), strict=True) if n >= 0}

    def node_of(self, path: str) -> int | None:
        """The row of a path in the archive, or None."""
        return self.tree.find(path)


def sorts_of(tree: ArchiveTree) -> NDArray[np.int64]:
    """The type of every node as its number in :class:`Sort`; for a million nodes this is work for the background."""
    numbers = {sort: i for i, sort in enumerate(Sort)}
    sorts = np.full(len(tree), numbers[Sort.FOLDERS], np.int64)
    known: dict[bytes, int] = {}
    found = []
    for raw in tree.catalog.names.all_raw():
        ending = raw[raw.rfind(b"/") + 1 :].rpartition(b".")[2][:_LONGEST_ENDING]
        number = known.get(ending)
        if number is None:
            name = raw.rpartition(b"/")[2].decode("utf-8", "replace")
            number = numbers[sort_of(name)]
            if b"." in raw[raw.rfind(b"/") + 1 :]:
                known[ending] = number
        found.append(number)
    kinds = tree.catalog.kind
    rows = np.array(found, np.int64)
    rows[kinds == Kind.DIR] = numbers[Sort.FOLDERS]
    rows[kinds == Kind.LINK] = numbers[Sort.LINKS]
    sorts[1 : len(rows) + 1] = rows
    return sorts


def named(tree: ArchiveTree, text: str) -> NDArray[np.bool_]:
    """Which nodes have a text in their names, upper and lower case alike."""
    keep = np.zeros(len(tree), np.bool_)
    text = text.casefold()
    count = len(tree.catalog)
    candidates: Iterable[int] = range(1, count + 1)
    if text.isascii():  # one search through all names finds the few that are worth a closer look
        names = tree.catalog.names
        marked = np.zeros(len(names.blob), np.bool_)
        marked[[match.start() for match in re.finditer(re.escape(text.encode()), names.blob.lower())]] = True
        candidates = [row + 1 for row in names.rows_with(marked)]
    for node in (*candidates, *range(count + 1, len(tree))):
        if text in tree.name(node).casefold():
            keep[node] = True
    return keep


@dataclass(slots=True)
class _Place:
    name: str
    folder: bool
    tone: str = "soft"
    note: str = ""
    below: dict[str, int] = field(default_factory=dict)


class LandingListing:
    """What will be in the chosen folder: the plan's outcome among what is already there.

    Args:
        plan: the plan.
        most: how many of its entries are shown; a person reads a few hundred at best.
    """

    def __init__(self, plan: UnpackPlan, *, most: int = 2000) -> None:
        self._places: list[_Place] = [_Place("", folder=True)]
        self._top = self._add(TOP, plan.root.name or str(plan.root), folder=True)
        self._mark(self._top, *(("moss", "new") if plan.root_is_new else ("ink", "")))
        self._order: dict[int, list[int]] = {}
        for step in plan.steps[:most]:
            tone, note = _tone(step.action, step.note)
            node = self._top
            for name in step.target[:-1]:
                node = self._add(node, name, folder=True)
                if step.action.writes and plan.root_is_new:
                    self._mark(node, "moss", "new")
            node = self._add(node, step.target[-1], folder=step.kind == Kind.DIR)
            self._mark(node, tone, note)
        if len(plan.steps) > most:
            self._add(self._top, f"… and {len(plan.steps) - most:,} more", folder=False)
        self._add_others(plan)

    def _add(self, parent: int, name: str, *, folder: bool) -> int:
        below = self._places[parent].below
        if name not in below:
            self._places.append(_Place(name, folder))
            below[name] = len(self._places) - 1
        return below[name]

    def _mark(self, node: int, tone: str, note: str) -> None:
        self._places[node].tone, self._places[node].note = tone, note

    def _add_others(self, plan: UnpackPlan, most: int = 40) -> None:
        try:
            with os.scandir(plan.root) as entries:
                others = sorted((e.name, e.is_dir()) for e in entries if not e.name.startswith("."))
        except OSError:
            return
        for name, is_dir in others[:most]:
            self._add(self._top, name, folder=is_dir)

    def children(self, node: int) -> Sequence[int]:
        if node not in self._order:
            below = self._places[node].below.values()
            self._order[node] = sorted(
                below, key=lambda n: (not self._places[n].folder, natural_key(self._places[n].name))
            )
        return self._order[node]

    def is_folder(self, node: int) -> bool:
        return self._places[node].folder

    def expands(self, node: int) -> bool:
        return bool(self._places[node].below)

    def record(self, node: int) -> Record:
        place = self._places[node]
        sort = Sort.FOLDERS if place.folder else sort_of(place.name)
        return Record(name=place.name, sort=sort, tone=place.tone, note=place.note)

    def sort(self, key: str, *, descending: bool) -> None:
        """The landing tree has one order: folders first, by name."""

    def narrow(self, text: str, sort: Sort | None) -> None:
        """The landing tree is always whole."""

    def counts(self) -> dict[Sort, int]:
        return {}


def _tone(action: Action, note: str) -> tuple[str, str]:
    tones = {
        Action.MAKE: ("moss", "new"),
        Action.JOIN: ("ink", "already there"),
        Action.NUMBER: ("amber", "taken, both kept"),
        Action.REPLACE: ("amber", "replaces the one there"),
        Action.SKIP: ("amber", "taken, left alone"),
        Action.REFUSE: ("amber", f"left out: {note}"),
    }
    return tones[action]
