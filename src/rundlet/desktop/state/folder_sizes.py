"""How much folders hold: counted in the background, one after the other, and remembered."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.fs.scan import Part, folder_parts
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.desktop.locations.disk import DiskListing

_KEPT = 2000  # folders


class FolderSizes(QObject):
    """Counts the folders of a listing.

    Signals:
        counted: the listing and the row of a folder that is counted now.
    """

    counted = Signal(object, int)

    def __init__(self, background: Background, parent: QObject) -> None:
        super().__init__(parent)
        self._background = background
        self._task = Latest(background)
        self._known: dict[Path, tuple[Part, ...]] = {}

    def stop(self) -> None:
        """Count no further."""
        self._task.drop()

    def count(self, listing: DiskListing) -> None:
        """Fill in what the folders of a listing hold; what was counted before stands until it is counted anew."""
        folders = [(node, listing.items[node - 1].path) for node in listing.folders]
        for node, path in folders:
            if path in self._known:
                listing.set_parts(node, self._known[path])

        def work(job: Job) -> None:
            for node, path in folders:
                parts = folder_parts(path, tick=job.checkpoint)
                self._background.tell(lambda n=node, p=parts: self._counted(listing, n, p))  # type: ignore[misc]

        if folders:
            self._task.run(work, done=lambda _: None, failed=log_failure)

    def _counted(self, listing: DiskListing, node: int, parts: list[Part]) -> None:
        path = listing.items[node - 1].path
        self._known.pop(path, None)
        self._known[path] = tuple(parts)
        while len(self._known) > _KEPT:
            del self._known[next(iter(self._known))]
        listing.set_parts(node, parts)
        self.counted.emit(listing, node)

    def count_each(self, folders: Iterable[Path], counted: Callable[[Path, Sequence[Part]], None]) -> None:
        """Count single folders, and tell of each."""
        folders = list(folders)

        def work(job: Job) -> None:
            for path in folders:
                parts = folder_parts(path, tick=job.checkpoint)
                self._background.tell(lambda path=path, parts=parts: counted(path, parts))  # type: ignore[misc]

        if folders:
            self._background.run(work, done=lambda _: None, failed=log_failure)
