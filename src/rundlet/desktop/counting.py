"""Counting what is chosen: in columns, as it may be very many."""

from __future__ import annotations

import numpy as np

from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.desktop.gathered import Gathered
from rundlet.desktop.models.archive import ArchiveListing
from rundlet.desktop.models.disk import DiskListing
from rundlet.desktop.state import Choice


def counted_on_disk(listing: DiskListing, nodes: tuple[int, ...], gathered: Gathered) -> Choice:
    """These rows of a folder, together with what is chosen in other folders."""
    others = gathered.items
    rows = np.array(nodes, np.int64) - 1
    numbers = np.array([(item.files, item.size) for item in others.values()], np.int64).reshape(-1, 2)
    files = np.append(listing.files[rows], numbers[:, 0])
    sizes = np.append(listing.sizes[rows], numbers[:, 1])
    return Choice(
        nodes,
        len(sizes),
        int(files.sum()),
        int(np.maximum(sizes, 0).sum()),
        bool((sizes == UNKNOWN).any()),
        elsewhere=len(others),
        folders=len(gathered.folders | ({listing.folder} if nodes else set())),
    )


def counted_in_archive(listing: ArchiveListing, nodes: tuple[int, ...]) -> Choice:
    """These rows of an archive, with everything below them."""
    tree = listing.tree
    if listing.is_all(nodes):  # a million of them are counted already
        files, size, packed = (int(column[listing.folder]) for column in (tree.files, tree.size, tree.packed))
        return Choice(nodes, len(nodes), files, size, packed=packed)
    rows = tree.rows_below(nodes) if nodes else np.zeros(0, np.int64)
    filled = rows[tree.catalog.kind[rows] != Kind.DIR]
    taken = tree.catalog.packed[filled]
    packed = int(taken.sum()) if (taken != UNKNOWN).all() else UNKNOWN
    size = int(np.maximum(tree.catalog.size[rows], 0).sum())
    return Choice(nodes, len(nodes), len(filled), size, packed=packed)
