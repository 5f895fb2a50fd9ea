"""Comparing an archive with a folder on the disk, or with another archive, path by path and in columns."""

from __future__ import annotations

import time
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from enum import IntEnum, IntFlag
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import RundletError
from rundlet.core.jobs.findings import Issue, issue_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Compared
from rundlet.core.model.checksum_list import Algorithm
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind
from rundlet.core.model.item import PackItem
from rundlet.core.work.compared_sides import ArchiveSide, FolderSide, Side
from rundlet.core.work.verify import Proof

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.work.compared_sides import I64

_STRONG = Algorithm.BLAKE2B  # no two contents have it in common
_COARSE_NS = 2_000_000_000  # the least step of time that some archives keep


class State(IntEnum):
    """What is so of one item."""

    SAME = 0
    DIFFERS = 1
    ONLY_HERE = 2
    ONLY_THERE = 3
    MOVED = 4
    """The same content is there under another path."""


class Differs(IntFlag):
    """In what two items of one path differ."""

    KIND = 1
    SIZE = 2
    CONTENT = 4
    MODE = 8
    TARGET = 16
    """Where a link leads."""
    UNREAD = 32
    """One of them can't be read, so that nobody can tell."""


@dataclass(slots=True, eq=False)
class Comparison:
    """Two sides, held against each other; a row for each path of either, and one for both paths of what was moved.

    Attributes:
        here, there: the sides.
        here_row, there_row: the row of each side, or -1 where it has none.
        state: a :class:`State` of each row.
        differs: :class:`Differs` of each row.
        newer: 1 where the item there is newer, -1 where the one here is, 0 where neither is or that can't be told.
        certain: whether all content was read and compared, and not sizes, times and checksums alone.
        issues: what could not be read.
    """

    here: Side
    there: Side
    here_row: I64
    there_row: I64
    state: NDArray[np.uint8]
    differs: NDArray[np.uint8]
    newer: NDArray[np.int8]
    certain: bool
    issues: list[Issue] = field(default_factory=list)
    _by_catalog_row: I64 | None = None
    _mixed: set[str] | None = None
    _rows: dict[State, list[int]] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.state)

    def path(self, row: int) -> str:
        """The path of an item: here, or there where it is not here."""
        here = int(self.here_row[row])
        raw = self.here.names[here] if here >= 0 else self.there.names[int(self.there_row[row])]
        return raw.decode("utf-8", "surrogateescape")

    def path_there(self, row: int) -> str:
        """The path of an item there, or "" where it is not there."""
        there = int(self.there_row[row])
        return self.there.names[there].decode("utf-8", "surrogateescape") if there >= 0 else ""

    def catalog_row(self, row: int) -> int:
        """The row of an item in the catalog of the archive here, or -1 where that does not list it."""
        return self.here.catalog_row(int(self.here_row[row])) if isinstance(self.here, ArchiveSide) else -1

    def of_catalog_row(self, at: int) -> int:
        """The row of this for one of the archive's catalog, or -1 where that stands for nothing."""
        if self._by_catalog_row is None:
            self._by_catalog_row = self._catalog_rows()
        return int(self._by_catalog_row[at]) if at < len(self._by_catalog_row) else -1

    def _catalog_rows(self) -> I64:
        if not isinstance(self.here, ArchiveSide):
            return np.zeros(0, np.int64)
        listed = self.here.rows
        rows = np.flatnonzero((self.here_row >= 0) & (self.here_row < len(listed)))
        found = np.full(int(listed.max(initial=-1)) + 1, -1, np.int64)
        found[listed[self.here_row[rows]]] = rows
        return found

    def settle(self) -> None:
        """Work out what is asked for row by row, which takes long for very many of them."""
        for state in State:
            self.rows(state)
        self.of_catalog_row(0)
        if len(self):
            self.is_mixed(0)

    def is_mixed(self, row: int) -> bool:
        """Whether a folder that is on both sides has something in it that is not the same."""
        if self._mixed is None:
            rows = np.flatnonzero(self.state != State.SAME).tolist()
            self._mixed = {
                above for row in rows for path in (self.path(row), self.path_there(row)) for above in _above(path)
            }
        return self.path(row) in self._mixed

    def kind(self, row: int) -> Kind:
        """What an item is: here, or there where it is not here."""
        here, there = int(self.here_row[row]), int(self.there_row[row])
        return Kind(int(self.here.kind[here] if here >= 0 else self.there.kind[there]))

    def kinds(self) -> NDArray[np.uint8]:
        """What each item is: here, or there where it is not here."""
        kinds = np.zeros(len(self), np.uint8)
        is_here = self.here_row >= 0
        kinds[is_here] = self.here.kind[self.here_row[is_here]]
        kinds[~is_here] = self.there.kind[self.there_row[~is_here]]
        return kinds

    def rows(self, state: State) -> list[int]:
        """The rows of a state; of those that are the same and those that are on one side only, folders count only where
        nothing of them is on a row of its own."""
        if state not in self._rows:
            self._rows[state] = self._rows_of(state)
        return self._rows[state]

    def _rows_of(self, state: State) -> list[int]:
        rows = np.flatnonzero(self.state == state)
        kinds = self.kinds()[rows]
        if state is State.SAME:
            same: list[int] = rows[kinds != Kind.DIR].tolist()
            return same
        files = rows[kinds != Kind.DIR]
        within = {above for row in files.tolist() for above in _above(self.path(row))}
        path_of = self.path_there if state is State.ONLY_THERE else self.path
        moved = np.flatnonzero(self.state == State.MOVED).tolist()
        within.update(above for row in moved for above in _above(path_of(row)))
        folders = rows[kinds == Kind.DIR]
        bare = [row for row in folders.tolist() if not self._is_within(row, within)]
        return sorted([*files.tolist(), *bare])

    def _is_within(self, row: int, within: Collection[str]) -> bool:
        return int(self.differs[row]) == 0 and self.path(row) in within

    @property
    def all_there_is_here(self) -> bool:
        """Whether all that is there was seen to be here, byte for byte."""
        bad = (self.state == State.DIFFERS) | (self.state == State.ONLY_THERE) | (self.state == State.MOVED)
        return self.certain and not bad.any() and not self.issues and bool((self.there_row >= 0).any())

    @property
    def folder_may_go(self) -> bool:
        """Whether the folder there can go to the trash, as all of it was seen to be here. One that holds the archive can't."""
        side = self.there
        return self.all_there_is_here and isinstance(side, FolderSide) and not side.holds_left_out

    def proof(self) -> Proof:
        """What of a folder there was seen to be here, as :meth:`~rundlet.core.work.verify.Proof.lacks` needs it."""
        proof = Proof()
        side = self.there
        if not (isinstance(side, FolderSide) and self.certain):
            return proof
        for row in np.flatnonzero(self.state == State.SAME).tolist():
            there = int(self.there_row[row])
            kind, path = side.kind[there], str(side.path(there))
            if kind == Kind.DIR:
                proof.folders.add(path)
            elif kind == Kind.LINK and there in side.links:
                proof.links[path] = side.links[there]
            elif there in side.stamps:
                proof.files[path] = side.stamps[there]
        return proof


