"""Where the window stands, what is chosen there, and what will come of it. Columns show this and change it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from rundlet.core.errors import (
    Cancelled,
    FileProblem,
    FormatError,
    LimitExceeded,
    PasswordNeeded,
    WrongPassword,
)
from rundlet.core.formats.detect import open_archive
from rundlet.core.fs.disk_space import existing_parent
from rundlet.core.model.entry import ROOT, UNKNOWN, Kind
from rundlet.core.model.file_type import FileType, file_type_of
from rundlet.core.model.natural import NATURAL_AT_MOST
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash
from rundlet.core.streams.parts import parts_that_came
from rundlet.core.streams.private import no_core_dumps
from rundlet.desktop.background import Background, Done, Failed, Latest
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.listing import TOP, Listing, in_archive
from rundlet.desktop.state.folder_watch import FolderWatch
from rundlet.desktop.state.forms import OpenArchive, Place, Selection, UnpackForm
from rundlet.desktop.state.selection import Choosing
from rundlet.desktop.temp_copies import TempCopies, lend, outcome_error

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.jobs.job import Job
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.desktop.locations.archive import ArchiveListing


class Workspace(Choosing):
    """The window's state. It changes only on the interface's thread; slow work is done in the background.

    Signals:
        leaving: another place is being looked at, and stood in once that is done.
        moved: the place changed; the listing follows.
        listed: there is a listing, or None after ``failed_to_list``.
        unchanged: the place was looked at again and shows what it showed before.
        failed_to_list: the place can't be shown, and why.
        restored: rows to choose in a listing that has just come.
        unlock_failed: the password does not open the archive.
        opening: a listing of what was found so far of an archive that takes long to list.
        names_hidden: the archive can't even be listed without its password.
        gone: the folder or archive where the window stood was moved or deleted.
    """

    leaving = Signal()
    moved = Signal(object)
    listed = Signal(object)
    unchanged = Signal()
    failed_to_list = Signal(object)
    restored = Signal(object)
    unlock_failed = Signal(object)
    opening = Signal(object)
    names_hidden = Signal(object)
    gone = Signal(object)

    def __init__(self, background: Background, parent: QObject | None = None) -> None:
        super().__init__(background, parent)
        self.temp_copies = TempCopies(self)
        self._passwords: dict[Path, str] = {}  # for as long as the window is there
        self._code_pages: dict[Path, str] = {}
        self._history: list[Place] = []
        self._choose_after: list[Path] = []
        self._came_from: Path | None = None
        self._leaving: tuple[int, ...] | None = None
        self._fail_after: tuple[BaseException, Path] | None = None
        self.refused: Path | None = None  # the file that could not be gone into
        self._list_task = Latest(background)
        self._unlock_task = Latest(background)
        self._hidden: Place | None = None
        self.show_hidden = False
        self.order: Callable[[], tuple[str, bool]] = lambda: ("name", False)  # in which listings are shown
        self.follower = FolderWatch(self)
        self.follower.changed.connect(self._refresh_changed)

    # Going about

    def open(self, paths: Iterable[Path]) -> None:
        """Stand where these paths say: in a folder, in an archive, or beside files with these chosen."""
        listed = [Path(path).absolute() for path in paths]
        elsewhere = [path for path in listed[1:] if path.parent != listed[0].parent]
        if not listed:
            self.go(Place(Path.home()))
        elif len(listed) == 1 and os.path.isdir(listed[0]):
            self.go(Place(listed[0]))
        elif len(listed) == 1:
            self.enter_file(listed[0])
        else:
            self._gather_elsewhere(elsewhere)
            self._choose_after = [path for path in listed if path.parent == listed[0].parent]
            self.go(Place(listed[0].parent))

    def gather(self, paths: Iterable[Path]) -> None:
        """Take what was dragged in: beside what is chosen already; else stand where it lies with it chosen.

        A single archive is gone into when nothing else is chosen.
        """
        listed = [Path(path).absolute() for path in paths]
        if not listed:
            return
        if self.chosen_paths():
            here = [path for path in listed if path.parent == self.place.folder]
            self._gather_elsewhere(path for path in listed if path.parent != self.place.folder)
            self.refresh(choose=[*self.chosen_here(), *here])
        elif len(listed) == 1 and os.path.isfile(listed[0]) and file_type_of(listed[0].name) == FileType.ARCHIVES:
            self.enter_file(listed[0])
        else:
            folder = listed[0].parent
            self._gather_elsewhere(path for path in listed if path.parent != folder)
            self._choose_after = [path for path in listed if path.parent == folder]
            self.go(Place(folder))

    def _gather_elsewhere(self, paths: Iterable[Path]) -> None:
        """Choose some more in other folders, and count what is in them."""
        folders = [path for path in self.other_folders.add(paths) if self.other_folders.items[path].kind == Kind.DIR]
        self._count_gathered(folders)

    def enter_file(self, path: Path) -> None:
        """Go into a file that is an archive; else stand beside it with it chosen, and say why."""
        place = Place(path.parent, archive=path)
        self._remember()
        self._open_archive(place, otherwise=path)

    def go(self, place: Place) -> None:
        """Stand somewhere else; what stood before can be gone back to."""
        self._remember()
        self._stand(place)

    def back(self) -> None:
        """Stand where one stood before."""
        while self._history:
            place = self._history.pop()
            if place.outer is None or (place.archive is not None and os.path.exists(place.archive)):
                self._stand(place)
                return

    @property
    def can_go_back(self) -> bool:
        """Whether there is a place to go back to."""
        return bool(self._history)

    def up(self) -> None:
        """Stand one step further up, with the place that one came from chosen."""
        if not self.place.in_archive:
            self._came_from = self.place.folder
        elif not self.place.inner:
            self._came_from = self.place.archive
        self.go(self.place.up())

    def enter(self, node: int, *, leaving: Iterable[int] | None = None) -> None:
        """Go into a row: a folder, or a file that is an archive.

        Args:
            leaving: the rows that count as chosen in the folder that is left; None for those that are.
        """
        self._leaving = None if leaving is None else tuple(leaving)
        if in_archive(self.listing):
            if self.listing.is_folder(node):
                self.go(replace(self.place, inner=self.listing.tree.path(node)))
            elif self.archive is not None:
                self._enter_nested(node, self.archive)
        elif isinstance(self.listing, DiskListing):
            item = self.listing.items[node - 1]
            if item.kind == Kind.DIR or (item.kind == Kind.LINK and os.path.isdir(item.path)):
                self.go(Place(item.path))
            else:
                self.enter_file(item.path)

    def _enter_nested(self, node: int, opened: OpenArchive) -> None:
        """Go into an archive that is an entry of the one where the window stands, by way of a private copy."""
        outer = self.place
        size = int(opened.tree.size[node])

        def work(job: Job) -> Place:
            job.begin("Opening", total_bytes=size)
            folder = self.temp_copies.new_folder(size)
            outcome = lend(opened, [node], folder, job, keep_folders=False)
            made = [Path(path) for path in outcome.created if os.path.isfile(path)]
            if not made:
                raise outcome_error(outcome)
            return Place(outer.folder, archive=made[0], outer=outer)

        def done(place: Place) -> None:
            self._remember()
            self._open_archive(place, back_to=outer)

        self._list(work, done=done, failed=self._fail)

    def refresh(self, *, choose: Iterable[Path] = ()) -> None:
        """Look at the place again, keeping what is chosen on the disk."""
        if self.place.archive is not None:
            if self.archive is not None:
                self._open_archive(self.place)
            return
        self._choose_after = list(choose) or list(self.chosen_here())
        self._stand(self.place)

    def _refresh_changed(self) -> None:
        """Something has changed in the folder where the window stands, or in which its archive lies."""
        if not self.place.in_archive:
            if self.listing is not None:
                self.refresh()
        elif self.archive is not None and self.place.outer is None:
            path, source = self.archive.path, self.archive.reader.source
            if not os.path.lexists(path):
                self.gone.emit(path)
                self.go(Place(path.parent))
            elif source.fingerprint() != self.archive.seen or parts_that_came(source, path.parent):
                self._open_archive(self.place)

    def _remember(self) -> None:
        if self.listing is not None:
            self._history.append(self.place)

    def _list(self, work: Callable[[Job], Any], *, done: Done, failed: Failed) -> None:
        """Look at a place in the background; it takes the place of any other that is still being looked at."""
        self.leaving.emit()
        self._list_task.run(work, done=done, failed=failed)

    def _stand(self, place: Place) -> None:
        if place.archive is not None:
            if self.archive is not None and self.archive.path == place.archive:
                self._go_inside(place, self.archive)
            else:
                self._open_archive(place)
            return
        self._list(
            lambda job: DiskListing.read(place.folder, hidden=self.show_hidden),
            done=lambda listing: self._on_disk(place, listing),
            failed=lambda error: self._fail_to_stand(place, error),
        )

    def _fail_to_stand(self, place: Place, error: BaseException) -> None:
        """A folder that is gone is left for the nearest one above it; all else is said in its place."""
        if place == self.place and self.listing is not None and not os.path.lexists(place.folder):
            self.gone.emit(place.folder)
            self._stand(Place(existing_parent(place.folder)))
        else:
            self._fail(error)

    def _on_disk(self, place: Place, listing: DiskListing) -> None:
        if self._looks_the_same(place, listing):
            self._choose_after, self._came_from = [], None
            self._count_folders(self.listing)  # type: ignore[arg-type]
            self.unchanged.emit()
            self.pack_changed.emit()
            return
        self._leave_archive()
        if place.folder != self.place.folder:
            self.pack.folder, self.pack.stem_is_ours, self.pack.clash = None, True, PackClash.RENAME
        self._arrive(place, listing)
        self.follower.follow(place.folder)
        self._count_folders(listing)
        self.other_folders.forget_gone()
        before = self.other_folders.enter(place.folder)
        paths = self._choose_after or before or ([self._came_from] if self._came_from is not None else [])
        self._choose_after, self._came_from = [], None
        wanted = listing.nodes_of(paths)
        if wanted:
            self.restored.emit(wanted)
        else:
            self._choice_counted()
        failure, self._fail_after = self._fail_after, None
        if failure is not None:
            self._fail(*failure)

    def _looks_the_same(self, place: Place, listing: DiskListing) -> bool:
        """Whether a place that was looked at again shows what it showed before, with the same rows to be chosen."""
        before = self.listing
        return (
            self._fail_after is None
            and isinstance(before, DiskListing)
            and self.place == place
            and before.folder == listing.folder
            and before.seen == listing.seen
            and set(map(str, self._choose_after)) == set(map(str, self.chosen_here()))
        )

    def _open_archive(
        self, place: Place, otherwise: Path | None = None, password: str | None = None, back_to: Place | None = None
    ) -> None:
        path = place.archive
        assert path is not None
        password = password or self._passwords.get(path)
        code_page = self._code_pages.get(path)

        def work(job: Job) -> tuple[OpenArchive, ArchiveListing]:
            from rundlet.core.model.tree import ArchiveTree
            from rundlet.core.plans.unpack_planner import needs_own_folder
            from rundlet.desktop.locations.archive import file_types_of
            from rundlet.desktop.locations.partial_listing import Partial

            partial = Partial(
                lambda tree, file_types: self.background.tell(lambda: self._show_partial(place, job, tree, file_types))
            )
            reader = open_archive(path, Opening(code_page, job=job, found=partial.add, password=password))
            if password and not reader.unlocked and reader.catalog.encrypted.any():
                reader.unlock(password)
            tree = ArchiveTree(reader.catalog)
            loose = needs_own_folder(reader)
            opened = OpenArchive(
                path,
                reader,
                tree,
                file_types_of(tree),
                loose,
                password or "",
                code_page or "",
                reader.source.fingerprint(),
            )
            return opened, _listing_in(opened, place, self.order())

        def failed(error: BaseException) -> None:
            if isinstance(error, WrongPassword):
                self.unlock_failed.emit(error)
            elif isinstance(error, PasswordNeeded):
                self._stand_before(place, error)
            elif back_to is not None:
                self._history.pop()
                self._fail(error, path)
            elif otherwise is not None and isinstance(error, FileProblem | FormatError | LimitExceeded):
                self._choose_after = [otherwise]
                self._fail_after = error, otherwise
                self._stand(Place(otherwise.parent))
            else:
                self._fail(error)

        self._list(work, done=lambda found: self._settle_in(place, *found), failed=failed)

    def _stand_before(self, place: Place, error: PasswordNeeded) -> None:
        """In front of an archive whose names are hidden."""
        self._put_aside()
        self._leave_archive()
        self.place, self.listing, self._hidden = place, None, place
        self.selection = Selection()
        self.unpack = UnpackForm(show=self.unpack.show)
        self.moved.emit(place)
        self.names_hidden.emit(error)
        self.unpack_changed.emit()

    def _show_partial(self, place: Place, job: Job, tree: ArchiveTree, file_types: NDArray[np.int64]) -> None:
        """While an archive is still being listed, show what was found so far."""
        if job.cancelled:
            return
        self._put_aside()
        self._leave_archive()
        self.place = place
        self.moved.emit(place)
        from rundlet.desktop.locations.archive import ArchiveListing

        self.listing = ArchiveListing(tree, ROOT, file_types)
        self.selection = Selection()
        self.opening.emit(self.listing)

    def _go_inside(self, place: Place, opened: OpenArchive) -> None:
        node = opened.tree.find(place.inner)
        if len(opened.tree.children(node or ROOT)) > NATURAL_AT_MOST:  # sorting so many is no work for this thread
            self._list(
                lambda _: _listing_in(opened, place, self.order()),
                done=lambda listing: self._settle_in(place, opened, listing),
                failed=self._fail,
            )
        else:
            self._settle_in(place, opened, _listing_in(opened, place, self.order()))

    def _settle_in(self, place: Place, opened: OpenArchive, listing: ArchiveListing) -> None:
        if self.archive is not opened:
            self._leave_archive()
            self.archive = opened
            if opened.password:
                self._passwords[opened.path] = opened.password
            if (
                self.unpack.archive != opened.path
            ):  # else it was looked at again, and what was chosen for it still holds
                self.unpack = UnpackForm(archive=opened.path, own_folder=opened.is_loose, show=self.unpack.show)
            if place.outer is None:
                self.follower.follow(opened.path.parent)
        self._arrive(place, listing)
        self.unpack_changed.emit()
        self.plan_soon()

    @property
    def needs_password(self) -> bool:
        """Whether the archive has locked entries or hidden names, and no password was given for it."""
        if self._hidden is not None:
            return True
        return (
            self.archive is not None
            and not self.archive.reader.unlocked
            and bool(self.archive.reader.catalog.encrypted.any())
        )

    def unlock(self, password: str) -> None:
        """Take the password of the archive, for as long as the window is in it."""
        no_core_dumps()
        opened = self.archive
        if self._hidden is not None:
            self._open_archive(self._hidden, password=password)
        elif opened is not None:

            def done(_: None) -> None:
                opened.password = self._passwords[opened.path] = password
                self.plan_again()
                self.unpack_changed.emit()

            self._unlock_task.run(lambda _: opened.reader.unlock(password), done=done, failed=self.unlock_failed.emit)

    def read_names_as(self, code_page: str) -> None:
        """Read the names of the archive that do not say how they are written in this code page."""
        if self.archive is not None:
            self._code_pages[self.archive.path] = code_page
            inner = self.place.inner  # a folder that may be called otherwise now
            self._open_archive(replace(self.place, inner=inner if inner.isascii() else ""))

    def _leave_archive(self) -> None:
        self._stop_counting()
        self._unlock_task.drop()
        self._hidden = None
        self.drop_plan()
        if self.archive is not None:
            self.archive.reader.close()
            self.archive = None

    def _arrive(self, place: Place, listing: Listing) -> None:
        if place.in_archive or self.place.folder != place.folder:
            self._put_aside()
        self._leaving = None
        self.place = place
        self.listing = listing
        self._choose_nothing_here()
        self.moved.emit(place)
        self.listed.emit(listing)
        self.choose(())

    def _put_aside(self) -> None:
        """Remember what is chosen in the folder that is being left."""
        if isinstance(self.listing, DiskListing):
            nodes = self.selection.nodes if self._leaving is None else self._leaving
            self.other_folders.leave(self.listing.folder, [self.listing.items[n - 1] for n in nodes])
            uncounted = [path for path, item in self.other_folders.items.items() if item.size == UNKNOWN]
            self._count_gathered(uncounted)

    def _fail(self, error: BaseException, refused: Path | None = None) -> None:
        if isinstance(error, Cancelled):
            return
        self.refused = refused
        self._leaving = None
        self.failed_to_list.emit(error)

    @property
    def at_rest(self) -> bool:
        """Whether nothing is about to be worked out."""
        return not self.plans_soon and self.follower.at_rest

    def close(self) -> None:
        """Let go of the archive, and of all private copies; the folder is not followed any more."""
        self.follower.stop()
        self._leave_archive()
        self.temp_copies.close()


def _listing_in(opened: OpenArchive, place: Place, order: tuple[str, bool]) -> ArchiveListing:
    """What an archive holds at a place, already in order and counted."""
    from rundlet.desktop.locations.archive import ArchiveListing

    listing = ArchiveListing(opened.tree, opened.tree.find(place.inner) or ROOT, opened.file_types)
    listing.sort(order[0], descending=order[1])
    listing.children(TOP)
    listing.counts()
    return listing
