"""The half of the window's state that is about packing: the desk, the name of the archive and where it goes."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from rundlet.core.formats.detect import by_ending, by_id
from rundlet.core.fs.disk_space import free_bytes
from rundlet.core.limits import MAX_COMPONENT
from rundlet.core.plans.pack_plan import PackClash, free_name, suggested_stem
from rundlet.core.streams.parts import is_taken_by_parts
from rundlet.desktop.state.forms import PackForm, Place


class PackSetup(QObject):
    """What packing would do with what is chosen.

    Signals:
        pack_changed: something of it changed.
        set_ended: what was said of one set alone is forgotten: its lock, its name, and that its originals may go.
    """

    pack_changed = Signal()
    set_ended = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.place = Place(Path.home())
        self.pack = PackForm()

    def chosen_paths(self) -> tuple[Path, ...]:
        """The chosen files and folders on the disk."""
        raise NotImplementedError

    def suggested(self) -> str:
        """A name for an archive of what is chosen."""
        paths = self.chosen_paths()
        return suggested_stem(paths) if paths else self.place.folder.name or "archive"

    def set_format(self, name: str) -> None:
        """Choose the format by its short name."""
        self.pack.info = by_id(name).info
        self.pack.level = self.pack.info.default_level
        self.pack_changed.emit()

    def set_level(self, level: int) -> None:
        """Choose the level."""
        self.pack.level = level
        self.pack_changed.emit()

    def set_format_and_level(self, name: str, level: int) -> None:
        """Choose both at once."""
        self.pack.info, self.pack.level = by_id(name).info, level
        self.pack_changed.emit()

    def change_pack(self, change: Callable[[PackForm], None]) -> None:
        """Change something else of how is packed."""
        change(self.pack)
        self.pack_changed.emit()

    def finish_stem(self) -> None:
        """The name was typed to its end: an ending that stands for a format chooses it, and stands behind the name then."""
        found = by_ending(Path(self.pack.stem))
        if found is None or self.pack.stem_is_ours:
            return
        stem = self.pack.stem
        ending = next(e for e in (found.info.ending, *found.info.other_endings) if stem.lower().endswith(e))
        if found.info.id != self.pack.info.id:
            self.pack.info, self.pack.level = found.info, found.info.default_level
        self.set_stem(stem[: -len(ending)])

    def end_set(self) -> None:
        """A set was packed or let go of: what was said of it alone does not hold for the next one."""
        form = self.pack
        form.stem_is_ours, form.clash = True, PackClash.RENAME
        form.password, form.lock_wanted, form.hide_names, form.trash = "", False, False, False
        self.suggest_stem()
        self.set_ended.emit()
        self.pack_changed.emit()

    def set_stem(self, stem: str) -> None:
        """Name the archive; an ending of the format typed along is taken off again, as it stands behind anyway."""
        ending = self.pack.info.ending
        if stem.lower().endswith(ending):
            stem = stem[: -len(ending)]
        self.pack.stem, self.pack.stem_is_ours, self.pack.clash = stem.strip(), not stem.strip(), PackClash.RENAME
        if self.pack.stem_is_ours:
            self.pack.stem = self.suggested()
        self.pack_changed.emit()

    def set_pack_folder(self, folder: Path) -> None:
        """Say where the archive goes."""
        self.pack.folder, self.pack.clash = folder, PackClash.RENAME
        self.pack_changed.emit()

    def suggest_stem(self) -> None:
        """Name the archive after what is chosen, unless the person named it; what was said of another name does not hold."""
        stem = self.suggested()
        if self.pack.stem_is_ours and stem != self.pack.stem:
            self.pack.stem, self.pack.clash = stem, PackClash.RENAME

    def set_clash(self, clash: PackClash) -> None:
        """Say what becomes of the name when it is taken."""
        self.pack.clash = clash
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
        return (
            free_name(self.asked_target, in_parts=self.pack.part_size > 0)
            if self.pack_clash == PackClash.RENAME
            else self.asked_target
        )

    @property
    def target_is_taken(self) -> bool:
        """Whether the name is taken, by the archive or by its first part."""
        asked = self.asked_target
        return is_taken_by_parts(asked) if self.pack.part_size else os.path.lexists(asked)

    @property
    def pack_clash(self) -> PackClash:
        """The rule for a name that is taken; it was said of one name, which is a file, and parts are not added to."""
        in_parts = self.pack.clash == PackClash.ADD and self.pack.part_size > 0
        return PackClash.RENAME if in_parts or self.pack.each or os.path.isdir(self.asked_target) else self.pack.clash

    @property
    def added_to(self) -> int:
        """Bytes of the archive that is added to; 0 when none is."""
        try:
            return self.asked_target.stat().st_size if self.pack_clash == PackClash.ADD else 0
        except OSError:
            return 0

    @property
    def name_is_too_long(self) -> bool:
        """Whether no disk keeps the name, with what is put behind it for parts."""
        return len(os.fsencode(self.asked_target.name)) + (4 if self.pack.part_size else 0) > MAX_COMPONENT

    @property
    def pack_free(self) -> int:
        """Bytes free where the archive goes."""
        return free_bytes(self.pack_folder)
