"""Places a person comes back to: favourites, recent folders and archives, and drives; kept over restarts."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from rundlet.core.fs.base_folders import former_folder, moved_from, state_folder
from rundlet.core.fs.disk_space import MOUNTS, mounts
from rundlet.core.userdata.store import Store, Values

_LISTS = ("favourites", "folders", "archives")
_KEPT = 8
_SMALLEST = 1_000_000  # bytes; what is smaller is nothing that files are kept on
_DRIVE_PLACES = ("/media/", "/mnt/", "/run/media/", "/home")


@dataclass(frozen=True, slots=True)
class Drive:
    """A disk or stick.

    Attributes:
        path: the folder it stands at.
        free, size: bytes.
    """

    path: Path
    free: int
    size: int


@dataclass(slots=True)
class Places:
    """The places, in one file. A file that can't be read or written is as good as none.

    Attributes:
        favourites: folders that the person keeps.
        folders: folders that something was packed or unpacked into, the last one first.
        archives: archives that were opened or made, the last one first.
        last: the folder that the last window stood in, or "".
    """

    file: Path = field(
        default_factory=lambda: moved_from(former_folder() / "places.json", state_folder() / "places.json")
    )
    favourites: list[str] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)
    archives: list[str] = field(default_factory=list)
    last: str = ""
    _changes: list[Callable[[Places], None]] = field(default_factory=list)

    @classmethod
    def read(cls, file: Path | None = None) -> Places:
        """The places as they were kept."""
        places = cls() if file is None else cls(file)
        places._take(Store(places.file).read())
        return places

    def _take(self, values: Values) -> None:
        for name in _LISTS:
            kept = values.get(name)
            setattr(self, name, [str(path) for path in kept] if isinstance(kept, list) else [])
        self.last = str(values.get("last", ""))

    def _note(self, change: Callable[[Places], None]) -> None:
        """Make a change now, and once more in the file, which other windows may have changed meanwhile."""
        change(self)
        self._changes.append(change)

    def note_folder(self, folder: Path) -> None:
        """Something was put into a folder."""
        self._note(lambda places: setattr(places, "folders", _first(folder, places.folders)))

    def note_archive(self, archive: Path) -> None:
        """An archive was opened or made."""
        self._note(lambda places: setattr(places, "archives", _first(archive, places.archives)))

    def note_last(self, folder: Path) -> None:
        """A window that stood in a folder was closed."""
        self._note(lambda places: setattr(places, "last", str(folder)))

    def forget(self) -> None:
        """Forget where one was; favourites stay."""

        def change(places: Places) -> None:
            places.folders, places.archives, places.last = [], [], ""

        self._note(change)

    def toggle_favourite(self, folder: Path) -> None:
        """Keep a folder as a favourite, or no longer."""
        path, is_one = str(folder), str(folder) not in self.favourites

        def change(places: Places) -> None:
            places.favourites = [other for other in places.favourites if other != path] + [path] * is_one

        self._note(change)

    def write(self) -> None:
        """Keep the places; no work for the interface's thread, as a disk may be busy."""
        changes, self._changes = self._changes, []

        def change(values: Values) -> None:
            now = Places(self.file)
            now._take(values)
            for made in changes:
                made(now)
            values.update({name: getattr(now, name) for name in (*_LISTS, "last")})

        Store(self.file).change(change)


def there(paths: Iterable[str]) -> list[Path]:
    """Those of some places that are still there."""
    return [path for path in map(Path, paths) if os.path.exists(path)]


def _first(path: Path, before: list[str]) -> list[str]:
    return [str(path), *(other for other in before if other != str(path))][:_KEPT]


def drives(table: Path = MOUNTS) -> list[Drive]:
    """Disks and sticks that files can be kept on. May take a while where one does not answer."""
    found: dict[Path, Drive] = {}
    for place, _ in mounts(table):
        if place != "/" and not (place + "/").startswith(_DRIVE_PLACES):
            continue
        try:
            status = os.statvfs(place)
        except OSError:
            continue
        size = status.f_blocks * status.f_frsize
        if size >= _SMALLEST and os.path.isdir(place):
            found[Path(place)] = Drive(Path(place), status.f_bavail * status.f_frsize, size)
    return list(found.values())
