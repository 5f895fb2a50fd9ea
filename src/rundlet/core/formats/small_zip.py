"""Listing a small ordinary zip without what large and unusual ones need, which takes several times as long to load.

What it gives is what the reader gives; whatever is unusual is left to that.
"""

from __future__ import annotations

import os
import struct
import time
from pathlib import Path

from rundlet.core.model.entry import NO_TIME, Entry, Kind

_MOST_BYTES = 1 << 20  # of the directory
_MOST_ENTRIES = 2000

# The application note's sections 4.3.12 (central directory header) and 4.3.16 (end of central directory record)
_RECORD = struct.Struct("<4s2B5H3I5H2I")
_END = struct.Struct("<4s4H2IH")
_RECORD_SIGNATURE, _END_SIGNATURE, _FIRST_SIGNATURE = b"PK\x01\x02", b"PK\x05\x06", b"PK\x03\x04"
_MAX16, _MAX32 = 0xFFFF, 0xFFFFFFFF
_UNIX = 3
_ENCRYPTED, _UTF8 = 1, 1 << 11
_TIMESTAMP = 0x5455  # section 4.5.7 has it from the third parties: flags, then seconds since 1970
_HARMLESS = {0x7875, 0xCAFE}  # user and group numbers, and the mark of a jar: nothing that a list says
_KINDS = {0o040000: Kind.DIR, 0o100000: Kind.FILE, 0: Kind.FILE}


def list_small_zip(path: Path) -> list[Entry] | None:
    """The entries of a zip, or None when it is no zip, or not a small and ordinary one. Raises nothing."""
    try:
        with path.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            if file.read(4) != _FIRST_SIGNATURE or size < _END.size:
                return None
            file.seek(size - _END.size)
            end = _END.unpack(file.read(_END.size))
            count, length, start = end[4], end[5], end[6]
            ordinary = end[0] == _END_SIGNATURE and end[1:3] == (0, 0) and end[3] == count and not end[7]
            if not ordinary or count > _MOST_ENTRIES or length > _MOST_BYTES or start + length != size - _END.size:
                return None
            file.seek(start)
            blob = file.read(length)
    except (OSError, ValueError, struct.error):
        return None
    return _entries(blob, count) if len(blob) == length else None


def _entries(blob: bytes, count: int) -> list[Entry] | None:
    found: list[Entry] = []
    at = 0
    while at < len(blob):
        if len(blob) - at < _RECORD.size:
            return None
        (
            signature, _, host, _, flags, _, clock, date, crc, packed, size,
            name_length, extra_length, comment_length, disk, _, attributes, offset,
        ) = _RECORD.unpack_from(blob, at)  # fmt: skip
        name = blob[at + _RECORD.size : at + _RECORD.size + name_length]
        extra = blob[at + _RECORD.size + name_length : at + _RECORD.size + name_length + extra_length]
        at += _RECORD.size + name_length + extra_length + comment_length
        kind = _KINDS.get(attributes >> 16 & 0o170000) if host == _UNIX else None
        unusual = signature != _RECORD_SIGNATURE or at > len(blob) or disk or _MAX32 in (packed, size, offset)
        if unusual or kind is None or not name or not (name.isascii() or flags & _UTF8):
            return None
        mtime = _mtime(date, clock, extra)
        try:
            text = name.decode("utf-8")
        except UnicodeDecodeError:
            return None
        if mtime is None:
            return None
        if name.endswith(b"/"):
            kind = Kind.DIR
        mode = attributes >> 16 & 0o7777
        found.append(Entry(len(found), text, kind, size, packed, mtime, mode, crc, bool(flags & _ENCRYPTED)))
    return found if len(found) == count else None


def _mtime(date: int, clock: int, extra: bytes) -> int | None:
    """When an entry was changed, in nanoseconds since 1970; None where an extra field says something unusual."""
    seconds, at = _local_seconds(date, clock), 0
    while at + 4 <= len(extra):
        header, length = struct.unpack_from("<2H", extra, at)
        body = extra[at + 4 : at + 4 + length]
        at += 4 + length
        if header == _TIMESTAMP and len(body) == length >= 5:
            if body[0] & 1:
                seconds = int.from_bytes(body[1:5], "little", signed=True)
        elif header not in _HARMLESS:
            return None
    return NO_TIME if seconds is None else seconds * 1_000_000_000


def _local_seconds(date: int, clock: int) -> int | None:
    """A DOS date and time (section 4.4.6), which is local, as seconds since 1970; None for one that there is not."""
    year, month, day, hour = 1980 + (date >> 9), date >> 5 & 15, date & 31, clock >> 11
    if not (1 <= month <= 12 and 1 <= day <= 31 and hour < 24):
        return None
    try:
        start = int(time.mktime((year, month, day, hour, 0, 0, 0, 1, -1)))
    except (OverflowError, ValueError):
        return None
    return start + (clock >> 5 & 63) * 60 + (clock & 31) * 2
