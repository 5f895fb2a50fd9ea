"""The settings as they are set: one small file that all windows and the command line share."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from rundlet.core.fs.base_folders import config_folder
from rundlet.core.settings import SETTINGS
from rundlet.core.userdata.store import Store, Values

if TYPE_CHECKING:
    from rundlet.core.settings import Setting

T = TypeVar("T")


@dataclass(slots=True)
class Settings:
    """What is set, by the ids of settings.

    What the file says of settings that this version does not know is kept; a value that makes no sense counts as none.
    """

    file: Path = field(default_factory=lambda: config_folder() / "settings.json")
    _values: Values = field(default_factory=dict)

    @classmethod
    def read(cls, file: Path | None = None) -> Settings:
        """The settings as they are now."""
        settings = cls() if file is None else cls(file)
        settings._values = Store(settings.file).read()
        return settings

    def get(self, setting: Setting[T]) -> T:
        """What is set, or the default."""
        return setting.valid(self._values.get(setting.id, setting.default))

    def is_set(self, setting: Setting[Any]) -> bool:
        """Whether a value of its own is set."""
        return setting.id in self._values and setting.fits(self._values[setting.id])

    def set(self, setting: Setting[T], value: T) -> None:
        """Set a value; others may be set elsewhere at the same time.

        Raises:
            ValueError: when the setting can't have it.
        """
        if not setting.fits(value):
            raise ValueError(value)
        self._values = Store(self.file).change(lambda values: values.update({setting.id: value}))

    def reset(self, *settings: Setting[Any]) -> None:
        """Go back to the defaults."""

        def change(values: Values) -> None:
            for setting in settings:
                values.pop(setting.id, None)

        self._values = Store(self.file).change(change)

    def set_several(self, values: dict[str, Any]) -> None:
        """Set values by the ids of their settings, all at once; those that no setting can have are left out."""
        fitting = {each.id: values[each.id] for each in SETTINGS if each.id in values and each.fits(values[each.id])}
        self._values = Store(self.file).change(lambda now: now.update(fitting))

    def as_set(self) -> Values:
        """What is set, by the ids of the settings."""
        return {each.id: self.get(each) for each in SETTINGS if self.is_set(each)}
