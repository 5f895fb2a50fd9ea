"""Header blocks of tar archives: v7, ustar, pax (POSIX.1-2001, "pax Interchange Format") and the GNU extensions."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from enum import IntEnum
from typing import TYPE_CHECKING, Final

import numpy as np

from rundlet.core.errors import Corrupt

if TYPE_CHECKING:
    from numpy.typing import NDArray

BLOCK = 512
MAGIC_AT: Final = slice(257, 265)
USTAR = b"ustar\x0000"
GNU = b"ustar  \x00"

NAME = slice(0, 100)
MODE = slice(100, 108)
SIZE = slice(124, 136)
MTIME = slice(136, 148)
CHECKSUM = slice(148, 156)
_NUMBERS = (MODE, slice(108, 116), slice(116, 124), SIZE, MTIME, CHECKSUM)
TYPE = 156
_BASE_256 = b"\x80\xff"  # how numbers begin that octal digits can't hold
_BLANKS = 8 * 32  # the checksum field counts as spaces
LINK = slice(157, 257)
PREFIX = slice(345, 500)

LAYOUT = struct.Struct("100s8s8s8s12s12s8sc100s8s32s32s8s8s155s12x")
"""name, mode, uid, gid, size, mtime, chksum, typeflag, linkname, magic and version, uname, gname, devmajor, devminor, prefix."""


class Type(IntEnum):
    """The typeflag byte."""

    OLD_FILE = 0
    FILE = ord("0")
    HARD = ord("1")
    SYMBOLIC = ord("2")
    CHARACTER = ord("3")
    DEVICE = ord("4")
    FOLDER = ord("5")
    PIPE = ord("6")
    CONTIGUOUS = ord("7")
    GLOBAL = ord("g")
    EXTENDED = ord("x")
    SOLARIS = ord("X")
    GNU_NAME = ord("L")
    GNU_LINK = ord("K")
    GNU_SPARSE = ord("S")
    GNU_VOLUME = ord("V")
    GNU_MORE = ord("M")
    GNU_DUMP = ord("D")


def number(field: bytes) -> int:
    """A number in octal digits, or in base 256 when its first bit is set (a GNU extension).

    Raises:
        Corrupt: when it is neither.
    """
    if field[:1] == b"\xff":
        return int.from_bytes(field, "big", signed=True)
    if field[:1] and field[0] & 0x80:
        return int.from_bytes(field, "big") - (0x80 << 8 * (len(field) - 1))
    digits = field.split(b"\0", 1)[0].strip()
    try:
        return int(digits, 8) if digits else 0
    except ValueError as error:
        raise Corrupt("A header has a number that is none.") from error


def text(field: bytes) -> bytes:
    """A field up to its first NUL."""
    return field.split(b"\0", 1)[0]


def checksums_fit(blocks: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Whether each header's checksum is right; old writers summed signed bytes, which counts too.

    Args:
        blocks: shape (n, 512).
    """
    stated = octal(blocks[:, CHECKSUM])
    field = blocks[:, CHECKSUM]
    fit: NDArray[np.bool_] = stated == _byte_sums(blocks) - field.sum(axis=1, dtype=np.int64) + _BLANKS
    if not fit.all():
        signed = blocks.view(np.int8)
        fit |= stated == signed.sum(axis=1, dtype=np.int64) - signed[:, CHECKSUM].sum(axis=1, dtype=np.int64) + _BLANKS
    return fit


def checksum_fits(block: bytes) -> bool:
    """Whether the checksum of one header is right; the same as :func:`checksums_fit`, and quicker where there is only one."""
    digits = block[CHECKSUM].split(b"\0", 1)[0].strip()
    try:
        if int(digits or b"0", 8) == sum(block) - sum(block[CHECKSUM]) + _BLANKS:
            return True
    except ValueError:
        pass
    return bool(checksums_fit(np.frombuffer(block, np.uint8, BLOCK).reshape(1, BLOCK))[0])


_EVEN_BYTES = np.uint64(0x00FF00FF00FF00FF)


