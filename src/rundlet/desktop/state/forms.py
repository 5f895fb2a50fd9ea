"""What is filled in for packing and for unpacking."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path

from rundlet.core.formats.detect import WRITABLE, by_id
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.model.format_info import FormatInfo, WriteOptions
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.core.userdata.presets import SavedSettings


class IfTaken(Enum):
    """What becomes of a new archive whose name is taken."""

    RENAME = "rename"
    REPLACE = "replace"
    ADD = "add"


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
    clash: IfTaken = IfTaken.RENAME
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
