"""What is chosen on the disk beside the folder one stands in, and what was chosen in folders that one has left."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from rundlet.desktop.locations.disk import DiskItem

_REMEMBERED = 200


@dataclass(slots=True)
class OtherFolders:
    """The choice in other folders.

    Attributes:
        keeps: whether what is chosen stays chosen when one goes to another folder.
        items: what is chosen in other folders than the one that the window stands in.
        before: what was chosen in each folder when it was left, to be chosen again on coming back.
    """

    keeps: bool = False
    items: dict[Path, DiskItem] = field(default_factory=dict)
    before: dict[Path, tuple[Path, ...]] = field(default_factory=dict)

    def leave(self, folder: Path, chosen: Iterable[DiskItem]) -> None:
        """A folder is left with these chosen in it."""
        chosen = tuple(chosen)
        self.before.pop(folder, None)
        self.before[folder] = tuple(item.path for item in chosen)
        while len(self.before) > _REMEMBERED:
            del self.before[next(iter(self.before))]
        if self.keeps:
            self.items.update({item.path: item for item in chosen})

    def enter(self, folder: Path) -> list[Path]:
        """A folder is come into: what is chosen in it from before."""
        here = [path for path in self.items if path.parent == folder]
        for path in here:
            del self.items[path]
        if folder in self.items:  # one goes into it to choose in it
            del self.items[folder]
        return list(dict.fromkeys([*here, *self.before.get(folder, ())]))

    def add(self, paths: Iterable[Path]) -> list[Path]:
        """Choose some more that lie elsewhere; those that are not there are left."""
        added = []
        for path in paths:
            item = DiskItem.of(path)
            if item is not None and path not in self.items:
                self.items[path] = item
                added.append(path)
        self.keeps = self.keeps or bool(added)
        return added

    def forget_gone(self) -> None:
        """What no longer exists, such as originals in the trash, is not chosen any more either."""
        self.items = {path: item for path, item in self.items.items() if os.path.lexists(path)}

    def clear(self) -> None:
        """Nothing is chosen in other folders any more."""
        self.items.clear()
        self.keeps = False

    @property
    def folders(self) -> set[Path]:
        """The other folders that something is chosen in."""
        return {path.parent for path in self.items}