def _byte_sums(blocks: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The sum of each row's bytes: eight bytes a word, summed in four lanes of 16 bits that 512 bytes can't overflow."""
    words = np.ascontiguousarray(blocks).view(np.uint64)
    lanes = (words & _EVEN_BYTES).sum(axis=1)
    lanes += ((words >> np.uint64(8)) & _EVEN_BYTES).sum(axis=1)
    sums: NDArray[np.int64] = lanes.view(np.uint16).reshape(-1, 4).sum(axis=1, dtype=np.int64)
    return sums


def octal(digits: NDArray[np.uint8]) -> NDArray[np.int64]:
    """Octal numbers of many headers at once; what follows the first digit and is none ends the number.

    Args:
        digits: shape (n, width).
    """
    columns = np.ascontiguousarray(digits.T)
    width = len(columns)
    for count in (width - 1, width - 2):  # nearly all writers fill the field but for one or two bytes at its end
        if (columns[:count] - np.uint8(48) < 8).all() and (columns[count] <= 32).all():
            return _digits_only(columns[:count])
    value = np.zeros(len(digits), np.int64)
    running = np.ones(len(digits), np.bool_)
    begun = np.zeros(len(digits), np.bool_)
    for column in columns:
        is_digit = (column >= 48) & (column < 56)
        running &= is_digit | ~begun
        here = is_digit & running
        value = np.where(here, value * 8 + column.astype(np.int64) - 48, value)
        begun |= is_digit
    return value


def _digits_only(columns: NDArray[np.uint8]) -> NDArray[np.int64]:
    value = np.zeros(columns.shape[1], np.int64)
    for column in columns:
        value <<= 3
        value += column - np.uint8(48)
    return value


def plain_sizes(blocks: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The size field of each block where it is eleven octal digits, else -1.

    Args:
        blocks: shape (n, 512); most of them may be no headers at all.
    """
    columns = np.ascontiguousarray(blocks[:, SIZE].T)
    usual = (columns[:-1] - np.uint8(48) < 8).all(axis=0) & (columns[-1] <= 32)
    return np.where(usual, _digits_only(columns[:-1]), -1)


def is_header(block: bytes) -> bool:
    """Whether a block is a header: by its magic or, before there was one, its numbers, and by its checksum.

    The checksum alone fits one in some thousand blocks of noise, as the sum of signed bytes is small.
    """
    if len(block) < BLOCK or not any(block[:BLOCK]):
        return False
    if block[MAGIC_AT][:5] != USTAR[:5] and not all(_is_number(block[field]) for field in _NUMBERS):
        return False
    return checksum_fits(block[:BLOCK])


def may_be_header(block: bytes) -> bool:
    """Whether a block is a header, perhaps a damaged one: by its checksum, or by its magic alone."""
    return is_header(block) or (block[MAGIC_AT][:5] == USTAR[:5] and len(block) == BLOCK)


def _is_number(field: bytes) -> bool:
    digits = field.split(b"\0", 1)[0].strip(b" ")
    return not digits or digits[0] in _BASE_256 or all(digit in b"01234567" for digit in digits)


def pax_records(data: bytes) -> dict[bytes, bytes]:
    """The records of an extended header: ``length keyword=value`` with a newline at the end.

    Raises:
        Corrupt: when one of them can't be followed.
    """
    records = {}
    at = 0
    while at < len(data) and data[at] != 0:
        space = data.find(b" ", at, at + 20)
        digits = data[at:space] if space > 0 else b""
        if not digits.isdigit():
            raise Corrupt("An extended header is damaged.")
        end = at + int(digits)
        key, equals, value = data[space + 1 : end - 1].partition(b"=")
        if end <= space or end > len(data) or data[end - 1 : end] != b"\n" or not equals:
            raise Corrupt("An extended header is damaged.")
        records[key] = value
        at = end
    return records


def sparse_pairs(records: dict[bytes, bytes], data: bytes) -> list[tuple[int, int]]:
    """The stretches of a pax sparse file in format 0.1; offset and length of each, in bytes.

    Raises:
        Corrupt: when they are no numbers.
    """
    numbers = records.get(b"GNU.sparse.map", data).split(b",")
    try:
        values = [int(value) for value in numbers if value]
    except ValueError as error:
        raise Corrupt("The map of a sparse file is damaged.") from error
    return list(zip(values[::2], values[1::2], strict=False))


@dataclass(frozen=True, slots=True)
class Fields:
    """What a writer puts into one header."""

    name: bytes
    mode: int
    size: int
    mtime: int
    type: int
    link: bytes = b""
    uid: int = 0
    gid: int = 0
    uname: bytes = b""
    gname: bytes = b""

    def pack(self) -> bytes:
        """As a ustar block; the caller has made sure that everything fits."""
        name, prefix = split_name(self.name) or (self.name[-100:], b"")
        block = bytearray(BLOCK)
        LAYOUT.pack_into(
            block,
            0,
            name,
            b"%07o\0" % self.mode,
            b"%07o\0" % self.uid,
            b"%07o\0" % self.gid,
            b"%011o\0" % self.size,
            b"%011o\0" % self.mtime,
            b" " * 8,
            bytes([self.type]),
            self.link[:100],
            USTAR,
            self.uname[:31],
            self.gname[:31],
            b"%07o\0" % 0,
            b"%07o\0" % 0,
            prefix,
        )
        block[CHECKSUM] = b"%06o\0 " % sum(block)
        return bytes(block)


def split_name(name: bytes) -> tuple[bytes, bytes] | None:
    """A path as name and prefix, or None when it does not fit into the two."""
    if len(name) <= 100:
        return name, b""
    at = name.find(b"/", len(name) - 101)
    while 0 < at < len(name) - 1:
        if at <= 155:
            return name[at + 1 :], name[:at]
        return None
    return None
