"""The two headers of a zip entry that is written: in front of its data, and in the central directory."""

from __future__ import annotations

import functools
import struct
import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.formats.zip.records import (
    AES_FIELD,
    CENTRAL_REST,
    CENTRAL_SIGNATURE,
    DESCRIPTOR_SIGNATURE,
    EPOCH_1601,
    MAX32,
    NTFS_TIMES,
    SHARED,
    UNIX_TIMES,
    VERSION_64,
    Extra,
    Flag,
    Host,
    LocalHeader,
    Method,
)
from rundlet.core.limits import GIB, MIB
from rundlet.core.model.entry import NO_TIME, Kind

if TYPE_CHECKING:
    from rundlet.core.model.item import PackItem

STRENGTH = 3
"""The strength of the locks that are written: AES-256."""

_VERSION_PLAIN = 20
_VERSION_AES = 51
_NEEDED = {Method.BZIP2: 46, Method.LZMA: 63, Method.ZSTD: 63, Method.XZ: 63}
_SECOND = 1_000_000_000  # nanoseconds
_DOS_FOLDER = 0x10
_SCHEME = 2

# A source may grow while it is read: from this size on, room is kept for 64-bit sizes.
_ROOM_FROM = MAX32 - 64 * MIB
_DESCRIBED_FROM = 1 * GIB  # where it can't be put right any more, it is kept for much growth


@dataclass(slots=True)
class Row:
    """What the central directory keeps of an entry."""

    name: bytes
    item: PackItem
    method: Method
    crc: int
    packed: int
    size: int
    offset: int
    locked: bool
    described: bool = False
    """Whether checksum and sizes stand behind the data, as they were not known before (section 4.3.9)."""

    @property
    def wide(self) -> bool:
        """Whether the header in front of the data has room for 64-bit sizes."""
        return self.item.size >= (_DESCRIBED_FROM if self.described else _ROOM_FROM)

    @property
    def stored_method(self) -> int:
        """The method in the records, which is that of the lock for a locked entry."""
        return Method.AES if self.locked else self.method

    @property
    def stored_crc(self) -> int:
        """Locked entries keep no checksum, which could tell what is in them."""
        return 0 if self.locked else self.crc

    @property
    def version(self) -> int:
        """The version of the format needed (section 4.4.3)."""
        wide = VERSION_64 if self.wide else _VERSION_PLAIN
        return max(wide, _NEEDED.get(self.method, 0), _VERSION_AES if self.locked else 0)


def headers(row: Row) -> tuple[bytes, bytes]:
    """The header in front of an entry's data, and its record in the central directory (sections 4.3.7 and 4.3.12).

    In the first, both sizes of a file that may become very large stand in the zip64 field (section 4.5.3); in the other
    it holds what does not fit elsewhere.
    """
    wide = row.wide
    date, clock = dos_time(row.item.mtime_ns // _SECOND if row.item.mtime_ns != NO_TIME else None)
    name, more, flags = _stored_name(row), _common_extra(row), _flags(row)
    version, method, crc = row.version, row.stored_method, row.stored_crc
    packed, size = (0, 0) if row.described else (row.packed, row.size)
    extra = more if not wide else struct.pack("<HHQQ", Extra.ZIP64, 16, size, packed) + more
    packed, size = (MAX32, MAX32) if wide else (packed, size)
    first_crc = 0 if row.described else crc
    shared = SHARED.pack(version, flags, method, clock, date, first_crc, packed, size, len(name), len(extra))
    local = LocalHeader.SIGNATURE + shared + name + extra
    large = [value for value in (row.size, row.packed, row.offset) if value >= MAX32]
    if large or wide or row.described:
        extra = struct.pack(f"<HH{len(large)}Q", Extra.ZIP64, 8 * len(large), *large) + more if large else more
        version = max(version, VERSION_64 if large else 0)
        packed, size = min(row.packed, MAX32), min(row.size, MAX32)
        shared = SHARED.pack(version, flags, method, clock, date, crc, packed, size, len(name), len(extra))
    attributes = row.item.unix_mode << 16 | (_DOS_FOLDER if row.item.kind == Kind.DIR else 0)
    rest = CENTRAL_REST.pack(0, 0, 0, attributes, min(row.offset, MAX32))
    central = CENTRAL_SIGNATURE + bytes((version, Host.UNIX)) + shared + rest + name + extra
    return local, central


def descriptor(row: Row) -> bytes:
    """What stands behind the data of an entry whose checksum and sizes were not known before (section 4.3.9)."""
    return DESCRIPTOR_SIGNATURE + struct.pack("<IQQ" if row.wide else "<III", row.stored_crc, row.packed, row.size)


def _stored_name(row: Row) -> bytes:
    return row.name + b"/" if row.item.kind == Kind.DIR else row.name


def _flags(row: Row) -> int:
    flags = 0 if row.name.isascii() else int(Flag.UTF8)
    if row.locked:
        flags |= Flag.ENCRYPTED
    if row.described:
        flags |= Flag.DESCRIPTOR
    return flags | Flag.END_MARK if row.method == Method.LZMA else flags


def _common_extra(row: Row) -> bytes:
    """The fields that both headers have."""
    extra = time_fields(row.item.mtime_ns)
    if row.locked:
        body = AES_FIELD.pack(_SCHEME, b"AE", STRENGTH, row.method)
        extra += struct.pack("<HH", Extra.AES, len(body)) + body
    return extra


def time_fields(mtime_ns: int) -> bytes:
    """Extended timestamp, in whole seconds, or the NTFS field (section 4.5.5) for years that it can't hold."""
    if mtime_ns == NO_TIME:
        return b""
    if not -(1 << 31) <= mtime_ns // _SECOND < 1 << 31:
        ticks = max(mtime_ns // 100 + EPOCH_1601 * 10_000_000, 0)
        return NTFS_TIMES.pack(Extra.NTFS, NTFS_TIMES.size - 4, 0, 1, 24, ticks, ticks, ticks)
    return UNIX_TIMES.pack(Extra.TIMESTAMP, 5, 1, mtime_ns // _SECOND)


@functools.lru_cache(maxsize=4096)
def dos_time(seconds: int | None) -> tuple[int, int]:
    """Local date and time in DOS form (section 4.4.6), held between 1980 and 2107."""
    if seconds is None:
        return (1 << 5) | 1, 0
    parts = time.localtime(seconds)
    if parts.tm_year < 1980:
        return (1 << 5) | 1, 0
    if parts.tm_year > 2107:
        return (127 << 9) | (12 << 5) | 31, (23 << 11) | (59 << 5) | 29
    date = (parts.tm_year - 1980) << 9 | parts.tm_mon << 5 | parts.tm_mday
    return date, parts.tm_hour << 11 | parts.tm_min << 5 | min(parts.tm_sec, 59) // 2
