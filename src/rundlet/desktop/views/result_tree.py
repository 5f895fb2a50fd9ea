"""What will be in an archive once its changes are saved, as a tree."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rundlet.core.model.entry import ROOT
from rundlet.core.plans.change_plan import folders_above
from rundlet.core.text import plain_path
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.views.name_tree import NameTree

if TYPE_CHECKING:
    from rundlet.desktop.locations.listing import Row
    from rundlet.desktop.locations.place import OpenArchive

_EXPAND_UP_TO = 60


class ResultListing(ArchiveListing):
    """An archive from its top, without what goes.

    Args:
        only: the rows that go into a new archive, with the folders that they are in; None for all that stay.
    """

    def __init__(self, opened: OpenArchive, only: Sequence[int] | None = None) -> None:
        super().__init__(opened.tree, ROOT, opened.file_types, opened.staged)
        self._left: dict[int, Sequence[int]] = {}
        self._only: set[str] | None = None
        if only is not None:
            self._only = set()
            for row in only:
                path = plain_path(opened.tree.catalog.path(row))
                self._only.update([path, *folders_above(path)])

    def children(self, node: int) -> Sequence[int]:
        if self._only is None and (self.staged is None or not (self.staged.removed or self.staged.gone)):
            return super().children(node)
        if node not in self._left:
            self._left[node] = [child for child in super().children(node) if self._stays(child)]
        return self._left[node]

    def _stays(self, node: int) -> bool:
        row = self.tree.row(node)
        if self._only is not None:
            return self.tree.path(node) in self._only
        assert self.staged is not None
        return row not in self.staged.removed if row is not None else self.tree.path(node) not in self.staged.gone

    def record(self, node: int) -> Row:
        row = super().record(node)
        if not row.note.startswith("✎"):
            return row
        assert self.staged is not None
        path = self.tree.path(node)
        stays = path.rpartition("/")[0] == self.staged.moves[path].rpartition("/")[0]
        return replace(row, note="✎ renamed" if stays else "✎ moved")

    def count(self, node: int) -> int:
        return len(self.children(node)) if super().count(node) else 0


class ResultView(NameTree):
    """Shows it; what changes is opened up."""

    def __init__(self) -> None:
        super().__init__("What will be in it")

    def show_result(self, opened: OpenArchive | None, only: Sequence[int] | None = None) -> None:
        """Show another archive, or the same one with other changes; None for nothing.

        Args:
            only: the rows that go into a new archive; None for all.
        """
        listing = ResultListing(opened, only) if opened is not None else None
        self.rows.show(listing)
        if listing is not None and len(listing.tree) <= _EXPAND_UP_TO:
            self.expandAll()
