"""Records of the 7z format, under the names of its open description ("7zFormat")."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from enum import IntEnum, IntFlag
from typing import ClassVar, Self

from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import Corrupt, Truncated

MAGIC = b"7z\xbc\xaf\x27\x1c"
HEAD_SIZE = 32
VERSION = (0, 4)
UNIX_EXTENSION = 0x8000
"""In the attributes: the upper 16 bits are the Unix mode."""

EPOCH = 116_444_736_000_000_000
"""1970 in units of 100 ns since 1601, in which all times are kept."""


class Property(IntEnum):
    """Property IDs."""

    END = 0x00
    HEADER = 0x01
    ARCHIVE_PROPERTIES = 0x02
    ADDITIONAL_STREAMS_INFO = 0x03
    MAIN_STREAMS_INFO = 0x04
    FILES_INFO = 0x05
    PACK_INFO = 0x06
    UNPACK_INFO = 0x07
    SUBSTREAMS_INFO = 0x08
    SIZE = 0x09
    CRC = 0x0A
    FOLDER = 0x0B
    CODERS_UNPACK_SIZE = 0x0C
    NUM_UNPACK_STREAM = 0x0D
    EMPTY_STREAM = 0x0E
    EMPTY_FILE = 0x0F
    ANTI = 0x10
    NAME = 0x11
    CTIME = 0x12
    ATIME = 0x13
    MTIME = 0x14
    WIN_ATTRIBUTES = 0x15
    COMMENT = 0x16
    ENCODED_HEADER = 0x17
    START_POS = 0x18
    DUMMY = 0x19


class Attribute(IntFlag):
    """The lower half of the attributes."""

    READ_ONLY = 0x01
    DIRECTORY = 0x10
    ARCHIVE = 0x20


class CoderFlag(IntFlag):
    """The first byte of a coder; its lower half is the length of the method's ID."""

    ID_SIZE = 0x0F
    COMPLEX = 0x10
    PROPERTIES = 0x20
    RESERVED = 0xC0


METHODS = {
    b"\x00": "copy",
    b"\x03": "delta",
    b"\x04": "x86",
    b"\x05": "powerpc",
    b"\x06": "ia-64",
    b"\x07": "arm",
    b"\x08": "arm thumb",
    b"\x09": "sparc",
    b"\x0a": "arm64",
    b"\x0b": "risc-v",
    b"\x21": "lzma2",
    b"\x03\x01\x01": "lzma",
    b"\x03\x03\x01\x03": "x86",
    b"\x03\x03\x01\x1b": "four-stream x86",
    b"\x03\x03\x02\x05": "powerpc",
    b"\x03\x03\x04\x01": "ia-64",
    b"\x03\x03\x05\x01": "arm",
    b"\x03\x03\x07\x01": "arm thumb",
    b"\x03\x03\x08\x05": "sparc",
    b"\x03\x04\x01": "ppmd",
    b"\x04\x01\x08": "deflate",
    b"\x04\x01\x09": "deflate64",
    b"\x04\x02\x02": "bzip2",
    b"\x04\xf7\x11\x01": "zstd",
    b"\x06\xf1\x07\x01": "aes",
}
"""The names of methods by their ID."""

IDS = {name: method for method, name in reversed(METHODS.items())} | {"x86": b"\x03\x03\x01\x03"}
"""The ID that a method is written with; for the x86 filter the long one, which older readers know."""


@dataclass(slots=True)
class SignatureHeader:
    """The first 32 bytes: where the header is, from the end of these bytes, and its checksum."""

    next_header_offset: int
    next_header_size: int
    next_header_crc: int

    START: ClassVar[struct.Struct] = struct.Struct("<QQI")
    LAYOUT: ClassVar[struct.Struct] = struct.Struct("<6s2BI20s")

    @classmethod
    def unpack(cls, data: bytes) -> Self:
        """From 32 bytes.

        Raises:
            Truncated, Corrupt: when they are fewer, or fail their own checksum.
        """
        if len(data) < HEAD_SIZE:
            raise Truncated("It ends within its first 32 bytes.")
        _, _, _, crc, start = cls.LAYOUT.unpack(data)
        if crc32(start) != crc:
            raise Corrupt("Its first 32 bytes are damaged.")
        return cls(*cls.START.unpack(start))

    def pack(self) -> bytes:
        """As 32 bytes."""
        start = self.START.pack(self.next_header_offset, self.next_header_size, self.next_header_crc)
        return self.LAYOUT.pack(MAGIC, *VERSION, crc32(start), start)


@dataclass(frozen=True, slots=True)
class Coder:
    """One coder of a folder; its input is the packed side and its output the plain one, as a decoder sees it."""

    method: bytes
    num_in_streams: int = 1
    num_out_streams: int = 1
    properties: bytes = b""

    @property
    def name(self) -> str:
        """What the method is called, or its ID in hexadecimal digits."""
        return METHODS.get(self.method, self.method.hex())


@dataclass(frozen=True, slots=True)
class BindPair:
    """An input that gets its bytes from an output; both numbered through all coders of the folder."""

    in_index: int
    out_index: int


@dataclass(frozen=True, slots=True)
class Folder:
    """How some packed streams become one plain one, which holds the files of a solid block end to end.

    Attributes:
        packed: the inputs that are fed by packed streams, in their order.
    """

    coders: tuple[Coder, ...]
    bind_pairs: tuple[BindPair, ...]
    packed: tuple[int, ...]

    @property
    def num_out_streams(self) -> int:
        """How many outputs all coders have."""
        return sum(coder.num_out_streams for coder in self.coders)

    @property
    def main_output(self) -> int:
        """The output that is bound to nothing: the plain stream."""
        bound = {pair.out_index for pair in self.bind_pairs}
        return next(index for index in range(self.num_out_streams) if index not in bound)
