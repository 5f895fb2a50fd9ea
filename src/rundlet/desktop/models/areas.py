"""The space map without a word of Qt: what is in a folder as areas, each as large as its bytes, two levels deep."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import squarify

from rundlet.core.model.file_type import FileType, file_type_of
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.listing import TOP, Listing, in_archive

if TYPE_CHECKING:
    from rundlet.desktop.locations.archive import ArchiveListing

_MOST = 36


@dataclass(frozen=True, slots=True)
class Area:
    """One thing in a folder.

    Attributes:
        size: its bytes with all below it.
        node: its row in the listing; 0 for small things taken together, and for what lies deeper.
        below: what lies directly in it, the largest first.
    """

    name: str
    size: int
    file_type: FileType
    node: int = 0
    below: tuple[Area, ...] = ()


@dataclass(frozen=True, slots=True)
class Placed:
    """An area with its place, in the units of the frame.

    Attributes:
        depth: 0 for what is in the folder, 1 for what is in a folder of it.
        filled: whether what is in it is shown inside of it.
    """

    area: Area
    x: float
    y: float
    width: float
    height: float
    depth: int = 0
    filled: bool = False


def areas_of(listing: Listing | None) -> tuple[Area, ...]:
    """What is in the listing's folder, the largest first."""
    if isinstance(listing, DiskListing):
        return _largest(
            Area(
                item.path.name,
                item.size,
                item.file_type,
                node,
                _largest(
                    Area(part.name, part.size, FileType.FOLDERS if part.is_folder else file_type_of(part.name))
                    for part in item.parts
                ),
            )
            for node, item in enumerate(listing.items, 1)
        )
    if in_archive(listing):
        return _in_archive(listing, TOP, depth=0)
    return ()


def _in_archive(listing: ArchiveListing, folder: int, *, depth: int) -> tuple[Area, ...]:
    tree = listing.tree
    nodes = tree.children(listing.folder if folder == TOP else folder)
    order = nodes[tree.size[nodes].argsort()[::-1]]
    found = [
        Area(
            tree.name(n),
            int(tree.size[n]),
            FileType.FOLDERS if tree.is_folder(n) else file_type_of(tree.name(n)),
            n if depth == 0 else 0,
            _in_archive(listing, n, depth=1) if depth == 0 and tree.is_folder(n) else (),
        )
        for n in order[: _MOST + 1].tolist()
    ]
    rest = order[_MOST + 1 :]
    return _largest(found, more=len(rest), size=int(tree.size[rest].sum()))


def _largest(areas: Iterable[Area], *, more: int = 0, size: int = 0) -> tuple[Area, ...]:
    """The largest ones in their order, and one for all others with ``more`` that are not even listed."""
    ordered = sorted((area for area in areas if area.size > 0), key=lambda area: -area.size)
    rest = ordered[_MOST:]
    kept = ordered[:_MOST]
    count, total = len(rest) + more, sum(area.size for area in rest) + size
    if count and total:
        kept.append(Area(f"{count:,} smaller ones", total, FileType.OTHER))
        kept.sort(key=lambda area: -area.size)
    return tuple(kept)


def placed(areas: Sequence[Area], width: float, height: float, *, title: float, gap: float) -> list[Placed]:
    """Where each area goes in a frame; those in a folder stand inside of it.

    Args:
        title: room for a folder's name above what is in it.
        gap: room around what is in it.
    """
    found = []
    for outer in _in_frame(areas, 0, 0, width, height, depth=0):
        inner_width, inner_height = outer.width - 2 * gap, outer.height - title - gap
        filled = bool(outer.area.below) and inner_width > title and inner_height > title
        found.append(replace(outer, filled=filled))
        if filled:
            found += _in_frame(outer.area.below, outer.x + gap, outer.y + title, inner_width, inner_height, depth=1)
    return found


def _in_frame(areas: Sequence[Area], x: float, y: float, width: float, height: float, *, depth: int) -> list[Placed]:
    if not areas or width <= 0 or height <= 0:
        return []
    sizes = squarify.normalize_sizes([area.size for area in areas], width, height)
    places = squarify.squarify(sizes, x, y, width, height)
    return [
        Placed(area, place["x"], place["y"], place["dx"], place["dy"], depth)
        for area, place in zip(areas, places, strict=True)
    ]
