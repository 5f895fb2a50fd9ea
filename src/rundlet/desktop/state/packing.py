"""What packing would do with what is selected: what is filled in, the name of the archive and where it goes."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.formats.detect import WRITABLE, by_ending, by_id
from rundlet.core.fs.disk_space import disk_rules, free_bytes
from rundlet.core.limits import MAX_COMPONENT
from rundlet.core.plans.pack_plan import free_name, suggested_stem
from rundlet.core.settings import PACK_FOLDER, PACK_FORMAT, PACK_LEVEL, PACK_VERIFY
from rundlet.core.streams.parts import is_taken_by_parts
from rundlet.desktop.state.forms import IfTaken, PackForm

if TYPE_CHECKING:
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.desktop.state.standpoint import Standpoint


class Packing(QObject):
    """What packing would do with what is selected.

    Args:
        selected: gives the selected files and folders on the disk.
        suggest: gives a name for the archive; by default it is named after what is selected.

    Signals:
        changed: something of it changed.
        set_ended: what was said of one set alone is forgotten: its lock, its name, and that its originals may go.
    """

    changed = Signal()
    set_ended = Signal()

    def __init__(
        self,
        at: Standpoint,
        selected: Callable[[], Sequence[Path]],
        settings: Settings,
        parent: QObject,
        *,
        suggest: Callable[[], str] | None = None,
    ) -> None:
        super().__init__(parent)
        self._suggest = suggest
        self._at = at
        self._selected = selected
        self._settings = settings
        self.form = PackForm()
        self.take_settings()

    def take_settings(self, last_format: str = "", last_level: int = -1) -> None:
        """Start from what is set, and from what was chosen last where nothing is.

        Args:
            last_format: the short name of a format; "" for none.
            last_level: 0 to 9; -1 for none.
        """
        settings, form = self._settings, self.form
        name = settings.get(PACK_FORMAT)
        if not settings.is_set(PACK_FORMAT) and any(last_format == each.info.id for each in WRITABLE):
            name = last_format
        level = settings.get(PACK_LEVEL)
        if not (settings.is_set(PACK_LEVEL) or settings.is_set(PACK_FORMAT)) and 0 <= last_level <= 9:
            level = last_level
        form.info = by_id(name).info
        form.level = form.info.default_level if level < 0 else form.info.level_for(level)
        form.read_back = settings.get(PACK_VERIFY)
        self.changed.emit()

    def suggested(self) -> str:
        """A name for an archive of what is chosen."""
        if self._suggest is not None:
            return self._suggest()
        paths = self._selected()
        return suggested_stem(paths) if paths else self._at.place.folder.name or "archive"

    def set_format(self, name: str) -> None:
        """Choose the format by its short name."""
        self.form.info = by_id(name).info
        self.form.level = self.form.info.default_level
        self.changed.emit()

    def set_level(self, level: int) -> None:
        """Choose the level."""
        self.form.level = level
        self.changed.emit()

    def set_format_and_level(self, name: str, level: int) -> None:
        """Choose both at once."""
        self.form.info, self.form.level = by_id(name).info, level
        self.changed.emit()

    def change(self, change: Callable[[PackForm], None]) -> None:
        """Change something else of how is packed."""
        change(self.form)
        self.changed.emit()

    def finish_stem(self) -> None:
        """The name was typed to its end: an ending that stands for a format chooses it, and stands behind the name then."""
        found = by_ending(Path(self.form.stem))
        if found is None or self.form.stem_is_ours:
            return
        stem = self.form.stem
        ending = next(e for e in (found.info.ending, *found.info.other_endings) if stem.lower().endswith(e))
        if found.info.id != self.form.info.id:
            self.form.info, self.form.level = found.info, found.info.default_level
        self.set_stem(stem[: -len(ending)])

    def end_set(self) -> None:
        """A set was packed or let go of: what was said of it alone does not hold for the next one."""
        form = self.form
        form.stem_is_ours, form.clash = True, IfTaken.RENAME
        form.password, form.lock_wanted, form.hide_names, form.trash = "", False, False, False
        self.suggest_stem()
        self.set_ended.emit()
        self.changed.emit()

    def set_stem(self, stem: str) -> None:
        """Name the archive; an ending of the format typed along is taken off again, as it stands behind anyway."""
        ending = self.form.info.ending
        if stem.lower().endswith(ending):
            stem = stem[: -len(ending)]
        self.form.stem, self.form.stem_is_ours, self.form.clash = stem.strip(), not stem.strip(), IfTaken.RENAME
        if self.form.stem_is_ours:
            self.form.stem = self.suggested()
        self.changed.emit()

    def set_folder(self, folder: Path) -> None:
        """Say where the archive goes."""
        self.form.folder, self.form.clash = folder, IfTaken.RENAME
        self.changed.emit()

    def suggest_stem(self) -> None:
        """Name the archive after what is chosen, unless the person named it; what was said of another name does not hold."""
        stem = self.suggested()
        if self.form.stem_is_ours and stem != self.form.stem:
            self.form.stem, self.form.clash = stem, IfTaken.RENAME

    def set_clash(self, clash: IfTaken) -> None:
        """Say what becomes of the name when it is taken."""
        self.form.clash = clash
        self.changed.emit()

    @property
    def folder(self) -> Path:
        """Where the archive goes."""
        return self.form.folder or self._usual_folder or self._at.place.folder

    @property
    def _usual_folder(self) -> Path | None:
        """The folder for all new archives of what is selected, where one is set and there."""
        usual = self._settings.get(PACK_FOLDER) if self._suggest is None else ""
        return Path(usual) if usual and os.path.isdir(usual) else None

    @property
    def asked_target(self) -> Path:
        """The archive as it is named, whether or not the name is free."""
        return self.folder / (self.form.stem.replace("/", "_") + self.form.info.ending)

    @property
    def target(self) -> Path:
        """The archive as it will be called."""
        return (
            free_name(self.asked_target, in_parts=self.form.part_size > 0)
            if self.clash == IfTaken.RENAME
            else self.asked_target
        )

    @property
    def target_is_taken(self) -> bool:
        """Whether the name is taken, by the archive or by its first part."""
        asked = self.asked_target
        return is_taken_by_parts(asked) if self.form.part_size else os.path.lexists(asked)

    @property
    def clash(self) -> IfTaken:
        """The rule for a name that is taken; it was said of one name, which is a file, and parts are not added to."""
        in_parts = self.form.clash == IfTaken.ADD and self.form.part_size > 0
        return IfTaken.RENAME if in_parts or self.form.each or os.path.isdir(self.asked_target) else self.form.clash

    @property
    def added_to(self) -> int:
        """Bytes of the archive that is added to; 0 when none is."""
        try:
            return self.asked_target.stat().st_size if self.clash == IfTaken.ADD else 0
        except OSError:
            return 0

    @property
    def name_is_too_long(self) -> bool:
        """Whether no disk keeps the name, with what is put behind it for parts."""
        return len(os.fsencode(self.asked_target.name)) + (4 if self.form.part_size else 0) > MAX_COMPONENT

    @property
    def largest_file(self) -> int:
        """Bytes of the largest file that the disk where the archive goes can hold; 0 for any."""
        return disk_rules(self.folder).largest

    @property
    def free(self) -> int:
        """Bytes free where the archive goes."""
        return free_bytes(self.folder)
