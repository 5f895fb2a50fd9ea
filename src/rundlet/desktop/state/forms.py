"""What the window's state is made of: a place, a choice, an open archive, and what is set up on the two desks."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.format_info import FormatInfo, WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.core.text import number
from rundlet.core.userdata.presets import SavedSettings

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.tree import ArchiveTree


@dataclass(frozen=True, slots=True)
class Place:
    """Where the window stands.

    Attributes:
        folder: the folder on the disk.
        archive: the archive in it that was gone into, or None.
        inner: the folder in the archive, "" for its top.
        outer: where an archive within another one was gone into; its file is a private copy then.
    """

    folder: Path
    archive: Path | None = None
    inner: str = ""
    outer: Place | None = None

    @property
    def in_archive(self) -> bool:
        """Whether this is inside an archive."""
        return self.archive is not None

    def up(self) -> Place:
        """The place above."""
        if self.inner:
            return replace(self, inner=self.inner.rpartition("/")[0])
        if self.outer is not None:
            return self.outer
        if self.archive is not None:
            return Place(self.archive.parent)
        return Place(self.folder.parent)


@dataclass(frozen=True, slots=True)
class Selection:
    """What is chosen, counted.

    Attributes:
        nodes: the chosen rows of the listing.
        items: how many things are chosen, those in other folders too.
        files: files in all of them, folders counted through.
        size: their bytes.
        counting: whether folders are still being counted.
        elsewhere: how many of the items lie in other folders.
        folders: how many folders the items lie in.
        packed: the bytes that they take in the archive, or ``UNKNOWN`` on the disk and where entries share them.
        unseen: how many of the rows, the last ones of ``nodes``, are not shown as the list is narrowed.
    """

    nodes: tuple[int, ...] = ()
    items: int = 0
    files: int = 0
    size: int = 0
    counting: bool = False
    elsewhere: int = 0
    folders: int = 0
    packed: int = UNKNOWN
    unseen: int = 0

    @property
    def shown(self) -> tuple[int, ...]:
        """The chosen rows that are shown."""
        return self.nodes[: len(self.nodes) - self.unseen]

    @property
    def out_of_sight(self) -> str:
        """What else is chosen than what is in sight, in words for a button, or ""."""
        words = [f"{number(self.unseen)} hidden"] if self.unseen else []
        words += [f"{number(self.elsewhere)} in other folders"] if self.elsewhere else []
        return f" ({', '.join(words)})" if words else ""


@dataclass(slots=True)
class OpenArchive:
    """An archive that the window is in.

    Attributes:
        is_loose: whether its content is to go into a folder of its own.
        password: what opens it, or "".
        code_page: how the person says that its names are written; "" for nothing said.
        seen: what its files were when it was opened.
    """

    path: Path
    reader: ArchiveReader
    tree: ArchiveTree
    file_types: NDArray[np.int64]
    is_loose: bool
    password: str = field(default="", repr=False)
    code_page: str = ""
    seen: tuple[int, ...] = ()

    def reopened(self) -> ArchiveReader:
        """One more reader of it, unlocked, for work that goes on when the window leaves it.

        Raises:
            RundletError: when it can't be opened any more.
        """
        reader = open_archive(self.path, Opening(code_page=self.code_page or None, password=self.password or None))
        try:
            if self.password and not reader.unlocked:
                reader.unlock(self.password)
        except BaseException:
            reader.close()
            raise
        return reader


@dataclass(slots=True)
class PackForm:
    """What packing would do, as far as it is chosen by the person.

    Attributes:
        stem: the name without its ending.
        stem_is_ours: whether it was suggested and may change with the choice.
        folder: where the archive goes; None for the folder one stands in.
        clash: what becomes of the name when it is taken.
        password, hide_names: the lock; no password means none.
        lock_wanted: whether a lock was asked for, so that nothing is packed before its password is settled.
        part_size: bytes of each part, or 0.
        limit: bytes that the archive must fit into, or 0.
        bad_limit, bad_parts: whether something was written for these that is no size.
        leave_out, exclude: what is left out.
        follow: whether what links lead to is packed in their place.
        each: whether each thing that is chosen gets an archive of its own, named after it.
        read_back, trash: what happens when it is written.
    """

    info: FormatInfo = field(default_factory=lambda: WRITABLE[0].info)
    level: int = field(default_factory=lambda: WRITABLE[0].info.default_level)
    stem: str = ""
    stem_is_ours: bool = True
    folder: Path | None = None
    clash: PackClash = PackClash.RENAME
    password: str = field(default="", repr=False)
    hide_names: bool = False
    lock_wanted: bool = False
    part_size: int = 0
    limit: int = 0
    bad_limit: bool = False
    bad_parts: bool = False
    leave_out: LeaveOut = LeaveOut.NOTHING
    exclude: tuple[str, ...] = ()
    follow: bool = False
    each: bool = False
    read_back: bool = True
    trash: bool = False

    @property
    def settings(self) -> SavedSettings:
        """What of it can be kept under a name."""
        return SavedSettings(
            self.info.id,
            self.level,
            self.part_size,
            self.limit,
            LeaveOut.HIDDEN in self.leave_out,
            LeaveOut.EMPTY_FOLDERS in self.leave_out,
            self.exclude,
            self.follow,
            self.each,
            self.read_back,
            self.trash,
        )

    def take(self, settings: SavedSettings) -> None:
        """Choose what was kept."""
        self.info = by_id(settings.fmt).info
        self.level = self.info.level_for(settings.level)
        self.part_size, self.limit = settings.part_size, settings.limit
        self.leave_out = LeaveOut.HIDDEN if settings.hidden else LeaveOut.NOTHING
        self.leave_out |= LeaveOut.EMPTY_FOLDERS if settings.empty else LeaveOut.NOTHING
        self.exclude, self.follow, self.each = settings.exclude, settings.follow, settings.each
        self.read_back, self.trash = settings.read_back, settings.trash

    @property
    def lock_is_lost(self) -> bool:
        """Whether a lock is asked for that the format can't give."""
        return self.lock_wanted and not self.info.can_lock

    @property
    def hidden_names_are_lost(self) -> bool:
        """Whether the names are to be hidden by a format that can't."""
        return self.lock_wanted and self.hide_names and not self.info.can_hide_names

    @property
    def lock_is_open(self) -> bool:
        """Whether a lock is asked for whose password is not settled yet."""
        return self.lock_wanted and self.info.can_lock and not self.password

    @property
    def options(self) -> WriteOptions:
        """How the archive is written."""
        password = self.password if self.info.can_lock else ""
        return WriteOptions(
            self.level, password=password, hide_names=bool(password) and self.hide_names and self.info.can_hide_names
        )


@dataclass(slots=True)
class UnpackForm:
    """What unpacking would do, as far as it is chosen by the person; ``folder`` as in :class:`PackForm`.

    Attributes:
        archive: the archive that it was chosen for.
        rules: other rules for single names, by where they would land in the folder.
        after: what becomes of the archive when all went well.
        show: whether what came out is shown in the file manager afterwards.
    """

    archive: Path | None = None
    folder: Path | None = None
    own_folder: bool = True
    keep_folders: bool = True
    on_clash: UnpackClash = UnpackClash.RENAME
    rules: dict[tuple[str, ...], UnpackClash] = field(default_factory=dict)
    after: Afterwards = Afterwards.STAYS
    show: bool = False
