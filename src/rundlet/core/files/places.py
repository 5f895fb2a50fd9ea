"""Places a person comes back to: favourites, recent folders and archives, and drives; kept over restarts."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field
from pathlib import Path

import platformdirs

from rundlet.core.files.kept import keep_text
from rundlet.core.files.space import MOUNTS, mounts

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

    file: Path = field(default_factory=lambda: Path(platformdirs.user_data_dir("rundlet")) / "places.json")
    favourites: list[str] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)
    archives: list[str] = field(default_factory=list)
    last: str = ""

    @classmethod
    def read(cls, file: Path | None = None) -> Places:
        """The places as they were kept."""
        places = cls() if file is None else cls(file)
        try:
            values = json.loads(places.file.read_text("utf-8", "surrogateescape"))
            for name in ("favourites", "folders", "archives"):
                setattr(places, name, [str(path) for path in values.get(name, [])])
            places.last = str(values.get("last", ""))
        except (OSError, ValueError, AttributeError, TypeError):
            pass
        return places

    def note_folder(self, folder: Path) -> None:
        """Something was put into a folder."""
        self.folders = _first(folder, self.folders)

    def note_archive(self, archive: Path) -> None:
        """An archive was opened or made."""
        self.archives = _first(archive, self.archives)

    def note_last(self, folder: Path) -> None:
        """A window that stood in a folder was closed."""
        self.last = str(folder)

    def toggle_favourite(self, folder: Path) -> None:
        """Keep a folder as a favourite, or no longer."""
        if str(folder) in self.favourites:
            self.favourites.remove(str(folder))
        else:
            self.favourites.append(str(folder))

    def write(self) -> None:
        """Keep the places; no work for the interface's thread, as a disk may be busy."""
        values = asdict(self)
        del values["file"]
        with contextlib.suppress(OSError):
            keep_text(self.file, json.dumps(values, indent=1))


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