def compare(here: Side, there: Side, job: Job | None = None, *, certain: bool = False) -> Comparison:
    """Hold two sides against each other. Nothing is written.

    Files of one size and about one time are the same. Where the times differ, the content is compared, by CRC-32 where the
    archive holds one.

    Args:
        job: told of the progress; may pause and cancel.
        certain: whether the content of all files of one size is read and compared.
    """
    job = job or Job()
    job.begin("Comparing")
    index = {name: row for row, name in enumerate(there.names)}
    partner = np.fromiter((index.pop(name, -1) for name in here.names), np.int64, len(here.names))
    alone = np.fromiter(index.values(), np.int64, len(index))
    here_row = np.append(np.arange(len(partner)), np.full(len(alone), -1, np.int64))
    there_row = np.append(partner, alone)
    count = len(here_row)
    found = Comparison(
        here,
        there,
        here_row,
        there_row,
        np.zeros(count, np.uint8),
        np.zeros(count, np.uint8),
        np.zeros(count, np.int8),
        certain,
    )
    found.state[here_row < 0] = State.ONLY_THERE
    found.state[there_row < 0] = State.ONLY_HERE
    both = np.flatnonzero((here_row >= 0) & (there_row >= 0))
    _compare_pairs(found, both, job)
    _find_moved(found, job)
    found.issues += [*here.issues, *there.issues]
    return found


