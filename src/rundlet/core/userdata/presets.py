"""Ways to pack that a person keeps under a name of their own. Passwords are never among them."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, fields
from pathlib import Path

from rundlet.core.formats.detect import WRITABLE
from rundlet.core.fs.base_folders import config_folder, former_folder, moved_from
from rundlet.core.userdata.store import Store, Values


@dataclass(frozen=True, slots=True)
class SavedSettings:
    """How something is packed.

    Attributes:
        fmt, level: the format by its short name, and 0 to 9.
        part_size, limit: bytes of each part, and bytes that it must fit into; 0 for none.
        hidden, empty: whether hidden files and empty folders are left out.
        exclude: patterns of names that are left out.
        follow: whether what links lead to is packed in their place.
        each: whether each thing gets an archive of its own.
        read_back, trash: what happens when it is written.
    """

    fmt: str
    level: int
    part_size: int = 0
    limit: int = 0
    hidden: bool = False
    empty: bool = False
    exclude: tuple[str, ...] = ()
    follow: bool = False
    each: bool = False
    read_back: bool = True
    trash: bool = False


@dataclass(slots=True)
class Presets:
    """The ways in one file, by their names. A file that can't be read or written is as good as none."""

    file: Path = field(default_factory=lambda: moved_from(former_folder() / "ways.json", config_folder() / "ways.json"))
    saved: dict[str, SavedSettings] = field(default_factory=dict)

    @classmethod
    def read(cls, file: Path | None = None) -> Presets:
        """The ways as they were kept; one that makes no sense any more is passed over."""
        presets = cls() if file is None else cls(file)
        presets._take(Store(presets.file).read())
        return presets

    def keep(self, name: str, settings: SavedSettings) -> None:
        """Keep a way under a name, in the place of one that had it."""
        self._take(Store(self.file).change(lambda values: values.update({name: asdict(settings)})))

    def forget(self, name: str) -> None:
        """Keep a way no longer."""
        self._take(Store(self.file).change(lambda values: values.pop(name, None)))

    def _take(self, values: Values) -> None:
        """What the file holds, with what other windows have kept meanwhile."""
        saved = {name: settings_from(value) for name, value in values.items()}
        self.saved = {name: settings for name, settings in saved.items() if settings is not None}


def settings_from(values: object) -> SavedSettings | None:
    """Settings from what a file holds; None where they make no sense."""
    kinds = {"fmt": str, "level": int, "part_size": int, "limit": int, "exclude": list}
    if not isinstance(values, dict) or "fmt" not in values or "level" not in values:
        return None
    known = {f.name: values[f.name] for f in fields(SavedSettings) if f.name in values}
    if not all(type(value) is kinds.get(name, bool) for name, value in known.items()):
        return None
    if not (0 <= known["level"] <= 9 and known.get("part_size", 0) >= 0 and known.get("limit", 0) >= 0):
        return None
    if known["fmt"] not in {f.info.id for f in WRITABLE}:
        return None
    known["exclude"] = tuple(map(str, known.get("exclude", ())))
    return SavedSettings(**known)
