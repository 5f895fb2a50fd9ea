"""The space map in numbers: what is in a folder as areas, each as large as its bytes, two levels deep."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from rundlet.core.model.file_type import FileType
from rundlet.presentation.sentences import say

MOST = 36
"""Areas that are told apart in one folder."""


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


def largest(areas: Iterable[Area], *, more: int = 0, size: int = 0) -> tuple[Area, ...]:
    """The largest ones in their order, and one for all others with ``more`` that are not even listed."""
    ordered = sorted((area for area in areas if area.size > 0), key=lambda area: -area.size)
    rest = ordered[MOST:]
    kept = ordered[:MOST]
    count, total = len(rest) + more, sum(area.size for area in rest) + size
    if count and total:
        kept.append(Area(say("{count:,} smaller ones", count=count), total, FileType.OTHER))
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
    import squarify  # few look at the map

    sizes = squarify.normalize_sizes([area.size for area in areas], width, height)
    places = squarify.squarify(sizes, x, y, width, height)
    return [
        Placed(area, place["x"], place["y"], place["dx"], place["dy"], depth)
        for area, place in zip(areas, places, strict=True)
    ]
