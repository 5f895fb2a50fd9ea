"""Every setting: what it is for, its default and its bounds. Shared by the window and the command line."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import Enum
from typing import Any, Generic, TypeVar

from rundlet.core.limits import DEFAULT, INDEX_TOTAL, MIB
from rundlet.core.sentences import fill
from rundlet.core.text import parse_size

T = TypeVar("T")


class Kind(Enum):
    """What kind of value a setting has."""

    SWITCH = "switch"
    NUMBER = "number"
    SIZE = "size"
    CHOICE = "choice"
    SEVERAL = "several"
    FOLDER = "folder"


_NONE = "“”"
_YES, _NO = ("yes", "true", "on", "1"), ("no", "false", "off", "0")


@dataclass(frozen=True, slots=True)
class Setting(Generic[T]):
    """One thing that a person can set.

    Attributes:
        id: what files and the command line know it by; it never changes.
        default: what holds while nothing is set.
        help: what it changes, in a few words.
        fits: whether a value read from a file is one that it can have.
        parse: a value as it is typed; raises ``ValueError`` when it is none.
        words: what can be typed, in a few words.
        show: a value as it is typed.
        kind: what kind of value it has.
        choices: the values, where it has one of some, or the words in it, where it has several with commas between.
        bounds: the least and the most that it can be, where it is a number.
    """

    id: str
    default: T
    help: str
    fits: Callable[[object], bool] = field(repr=False)
    parse: Callable[[str], T] = field(repr=False)
    words: str = ""
    show: Callable[[Any], str] = field(default=str, repr=False)
    kind: Kind = Kind.SWITCH
    choices: tuple[str, ...] = ()
    bounds: tuple[int, int] = (0, 0)

    def valid(self, value: object) -> T:
        """A value as it is, or the default where it is none that the setting can have."""
        return value if self.fits(value) else self.default  # type: ignore[return-value]


def _switch(id: str, default: bool, help: str) -> Setting[bool]:
    def parse(words: str) -> bool:
        if words.lower() not in _YES + _NO:
            raise ValueError(words)
        return words.lower() in _YES

    return Setting(id, default, help, lambda value: isinstance(value, bool), parse, "yes or no", _show_switch)


def _show_switch(value: bool) -> str:
    return "yes" if value else "no"


def _number(id: str, default: int, help: str, *, least: int, most: int) -> Setting[int]:
    def fits(value: object) -> bool:
        return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most

    def parse(words: str) -> int:
        if not fits(value := int(words)):
            raise ValueError(words)
        return value

    words = fill("{least} to {most}", {"least": least, "most": most})
    return Setting(id, default, help, fits, parse, words, kind=Kind.NUMBER, bounds=(least, most))


def _size(id: str, default: int, help: str, *, least: int) -> Setting[int]:
    def fits(value: object) -> bool:
        return isinstance(value, int) and not isinstance(value, bool) and value >= least

    def parse(words: str) -> int:
        if not fits(value := parse_size(words, with_unit=True)) or value is None:
            raise ValueError(words)
        return value

    words = fill("a size such as 2GB, at least {least}", {"least": _exact(least)})
    return Setting(id, default, help, fits, parse, words, _exact, Kind.SIZE)


def _exact(size: int) -> str:
    """A size that reads as no other one."""
    units = ((1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB"))
    return next(
        (f"{size // unit} {word}" for unit, word in units if not size % unit), fill("{size} bytes", {"size": size})
    )


def _choice(id: str, choices: Sequence[str], help: str) -> Setting[str]:
    """One of some words, the first of which is the default."""

    def parse(words: str) -> str:
        if words not in choices:
            raise ValueError(words)
        return words

    words = ", ".join(choices)
    return Setting(
        id, choices[0], help, lambda value: value in choices, parse, words, kind=Kind.CHOICE, choices=tuple(choices)
    )


def _several(id: str, choices: Sequence[str], help: str) -> Setting[str]:
    """Any of some words, with commas between; all of them is the default."""

    def parse(words: str) -> str:
        chosen = [] if words == _NONE else [word.strip() for word in words.split(",")]
        if not set(chosen) <= set(choices):
            raise ValueError(words)
        return ",".join(choice for choice in choices if choice in chosen)

    def fits(value: object) -> bool:
        try:
            return isinstance(value, str) and parse(value or _NONE) == value
        except ValueError:
            return False

    words = fill("any of {words} with commas between, or “” for none", {"words": ", ".join(choices)})
    return Setting(
        id,
        ",".join(choices),
        help,
        fits,
        parse,
        words,
        lambda value: value or _NONE,
        Kind.SEVERAL,
        tuple(choices),
    )


def _folder(id: str, help: str) -> Setting[str]:
    """A folder by its whole path, or "" for none."""

    def fits(value: object) -> bool:
        return isinstance(value, str) and (not value or value.startswith("/")) and "\0" not in value

    def parse(words: str) -> str:
        words = "" if words == _NONE else os.path.expanduser(words)  # noqa: PTH111 - a Path raises where there is no such person
        if not fits(words):
            raise ValueError(words)
        return os.path.normpath(words) if words else ""

    return Setting(
        id,
        "",
        help,
        fits,
        parse,
        "the whole path of a folder, or “” for none",
        lambda value: value or _NONE,
        Kind.FOLDER,
    )


PACK_FORMAT = _choice(
    "pack.format", ("zip", "7z", "tar.gz", "tar.xz", "tar.bz2", "tar.zst", "tar"), "the format that is proposed"
)
PACK_LEVEL = _number("pack.level", -1, "the compression level; -1 for the usual one of the format", least=-1, most=9)
PACK_VERIFY = _switch("pack.verify", True, "check each archive after packing, in the window")
PACK_FOLDER = _folder("pack.folder", "the folder for new archives; none for beside what is packed")
UNPACK_CLASH = _choice(
    "unpack.clash", ("rename", "replace", "newer", "skip"), "what happens to names that are already taken"
)
UNPACK_FOLDER = _folder("unpack.folder", "the folder to unpack into; none for beside the archive")
UNPACK_OWN = _choice(
    "unpack.own-folder", ("needed", "always", "never"), "when what is unpacked gets a folder named after the archive"
)
UNPACK_SHOW = _switch("unpack.show", False, "show what was unpacked in the file manager afterwards")
UNPACK_MEMORY = _size("unpack.memory", DEFAULT.memory_bytes, "the most memory that unpacking may take", least=64 * MIB)
LOOK = _choice("look.colours", ("desktop", "light", "dark"), "light or dark, or as the desktop is")
TEXT_SIZE = _number("look.text-size", 100, "the size of the text in percent of the desktop's", least=75, most=200)
HIDDEN_FILES = _switch("list.hidden-files", False, "show hidden files")
LIST_COLUMNS = _several(
    "list.columns", ("kind", "size", "share", "changed"), "the columns of the list beside the names"
)
NOTIFY = _switch("desktop.notify", True, "tell when a long job has ended and the window is not in front")
STAY_AWAKE = _switch("desktop.stay-awake", True, "keep the computer awake while jobs are running")
PLACES = _switch("privacy.places", True, "remember recent folders and archives")
RECENT_FILES = _switch("privacy.recent-files", True, "add archives to the desktop's list of recent files")
REMEMBER = _switch("privacy.remember", True, "remember format, view, order and window as they were left")
CACHE = _size(
    "limits.cache", INDEX_TOTAL, "the most disk space for file lists that are kept to open archives at once", least=0
)

SETTINGS: tuple[Setting[Any], ...] = (
    PACK_FORMAT,
    PACK_LEVEL,
    PACK_VERIFY,
    PACK_FOLDER,
    UNPACK_CLASH,
    UNPACK_FOLDER,
    UNPACK_OWN,
    UNPACK_SHOW,
    LOOK,
    TEXT_SIZE,
    HIDDEN_FILES,
    LIST_COLUMNS,
    NOTIFY,
    STAY_AWAKE,
    PLACES,
    RECENT_FILES,
    REMEMBER,
    UNPACK_MEMORY,
    CACHE,
)
"""All of them, in the order in which they are shown."""


def setting_named(id: str) -> Setting[Any] | None:
    """The setting with an id, or None."""
    return next((setting for setting in SETTINGS if setting.id == id), None)
