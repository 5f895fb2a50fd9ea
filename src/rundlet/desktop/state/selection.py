"""What is selected: here, in other folders, and how much it is."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.desktop.locations.place import Selection
from rundlet.desktop.state.folder_sizes import FolderSizes
from rundlet.desktop.state.other_folders import OtherFolders

if TYPE_CHECKING:
    from rundlet.core.fs.scan import Part
    from rundlet.desktop.background import Background
    from rundlet.desktop.locations.disk import DiskListing
    from rundlet.desktop.state.standpoint import Standpoint


class Selector(QObject):
    """What is selected of the listing, and beside it in other folders.

    Signals:
        changed: the selection or what is known of it changed.
        recounted: more is known of what is selected, or less of it is selected elsewhere.
        row_changed: a row of the listing has something new to say.
    """

    changed = Signal(object)
    recounted = Signal()
    row_changed = Signal(int)

    def __init__(self, at: Standpoint, background: Background, parent: QObject) -> None:
        super().__init__(parent)
        self._at = at
        self.other_folders = OtherFolders()
        self.sizes = FolderSizes(background, self)
        self.sizes.counted.connect(self._folder_counted)
        self._here: tuple[Path, ...] = ()
        self._paths: tuple[Path, ...] = ()
        self._set_before: frozenset[Path] = frozenset()

    def clear(self) -> None:
        """Nothing is selected here."""
        self._at.selection = Selection()
        self._here, self._paths = (), tuple(self.other_folders.items)

    def count(self, nodes: Iterable[int], *, shown: int | None = None) -> None:
        """Take these rows for selected, and no others.

        Args:
            shown: how many of them are in sight, before the others; None for all.
        """
        nodes = tuple(nodes)
        unseen = 0 if shown is None else len(nodes) - shown
        listing = self._at.listing
        if listing is None:
            return
        self._here = tuple([item.path for item in listing.disk_items(nodes)])
        self._paths = (*self._here, *self.other_folders.items)
        selection = listing.counted(nodes, tuple(self.other_folders.items.values()))
        self._at.selection = replace(selection, unseen=unseen) if unseen else selection

    def is_another_set(self) -> bool:
        """Whether what is selected has nothing in common with what was selected before."""
        chosen = frozenset(self.paths())
        before = self._set_before
        if chosen:
            self._set_before = chosen
        return bool(chosen and before) and before.isdisjoint(chosen)

    @property
    def _on_disk(self) -> bool:
        return self._at.listing is not None and self._at.listing.is_editable

    def paths(self) -> tuple[Path, ...]:
        """The selected files and folders on the disk: those here, and those in other folders."""
        return self._paths if self._on_disk else ()

    def here(self) -> tuple[Path, ...]:
        """Those of them that lie in the folder where the window stands."""
        return self._here if self._on_disk else ()

    def shown_here(self) -> tuple[Path, ...]:
        """Those of them that are in sight, which alone are deleted, cut or copied."""
        return self.here()[: len(self._at.selection.shown)]

    def _folder_counted(self, listing: DiskListing, node: int) -> None:
        if listing is self._at.listing:
            self.row_changed.emit(node)
            if node in self._at.selection.nodes:
                self.count_again()

    def count_again(self) -> None:
        """More is known of what is selected, or less of it is selected elsewhere."""
        selection = self._at.selection
        self.count(selection.nodes, shown=len(selection.shown))
        self.recounted.emit()

    # In other folders

    def add_elsewhere(self, paths: Iterable[Path]) -> None:
        """Select some more in other folders, and count what is in them."""
        items = self.other_folders.items
        added = self.other_folders.add(paths)
        self._count_elsewhere([path for path in added if items[path].kind == Kind.DIR])

    def leave(self, folder: Path, nodes: Sequence[int]) -> None:
        """Remember what is selected in a folder that is being left."""
        listing = self._at.listing
        self.other_folders.leave(folder, listing.disk_items(nodes) if listing is not None else ())
        items = self.other_folders.items
        self._count_elsewhere([path for path, item in items.items() if item.size == UNKNOWN])

    def _count_elsewhere(self, folders: list[Path]) -> None:
        def counted(path: Path, parts: Sequence[Part]) -> None:
            item = self.other_folders.items.get(path)
            if item is not None:
                item.take_parts(parts)
                self.count_again()

        self.sizes.count_each(folders, counted)

    def keep_others(self, keeps: bool) -> None:
        """Say whether what is selected stays selected when one goes to another folder."""
        self.other_folders.keeps = keeps
        if not keeps:
            self.clear_others()

    def clear_others(self) -> None:
        """Deselect what is selected in other folders."""
        self.other_folders.clear()
        self.count_again()
