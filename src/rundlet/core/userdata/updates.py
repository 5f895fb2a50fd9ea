"""Which folder each archive was compared with last, so that it can be brought up to date again with one press."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from rundlet.core.fs.base_folders import state_folder
from rundlet.core.userdata.store import Store, Values

_MOST = 200


@dataclass(frozen=True, slots=True)
class Update:
    """How an archive is brought up to date.

    Attributes:
        folder: the folder on the disk.
        delete_gone: whether what the folder no longer has goes from the archive, too.
    """

    folder: Path
    delete_gone: bool


@dataclass(slots=True)
class Updates:
    """All of them in one file. A file that can't be read or written is as good as none."""

    file: Path = field(default_factory=lambda: state_folder() / "updates.json")

    def of(self, archive: Path) -> Update | None:
        """How an archive was brought up to date last, or None."""
        value = Store(self.file).read().get(str(archive))
        if not isinstance(value, dict) or not isinstance(value.get("folder"), str):
            return None
        return Update(Path(value["folder"]), value.get("delete_gone") is True)

    def note(self, archive: Path, update: Update) -> None:
        """Remember how an archive is brought up to date."""

        def change(values: Values) -> None:
            values.pop(str(archive), None)
            values[str(archive)] = {"folder": str(update.folder), "delete_gone": update.delete_gone}
            for old in list(values)[:-_MOST]:
                del values[old]

        Store(self.file).change(change)
