"""What the columns list, without a word of Qt: nodes that are numbers, and records for the rows that are looked at."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from rundlet.core.errors import file_problem
from rundlet.core.files.find import Wanted
from rundlet.core.files.scan import Part
from rundlet.core.files.types import Sort, sort_of, word_for
from rundlet.core.formats.base import NO_TIME, UNKNOWN, Kind
from rundlet.core.formats.tree import NATURAL_AT_MOST, ArchiveTree, natural_key
from rundlet.core.jobs.turns import step_aside
from rundlet.core.plans.unpack import Action, Steps, UnpackPlan

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

    def parent_of(self, node: int) -> int:
        """The row that a row stands below; :data:`TOP` for the top rows."""

    def is_folder(self, node: int) -> bool:
        """Whether one can go into a row."""

    def count(self, node: int) -> int:
        """How many rows a row shows right below, when it is opened."""

    def record(self, node: int) -> Record:
        """What a row shows."""

    def sort(self, key: str, *, descending: bool) -> None:
        """Put the rows in another order: one of :data:`COLUMNS`."""

    def narrow(self, text: str, sort: Sort | None) -> None:
        """Show only rows that fit ``text`` (see :class:`Wanted`) and this type, with the folders they sit in."""

    def counts(self) -> dict[Sort, int]:
        """How many rows of each type there are."""

    @property
    def found(self) -> int:
        """How many rows fit what the listing is narrowed to."""


@dataclass(slots=True)
class DiskItem:
    """One thing in a folder on the disk.

    Attributes:
        size: its bytes; those of a folder are :data:`UNKNOWN` until they are counted.
        files: how many files are in it, itself included.
        sort: the group of its type.
        parts: what lies directly in a folder, once that is counted.
    """

    path: Path
    kind: Kind
    size: int
    files: int
    mtime_ns: int
    sort: Sort
    parts: tuple[Part, ...] = ()

    @classmethod
    def of(cls, path: Path) -> DiskItem | None:
        """What stands under a path; None when nothing does."""
        return _disk_item(path, path.lstat)

    def take_parts(self, parts: Sequence[Part]) -> None:
        """Fill in what a folder holds."""
        self.size, self.files = sum(part.size for part in parts), sum(part.files for part in parts)
        self.parts = tuple(parts)


class DiskListing:
    """A folder on the disk, one level of it. Node ``n`` is ``items[n - 1]``.

    What takes a step for each item is done when it is made, which is in the background.

    Attributes:
        folders: the nodes of the folders in it.
        seen: what was seen of it: names, kinds, times, and the sizes of files.
        sizes, files: of all items, as in :class:`DiskItem`; in columns, so that a choice of very many is counted at once.
    """

    def __init__(self, folder: Path, items: list[DiskItem]) -> None:
        self.folder = folder
        self.items = items
        self.folders = [node for node, item in enumerate(items, 1) if item.kind == Kind.DIR]
        self.sizes = np.array([item.size for item in items], np.int64)
        self.files = np.array([item.files for item in items], np.int64)
        self._node_of = {str(item.path): node for node, item in enumerate(items, 1)}
        self.seen = {
            (name, item.kind, item.mtime_ns, 0 if item.kind == Kind.DIR else item.size)
            for name, item in zip(self._node_of, items, strict=True)
        }
        self._shown: list[int] = []
        self._key, self._descending = "name", False
        self._wanted = Wanted()
        self._sort: Sort | None = None
        self._largest = 1
        names = []
        for item in items:
            step_aside()
            names.append(natural_key(item.path.name))
        self._by_name = sorted(range(1, len(items) + 1), key=lambda i: names[i - 1])
        self._counts: dict[Sort, int] = {}
        for item in items:
            self._counts[item.sort] = self._counts.get(item.sort, 0) + 1
        self._arrange()

    @classmethod
    def read(cls, folder: Path, *, hidden: bool = False) -> DiskListing:
        """List a folder. Folders come without a size; see :meth:`set_parts`.

        Raises:
            FileProblem: when it can't be read.
        """
        items = []
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if hidden or not entry.name.startswith("."):
                        step_aside()
                        found = partial(entry.stat, follow_symlinks=False)
                        item = _disk_item(Path(entry.path), found)
                        items += [item] if item is not None else []  # it vanished while the folder was read
        except OSError as error:
            raise file_problem(error, "open the folder", folder) from error
        return cls(folder, items)

    def children(self, node: int) -> Sequence[int]:
        return self._shown if node == TOP else ()

    def parent_of(self, node: int) -> int:
        return TOP

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.items[node - 1].kind == Kind.DIR

    def count(self, node: int) -> int:
        return len(self._shown) if node == TOP else 0

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
        by_size = key in ("size", "share")  # folders may have been counted since
        if (key, descending) != (self._key, self._descending) or by_size:
            self._key, self._descending = key, descending
            self._arrange()

    def narrow(self, text: str, sort: Sort | None) -> None:
        wanted = Wanted.of(text)
        if (wanted, sort) != (self._wanted, self._sort):
            self._wanted, self._sort = wanted, sort
            self._arrange()

    def counts(self) -> dict[Sort, int]:
        return self._counts

    @property
    def found(self) -> int:
        return len(self._shown)

    def set_parts(self, node: int, parts: Sequence[Part]) -> None:
        """Fill in what a folder holds, once it is counted; the order of the rows stays."""
        item = self.items[node - 1]
        item.take_parts(parts)
        self._largest = max(self._largest, item.size)
        self.sizes[node - 1], self.files[node - 1] = item.size, item.files

    def node_of(self, path: Path) -> int | None:
        """The row of a path, or None."""
        return self._node_of.get(str(path))

    def nodes_of(self, paths: Iterable[Path]) -> list[int]:
        """The rows of paths, as far as they are here."""
        return [node for path in paths if (node := self.node_of(path)) is not None]

    def _arrange(self) -> None:
        self._largest = max((item.size for item in self.items), default=1)
        self._largest = max(self._largest, 1)  # folders that are not counted yet have -1
        narrowed = bool(self._wanted) or self._sort is not None
        shown = [i for i in self._by_name if self._fits(self.items[i - 1])] if narrowed else list(self._by_name)
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
        return self._wanted.fits(item.path.name) and self._sort in (None, item.sort)


def _disk_item(path: Path, find: Callable[[], os.stat_result]) -> DiskItem | None:
    kind, size = Kind.OTHER, 0
    try:
        status = find()
    except OSError:
        return None
    if stat.S_ISREG(status.st_mode):
        kind, size = Kind.FILE, status.st_size
    elif stat.S_ISDIR(status.st_mode):
        kind, size = Kind.DIR, UNKNOWN
    elif stat.S_ISLNK(status.st_mode):
        kind = Kind.LINK
    sort = {Kind.DIR: Sort.FOLDERS, Kind.LINK: Sort.LINKS}.get(kind) or sort_of(path.name)
    return DiskItem(path, kind, size, int(kind == Kind.FILE), status.st_mtime_ns, sort)


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
        self._found: NDArray[np.bool_] | None = None
        self._sorted: dict[int, list[int]] = {}
        self._largest: dict[int, int] = {}
        self._orders: dict[tuple[int, str, bool], NDArray[np.int64]] = {}

    def children(self, node: int) -> Sequence[int]:
        node = self.folder if node == TOP else node
        known = self._sorted.get(node)
        if known is None:
            nodes = self._in_order(node)
            if self._keep is not None:
                nodes = nodes[self._keep[nodes]]
            known = self._sorted[node] = nodes.tolist()
        return known

    def _in_order(self, node: int) -> NDArray[np.int64]:
        """All that lies in a folder in the order of now; large folders are put in an order once, whatever is looked for."""
        key = "packed" if self._key == "share" else self._key
        known = self._orders.get((node, key, self._descending))
        if known is None:
            known = self.tree.sorted_children(node, key, descending=self._descending)
            if len(known) > NATURAL_AT_MOST:
                self._orders[node, key, self._descending] = known
        return known

    def parent_of(self, node: int) -> int:
        above = int(self.tree.parent[node])
        return TOP if above in (self.folder, -1) else above

    def _below(self, *folders: int) -> NDArray[np.bool_]:
        """Which nodes lie in these folders, however deep; not they themselves."""
        below = np.zeros(len(self.tree), np.bool_)
        tops = np.zeros(len(self.tree), np.bool_)
        tops[list(folders)] = True
        above = self.tree.parent.copy()
        while (up := above > 0).any():
            below[up] |= tops[above[up]]
            above[up] = self.tree.parent[above[up]]
        return below

    def meant(self, nodes: Sequence[int]) -> list[int]:
        """What choosing rows means: a folder that is shown only as the way to what was found stands for just that."""
        if self._found is None or not len(nodes):
            return list(nodes)
        chosen = np.array(nodes, np.int64)
        found = self._found[chosen]
        more = self._below(*chosen[~found].tolist()) & self._found
        more[chosen] = False
        return [*chosen[found].tolist(), *np.flatnonzero(more).tolist()]

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.tree.is_folder(node)

    def count(self, node: int) -> int:
        """None of a folder with very many: it is gone into instead, as they have to be put in an order first."""
        if not self.is_folder(node):
            return 0
        below = self.tree.children(self.folder if node == TOP else node)
        shown = len(below) if self._keep is None else int(self._keep[below].sum())
        return shown if shown <= NATURAL_AT_MOST or node == TOP else 0

    def record(self, node: int) -> Record:
        tree = self.tree
        name = tree.name(node)
        row = tree.row(node)
        kind = Kind.DIR if row is None else Kind(int(tree.catalog.kind[row]))
        siblings = int(tree.parent[node])
        largest = self._largest.get(siblings)
        if largest is None:
            largest = self._largest[siblings] = max(int(tree.size[tree.children(siblings)].max(initial=1)), 1)
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
        if (key, descending) != (self._key, self._descending):
            self._key, self._descending = key, descending
            self._sorted.clear()

    def narrow(self, text: str, sort: Sort | None) -> None:
        self._sorted.clear()
        self._keep = self._found = None
        if not text and sort is None:
            return
        tree = self.tree
        wanted = Wanted.of(text)
        keep = named(tree, wanted) if wanted else np.ones(len(tree), np.bool_)
        if sort is not None:
            keep &= self.sorts == list(Sort).index(sort)
        keep[0] = False
        self._found = keep.copy()
        above = np.flatnonzero(keep)
        while len(above):
            above = np.unique(tree.parent[above])
            above = above[above > 0]
            keep[above] = True
        self._keep = keep

    def counts(self) -> dict[Sort, int]:
        sorts_below = self.sorts[1:]
        if self.folder:
            sorts_below = sorts_below[self._below(self.folder)[1:]]
        numbers, how_many = np.unique(sorts_below, return_counts=True)
        sorts = list(Sort)
        return {sorts[n]: int(count) for n, count in zip(numbers.tolist(), how_many.tolist(), strict=True) if n >= 0}

    @property
    def found(self) -> int:
        return len(self.tree) - 1 if self._found is None else int(self._found.sum())

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


def named(tree: ArchiveTree, wanted: Wanted) -> NDArray[np.bool_]:
    """Which nodes have a wanted name."""
    keep = np.zeros(len(tree), np.bool_)
    count = len(tree.catalog)
    candidates: Iterable[int] = range(1, count + 1)
    literal = wanted.literal
    if literal and literal.isascii():  # one search through all names finds the few that are worth a closer look
        names = tree.catalog.names
        marked = np.zeros(len(names.blob), np.bool_)
        marked[[match.start() for match in re.finditer(re.escape(literal.encode()), names.blob.lower())]] = True
        candidates = [row + 1 for row in names.rows_with(marked)]
    for node in (*candidates, *range(count + 1, len(tree))):
        if wanted.fits(tree.name(node)):
            keep[node] = True
    return keep


@dataclass(slots=True)
class _Place:
    name: str
    folder: bool
    tone: str = "soft"
    note: str = ""
    parent: int = TOP
    asked: tuple[int, Steps] | None = None
    problem: bool = False
    below: dict[str, int] = field(default_factory=dict)


class LandingListing:
    """What will be in the chosen folder: the outcome of plans among what is already there.

    Args:
        folder: the chosen folder.
        plans: where the archives land, in it or in folders below it.
        problems: names of archives that can't be unpacked, each with why.
        most: how many entries are shown; a person reads a few hundred at best.

    Attributes:
        archives: how many archives land.
    """

    def __init__(
        self, folder: Path, plans: Sequence[UnpackPlan], problems: Sequence[tuple[str, str]] = (), *, most: int = 2000
    ) -> None:
        self.archives = len(plans)
        self._places: list[_Place] = [_Place("", folder=True)]
        self._top = self._add(TOP, folder.name or str(folder), folder=True)
        self._mark(self._top, *(("ink", "") if folder.exists() else ("moss", "new")))
        self._order: dict[int, list[int]] = {}
        for number, plan in enumerate(plans):
            self._add_plan(number, plan, folder, most // len(plans))
        for name, problem in problems:
            self._mark(node := self._add(self._top, name, folder=False), "amber", problem)
            self._places[node].problem = True
        self._add_others(folder)

    def _add_plan(self, number: int, plan: UnpackPlan, folder: Path, most: int) -> None:
        top = self._top
        for name in plan.root.relative_to(os.path.abspath(folder)).parts:
            top = self._add(top, name, folder=True)
            self._mark(top, *(("moss", "new") if plan.root_is_new else ("ink", "already there")))
        for step in plan.steps[:most]:
            tone, note = _tone(step.action, step.note)
            node = top
            for name in step.target[:-1]:
                node = self._add(node, name, folder=True)
                if step.action.writes and plan.root_is_new:
                    self._mark(node, "moss", "new")
            node = self._add(node, step.target[-1], folder=step.kind == Kind.DIR)
            self._mark(node, tone, note)
            if step.asked and (step.action.taken or step.action == Action.SAME):
                self._places[node].asked = number, step.asked
        if len(plan.steps) > most:
            self._add(top, f"… and {len(plan.steps) - most:,} more", folder=False)

    def _add(self, parent: int, name: str, *, folder: bool) -> int:
        below = self._places[parent].below
        if name not in below:
            self._places.append(_Place(name, folder, parent=parent))
            below[name] = len(self._places) - 1
        return below[name]

    def _mark(self, node: int, tone: str, note: str) -> None:
        self._places[node].tone, self._places[node].note = tone, note

    def taken_name(self, node: int) -> tuple[int, Steps] | None:
        """The name that is taken in a row: which plan asks for it, and its steps from the root of that plan."""
        return self._places[node].asked

    def _add_others(self, folder: Path, most: int = 40) -> None:
        try:
            with os.scandir(folder) as entries:
                others = sorted((e.name, e.is_dir()) for e in entries if not e.name.startswith("."))
        except OSError:
            return
        for name, is_dir in others[:most]:
            self._add(self._top, name, folder=is_dir)

    def children(self, node: int) -> Sequence[int]:
        if node not in self._order:
            places = self._places
            self._order[node] = sorted(
                places[node].below.values(),
                key=lambda n: (not places[n].problem, not places[n].folder, natural_key(places[n].name)),
            )
        return self._order[node]

    def parent_of(self, node: int) -> int:
        return self._places[node].parent

    def is_folder(self, node: int) -> bool:
        return self._places[node].folder

    def count(self, node: int) -> int:
        return len(self._places[node].below)

    def record(self, node: int) -> Record:
        place = self._places[node]
        sort = Sort.FOLDERS if place.folder else sort_of(place.name)
        return Record(name=place.name, sort=sort, tone=place.tone, note=place.note)

    def sort(self, key: str, *, descending: bool) -> None:
        """The landing tree has one order: what can't be done first, then folders, by name."""

    def narrow(self, text: str, sort: Sort | None) -> None:
        """The landing tree is always whole."""

    def counts(self) -> dict[Sort, int]:
        return {}

    @property
    def found(self) -> int:
        return len(self._places) - 1


def _tone(action: Action, note: str) -> tuple[str, str]:
    tones = {
        Action.MAKE: ("moss", "new"),
        Action.JOIN: ("ink", "already there"),
        Action.NUMBER: ("amber", "taken, both kept"),
        Action.REPLACE: ("amber", "replaces the one there"),
        Action.SKIP: ("amber", "taken, left alone"),
        Action.SAME: ("slate", "the same is there, left alone"),
        Action.REFUSE: ("amber", f"left out: {note}"),
    }
    return tones[action]
