"""What is found of an archive while it is still being listed."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from rundlet.core.model.catalog import Catalog, joined
from rundlet.core.model.tree import ArchiveTree
from rundlet.desktop.locations.archive import file_types_of

if TYPE_CHECKING:
    from collections.abc import Callable

    import numpy as np
    from numpy.typing import NDArray

_PARTIAL_SECONDS = 0.5


class Partial:
    """Gathers what is found of an archive and shows it twice a second; lives in the working thread."""

    def __init__(self, show: Callable[[ArchiveTree, NDArray[np.int64]], None]) -> None:
        self._show = show
        self._catalogs: list[Catalog] = []
        self._next = time.monotonic() + _PARTIAL_SECONDS

    def add(self, catalog: Catalog) -> None:
        """Take some more entries."""
        self._catalogs.append(catalog)
        if time.monotonic() >= self._next:
            self._catalogs = [joined(self._catalogs)]
            tree = ArchiveTree(self._catalogs[0])
            self._show(tree, file_types_of(tree))
            self._next = time.monotonic() + _PARTIAL_SECONDS