def _compare_pairs(found: Comparison, both: I64, job: Job) -> None:
    here, there = found.here, found.there
    a, b = found.here_row[both], found.there_row[both]
    differs = np.zeros(len(both), np.uint8)
    kinds = here.kind[a]
    differs[kinds != there.kind[b]] |= np.uint8(Differs.KIND)
    alike = kinds == there.kind[b]
    files = alike & (kinds == Kind.FILE)
    differs[files & (here.size[a] != there.size[b])] |= np.uint8(Differs.SIZE)
    modes = alike & (kinds != Kind.LINK) & (here.mode[a] != 0) & (there.mode[b] != 0)
    differs[modes & ((here.mode[a] ^ there.mode[b]) & 0o777 != 0)] |= np.uint8(Differs.MODE)
    _compare_links(found, both, differs, np.flatnonzero(alike & (kinds == Kind.LINK)))
    step = there.mtime_ns[b] - here.mtime_ns[a]
    timed = files & (here.mtime_ns[a] != NO_TIME) & (there.mtime_ns[b] != NO_TIME)
    close = timed & (np.abs(step) < _COARSE_NS)
    to_read = files & (differs & np.uint8(Differs.SIZE) == 0) & (found.certain | (here.size[a] > 0))
    known = to_read & (here.crc[a] != UNKNOWN) & (there.crc[b] != UNKNOWN)
    if not found.certain:
        differs[known & (here.crc[a] != there.crc[b])] |= np.uint8(Differs.CONTENT)
        to_read &= ~known & ~close
    _compare_contents(found, differs, (a, b), np.flatnonzero(to_read), job)
    found.differs[both] = differs
    found.state[both] = np.where(differs != 0, State.DIFFERS, State.SAME)
    newer = np.where(timed & ~close, np.sign(step), 0).astype(np.int8)
    found.newer[both] = np.where(differs & ~np.uint8(Differs.MODE) != 0, newer, 0)


def _compare_links(found: Comparison, both: I64, differs: NDArray[np.uint8], links: I64) -> None:
    for place in links.tolist():
        row = both[place]
        path = found.path(int(row))
        try:
            same = found.here.link(int(found.here_row[row])) == found.there.link(int(found.there_row[row]))
        except RundletError as error:
            found.issues.append(issue_of(path, error))
            differs[place] |= np.uint8(Differs.UNREAD)
        else:
            differs[place] |= np.uint8(0 if same else Differs.TARGET)


def _compare_contents(
    found: Comparison, differs: NDArray[np.uint8], rows: tuple[I64, I64], places: I64, job: Job
) -> None:
    """Read the content of pairs of files, and note those that are not the same."""
    here, there = found.here, found.there
    a, b = rows[0][places], rows[1][places]
    # A CRC-32 that one side knows already saves reading it there; it serves only where nothing else is asked for.
    quick = np.zeros(len(places), np.bool_) if found.certain else here.crc[a] != UNKNOWN
    strict = ~quick
    sizes = here.size[a]
    total = int(sizes[quick].sum() + 2 * sizes[strict].sum())
    job.begin("Comparing", total_bytes=total, total_entries=len(places) + int(strict.sum()))
    crcs = there.sums(b[quick].tolist(), Algorithm.CRC32, job)
    mine = here.sums(a[strict].tolist(), _STRONG, job)
    theirs = there.sums(b[strict].tolist(), _STRONG, job)
    for place, one, other, is_quick in zip(places.tolist(), a.tolist(), b.tolist(), quick.tolist(), strict=True):
        if is_quick:
            left: str | None = f"{here.crc.item(one):08x}"
            right = crcs.get(other)
        else:
            left, right = mine.get(one), theirs.get(other)
        if left is None or right is None:
            differs[place] |= np.uint8(Differs.UNREAD)
        elif left != right:
            differs[place] |= np.uint8(Differs.CONTENT)


