"""Where the window stands, what is chosen there, and what will come of it. Columns show this and change it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import Cancelled, FileProblem, FormatError, LimitExceeded, RundletError
from rundlet.core.files.scan import folder_size
from rundlet.core.files.space import free_bytes
from rundlet.core.files.types import Sort, sort_of
from rundlet.core.formats.base import UNKNOWN, ArchiveReader, Catalog, FormatInfo, Kind, Opening, joined
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.formats.tree import ROOT, ArchiveTree
from rundlet.core.jobs.job import Job
from rundlet.core.plans.pack import PackClash, free_name, suggested_stem
from rundlet.core.plans.unpack import UnpackClash, UnpackPlan, needs_own_folder, own_folder_name, plan_unpack
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.models.listing import TOP, ArchiveListing, DiskListing, LandingListing, Listing, sorts_of

_SETTLE_MS = 60
_PARTIAL_SECONDS = 0.5


@dataclass(frozen=True, slots=True)
class Place:
    """Where the window stands.

    Attributes:
        folder: the folder on the disk.
        archive: the archive in it that was gone into, or None.
        inner: the folder in the archive, "" for its top.
    """

    folder: Path
    archive: Path | None = None
    inner: str = ""

    @property
    def in_archive(self) -> bool:
        """Whether this is inside an archive."""
        return self.archive is not None

    def up(self) -> Place:
        """The place above."""
        if self.inner:
            return replace(self, inner=self.inner.rpartition("/")[0])
        if self.archive is not None:
            return Place(self.archive.parent)
        return Place(self.folder.parent)


@dataclass(frozen=True, slots=True)
class Choice:
    """What is chosen, counted.

    Attributes:
        nodes: the chosen rows of the listing.
        items: how many rows that is.
        files: files in all of them, folders counted through.
        size: their bytes.
        counting: whether folders are still being counted.
    """

    nodes: tuple[int, ...] = ()
    items: int = 0
    files: int = 0
    size: int = 0
    counting: bool = False


@dataclass(slots=True)
class OpenArchive:
    """An archive that the window is in."""

    path: Path
    reader: ArchiveReader
    tree: ArchiveTree
    sorts: NDArray[np.int64]
    password: str = field(default="", repr=False)


@dataclass(slots=True)
class PackDesk:
    """What packing would do, as far as it is chosen by the person.

    Attributes:
        stem: the name without its ending.
        stem_is_ours: whether it was suggested and may change with the choice.
        folder: where the archive goes; None for the folder one stands in.
        replace: whether a file of that name is replaced rather than the new one numbered.
    """

    info: FormatInfo = field(default_factory=lambda: WRITABLE[0].info)
    level: int = field(default_factory=lambda: WRITABLE[0].info.default_level)
    stem: str = ""
    stem_is_ours: bool = True
    folder: Path | None = None
    replace: bool = False


@dataclass(slots=True)
class UnpackDesk:
    """What unpacking would do, as far as it is chosen by the person; ``folder`` as in :class:`PackDesk`."""

    folder: Path | None = None
    own_folder: bool = True
    keep_folders: bool = True
    on_clash: UnpackClash = UnpackClash.RENAME


class _Partial:
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
            self._show(tree, sorts_of(tree))
            self._next = time.monotonic() + _PARTIAL_SECONDS


class Workspace(QObject):
    """The window's state. It changes only on the interface's thread; slow work is done in the background.

    Signals:
        moved: the place changed; the listing follows.
        listed: there is a listing, or None after ``failed_to_list``.
        failed_to_list: the place can't be shown, and why.
        row_changed: a row of the listing has something new to say.
        choice_changed: the choice or what is known of it changed.
        pack_changed, unpack_changed: what the button would do changed.
        landed: there is a new unpack plan with its landing tree.
        restored: rows to choose in a listing that has just come.
        unlock_failed: the password does not open the archive.
        opening: a listing of what was found so far of an archive that takes long to list.
    """

    moved = Signal(object)
    listed = Signal(object)
    failed_to_list = Signal(object)
    row_changed = Signal(int)
    choice_changed = Signal(object)
    pack_changed = Signal()
    unpack_changed = Signal()
    landed = Signal(object, object)
    landing_failed = Signal(object)
    restored = Signal(object)
    unlock_failed = Signal(object)
    opening = Signal(object)

    def __init__(self, background: Background, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.background = background
        self.place = Place(Path.home())
        self.archive: OpenArchive | None = None
        self.listing: Listing | None = None
        self.choice = Choice()
        self.pack = PackDesk()
        self.unpack = UnpackDesk()
        self.plan: UnpackPlan | None = None
        self._history: list[Place] = []
        self._choose_after: list[Path] = []
        self._fail_after: BaseException | None = None
        self._list_task = Latest(background)
        self._size_task = Latest(background)
        self._plan_task = Latest(background)
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_SETTLE_MS)
        self._settle.timeout.connect(self._plan_landing)

    # Going about

    def open(self, paths: Iterable[Path]) -> None:
        """Stand where these paths say: in a folder, in an archive, or beside files with these chosen."""
        listed = [Path(path).absolute() for path in paths]
        if not listed:
            self.go(Place(Path.home()))
        elif len(listed) == 1 and listed[0].is_dir():
            self.go(Place(listed[0]))
        elif len(listed) == 1:
            self.enter_file(listed[0])
        else:
            self._choose_after = listed
            self.go(Place(listed[0].parent))

    def gather(self, paths: Iterable[Path]) -> None:
        """Take what was dragged in: stand where it lies with it chosen; a single archive is gone into."""
        listed = [Path(path).absolute() for path in paths]
        if len(listed) == 1 and listed[0].is_file() and sort_of(listed[0].name) == Sort.ARCHIVES:
            self.enter_file(listed[0])
        elif listed:
            self._choose_after = listed
            self.go(Place(listed[0].parent))

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
        if self._history:
            self._stand(self._history.pop())

    @property
    def can_go_back(self) -> bool:
        """Whether there is a place to go back to."""
        return bool(self._history)

    def up(self) -> None:
        """Stand one step further up, with the place that one came from chosen."""
        if not self.place.in_archive:
            self._choose_after = [self.place.folder]
        elif not self.place.inner and self.place.archive is not None:
            self._choose_after = [self.place.archive]
        self.go(self.place.up())

    def enter(self, node: int) -> None:
        """Go into a row: a folder, or a file that is an archive."""
        if isinstance(self.listing, ArchiveListing):
            if self.listing.is_folder(node):
                self.go(replace(self.place, inner=self.listing.tree.path(node)))
        elif isinstance(self.listing, DiskListing):
            item = self.listing.items[node - 1]
            if item.kind == Kind.DIR or (item.kind == Kind.LINK and item.path.is_dir()):
                self.go(Place(item.path))
            else:
                self.enter_file(item.path)

    def refresh(self, *, choose: Iterable[Path] = ()) -> None:
        """Look at the place again, keeping what is chosen on the disk."""
        if not self.place.in_archive:
            self._choose_after = list(choose) or self.chosen_paths()
        self._stand(self.place)

    def _remember(self) -> None:
        if self.listing is not None:
            self._history.append(self.place)

    def _stand(self, place: Place) -> None:
        if place.archive is not None:
            if self.archive is not None and self.archive.path == place.archive:
                self._settle_in(place, self.archive)
            else:
                self._open_archive(place)
            return
        self._list_task.run(
            lambda job: DiskListing.read(place.folder),
            done=lambda listing: self._on_disk(place, listing),
            failed=self._fail,
        )

    def _on_disk(self, place: Place, listing: DiskListing) -> None:
        self._leave_archive()
        if place.folder != self.place.folder:
            self.pack.folder, self.pack.stem_is_ours, self.pack.replace = None, True, False
        self._arrive(place, listing)
        self._count_folders(listing)
        wanted = [n for path in self._choose_after if (n := listing.node_of(path)) is not None]
        self._choose_after = []
        if wanted:
            self.restored.emit(wanted)
        failure, self._fail_after = self._fail_after, None
        if failure is not None:
            self._fail(failure)

    def _open_archive(self, place: Place, otherwise: Path | None = None) -> None:
        path = place.archive
        assert path is not None

        def work(job: Job) -> OpenArchive:
            partial = _Partial(
                lambda tree, sorts: self.background.tell(lambda: self._show_partial(place, job, tree, sorts))
            )
            reader = open_archive(path, Opening(job=job, found=partial.add))
            tree = ArchiveTree(reader.catalog)
            return OpenArchive(path, reader, tree, sorts_of(tree))

        def failed(error: BaseException) -> None:
            if otherwise is not None and isinstance(error, FileProblem | FormatError | LimitExceeded):
                self._choose_after = [otherwise]
                self._fail_after = error
                self._stand(Place(otherwise.parent))
            else:
                self._fail(error)

        self._list_task.run(work, done=lambda opened: self._settle_in(place, opened), failed=failed)

    def _show_partial(self, place: Place, job: Job, tree: ArchiveTree, sorts: NDArray[np.int64]) -> None:
        """While an archive is still being listed, show what was found so far."""
        if job.cancelled:
            return
        self._leave_archive()
        self.place = place
        self.moved.emit(place)
        self.listing = ArchiveListing(tree, ROOT, sorts)
        self.choice = Choice()
        self.opening.emit(self.listing)

    def _settle_in(self, place: Place, opened: OpenArchive) -> None:
        if self.archive is not opened:
            self._leave_archive()
            self.archive = opened
            self.unpack = UnpackDesk(own_folder=needs_own_folder(opened.reader))
        node = opened.tree.find(place.inner)
        listing = ArchiveListing(opened.tree, ROOT if node is None else node, opened.sorts)
        self._arrive(place, listing)
        self.unpack_changed.emit()
        self._settle.start()

    @property
    def needs_password(self) -> bool:
        """Whether the archive has locked entries and no password was given for it."""
        return (
            self.archive is not None
            and not self.archive.reader.unlocked
            and bool(self.archive.reader.catalog.encrypted.any())
        )

    def unlock(self, password: str) -> None:
        """Take the password of the archive, for as long as the window is in it."""
        opened = self.archive
        if opened is None:
            return
        try:
            opened.reader.unlock(password)
        except RundletError as error:
            self.unlock_failed.emit(error)
            return
        opened.password = password
        self.plan_again()
        self.unpack_changed.emit()

    def _leave_archive(self) -> None:
        self._size_task.drop()
        self._plan_task.drop()
        self._settle.stop()
        self.plan = None
        if self.archive is not None:
            self.archive.reader.close()
            self.archive = None

    def _arrive(self, place: Place, listing: Listing) -> None:
        self.place = place
        self.listing = listing
        self.choice = Choice()
        self.moved.emit(place)
        self.listed.emit(listing)
        self.choose(())

    def _fail(self, error: BaseException) -> None:
        if isinstance(error, Cancelled):
            return
        self.failed_to_list.emit(error)

    # Choosing

    def choose(self, nodes: Iterable[int]) -> None:
        """These rows are chosen, and no others."""
        self._count_choice(tuple(nodes))
        if self.pack.stem_is_ours:
            self.pack.stem = self._suggested()
        self.choice_changed.emit(self.choice)
        self.pack_changed.emit()
        if self.place.in_archive:
            self.plan = None
            self.unpack_changed.emit()
            self._settle.start()

    def _count_choice(self, nodes: tuple[int, ...]) -> None:
        listing = self.listing
        if isinstance(listing, DiskListing):
            items = [listing.items[n - 1] for n in nodes]
            self.choice = Choice(
                nodes,
                len(nodes),
                sum(item.files for item in items),
                sum(max(item.size, 0) for item in items),
                any(item.size == UNKNOWN for item in items),
            )
        elif isinstance(listing, ArchiveListing):
            tree = listing.tree
            rows = tree.rows_below(nodes) if nodes else np.zeros(0, np.int64)
            sizes = np.maximum(tree.catalog.size[rows], 0)
            files = int((tree.catalog.kind[rows] != Kind.DIR).sum())
            self.choice = Choice(nodes, len(nodes), files, int(sizes.sum()))

    def chosen_paths(self) -> list[Path]:
        """The chosen files and folders on the disk."""
        if not isinstance(self.listing, DiskListing):
            return []
        return [self.listing.items[n - 1].path for n in self.choice.nodes]

    def _suggested(self) -> str:
        paths = self.chosen_paths()
        return suggested_stem(paths) if paths else self.place.folder.name or "archive"

    def _count_folders(self, listing: DiskListing) -> None:
        """Fill in what folders hold, one after the other, without holding up anything."""
        folders = [(n, item.path) for n, item in enumerate(listing.items, 1) if item.kind == Kind.DIR]

        def work(job: Job) -> None:
            for node, path in folders:
                size, files = folder_size(path, tick=job.checkpoint)
                self.background.tell(lambda n=node, s=size, f=files: self._counted(listing, n, s, f))  # type: ignore[misc]

        if folders:
            self._size_task.run(work, done=lambda _: None, failed=lambda _: None)

    def _counted(self, listing: DiskListing, node: int, size: int, files: int) -> None:
        if listing is not self.listing:
            return
        listing.set_size(node, size, files)
        self.row_changed.emit(node)
        if node in self.choice.nodes:
            self._count_choice(self.choice.nodes)
            self.choice_changed.emit(self.choice)
            self.pack_changed.emit()

    # Packing

    def set_format(self, name: str) -> None:
        """Choose the format by its short name."""
        self.pack.info = by_id(name).info
        self.pack.level = self.pack.info.default_level
        self.pack_changed.emit()

    def set_level(self, level: int) -> None:
        """Choose the level."""
        self.pack.level = level
        self.pack_changed.emit()

    def set_stem(self, stem: str) -> None:
        """Name the archive; an ending of the format typed along is taken off again, as it stands behind anyway."""
        ending = self.pack.info.ending
        if stem.lower().endswith(ending):
            stem = stem[: -len(ending)]
        self.pack.stem, self.pack.stem_is_ours, self.pack.replace = stem.strip(), not stem.strip(), False
        if self.pack.stem_is_ours:
            self.pack.stem = self._suggested()
        self.pack_changed.emit()

    def set_pack_folder(self, folder: Path) -> None:
        """Say where the archive goes."""
        self.pack.folder, self.pack.replace = folder, False
        self.pack_changed.emit()

    def set_replace(self, replaces: bool) -> None:
        """Say whether a file of the name is replaced."""
        self.pack.replace = replaces
        self.pack_changed.emit()

    @property
    def pack_folder(self) -> Path:
        """Where the archive goes."""
        return self.pack.folder or self.place.folder

    @property
    def asked_target(self) -> Path:
        """The archive as it is named, whether or not the name is free."""
        return self.pack_folder / (self.pack.stem.replace("/", "_") + self.pack.info.ending)

    @property
    def pack_target(self) -> Path:
        """The archive as it will be called."""
        return self.asked_target if self.pack.replace else free_name(self.asked_target)

    @property
    def pack_clash(self) -> PackClash:
        """The rule for a name that is taken."""
        return PackClash.REPLACE if self.pack.replace else PackClash.RENAME

    @property
    def pack_free(self) -> int:
        """Bytes free where the archive goes."""
        return free_bytes(self.pack_folder)

    # Unpacking

    def change_unpack(self, change: Callable[[UnpackDesk], None]) -> None:
        """Change how or where to unpack, and work the landing out anew."""
        change(self.unpack)
        self.plan = None
        self.unpack_changed.emit()
        self._settle.start()

    @property
    def unpack_folder(self) -> Path:
        """The chosen folder, without the archive's own."""
        return self.unpack.folder or (self.archive.path.parent if self.archive else self.place.folder)

    @property
    def own_folder_name(self) -> str:
        """What the archive's own folder is called."""
        return own_folder_name(self.archive.path) if self.archive else ""

    def _plan_landing(self) -> None:
        opened, desk = self.archive, self.unpack
        if opened is None:
            return
        nodes = self.choice.nodes or ((self.listing.folder,) if isinstance(self.listing, ArchiveListing) else (TOP,))
        into, own = self.unpack_folder, self.own_folder_name if desk.own_folder else ""

        def work(job: Job) -> tuple[UnpackPlan, LandingListing]:
            rows = opened.tree.rows_below(nodes)
            plan = plan_unpack(
                opened.reader,
                rows,
                into=into,
                own_folder=own,
                keep_folders=desk.keep_folders,
                on_clash=desk.on_clash,
                job=job,
            )
            return plan, LandingListing(plan)

        self._plan_task.run(work, done=self._land, failed=self._plan_failed)

    def _land(self, outcome: tuple[UnpackPlan, LandingListing]) -> None:
        self.plan = outcome[0]
        self.landed.emit(*outcome)

    def _plan_failed(self, error: BaseException) -> None:
        if isinstance(error, RundletError):
            self.landing_failed.emit(error)

    def plan_again(self) -> None:
        """Work the landing out anew, after the disk has changed."""
        if self.archive is not None:
            self._settle.start()

    @property
    def at_rest(self) -> bool:
        """Whether nothing is about to be worked out."""
        return not self._settle.isActive()

    def close(self) -> None:
        """Let go of the archive."""
        self._leave_archive()
