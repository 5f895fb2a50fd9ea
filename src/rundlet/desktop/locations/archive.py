"""A folder of an archive as a listing, with what is looked for in all of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.file_type import FileType, file_type_of, word_for
from rundlet.core.model.find import Wanted
from rundlet.core.model.find_rows import rows_named
from rundlet.core.model.natural import NATURAL_AT_MOST
from rundlet.desktop.locations.areas import MOST, Area, largest
from rundlet.desktop.locations.listing import TOP, Row, Spot
from rundlet.desktop.locations.place import Place, Selection
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.model.item import PackItem
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.plans.staged_catalog import StagedCatalog
    from rundlet.desktop.locations.disk import DiskItem

_LONGEST_ENDING = 16

Narrowed = tuple[NDArray[np.bool_] | None, NDArray[np.bool_] | None]


class ArchiveListing:
    """A folder of an archive and everything below it. Nodes are those of the tree, but for :data:`TOP`.

    Args:
        file_types: the type of every node; see :func:`file_types_of`.
        staged: what becomes of rows, where there are changes that are not saved.

    Attributes:
        told: what else is to be shown of a row of the archive, and in which token; None for nothing.
        unsaved: says how many changes of an archive in this one are not saved, by its path in here.
    """

    is_archive = True
    is_editable = False
    opens_in_place = True
    share_heading = "Packed"

    def __init__(
        self, tree: ArchiveTree, folder: int, file_types: NDArray[np.int64], staged: StagedCatalog | None = None
    ) -> None:
        self.tree = tree
        self.staged = staged
        self.told: Callable[[int], tuple[str, str] | None] | None = None
        self.unsaved: Callable[[str], int] = lambda _: 0
        self._altered: frozenset[int] | None = None
        self.folder = folder
        self.file_types = file_types
        self._key, self._descending = "name", False
        self._keep: NDArray[np.bool_] | None = None
        self._found: NDArray[np.bool_] | None = None
        self._sorted: dict[int, list[int]] = {}
        self._largest: dict[int, int] = {}
        self._ahead: tuple[tuple[str, FileType | None], Narrowed] | None = None
        self._counts: dict[FileType, int] | None = None
        self._orders: dict[tuple[int, str, bool], NDArray[np.int64]] = {}

    def children(self, node: int) -> Sequence[int]:
        node = self.folder if node == TOP else node
        known = self._sorted.get(node)
        if known is None:
            nodes = self._in_order(node, self._key, descending=self._descending)
            if self._keep is not None:
                nodes = nodes[self._keep[nodes]]
            known = self._sorted[node] = nodes.tolist()
        return known

    def _in_order(self, node: int, key: str, *, descending: bool) -> NDArray[np.int64]:
        """All that lies in a folder; large folders are put in an order once, whatever is looked for."""
        key = "packed" if key == "share" else key
        known = self._orders.get((node, key, descending))
        if known is None:
            known = self.tree.sorted_children(node, key, descending=descending)
            if len(known) > NATURAL_AT_MOST:
                self._orders[node, key, descending] = known
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

    @property
    def is_large(self) -> bool:
        return len(self.tree) > NATURAL_AT_MOST

    @property
    def top(self) -> int:
        return self.folder

    def looks_like(self, other: object) -> bool:
        return False

    def entered(self, node: int, place: Place) -> Place | None:
        return replace(place, inner=self.tree.path(node)) if self.is_folder(node) else None

    def path_of(self, node: int) -> Path | None:
        item = self._put_in(self.tree.row(node) if node else None)
        return Path(item.source) if item is not None and item.source else None

    def _put_in(self, row: int | None) -> PackItem | None:
        """What is put in at a row and not saved yet, or None."""
        place = self.staged.added.get(row) if self.staged is not None and row is not None else None
        return None if place is None or self.staged is None else self.staged.items[place]

    def spot(self, node: int) -> Spot | None:
        row = self.tree.row(node) if node else None
        if (item := self._put_in(row)) is not None:
            if item.kind != Kind.FILE or not item.source:
                return None
            return Spot(node, self.tree.name(node), item.size, path=Path(item.source))
        if row is None or int(self.tree.catalog.kind[row]) not in (Kind.FILE, Kind.HARD):
            return None
        return Spot(node, self.tree.name(node), int(self.tree.catalog.size[row]), row=row)

    def disk_items(self, nodes: Iterable[int]) -> Sequence[DiskItem]:
        return ()

    def counted(self, nodes: tuple[int, ...], others: Sequence[DiskItem]) -> Selection:
        tree = self.tree
        if self.is_all(nodes):  # a million of them are counted already
            whole = self.whole()
            return replace(whole, nodes=nodes, items=len(nodes))
        rows = tree.rows_below(nodes) if nodes else np.zeros(0, np.int64)
        filled = rows[tree.catalog.kind[rows] != Kind.DIR]
        taken = tree.catalog.packed[filled]
        packed = int(taken.sum()) if (taken != UNKNOWN).all() else UNKNOWN
        size = int(np.maximum(tree.catalog.size[rows], 0).sum())
        return Selection(nodes, len(nodes), len(filled), size, packed=packed)

    def whole(self) -> Selection:
        tree = self.tree
        if self.staged is not None:
            rows = tree.rows_below([self.folder])
            rows = rows[~np.isin(rows, np.fromiter(self.staged.removed, np.int64, len(self.staged.removed)))]
            files = int((tree.catalog.kind[rows] != Kind.DIR).sum())
            return Selection(files=files, size=int(np.maximum(tree.catalog.size[rows], 0).sum()))
        files, size, packed = (int(column[self.folder]) for column in (tree.files, tree.size, tree.packed))
        return Selection(files=files, size=size, packed=packed)

    def summary(self, selection: Selection) -> str:
        if selection.items:
            return say(
                "{items:item|items} selected · {files:file|files} · {size:size}",
                items=selection.items,
                files=selection.files,
                size=selection.size,
            )
        whole = self.whole()
        words = "{files:file|files} · {size:size}"
        if whole.packed != UNKNOWN:
            words = "{files:file|files} · {size:size}, packed to {packed:size}"
        return say(words, files=whole.files, size=whole.size, packed=whole.packed)

    def areas(self) -> tuple[Area, ...]:
        return self._areas(self.folder, depth=0)

    def _areas(self, folder: int, *, depth: int) -> tuple[Area, ...]:
        tree = self.tree
        nodes = tree.children(folder)
        order = nodes[tree.size[nodes].argsort()[::-1]]
        found = [
            Area(
                tree.name(node),
                int(tree.size[node]),
                FileType.FOLDERS if tree.is_folder(node) else file_type_of(tree.name(node)),
                node if depth == 0 else 0,
                self._areas(node, depth=1) if depth == 0 and tree.is_folder(node) else (),
            )
            for node in order[: MOST + 1].tolist()
        ]
        rest = order[MOST + 1 :]
        return largest(found, more=len(rest), size=int(tree.size[rest].sum()))

    def meant(self, nodes: list[int]) -> list[int]:
        if self._found is None or not nodes:
            return nodes
        chosen = np.array(nodes, np.int64)
        found = self._found[chosen]
        more = self._below(*chosen[~found].tolist()) & self._found
        more[chosen] = False
        return [*chosen[found].tolist(), *np.flatnonzero(more).tolist()]

    def is_all(self, nodes: Sequence[int]) -> bool:
        """Whether these are all that lies in the folder, in its order."""
        return self._keep is None and list(nodes) == self.children(TOP)

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.tree.is_folder(node)

    def count(self, node: int) -> int:
        """None of a folder with very many: it is gone into instead, as they have to be put in an order first."""
        if not self.is_folder(node):
            return 0
        below = self.tree.children(self.folder if node == TOP else node)
        shown = len(below) if self._keep is None else int(self._keep[below].sum())
        return shown if shown <= NATURAL_AT_MOST or node == TOP else 0

    def record(self, node: int) -> Row:
        tree = self.tree
        name = tree.name(node)
        row = tree.row(node)
        kind = Kind.DIR if row is None else Kind(int(tree.catalog.kind[row]))
        siblings = int(tree.parent[node])
        largest = self._largest.get(siblings)
        if largest is None:
            largest = self._largest[siblings] = max(int(tree.size[tree.children(siblings)].max(initial=1)), 1)
        file_type = (
            FileType.FOLDERS if kind == Kind.DIR else FileType.LINKS if kind == Kind.LINK else file_type_of(name)
        )
        tone, change, struck = self._change(node, row)
        return Row(
            name=name,
            file_type=file_type,
            word={Kind.DIR: "Folder", Kind.LINK: "Link", Kind.OTHER: "Device"}.get(kind) or word_for(name),
            size=int(tree.size[node]),
            packed=int(tree.packed[node] if row is None or kind == Kind.DIR else tree.catalog.packed[row]),
            share=int(tree.size[node]) / largest,
            mtime_ns=tree.mtime_ns(node),
            tone=tone,
            note=change or self._note(node, row, kind),
            struck=struck,
        )

    def _change(self, node: int, row: int | None) -> tuple[str, str, bool]:
        """The tone, the words for what is to become of a row, and whether it goes; the usual ones where it stays as it is."""
        staged = self.staged
        told = self.told(row) if self.told is not None and row is not None else None
        if told is not None:
            words, tone = told
            return tone, words, False
        if staged is None:
            return "ink", "", False
        path = self.tree.path(node) if row is None or staged.moves else ""
        if row in staged.removed or (row is None and path in staged.gone):
            return "amber", "– removed", True
        if row is not None and row in staged.added:
            return ("moss", "+ new", False) if row >= staged.own else ("slate", "↻ replaced", False)
        before = staged.moves.get(path)
        if before is None:
            return "ink", "", False
        (folder, _, name), (above, _, was) = path.rpartition("/"), before.rpartition("/")
        if above == folder:
            return "slate", say("✎ was {name:shown}", name=was), False
        if was != name:
            return "slate", say("✎ was {name:shown}", name=before), False
        return "slate", say("✎ was in {folder:name}", folder=above) if above else "✎ was at the top", False

    def _note(self, node: int, row: int | None, kind: Kind) -> str:
        """That a file is locked, or an archive with changes; of a folder how many files it holds, and whether any of them change."""
        if kind == Kind.DIR:
            words = "{files:file|files}, some changed" if node in self._altered_above() else "{files:file|files}"
            return say(words, files=int(self.tree.files[node]))
        if unsaved := self.unsaved(self.tree.path(node)):
            return say("{count:change|changes} not saved", count=unsaved)
        return "locked" if row is not None and self.tree.catalog.encrypted[row] else ""

    def _altered_above(self) -> frozenset[int]:
        """The folders in which something is to be changed."""
        staged, tree = self.staged, self.tree
        if staged is None:
            return frozenset()
        if self._altered is None:
            nodes = {row + 1 for row in (*staged.added, *staged.removed)}
            nodes.update(node for path in (*staged.moves, *staged.gone) if (node := tree.find(path)) is not None)
            above = set[int]()
            for node in nodes:
                at = int(tree.parent[node])
                while at > 0 and at not in above:
                    above.add(at)
                    at = int(tree.parent[at])
            self._altered = frozenset(above)
        return self._altered

    def sort(self, key: str, *, descending: bool) -> None:
        if (key, descending) != (self._key, self._descending):
            self._key, self._descending = key, descending
            self._sorted.clear()

    def order_ahead(self, key: str, *, descending: bool) -> None:
        self._in_order(self.folder, key, descending=descending)

    def narrow_ahead(self, words: str, file_type: FileType | None) -> None:
        self._ahead = (words, file_type), self._narrowed(words, file_type)

    def narrow(self, words: str, file_type: FileType | None) -> None:
        ahead, self._ahead = self._ahead, None
        if ahead is None or ahead[0] != (words, file_type):
            self.narrow_ahead(words, file_type)
            ahead, self._ahead = self._ahead, None
        self._sorted.clear()
        self._found, self._keep = ahead[1] if ahead is not None else (None, None)

    def _narrowed(self, words: str, file_type: FileType | None) -> Narrowed:
        """The nodes that fit, and these with the folders they sit in; None for both where all do."""
        if not words and file_type is None:
            return None, None
        tree = self.tree
        wanted = Wanted.of(words)
        keep = named(tree, wanted) if wanted else np.ones(len(tree), np.bool_)
        if file_type is not None:
            keep &= self.file_types == list(FileType).index(file_type)
        keep[0] = False
        found = keep.copy()
        above = np.flatnonzero(keep)
        while len(above):
            above = np.unique(tree.parent[above])
            above = above[above > 0]
            keep[above] = True
        return found, keep

    def counts(self) -> dict[FileType, int]:
        if self._counts is None:
            self._counts = self._count()
        return self._counts

    def _count(self) -> dict[FileType, int]:
        types_below = self.file_types[1:]
        if self.folder:
            types_below = types_below[self._below(self.folder)[1:]]
        numbers, how_many = np.unique(types_below, return_counts=True)
        file_types = list(FileType)
        return {
            file_types[n]: int(count) for n, count in zip(numbers.tolist(), how_many.tolist(), strict=True) if n >= 0
        }

    @property
    def found(self) -> int:
        return len(self.tree) - 1 if self._found is None else int(self._found.sum())

    def node_of(self, path: str) -> int | None:
        """The row of a path in the archive, or None."""
        return self.tree.find(path)


def file_types_of(tree: ArchiveTree) -> NDArray[np.int64]:
    """The type of every node as its number in :class:`FileType`; for a million nodes this is work for the background."""
    numbers = {file_type: i for i, file_type in enumerate(FileType)}
    file_types = np.full(len(tree), numbers[FileType.FOLDERS], np.int64)
    known: dict[bytes, int] = {}
    found = []
    for raw in tree.catalog.names.all_raw():
        ending = raw[raw.rfind(b"/") + 1 :].rpartition(b".")[2][:_LONGEST_ENDING]
        number = known.get(ending)
        if number is None:
            name = raw.rpartition(b"/")[2].decode("utf-8", "replace")
            number = numbers[file_type_of(name)]
            if b"." in raw[raw.rfind(b"/") + 1 :]:
                known[ending] = number
        found.append(number)
    kinds = tree.catalog.kind
    rows = np.array(found, np.int64)
    rows[kinds == Kind.DIR] = numbers[FileType.FOLDERS]
    rows[kinds == Kind.LINK] = numbers[FileType.LINKS]
    file_types[1 : len(rows) + 1] = rows
    return file_types


def named(tree: ArchiveTree, wanted: Wanted) -> NDArray[np.bool_]:
    """Which nodes have a wanted name."""
    keep = np.zeros(len(tree), np.bool_)
    count = len(tree.catalog)
    keep[1 : count + 1] = rows_named(tree.catalog.names, wanted, lambda row: tree.name(row + 1))
    for node in range(count + 1, len(tree)):  # folders that no entry stands for
        keep[node] = wanted.fits(tree.name(node))
    return keep
