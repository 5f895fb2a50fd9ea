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
from rundlet.core.fs.disk_space import existing_parent
from rundlet.core.model.entry import ROOT
from rundlet.core.model.file_type import FileType, file_type_of
from rundlet.core.model.natural import NATURAL_AT_MOST
from rundlet.core.settings import HIDDEN_FILES
from rundlet.core.streams.parts import files_of, parts_that_came
from rundlet.core.streams.private import no_core_dumps
from rundlet.desktop.background import Background, Done, Failed, Latest
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.listing import in_archive
from rundlet.desktop.locations.place import OpenArchive, Place, Selection
from rundlet.desktop.state.archive_checks import ArchiveChecks
from rundlet.desktop.state.archive_opener import ArchiveOpener, listing_in
from rundlet.desktop.state.changing import Changing, same_file_beside
from rundlet.desktop.state.checking import Checking
from rundlet.desktop.state.comparing import Comparing
from rundlet.desktop.state.folder_watch import FolderWatch
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.state.joining import Joining
from rundlet.desktop.state.packing import Packing
from rundlet.desktop.state.selection import Selector
from rundlet.desktop.state.standpoint import Standpoint
from rundlet.desktop.state.sums import Sums, looks_like_a_list
from rundlet.desktop.state.unpacking import Unpacking
from rundlet.desktop.temp_copies import TempCopies, lend, outcome_error

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.jobs.job import Job
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.core.userdata.updates import Updates
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.listing import Location


