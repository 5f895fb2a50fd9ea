"""Counting what is chosen: in columns, as it may be very many."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.desktop.state.forms import Selection

if TYPE_CHECKING:
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.disk import DiskListing
    from rundlet.desktop.state.other_folders import OtherFolders


def counted_on_disk(listing: DiskListing, nodes: tuple[int, ...], other_folders: OtherFolders) -> Selection:
    """These rows of a folder, together with what is chosen in other folders."""
    others = other_folders.items
    sizes = [listing.sizes[node - 1] for node in nodes] + [item.size for item in others.values()]
    files = sum(listing.files[node - 1] for node in nodes) + sum(item.files for item in others.values())
    return Selection(
        nodes,
        len(sizes),
        files,
        sum(size for size in sizes if size > 0),
        UNKNOWN in sizes,
        elsewhere=len(others),
        folders=len(other_folders.folders | ({listing.folder} if nodes else set())),
    )


def counted_in_archive(listing: ArchiveListing, nodes: tuple[int, ...]) -> Selection:
    """These rows of an archive, with everything below them."""
    import numpy as np  # a folder on the disk does without

    tree = listing.tree
    if listing.is_all(nodes):  # a million of them are counted already
        files, size, packed = (int(column[listing.folder]) for column in (tree.files, tree.size, tree.packed))
        return Selection(nodes, len(nodes), files, size, packed=packed)
    rows = tree.rows_below(nodes) if nodes else np.zeros(0, np.int64)
    filled = rows[tree.catalog.kind[rows] != Kind.DIR]
    taken = tree.catalog.packed[filled]
    packed = int(taken.sum()) if (taken != UNKNOWN).all() else UNKNOWN
    size = int(np.maximum(tree.catalog.size[rows], 0).sum())
    return Selection(nodes, len(nodes), len(filled), size, packed=packed)
