"""Opening the archives that the window goes into: in the background, with what the person has said of each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.formats.detect import open_archive
from rundlet.core.limits import DEFAULT
from rundlet.core.model.entry import ROOT
from rundlet.core.model.opening import Opening
from rundlet.core.settings import CACHE, UNPACK_MEMORY
from rundlet.core.streams.private import no_core_dumps
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.locations.listing import TOP
from rundlet.desktop.locations.place import OpenArchive, Place

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.jobs.job import Job
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.desktop.locations.archive import ArchiveListing

Order = tuple[str, bool]
"""A column, and whether it is descending."""

Found = Callable[["Job", "ArchiveTree", "NDArray[np.int64]"], None]


class ArchiveOpener(QObject):
    """Opens archives, and remembers their passwords and how their names are read for as long as the window is there.

    Signals:
        unlock_failed: the password does not open the archive, and why.
        unlocked: a password that was not known before opened an archive; with its path and the password.
    """

    unlock_failed = Signal(object)
    unlocked = Signal(object, str)

    def __init__(self, background: Background, settings: Settings, parent: QObject) -> None:
        super().__init__(parent)
        self._background = background
        self._settings = settings
        self._passwords: dict[Path, str] = {}
        self._code_pages: dict[Path, str] = {}
        self._unlock_task = Latest(background)

    def opening(
        self, place: Place, order: Order, found: Found, password: str | None = None
    ) -> Callable[[Job], tuple[OpenArchive, ArchiveListing]]:
        """Work for the background that opens the archive of a place and lists it.

        Args:
            order: in which its rows are shown.
            found: told on the interface's thread what was found so far, while it is being listed.
            password: another one than what was given before.
        """
        path = place.archive
        assert path is not None
        password = password or self._passwords.get(path)
        code_page = self._code_pages.get(path)
        limits = replace(DEFAULT, memory_bytes=self._settings.get(UNPACK_MEMORY), index_bytes=self._settings.get(CACHE))

        def work(job: Job) -> tuple[OpenArchive, ArchiveListing]:
            from rundlet.core.model.tree import ArchiveTree
            from rundlet.core.plans.unpack_planner import needs_own_folder
            from rundlet.desktop.locations.archive import file_types_of
            from rundlet.desktop.locations.partial_listing import Partial

            partial = Partial(lambda tree, file_types: self._background.tell(lambda: found(job, tree, file_types)))
            reader = open_archive(path, Opening(code_page, limits, job, partial.add, password))
            if password and not reader.unlocked and reader.catalog.encrypted.any():
                reader.unlock(password)
            tree = ArchiveTree(reader.catalog)
            opened = OpenArchive(
                path,
                reader,
                tree,
                file_types_of(tree),
                needs_own_folder(reader),
                password or "",
                code_page or "",
                reader.source.fingerprint(),
                limits,
            )
            return opened, listing_in(opened, place, order)

        return work

    def opened(self, archive: OpenArchive) -> None:
        """An archive was opened with its password, which is right, then."""
        if archive.password:
            self._know(archive.path, archive.password)

    def password_of(self, path: Path) -> str:
        """The password that opened an archive before, or ""."""
        return self._passwords.get(path, "")

    def remember_password(self, path: Path, password: str) -> None:
        """Use a password that opens an archive from now on."""
        self._passwords[path] = password

    def unlock(self, archive: OpenArchive, password: str, done: Callable[[], None]) -> None:
        """Try a password of an open archive; ``done`` or the signal follows."""
        no_core_dumps()

        def unlocked(_: None) -> None:
            archive.password = password
            done()
            self._know(archive.path, password)

        self._unlock_task.run(lambda _: archive.reader.unlock(password), done=unlocked, failed=self.unlock_failed.emit)

    def _know(self, path: Path, password: str) -> None:
        is_new = self._passwords.get(path) != password
        self._passwords[path] = password
        if is_new:
            self.unlocked.emit(path, password)

    def stop(self) -> None:
        """The archive is left; a password that is being tried does not count any more."""
        self._unlock_task.drop()

    def read_names_as(self, path: Path, code_page: str) -> None:
        """From now on the names of an archive that do not say how they are written are read in this code page."""
        self._code_pages[path] = code_page


def listing_in(opened: OpenArchive, place: Place, order: Order) -> ArchiveListing:
    """What an archive holds at a place, or at its top where that folder is not in it, already in order and counted."""
    from rundlet.desktop.locations.archive import ArchiveListing

    node = opened.tree.find(place.inner) or ROOT
    folder = node if opened.tree.is_folder(node) else ROOT
    listing = ArchiveListing(opened.tree, folder, opened.file_types, opened.staged)
    listing.sort(order[0], descending=order[1])
    listing.children(TOP)
    listing.counts()
    return listing
