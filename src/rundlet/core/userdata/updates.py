"""How archives are brought up to date, under names: once saved, that is done again with one press."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rundlet.core.fs.base_folders import state_folder
from rundlet.core.userdata.store import Store, Values

_MOST = 200  # archives


@dataclass(frozen=True, slots=True)
class Update:
    """How an archive is brought up to date.

    Attributes:
        folder: the folder on the disk that it is compared with.
        delete_gone: whether what the folder no longer has goes from the archive, too.
        compare_content: whether files of the same size and time are compared, too.
    """

    folder: Path
    delete_gone: bool = False
    compare_content: bool = False


@dataclass(slots=True)
class Updates:
    """All of them in one file. A file that can't be read or written is as good as none."""

    file: Path = field(default_factory=lambda: state_folder() / "updates.json")

    def of(self, archive: Path) -> dict[str, Update]:
        """Those of an archive by their names, the oldest first."""
        saved = Store(self.file).read().get(str(archive))
        found = {name: _update(value) for name, value in saved.items()} if isinstance(saved, dict) else {}
        return {name: update for name, update in found.items() if update is not None}

    def save(self, archive: Path, name: str, update: Update) -> None:
        """Save one under a name, in the place of one of this archive that had it."""

        def change(values: Values) -> None:
            saved = values.pop(str(archive), None)
            values[str(archive)] = saved = saved if isinstance(saved, dict) else {}
            saved[name] = {
                "folder": str(update.folder),
                "delete_gone": update.delete_gone,
                "compare_content": update.compare_content,
            }
            for old in list(values)[:-_MOST]:
                del values[old]

        Store(self.file).change(change)

    def delete(self, archive: Path, name: str) -> None:
        """Save one no longer."""

        def change(values: Values) -> None:
            saved = values.get(str(archive))
            if isinstance(saved, dict):
                saved.pop(name, None)

        Store(self.file).change(change)


def _update(value: Any) -> Update | None:
    if not isinstance(value, dict) or not isinstance(value.get("folder"), str):
        return None
    return Update(Path(value["folder"]), value.get("delete_gone") is True, value.get("compare_content") is True)
