"""The settings in words: what they are called in the window, and their choices."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from rundlet.core.formats.known import PACKED_TARS, SEVEN, TAR, ZIP
from rundlet.core.settings import (
    CACHE,
    HIDDEN_FILES,
    LIST_COLUMNS,
    LOOK,
    NOTIFY,
    PACK_FOLDER,
    PACK_FORMAT,
    PACK_LEVEL,
    PACK_VERIFY,
    PLACES,
    RECENT_FILES,
    REMEMBER,
    STAY_AWAKE,
    TEXT_SIZE,
    UNPACK_CLASH,
    UNPACK_FOLDER,
    UNPACK_MEMORY,
    UNPACK_OWN,
    UNPACK_SHOW,
    Kind,
)
from rundlet.core.text import size
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.settings import Setting


@dataclass(frozen=True, slots=True)
class Told:
    """A setting in words.

    Attributes:
        title: what it is called; where it is a switch, what it does.
        about: what it changes, in a sentence; "" where the title says it.
        choices: the words for each of its values, where it has one of some.
        none: the words for no folder, or for the lowest number where that stands for something else.
        unit: what stands behind a number.
    """

    title: str
    about: str = ""
    choices: tuple[str, ...] = ()
    none: str = ""
    unit: str = ""


GROUPS: tuple[tuple[str, tuple[Setting[Any], ...]], ...] = (
    ("Packing", (PACK_FORMAT, PACK_LEVEL, PACK_VERIFY, PACK_FOLDER)),
    ("Unpacking", (UNPACK_CLASH, UNPACK_FOLDER, UNPACK_OWN, UNPACK_SHOW)),
    ("Look", (LOOK, TEXT_SIZE, HIDDEN_FILES, LIST_COLUMNS)),
    ("Programs", ()),
    ("Desktop", (NOTIFY, STAY_AWAKE)),
    ("Privacy", (PLACES, RECENT_FILES, REMEMBER)),
    ("Limits", (UNPACK_MEMORY, CACHE)),
)
"""All settings, part by part."""

_FORMATS = {info.id: info.ending.removeprefix(".") for info in (ZIP, SEVEN, TAR, *PACKED_TARS)}

TOLD: dict[str, Told] = {
    PACK_FORMAT.id: Told(
        "Format of new archives",
        "If you set none, the last one is offered again.",
        tuple(_FORMATS[name] for name in PACK_FORMAT.choices),
    ),
    PACK_LEVEL.id: Told("Compression level", "0 is uncompressed, 9 is smallest.", none="usual"),
    PACK_VERIFY.id: Told("Check each archive after packing", "It is compared with the files before it gets its name."),
    PACK_FOLDER.id: Told("Folder for new archives", none="beside what is packed"),
    UNPACK_CLASH.id: Told(
        "Names that are already taken",
        "It can be changed for each archive, and for each file.",
        (
            "keep both, rename the new file",
            "replace; the old one goes to the trash",
            "replace if the archive's file is newer",
            "keep the existing file",
        ),
    ),
    UNPACK_FOLDER.id: Told("Folder to unpack into", none="beside the archive"),
    UNPACK_OWN.id: Told(
        "Create a folder named after the archive",
        choices=("when it holds several items", "always", "never"),
    ),
    UNPACK_SHOW.id: Told("Show what was unpacked in the file manager"),
    LOOK.id: Told("Light or dark", choices=("as the desktop", "light", "dark")),
    TEXT_SIZE.id: Told("Text size", "In percent of the desktop's text size.", unit=" %"),
    HIDDEN_FILES.id: Told("Show hidden files"),
    LIST_COLUMNS.id: Told(
        "Columns of the list",
        "Where the list is narrow, some of them give way to the names.",
        ("Kind", "Size", "Share", "Changed"),
    ),
    NOTIFY.id: Told("Notify me when a long job ends", "Only while the window is not in front."),
    STAY_AWAKE.id: Told("Keep the computer awake while jobs are running"),
    PLACES.id: Told(
        "Remember recent folders and archives", "They appear in Places, and Rundlet starts in the last folder."
    ),
    RECENT_FILES.id: Told("Add archives to the desktop's list of recent files"),
    REMEMBER.id: Told("Remember how the window was left", "Format and level, view and order, columns, size and place."),
    UNPACK_MEMORY.id: Told("Memory for unpacking one archive", "Archives that need more memory aren't unpacked."),
    CACHE.id: Told(
        "Disk space for file lists", "Lists of large compressed archives are kept so that they open faster."
    ),
}
"""Each setting in words, by its id."""


def value_words(setting: Setting[Any], value: Any) -> str:
    """A value as the window writes it."""
    told = TOLD[setting.id]
    if setting.kind is Kind.CHOICE:
        return told.choices[setting.choices.index(value)]
    if setting.kind is Kind.SEVERAL:
        words = [told.choices[setting.choices.index(choice)] for choice in value.split(",") if choice]
        return ", ".join(words) if words else "none"
    if setting.kind is Kind.SIZE:
        return size(value)
    if setting.kind is Kind.SWITCH:
        return "on" if value else "off"
    if told.none and value in ("", setting.bounds[0]):
        return told.none
    return str(value) + told.unit


def default_words(setting: Setting[Any]) -> str:
    """What the default is, for the button that goes back to it."""
    return say("Back to the default: {value}", value=value_words(setting, setting.default))
