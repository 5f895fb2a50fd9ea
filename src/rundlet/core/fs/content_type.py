"""The type of a file on the disk: its name says it, unless the name is that of an archive and the content is not."""

from __future__ import annotations

import os
import re
from pathlib import Path

from rundlet.core.model.file_type import FileType, file_type_of

_HEAD = 512  # bytes, in which a plain tar has zeros behind its first name
_PART = re.compile(r"\.(\d{3,}|z\d{2,})$", re.IGNORECASE)  # which may begin with anything
_NO_TEXT = re.compile(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f]")


def file_type_on_disk(path: Path, size: int) -> FileType:
    """The type of a file. What is called an archive and is text is text; what is empty is no archive.

    Args:
        path: the file, of which the first bytes are read only where its name is that of an archive.
        size: its bytes.
    """
    named = file_type_of(path.name)
    if named is not FileType.ARCHIVES or _PART.search(path.name):
        return named
    if not size:
        return FileType.OTHER
    return FileType.TEXT if _is_text(_head_of(path)) else named


def _head_of(path: Path) -> bytes:
    try:
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    except OSError:
        return b""
    try:
        return os.read(fd, _HEAD)
    except OSError:
        return b""
    finally:
        os.close(fd)


def _is_text(head: bytes) -> bool:
    """Whether bytes are UTF-8 without control characters; the last letter may be cut off."""
    if not head or _NO_TEXT.search(head):
        return False
    try:
        head.decode("utf-8")
    except UnicodeDecodeError as error:
        return error.start > len(head) - 4 and error.end == len(head)
    return True
