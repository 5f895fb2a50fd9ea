"""Changes of an archive that a person collects before they are saved: each can be taken out again by itself."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum
from types import MappingProxyType
from typing import TYPE_CHECKING

from rundlet.core.model.entry import Kind
from rundlet.core.plans.change_plan import AddClash, Changes
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from rundlet.core.jobs.findings import Issue
    from rundlet.core.model.catalog import Catalog
    from rundlet.core.model.item import PackItem


class ChangeKind(Enum):
    """What a change does."""

    ADDED = "added"
    REPLACED = "replaced"
    RENAMED = "renamed"
    MOVED = "moved"
    REMOVED = "removed"
    LEFT_OUT = "left out"  # of what is added, so that it is no change of the archive by itself


@dataclass(eq=False, slots=True)
class StagedChange:
    """One change.

    Attributes:
        kind: what it does.
        path: the path in the archive of what it is about, as it was before.
        new_path: the path afterwards, of what is renamed or moved.
        rows: the rows of the archive that it is about, with everything below a folder, and their paths when it was staged.
        keys: the items that were staged before and that it is about.
        items: what it puts in, by keys that no other item has.
        issues: what of it could not be looked at.
    """

    kind: ChangeKind
    path: str
    new_path: str = ""
    rows: Mapping[int, str] = field(default_factory=lambda: MappingProxyType({}))
    keys: frozenset[int] = frozenset()
    items: dict[int, PackItem] = field(default_factory=dict)
    issues: tuple[Issue, ...] = ()


@dataclass(frozen=True, slots=True)
class Staged:
    """What all changes come to.

    Attributes:
        changes: as :func:`~rundlet.core.plans.change_plan.plan_change` takes them; the items in the order of ``keys``.
        keys: of each item its key.
        rules: what becomes of single paths that are taken.
        moves: the paths of what was renamed or moved as a whole, with the paths before.
        gone: the paths of what goes as a whole.
        idle: the changes that do nothing any more, as what they were about is gone.
    """

    changes: Changes
    keys: tuple[int, ...]
    rules: Mapping[str, AddClash]
    moves: Mapping[str, str]
    gone: frozenset[str]
    idle: tuple[StagedChange, ...]


class Staging:
    """The changes of one archive that are not saved yet, in the order in which they were made.

    Attributes:
        changes: these.
        on_clash: what becomes of names that are taken.
        rules: other rules for single paths.
    """

    def __init__(self) -> None:
        self.changes: list[StagedChange] = []
        self.on_clash = AddClash.RENAME
        self.rules: dict[str, AddClash] = {}
        self._next_key = 0

    def __len__(self) -> int:
        return sum(change.kind is not ChangeKind.LEFT_OUT for change in self.changes)

    @property
    def issues(self) -> list[Issue]:
        """What of all that is put in could not be looked at."""
        return [issue for change in self.changes for issue in change.issues]

    def add(self, path: str, items: Iterable[PackItem], issues: Iterable[Issue] = ()) -> StagedChange:
        """Put in an item, a folder with everything in it.

        Args:
            path: of the item in the archive.
            items: it and all below it, under their paths in the archive.
            issues: what of it could not be looked at.
        """
        return self._stage(StagedChange(ChangeKind.ADDED, path, items=self._keyed(items), issues=tuple(issues)))

    def replace(self, item: PackItem, row: int = -1) -> StagedChange:
        """Put a file in the place of the one of its path.

        Args:
            row: of the archive, whose path that is as long as nothing is staged; the file goes wherever that row does. -1 for none.
        """
        for before in [each for each in self.changes if each.kind is ChangeKind.REPLACED and each.path == item.path]:
            self.changes.remove(before)
        rows = {row: item.path} if row >= 0 else {}
        change = self._stage(StagedChange(ChangeKind.REPLACED, item.path, rows=rows, items=self._keyed([item])))
        self._drop_idle()
        return change

    def remove(self, path: str, rows: Mapping[int, str], keys: Collection[int] = ()) -> StagedChange | None:
        """Remove an item, a folder with everything in it; None where that only takes out what was staged.

        Args:
            rows: of the archive, with their paths now.
            keys: of items that were staged before.
        """
        wanted = frozenset(keys)
        for before in [each for each in self.changes if each.items] if wanted else ():
            if wanted.issuperset(before.items):  # it was never saved, so nothing of it is left to be removed
                wanted -= before.items.keys()
                self.changes.remove(before)
        kind = ChangeKind.REMOVED if rows else ChangeKind.LEFT_OUT
        change = StagedChange(kind, path, rows=dict(rows), keys=wanted) if rows or wanted else None
        if change is not None:
            self.changes.append(change)
        self._drop_idle()
        return change

    def rename(self, path: str, new_path: str, rows: Mapping[int, str], keys: Collection[int] = ()) -> StagedChange:
        """Give an item another path, a folder with everything in it; the arguments are as in :meth:`remove`.

        What was put in just now, and only that, is put in under the new path instead.
        """
        whole = [
            each for each in self.changes if each.kind is ChangeKind.ADDED and keys and each.items.keys() == set(keys)
        ]
        if whole and not rows and not any(each.keys & whole[0].items.keys() for each in self.changes):
            (before,) = whole  # as keys are those of one change alone
            moved = {key: _moved(item.path, path, new_path) or item.path for key, item in before.items.items()}
            items = {key: item._replace(path=moved[key]) for key, item in before.items.items()}
            change = replace(before, path=new_path, items=items)  # a new one: whoever kept the list can go back to it
            self.changes[self.changes.index(before)] = change
            return change
        same_folder = path.rpartition("/")[0] == new_path.rpartition("/")[0]
        kind = ChangeKind.RENAMED if same_folder else ChangeKind.MOVED
        return self._stage(StagedChange(kind, path, new_path, dict(rows), frozenset(keys)))

    def discard(self, changes: Collection[StagedChange]) -> int:
        """Take changes out again, and those that do nothing without them; how many these are."""
        gone = set(changes)
        self.changes = [each for each in self.changes if each not in gone]
        return self._drop_idle()

    def clear(self) -> None:
        """Take all of them out again."""
        self.changes.clear()
        self.rules.clear()

    def _drop_idle(self) -> int:
        dropped = 0
        while idle := self.outcome().idle:
            gone = set(idle)
            self.changes = [each for each in self.changes if each not in gone]
            dropped += len(idle)
        return dropped

    def _stage(self, change: StagedChange) -> StagedChange:
        self.changes.append(change)
        return change

    def _keyed(self, items: Iterable[PackItem]) -> dict[int, PackItem]:
        keyed = dict(enumerate(items, self._next_key))
        self._next_key += len(keyed)
        return keyed

    def outcome(self) -> Staged:
        """What all changes come to, one after the other."""
        removed: set[int] = set()
        renamed: dict[int, str] = {}
        items: dict[int, PackItem] = {}
        rules = dict(self.rules)
        moves: dict[str, str] = {}
        moved: set[int] = set()
        gone: set[str] = set()
        idle: list[StagedChange] = []
        for change in self.changes:
            rows, keys = change.rows.keys() - removed, change.keys & items.keys()
            does = bool(change.items)
            items |= change.items
            if change.kind is ChangeKind.REPLACED:
                where = next((renamed[row] for row in change.rows if row in renamed), "")
                items |= {key: item._replace(path=where or item.path) for key, item in change.items.items()}
                rules |= (
                    {where: AddClash.REPLACE}
                    if where
                    else {item.path: AddClash.REPLACE for item in change.items.values()}
                )
            if change.kind in (ChangeKind.REMOVED, ChangeKind.LEFT_OUT):
                does = bool(rows or keys)
                removed |= rows
                for key in keys:
                    del items[key]
                if does:
                    gone.add(change.path)
            elif change.new_path:
                for row in rows:
                    there = renamed.get(row, change.rows[row])
                    if (new := _moved(there, change.path, change.new_path)) is not None:
                        renamed[row], does = new, True
                        (moved.add if change.kind is ChangeKind.MOVED else moved.discard)(row)
                for key in keys:
                    if (new := _moved(items[key].path, change.path, change.new_path)) is not None:
                        if items[key].path in rules:
                            rules[new] = rules[items[key].path]
                        items[key], does = items[key]._replace(path=new), True
                if does:
                    inside = {path: new for path in moves if (new := _moved(path, change.path, change.new_path))}
                    moves = {inside.get(path, path): before for path, before in moves.items()}
                    moves.setdefault(change.new_path, change.path)
            if not does:
                idle.append(change)
        changes = Changes(
            items=list(items.values()),
            removed=removed,
            renamed={row: path for row, path in renamed.items() if row not in removed},
            may_clash=moved,
        )
        return Staged(changes, tuple(items), rules, moves, frozenset(gone), tuple(idle))

    def rebase(self, catalog: Catalog) -> list[StagedChange]:
        """The archive is another one now: what is staged holds for the rows of the same paths.

        Returns:
            The changes that are gone, as what they were about is.
        """
        before = list(self.changes)
        there = {plain_path(catalog.path(row)): row for row in range(len(catalog))}
        moved: dict[str, str] = {}  # where rows are by now, as later changes name them
        for change in self.changes:
            change.rows = {
                there[first]: path for path in change.rows.values() if (first := moved.get(path, path)) in there
            }
            if change.new_path:
                for path in change.rows.values():
                    new = _moved(path, change.path, change.new_path)
                    if new is not None:
                        moved[new] = moved.get(path, path)
        self._drop_idle()
        left = set(self.changes)
        return [change for change in before if change not in left]


def _moved(path: str, old: str, new: str) -> str | None:
    """A path in a folder that gets another path, or of that folder itself; None for all others."""
    return new + path[len(old) :] if path == old or path.startswith(f"{old}/") else None


def as_they_are_now(items: Sequence[PackItem]) -> list[PackItem]:
    """Items with the sizes and times that their files on the disk have by now, as far as these are there."""
    return [_now(item) for item in items]


def _now(item: PackItem) -> PackItem:
    if item.kind != Kind.FILE or not item.source or item.content is not None:
        return item
    try:
        status = os.lstat(item.source)
    except OSError:
        return item  # which is said when it is to be read
    return item._replace(size=status.st_size, mtime_ns=status.st_mtime_ns) if stat.S_ISREG(status.st_mode) else item
