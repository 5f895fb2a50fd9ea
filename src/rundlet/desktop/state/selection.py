"""The part of the window's state that is about what is chosen: here, in other folders, and how much it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.fs.scan import Part, folder_parts
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.listing import in_archive
from rundlet.desktop.state.forms import Selection
from rundlet.desktop.state.other_folders import OtherFolders
from rundlet.desktop.state.selection_count import counted_in_archive, counted_on_disk
from rundlet.desktop.state.unpack_form import UnpackSetup

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job

_SIZES_KEPT = 2000


class Choosing(UnpackSetup):
    """What is chosen of the listing, and beside it in other folders.

    Signals:
        row_changed: a row of the listing has something new to say.
        selection_changed: the choice or what is known of it changed.
    """

    row_changed = Signal(int)
    selection_changed = Signal(object)

    def __init__(self, background: Background, parent: QObject | None = None) -> None:
        super().__init__(background, parent)
        self.other_folders = OtherFolders()
        self._chosen_here: tuple[Path, ...] = ()
        self._chosen: tuple[Path, ...] = ()
        self._size_task = Latest(background)
        self._sizes: dict[Path, tuple[Part, ...]] = {}
        self._set_before: frozenset[Path] = frozenset()

    def _choose_nothing_here(self) -> None:
        self.selection = Selection()
        self._chosen_here, self._chosen = (), tuple(self.other_folders.items)

    def _stop_counting(self) -> None:
        self._size_task.drop()

    def choose(self, nodes: Iterable[int], *, shown: int | None = None) -> None:
        """These rows are chosen, and no others.

        Args:
            shown: how many of them are in sight, before the others; None for all.
        """
        nodes = tuple(nodes)
        self._count_choice(nodes, 0 if shown is None else len(nodes) - shown)
        self._see_whether_set_is_new()
        self.suggest_stem()
        self.selection_changed.emit(self.selection)
        self.pack_changed.emit()
        if self.place.in_archive:
            self._forget_plan()
            self.unpack_changed.emit()
            self.plan_soon()

    def _see_whether_set_is_new(self) -> None:
        """What belongs to one set ends with it: it is another one when it has nothing in common with the one before."""
        chosen = frozenset(self.chosen_paths())
        if chosen:
            if self._set_before and self._set_before.isdisjoint(chosen):
                self.end_set()
            self._set_before = chosen

    def _count_choice(self, nodes: tuple[int, ...], unseen: int) -> None:
        listing = self.listing
        if isinstance(listing, DiskListing):
            self._chosen_here = tuple([listing.items[n - 1].path for n in nodes])
            self._chosen = (*self._chosen_here, *self.other_folders.items)
            self.selection = counted_on_disk(listing, nodes, self.other_folders)
        elif in_archive(listing):
            self.selection = counted_in_archive(listing, nodes)
        if unseen:
            self.selection = replace(self.selection, unseen=unseen)

    def chosen_paths(self) -> tuple[Path, ...]:
        """The chosen files and folders on the disk: those here, and those gathered from other folders."""
        return self._chosen if isinstance(self.listing, DiskListing) else ()

    def chosen_here(self) -> tuple[Path, ...]:
        """Those of them that lie in the folder where the window stands."""
        return self._chosen_here if isinstance(self.listing, DiskListing) else ()

    def shown_here(self) -> tuple[Path, ...]:
        """Those of them that are in sight, which alone are deleted, cut or copied."""
        return self.chosen_here()[: len(self.selection.shown)]

    def _count_folders(self, listing: DiskListing) -> None:
        """Fill in what folders hold, one after the other, without holding up anything; what was counted before stands."""
        folders = [(node, listing.items[node - 1].path) for node in listing.folders]
        for node, path in folders:
            if path in self._sizes:
                listing.set_parts(node, self._sizes[path])

        def work(job: Job) -> None:
            for node, path in folders:
                parts = folder_parts(path, tick=job.checkpoint)
                self.background.tell(lambda n=node, p=parts: self._counted(listing, n, p))  # type: ignore[misc]

        if folders:
            self._size_task.run(work, done=lambda _: None, failed=log_failure)

    def _counted(self, listing: DiskListing, node: int, parts: list[Part]) -> None:
        path = listing.items[node - 1].path
        self._sizes.pop(path, None)
        self._sizes[path] = tuple(parts)
        while len(self._sizes) > _SIZES_KEPT:
            del self._sizes[next(iter(self._sizes))]
        if listing is not self.listing:
            return
        listing.set_parts(node, parts)
        self.row_changed.emit(node)
        if node in self.selection.nodes:
            self._choice_counted()

    def _choice_counted(self) -> None:
        """More is known of what is chosen, or less of it is chosen elsewhere."""
        self._count_choice(self.selection.nodes, self.selection.unseen)
        self.selection_changed.emit(self.selection)
        self.pack_changed.emit()

    def _count_gathered(self, folders: list[Path]) -> None:
        def work(job: Job) -> None:
            for path in folders:
                parts = folder_parts(path, tick=job.checkpoint)
                self.background.tell(lambda path=path, p=parts: counted(path, p))  # type: ignore[misc]

        def counted(path: Path, parts: list[Part]) -> None:
            item = self.other_folders.items.get(path)
            if item is not None:
                item.take_parts(parts)
                self._choice_counted()

        if folders:
            self.background.run(work, done=lambda _: None, failed=log_failure)

    def keep_choice(self, keeps: bool) -> None:
        """Say whether what is chosen stays chosen when one goes to another folder."""
        self.other_folders.keeps = keeps
        if not keeps:
            self.let_go()

    def let_go(self) -> None:
        """Let go of what is chosen in other folders."""
        self.other_folders.let_go()
        self._choice_counted()
