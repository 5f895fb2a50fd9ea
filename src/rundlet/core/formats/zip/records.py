"""The fixed records of a zip archive, in file order.

Field names and section numbers are those of the openly published application note on the zip file format.
All numbers are little-endian.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from enum import IntEnum, IntFlag
from typing import ClassVar, Self

import numpy as np

MAX16 = 0xFFFF
MAX32 = 0xFFFFFFFF

VERSION_64 = 45
"""The version of the format that 64-bit fields need (section 4.4.3)."""


class Method(IntEnum):
    """Compression methods (section 4.4.5)."""

    STORED = 0
    DEFLATED = 8
    DEFLATE64 = 9
    BZIP2 = 12
    LZMA = 14
    ZSTD = 93
    XZ = 95
    PPMD = 98
    AES = 99


class Flag(IntFlag):
    """General purpose bits (section 4.4.4)."""

    ENCRYPTED = 1 << 0
    END_MARK = 1 << 1
    DESCRIPTOR = 1 << 3
    PATCH_DATA = 1 << 5
    STRONG_ENCRYPTION = 1 << 6
    UTF8 = 1 << 11
    MASKED_HEADERS = 1 << 13


class Host(IntEnum):
    """The upper byte of "version made by" (section 4.4.2), which says how the attributes are to be read."""

    FAT = 0
    UNIX = 3
    NTFS = 10
    VFAT = 14
    DARWIN = 19


class Extra(IntEnum):
    """Extra field headers (sections 4.5.2 and 4.6.1)."""

    ZIP64 = 0x0001
    NTFS = 0x000A
    TIMESTAMP = 0x5455
    UNICODE_PATH = 0x7075
    AES = 0x9901


@dataclass(slots=True)
class LocalHeader:
    """Local file header (section 4.3.7), without name and extra field."""

    version_needed: int
    flags: int
    method: int
    time: int
    date: int
    crc32: int
    compressed_size: int
    uncompressed_size: int
    name_length: int
    extra_length: int

    SIGNATURE: ClassVar[bytes] = b"PK\x03\x04"
    LAYOUT: ClassVar[struct.Struct] = struct.Struct("<4s5H3I2H")


SHARED = struct.Struct("<5H3I2H")
"""What both headers of an entry have between their beginnings and their ends: from the version needed to the lengths."""

_SHARED_COLUMNS = [
    ("version_needed", "<u2"),
    ("flags", "<u2"),
    ("method", "<u2"),
    ("time", "<u2"),
    ("date", "<u2"),
    ("crc32", "<u4"),
    ("compressed_size", "<u4"),
    ("uncompressed_size", "<u4"),
    ("name_length", "<u2"),
    ("extra_length", "<u2"),
]

LOCAL = np.dtype([("signature", "S4"), *_SHARED_COLUMNS])
"""The same as :class:`LocalHeader` with its signature, for many of them at once."""

DESCRIPTOR_SIGNATURE = b"PK\x07\x08"
"""In front of a data descriptor (section 4.3.9), where it has one."""

CENTRAL_SIGNATURE = b"PK\x01\x02"
CENTRAL_SIZE = 46
CENTRAL = np.dtype(
    [
        ("signature", "<u4"),
        ("version_made_by", "u1"),
        ("host", "u1"),
        *_SHARED_COLUMNS,
        ("comment_length", "<u2"),
        ("disk_start", "<u2"),
        ("internal_attributes", "<u2"),
        ("external_attributes", "<u4"),
        ("local_offset", "<u4"),
    ]
)
"""Central directory header (section 4.3.12) as one row of a table; "version made by" is split into its two bytes."""

CENTRAL_REST = struct.Struct("<3H2I")
"""Its end, before the name: comment length, first disk, internal and external attributes, and offset."""


@dataclass(slots=True)
class EndRecord:
    """End of central directory record (section 4.3.16), without its comment."""

    disk: int
    directory_disk: int
    entries_here: int
    entries: int
    directory_size: int
    directory_offset: int
    comment_length: int

    SIGNATURE: ClassVar[bytes] = b"PK\x05\x06"
    LAYOUT: ClassVar[struct.Struct] = struct.Struct("<4s4H2IH")

    @classmethod
    def unpack(cls, data: bytes) -> Self:
        """From 22 bytes whose signature was checked."""
        return cls(*cls.LAYOUT.unpack(data)[1:])

    def pack(self) -> bytes:
        """As 22 bytes."""
        return self.LAYOUT.pack(
            self.SIGNATURE,
            self.disk,
            self.directory_disk,
            self.entries_here,
            self.entries,
            self.directory_size,
            self.directory_offset,
            self.comment_length,
        )


@dataclass(slots=True)
class End64Record:
    """Zip64 end of central directory record (section 4.3.14), version 1, without its extensible data."""

    record_size: int
    version_made_by: int
    version_needed: int
    disk: int
    directory_disk: int
    entries_here: int
    entries: int
    directory_size: int
    directory_offset: int

    SIGNATURE: ClassVar[bytes] = b"PK\x06\x06"
    LAYOUT: ClassVar[struct.Struct] = struct.Struct("<4sQ2H2I4Q")

    @classmethod
    def unpack(cls, data: bytes) -> Self:
        """From 56 bytes whose signature was checked."""
        return cls(*cls.LAYOUT.unpack(data)[1:])

    def pack(self) -> bytes:
        """As 56 bytes."""
        return self.LAYOUT.pack(
            self.SIGNATURE,
            self.record_size,
            self.version_made_by,
            self.version_needed,
            self.disk,
            self.directory_disk,
            self.entries_here,
            self.entries,
            self.directory_size,
            self.directory_offset,
        )


LOCATOR_SIGNATURE = b"PK\x06\x07"
LOCATOR = struct.Struct("<4sIQI")
"""Zip64 end of central directory locator (section 4.3.15): signature, disk, offset of the record, number of disks."""

AES_FIELD = struct.Struct("<H2sBH")
"""The body of the AES extra field: version of the scheme, vendor, strength, the method below it."""
AES_WITHOUT_CHECKSUM = 2
"""The version of the scheme that has its authentication code in place of the CRC-32, which is zero then."""

UNIX_TIMES = struct.Struct("<HHBi")
NTFS_TIMES = struct.Struct("<HHIHHQQQ")  # of change, reading and making, in steps of 100 ns since 1601
EPOCH_1601 = 11_644_473_600
"""Seconds from 1601 to 1970."""
"""Extended timestamp with the time of change only: header, size, flags, seconds since 1970."""