def _find_moved(found: Comparison, job: Job) -> None:
    """Recognize files that are on one side each under another path by their content."""
    here, there = found.here, found.there
    mine = [int(row) for row in np.flatnonzero(found.state == State.ONLY_HERE)]
    theirs = [int(row) for row in np.flatnonzero(found.state == State.ONLY_THERE)]
    one = {row: int(here.size[found.here_row[row]]) for row in mine if here.kind[found.here_row[row]] == Kind.FILE}
    other = {
        row: int(there.size[found.there_row[row]]) for row in theirs if there.kind[found.there_row[row]] == Kind.FILE
    }
    sizes = (set(one.values()) & set(other.values())) - {0}
    a = [row for row, size in one.items() if size in sizes]
    b = [row for row, size in other.items() if size in sizes]
    if not a or not b:
        return
    knows = not found.certain and all(here.crc[found.here_row[row]] != UNKNOWN for row in a)
    algorithm = Algorithm.CRC32 if knows else _STRONG
    job.begin(
        "Looking for what was moved",
        total_bytes=sum(other[row] for row in b) + (0 if knows else sum(one[row] for row in a)),
    )
    if knows:
        left = {row: f"{here.crc.item(found.here_row[row]):08x}" for row in a}
    else:
        got = here.sums([int(found.here_row[row]) for row in a], algorithm, job)
        left = {row: got[at] for row in a if (at := int(found.here_row[row])) in got}
    got = there.sums([int(found.there_row[row]) for row in b], algorithm, job)
    by_content: dict[tuple[int, str], list[int]] = {}
    for row in reversed(b):
        if (digest := got.get(int(found.there_row[row]))) is not None:
            by_content.setdefault((other[row], digest), []).append(row)
    gone = []
    for row in a:
        if row in left and (rows := by_content.get((one[row], left[row]))):
            twin = rows.pop()
            found.there_row[row], found.state[row] = found.there_row[twin], State.MOVED
            gone.append(twin)
    keep = np.ones(len(found), np.bool_)
    keep[gone] = False
    for column in ("here_row", "there_row", "state", "differs", "newer"):
        setattr(found, column, getattr(found, column)[keep])


def _above(path: str) -> Sequence[str]:
    steps = path.split("/")[:-1]
    return ["/".join(steps[: number + 1]) for number in range(len(steps))]


def names_in(folder: Path, tree: ArchiveTree) -> tuple[Path, tuple[str, ...]]:
    """How a folder that was chosen is compared with an archive: by itself, or as the one of its name in the archive.

    Args:
        tree: of the archive.

    Returns:
        The folder where paths begin, and the names in it that are looked at; none for all.
    """
    if folder.name and tree.find(folder.name) is not None:
        return folder.parent, (folder.name,)
    return folder, ()


def items_there(found: Comparison, rows: Sequence[int]) -> list[PackItem]:
    """Items of a folder there as what is packed, under their paths there. What can't be looked at any more is left out."""
    side, items = found.there, []
    if not isinstance(side, FolderSide):
        return []
    for row in rows:
        there = int(found.there_row[row])
        kind = Kind(int(side.kind[there]))
        if kind not in (Kind.FILE, Kind.DIR, Kind.LINK):
            continue
        path = side.path(there)
        try:
            status = path.lstat()
            target = side.link(there) if kind == Kind.LINK else ""
        except (OSError, RundletError):
            continue
        size = status.st_size if kind == Kind.FILE else 0
        mode = status.st_mode & 0o7777
        items.append(PackItem(found.path_there(row), kind, str(path), size, status.st_mtime_ns, mode, target))
    return items


def outcome_of(found: Comparison, target: Path, started: float) -> Compared:
    """What a comparison came to, as a job leaves it behind."""
    found.settle()
    return Compared(
        target,
        files=len(found.rows(State.SAME)),
        seconds=time.monotonic() - started,
        issues=found.issues,
        differing=len(found.rows(State.DIFFERS)),
        only_here=len(found.rows(State.ONLY_HERE)),
        only_there=len(found.rows(State.ONLY_THERE)),
        moved_items=len(found.rows(State.MOVED)),
        certain=found.certain,
        all_there=found.all_there_is_here,
    )
