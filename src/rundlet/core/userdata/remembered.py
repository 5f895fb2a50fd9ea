"""What was chosen last, and comes back at the next start without having been set: format, view, order, window."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rundlet.core.fs.base_folders import state_folder
from rundlet.core.userdata.store import Store, Values


@dataclass(slots=True)
class Remembered:
    """Values by name, in one file. One that makes no sense counts as none.

    Args:
        file: where they are kept.
    """

    file: Path = field(default_factory=lambda: state_folder() / "window.json")
    _values: Values = field(default_factory=dict)

    @classmethod
    def read(cls, file: Path | None = None) -> Remembered:
        """What is remembered now."""
        remembered = cls() if file is None else cls(file)
        remembered._values = Store(remembered.file).read()
        return remembered

    def text(self, name: str) -> str:
        """A remembered word, or ""."""
        value = self._values.get(name)
        return value if isinstance(value, str) else ""

    def number(self, name: str, otherwise: int) -> int:
        """A remembered whole number, or another one."""
        value = self._values.get(name)
        return value if isinstance(value, int) and not isinstance(value, bool) else otherwise

    def numbers(self, name: str) -> list[int]:
        """Remembered whole numbers, or none."""
        values = self._values.get(name)
        return [value for value in values if isinstance(value, int)] if isinstance(values, list) else []

    def keep(self, values: dict[str, Any]) -> None:
        """Remember these values, and go on remembering the others."""
        self._values = Store(self.file).change(lambda now: now.update(values))

    def forget(self) -> None:
        """Forget all of it."""
        self._values = Store(self.file).change(lambda now: now.clear())