class Workspace(QObject):
    """The window's state: it moves about, and each of its parts does one thing with where it stands.

    It changes only on the interface's thread; slow work is done in the background.

    Attributes:
        selector: what is selected.
        packing, unpacking: what would come of it.
        changing: what is to be changed in archives, and not saved yet.
        checking: whether what they hold is intact.
        sums: checksums of what is selected on the disk.
        archive_checks: whether archives that are selected there are intact.
        joining: parts of a plain file that are selected there.
        comparing: what archives are compared with, and what that found out.
        opener: opens archives.
        follower: follows the folder as things come and go in it.
        temp_copies: private copies of entries.
        updates: which folders archives were brought up to date with.

    Signals:
        leaving: another place is being looked at, and stood in once that is done.
        moved: the place changed; the listing follows.
        listed: there is a listing, or None after ``failed_to_list``.
        relisted: the same place has another listing, as something is to be changed in it.
        unchanged: the place was looked at again and shows what it showed before.
        failed_to_list: the place can't be shown, and why.
        restored: rows to select in a listing that has just come.
        opening: a listing of what was found so far of an archive that takes long to list.
        names_hidden: the archive can't even be listed without its password.
        list_wanted: a list of checksums is to be shown.
        gone: the folder or archive where the window stood was moved or deleted.
    """

    leaving = Signal()
    moved = Signal(object)
    listed = Signal(object)
    relisted = Signal(object)
    unchanged = Signal()
    failed_to_list = Signal(object)
    restored = Signal(object)
    opening = Signal(object)
    names_hidden = Signal(object)
    list_wanted = Signal(object)
    gone = Signal(object)

    def __init__(
        self, background: Background, settings: Settings, updates: Updates, parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self.updates = updates
        self.background = background
        self._settings = settings
        self._at = Standpoint()
        self.selector = Selector(self._at, background, self)
        self.packing = Packing(self._at, self.selector.paths, settings, self)
        self.unpacking = Unpacking(self._at, background, settings, self)
        self.changing = Changing(self._at, background, settings, self)
        self.changing.order = lambda: self.order()
        self.changing.shown.connect(self._show_changed)
        self.changing.outdated.connect(self.read_again)
        self.checking = Checking(self._at, self)
        self.comparing = Comparing(self._at, background, self)
        self.sums = Sums(self.selector.paths, background, self)
        self.selector.changed.connect(self.sums.follow)
        self.archive_checks = ArchiveChecks(self.selector.paths, self)
        self.selector.changed.connect(self.archive_checks.follow)
        self.joining = Joining(self.selector.paths, background, self)
        self.selector.changed.connect(self.joining.follow)
        for looked in (self.listed, self.unchanged):
            looked.connect(self.sums.look_again)
            looked.connect(self.joining.look_again)
        self.opener = ArchiveOpener(background, settings, self)
        self.selector.recounted.connect(self._recounted)
        self.temp_copies = TempCopies(self)
        self._history: list[Place] = []
        self._choose_after: list[Path] = []
        self._came_from: Path | None = None
        self._leaving: tuple[int, ...] | None = None
        self._fail_after: tuple[BaseException, Path] | None = None
        self.refused: Path | None = None  # the file that could not be gone into
        self._list_task = Latest(background)
        self._changing_of: OpenArchive | None = None  # the archive of which it is known
        self._hidden: Place | None = None
        self._on_show: DiskListing | None = None  # the folder that was shown last
        self._show_hidden = settings.get(HIDDEN_FILES)
        self.order: Callable[[], tuple[str, bool]] = lambda: ("name", False)  # in which listings are shown
        self.follower = FolderWatch(self)
        self.follower.changed.connect(self._refresh_changed)

    @property
    def place(self) -> Place:
        """Where the window stands."""
        return self._at.place

    @property
    def archive(self) -> OpenArchive | None:
        """The archive that it is in, or None."""
        return self._at.archive

    @property
    def listing(self) -> Location | None:
        """What lies there; None where that can't be shown."""
        return self._at.listing

    @property
    def selection(self) -> Selection:
        """What is selected of it, counted."""
        return self._at.selection

    @property
    def show_hidden(self) -> bool:
        """Whether hidden files are shown."""
        return self._show_hidden

    @show_hidden.setter
    def show_hidden(self, on: bool) -> None:
        self._settings.set(HIDDEN_FILES, on)
        self.take_settings()

    def take_settings(self) -> None:
        """Show what the settings say, which were changed."""
        hidden = self._settings.get(HIDDEN_FILES)
        if hidden != self._show_hidden:
            self._show_hidden = hidden
            self.refresh()

    def select(self, nodes: Iterable[int], *, shown: int | None = None) -> None:
        """These rows are selected, and no others.

        Args:
            shown: how many of them are in sight, before the others; None for all.
        """
        self.selector.count(nodes, shown=shown)
        if self.selector.is_another_set():
            self.packing.end_set()
        self.packing.suggest_stem()
        self.selector.changed.emit(self.selection)
        self.packing.changed.emit()
        if self.place.in_archive:
            self.unpacking.start_again()

    def _recounted(self) -> None:
        self.selector.changed.emit(self.selection)
        self.packing.changed.emit()

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
            self.selector.add_elsewhere(elsewhere)
            self._choose_after = [path for path in listed if path.parent == listed[0].parent]
            self.go(Place(listed[0].parent))

    def choose(self, paths: Iterable[Path]) -> None:
        """Stand beside these files and folders with them selected, archives too."""
        listed = [Path(path).absolute() for path in paths]
        folder = listed[0].parent
        self.selector.add_elsewhere(path for path in listed if path.parent != folder)
        self._choose_after = [path for path in listed if path.parent == folder]
        self.go(Place(folder))

    def gather(self, paths: Iterable[Path]) -> None:
        """Take what was dragged in: beside what is chosen already; else stand where it lies with it chosen.

        A single archive is gone into when nothing else is chosen.
        """
        listed = [Path(path).absolute() for path in paths]
        if not listed:
            return
        if self.selector.paths():
            here = [path for path in listed if path.parent == self.place.folder]
            self.selector.add_elsewhere(path for path in listed if path.parent != self.place.folder)
            self.refresh(choose=[*self.selector.here(), *here])
        elif len(listed) == 1 and os.path.isfile(listed[0]) and file_type_of(listed[0].name) == FileType.ARCHIVES:
            self.enter_file(listed[0])
        else:
            self.choose(listed)

    def enter_file(self, path: Path) -> None:
        """Go into a file that is an archive; else stand beside it with it chosen, and say why.

        A list of checksums is shown as such, also where it lies beside an archive in parts.
        """
        if looks_like_a_list(path) and os.path.isfile(path):
            self.list_wanted.emit(path)
            return
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
        listing = self.listing
        if listing is None:
            return
        inside, path = listing.entered(node, self.place), listing.path_of(node)
        if inside is not None:
            self.go(inside)
        elif path is not None:
            self.enter_file(path)
        elif self.archive is not None:
            self._enter_nested(node, self.archive)

    def _enter_nested(self, node: int, opened: OpenArchive) -> None:
        """Go into an archive that is an entry of the one where the window stands, by way of a private copy."""
        outer, entry = self.place, opened.stored_path(node)
        size = int(opened.tree.size[node])
        fixed = self.changing.why_not()

        def work(job: Job) -> Place:
            job.begin("Opening", total_bytes=size)
            folder = self.temp_copies.new_folder(size)
            outcome = lend(opened, [node], folder, job, keep_folders=False)
            made = [Path(path) for path in outcome.created if os.path.isfile(path)]
            if not made:
                raise outcome_error(outcome)
            return Place(outer.folder, archive=made[0], outer=outer, entry=entry)

        def done(place: Place) -> None:
            self._remember()
            self.changing.entered(place.chain, fixed)
            self._open_archive(place, back_to=outer)

        self._list(work, done=done, failed=self._fail)

    def refresh(self, *, choose: Iterable[Path] = ()) -> None:
        """Look at the place again, keeping what is chosen on the disk."""
        if self.place.archive is not None:
            if self.archive is not None:
                self._open_archive(self.place)
            return
        self._choose_after = list(choose) or list(self.selector.here())
        self._stand(self.place)

    def _refresh_changed(self) -> None:
        """Something has changed in the folder where the window stands, or in which its archive lies."""
        if not self.place.in_archive:
            if (
                self.listing is not None and not self.place.find
            ):  # else all that lies below would be walked again and again
                self.refresh()
        elif self.archive is not None and self.place.outer is None:
            path, source = self.archive.path, self.archive.reader.source
            if not os.path.lexists(path):
                self._follow_archive(path)
            elif source.fingerprint() != self.archive.seen or parts_that_came(source, path.parent):
                self._open_archive(self.place)

    def _follow_archive(self, path: Path) -> None:
        """The archive where the window stands is no longer at its path: go where it was moved, else into the folder where it was."""
        opened = self.archive
        renamed = same_file_beside(path, opened.seen) if opened is not None else None
        self.changing.follow()
        if renamed is not None:
            self.enter_file(renamed)
        else:
            self.gone.emit(path)
            self.go(Place(path.parent))

    def read_again(self) -> None:
        """Read the archive where the window stands anew, with those that it lies in, as another program changed one of them."""
        chain, archive = self.place.chain, self.place.outermost
        if archive is None:
            return
        if len(chain) == 1:
            self._open_archive(self.place)
        else:
            self._enter_along(chain, 1)
            self._open_archive(Place(archive.parent, archive=archive))

    def _enter_along(self, chain: tuple[str, ...], depth: int) -> None:
        """Once the archive of the first steps of a chain is open, go into the next one, and so on."""

        def enter() -> None:
            opened = self.archive
            node = opened.tree.find(chain[depth]) if opened is not None else None
            if node is not None:
                if depth + 1 < len(chain):
                    self._enter_along(chain, depth + 1)
                self.enter(node)

        self.changing.once_open(chain[:depth], enter)

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

        def work(job: Job) -> DiskListing:
            if place.find:
                return DiskListing.found_below(place.folder, place.find, hidden=self.show_hidden, job=job)
            return DiskListing.read(place.folder, hidden=self.show_hidden)

        self._list(
            work,
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
            if self._on_show is not None:
                self.selector.sizes.count(self._on_show)
            self.unchanged.emit()
            self.packing.changed.emit()
            return
        self._leave_archive()
        if place.folder != self.place.folder:
            self.packing.form.folder, self.packing.form.stem_is_ours, self.packing.form.clash = (
                None,
                True,
                IfTaken.RENAME,
            )
        self._on_show = listing
        listing.unsaved = lambda path: self.changing.count_at((str(path),))
        self._arrive(place, listing)
        self.follower.follow(place.folder)
        self.selector.sizes.count(listing)
        self.selector.other_folders.forget_gone()
        before = self.selector.other_folders.enter(place.folder)
        paths = self._choose_after or before or ([self._came_from] if self._came_from is not None else [])
        self._choose_after, self._came_from = [], None
        wanted = listing.nodes_of(paths)
        if wanted:
            self.restored.emit(wanted)
        else:
            self.selector.count_again()
        failure, self._fail_after = self._fail_after, None
        if failure is not None:
            self._fail(*failure)

    def _looks_the_same(self, place: Place, listing: DiskListing) -> bool:
        """Whether a place that was looked at again shows what it showed before, with the same rows to be chosen."""
        before = self.listing
        return (
            self._fail_after is None
            and before is not None
            and before.looks_like(listing)
            and self.place == place
            and set(map(str, self._choose_after)) == set(map(str, self.selector.here()))
        )

    def _open_archive(
        self, place: Place, otherwise: Path | None = None, password: str | None = None, back_to: Place | None = None
    ) -> None:
        path = place.archive

        def failed(error: BaseException) -> None:
            if isinstance(error, WrongPassword):
                self.opener.unlock_failed.emit(error)
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

        def found(job: Job, tree: ArchiveTree, file_types: NDArray[np.int64]) -> None:
            self._show_partial(place, job, tree, file_types)

        work = self.opener.opening(place, self.order(), found, password)
        self._list(work, done=lambda found: self._settle_in(place, *found), failed=failed)

    def _stand_before(self, place: Place, error: PasswordNeeded) -> None:
        """In front of an archive whose names are hidden."""
        self._remember_selection()
        self._leave_archive()
        self._at.place, self._at.listing, self._hidden = place, None, place
        self._at.selection = Selection()
        self.unpacking.start_for(None)
        self.moved.emit(place)
        self.names_hidden.emit(error)
        self.unpacking.changed.emit()

    def _show_partial(self, place: Place, job: Job, tree: ArchiveTree, file_types: NDArray[np.int64]) -> None:
        """While an archive is still being listed, show what was found so far."""
        if job.cancelled:
            return
        self._remember_selection()
        self._leave_archive()
        self._at.place = place
        self.moved.emit(place)
        from rundlet.desktop.locations.archive import ArchiveListing

        self._at.listing = ArchiveListing(tree, ROOT, file_types)
        self._at.selection = Selection()
        self.opening.emit(self.listing)

    def _go_inside(self, place: Place, opened: OpenArchive) -> None:
        node = opened.tree.find(place.inner)
        if len(opened.tree.children(node or ROOT)) > NATURAL_AT_MOST:  # sorting so many is no work for this thread
            self._list(
                lambda _: listing_in(opened, place, self.order()),
                done=lambda listing: self._settle_in(place, opened, listing),
                failed=self._fail,
            )
        else:
            self._settle_in(place, opened, listing_in(opened, place, self.order()))

    def _settle_in(self, place: Place, opened: OpenArchive, listing: ArchiveListing) -> None:
        if place.inner and listing.folder == ROOT:
            place = replace(place, inner="")  # which is not there, or no longer
        if self.archive is not opened:
            self._leave_archive(again=self.place.chain == place.chain)
            self._at.archive = opened
            self.opener.opened(opened)
            if (
                self.unpacking.form.archive != opened.path
            ):  # else it was looked at again, and what was said of it still holds
                self.unpacking.start_for(opened.path, own_folder=opened.is_loose)
            if place.outer is None:
                self.follower.follow(opened.path.parent, files_of(opened.reader.source))
        is_new = self._changing_of is not opened
        self._arrive(place, listing)
        if is_new:
            self._changing_of = opened
            self.changing.opened(opened)
        self.unpacking.changed.emit()
        self.unpacking.plan_soon()

    def _show_changed(self, listing: ArchiveListing) -> None:
        """The archive is shown with what is to be changed in it."""
        self._mark_unsaved(self.place, listing)
        if self.place.inner and listing.folder == ROOT:
            self._at.place = replace(self.place, inner="")  # the folder has another path now, or is gone
            self.moved.emit(self.place)
        self.relisted.emit(listing)

    @property
    def needs_password(self) -> bool:
        """Whether the archive has locked entries or hidden names, and no password was given for it."""
        return self._hidden is not None or (self.archive is not None and self.archive.needs_password)

    @property
    def selected_is_locked(self) -> bool:
        """The same, of what is selected alone, or of all where nothing is."""
        opened, listing = self.archive, self.listing
        if not self.needs_password or opened is None or listing is None:
            return self.needs_password
        rows = opened.rows_below(self.selection.nodes or (listing.top,))
        return bool(opened.reader.catalog.encrypted[rows].any())

    def unlock(self, password: str) -> None:
        """Take the password of the archive, for as long as the window is there."""
        if self._hidden is not None:
            no_core_dumps()
            self._open_archive(self._hidden, password=password)
        elif self.archive is not None:

            def done() -> None:
                self.unpacking.plan_again()
                self.unpacking.changed.emit()

            self.opener.unlock(self.archive, password, done)

    def read_names_as(self, code_page: str) -> None:
        """Read the names of the archive that do not say how they are written in this code page."""
        if self.archive is not None:
            self.opener.read_names_as(self.archive.path, code_page)
            inner = self.place.inner  # a folder that may be called otherwise now
            self._open_archive(replace(self.place, inner=inner if inner.isascii() else ""))

    def _leave_archive(self, *, again: bool = False) -> None:
        """Let go of the archive; ``again`` where the same one is looked at again."""
        self.selector.sizes.stop()
        self.opener.stop()
        self._hidden = None
        self.unpacking.drop_plan()
        self.changing.left(again=again)
        self.checking.left(again=again)
        self.comparing.left(again=again)
        self._changing_of = None
        if self.archive is not None:
            self.archive.reader.close()
            self._at.archive = None

    def _arrive(self, place: Place, listing: Location) -> None:
        self._mark_unsaved(place, listing)
        if place.in_archive or self.place.folder != place.folder:
            self._remember_selection()
        self._leaving = None
        self._at.place = place
        self._at.listing = listing
        self.selector.clear()
        self.moved.emit(place)
        self.listed.emit(listing)
        self.select(())

    def _mark_unsaved(self, place: Place, listing: Location) -> None:
        """Have the list say which archives in an archive have changes that are not saved."""
        if in_archive(listing):
            listing.unsaved = lambda path: self.changing.count_at((*place.chain, path))

    def _remember_selection(self) -> None:
        """Remember what is selected in the folder that is being left."""
        if self.listing is not None and self.listing.is_editable:
            nodes = self.selection.nodes if self._leaving is None else self._leaving
            self.selector.leave(self.place.folder, nodes)

    def _fail(self, error: BaseException, refused: Path | None = None) -> None:
        if isinstance(error, Cancelled):
            return
        self.refused = refused
        self._leaving = None
        self.failed_to_list.emit(error)

    @property
    def at_rest(self) -> bool:
        """Whether nothing is about to be worked out."""
        return not self.unpacking.plans_soon and self.follower.at_rest

    def close(self) -> None:
        """Let go of the archive, and of all private copies; the folder is not followed any more."""
        self.follower.stop()
        self._leave_archive()
        self.changing.close()
        self.temp_copies.close()
