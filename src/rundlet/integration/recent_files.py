"""The desktop's own list of recent files, after the Desktop Bookmark Specification."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path
from xml.etree import ElementTree as ET

from rundlet.core.fs.atomic_files import keep_bytes
from rundlet.core.fs.base_folders import data_home

_BOOKMARK = "http://www.freedesktop.org/standards/desktop-bookmarks"
_MIME = "http://www.freedesktop.org/standards/shared-mime-info"
_OWNER = "http://freedesktop.org"
_EMPTY = b'<?xml version="1.0" encoding="UTF-8"?>\n<xbel version="1.0"></xbel>'
_LARGEST = 16 << 20  # bytes; a larger list is left alone


def recent_list() -> Path:
    """The file that all programs of the desktop keep it in."""
    return data_home() / "recently-used.xbel"


def note_recent(path: Path, mime_type: str, *, list_file: Path | None = None) -> bool:
    """Put a file at the end of the list, where the newest stands, and leave all else in it as it is.

    Args:
        mime_type: its type by the shared database.
        list_file: the list; the desktop's own by default.

    Returns:
        Whether it is in the list; a list that can't be read or written is left alone.
    """
    file = list_file or recent_list()
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    ET.register_namespace("bookmark", _BOOKMARK)
    ET.register_namespace("mime", _MIME)
    try:
        content = file.read_bytes() if file.exists() else _EMPTY
        if len(content) > _LARGEST or b"<!DOCTYPE" in content or b"<!ENTITY" in content:
            return False
        root = ET.fromstring(content)  # noqa: S314 - it has no document type, so nothing in it grows
        if root.tag != "xbel":
            return False
        href = Path(os.path.abspath(path)).as_uri()
        found = next((each for each in root.iterfind("bookmark") if each.get("href") == href), None)
        if found is None:
            found = ET.Element("bookmark", href=href, added=now)
        else:
            root.remove(found)
        found.set("modified", now)
        found.set("visited", now)
        _say_who(found, mime_type, now)
        root.append(found)
        keep_bytes(file, ET.tostring(root, encoding="UTF-8", xml_declaration=True) + b"\n")
    except (OSError, ET.ParseError, ValueError):
        return False
    return True


def _say_who(bookmark: ET.Element, mime_type: str, now: str) -> None:
    """That Rundlet has used it, and how it is opened again."""
    metadata = _child(_child(bookmark, "info"), "metadata", owner=_OWNER)
    if metadata.find(f"{{{_MIME}}}mime-type") is None:
        ET.SubElement(metadata, f"{{{_MIME}}}mime-type", type=mime_type)
    applications = _child(metadata, f"{{{_BOOKMARK}}}applications")
    ours = _child(applications, f"{{{_BOOKMARK}}}application", name="Rundlet")
    ours.set("exec", "'rundlet %u'")
    ours.set("modified", now)
    ours.set("count", str(int(ours.get("count", "0")) + 1))


def _child(parent: ET.Element, tag: str, **attributes: str) -> ET.Element:
    """The child with these attributes; a new one where there is none."""
    for each in parent.iterfind(tag):
        if all(each.get(name) == value for name, value in attributes.items()):
            return each
    return ET.SubElement(parent, tag, attributes)
