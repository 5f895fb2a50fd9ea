"""Endings of names that do not fit what is in a file."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.formats.detect import FORMATS
from rundlet.core.model.file_type import FileType, file_type_of

if TYPE_CHECKING:
    from rundlet.core.model.format_info import FormatInfo

_NEVER_ARCHIVES = (FileType.PICTURES, FileType.SOUND, FileType.FILMS, FileType.TEXT, FileType.MAPS)


def better_name(name: str, info: FormatInfo) -> str | None:
    """A name whose ending fits the content; None when the one it has is as good.

    Endings that Rundlet does not know are left alone: much that is not called an archive is one inside.
    """
    lowered = name.lower()
    endings = {ending: f.info.id for f in FORMATS for ending in (f.info.ending, *f.info.other_endings)}
    found = max((e for e in endings if lowered.endswith(e)), key=len, default=None)
    if found is not None:
        same = endings[found] == info.id or info.ending.endswith(found)  # x.gz for a tar in gzip
        return None if same else name[: -len(found)] + info.ending
    if "." not in name.strip(".") or file_type_of(name) in _NEVER_ARCHIVES:
        return name + info.ending
    return None
