"""The blocks of xz streams, each of which can be decoded by itself.

The index at the end of a stream tells how long each block is, packed and unpacked (the .xz file format, section 4). What it says
is compared with its own checksum here, and with the blocks by whoever decodes them.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass

_HEAD = struct.Struct("<6s2sI")  # section 2.1.1
_FOOT = struct.Struct("<II2s2s")  # section 2.1.2
_MAGIC, _END_MAGIC = b"\xfd7zXZ\0", b"YZ"
_MOST_INDEX = 4 << 20  # bytes; some five hundred thousand blocks
_AT_ONCE = 64 << 10


@dataclass(frozen=True, slots=True)
class Block:
    """A block's place in the file and its sizes, in bytes.

    Attributes:
        unpadded: as long as it is without the bytes that fill it up to four (section 4.3).
    """

    start: int
    unpadded: int
    plain: int

    @property
    def padded(self) -> int:
        """As long as it is in the file."""
        return -(-self.unpadded // 4) * 4


@dataclass(frozen=True, slots=True)
class Stream:
    """One stream of the file: where it begins and ends, its flags, and its blocks in order."""

    start: int
    end: int
    flags: bytes
    blocks: tuple[Block, ...]


def streams(read_at: Callable[[int, int], bytes], size: int, *, damaged: bool = False) -> list[Stream]:
    """All streams of a file in their order; none when it does not consist of whole ones.

    Where bytes are missing within the only one, its blocks behind that place are found nearer to its beginning.

    Args:
        read_at: gives the bytes from a place on, so many at the most.
        size: of the file, in bytes.
        damaged: whether the very beginning of the file may be damaged.
    """
    found: list[Stream] = []
    end = _without_padding(read_at, size)
    while end > 0:
        stream = _stream_before(read_at, end, damaged=damaged)
        if stream is None:
            return []
        found.append(stream)
        end = _without_padding(read_at, stream.start)
    return found[::-1]


def _without_padding(read_at: Callable[[int, int], bytes], end: int) -> int:
    """Where what stands before a place ends, without zeros behind it, which count in fours (section 2.2)."""
    at = end
    while at > 0:
        begin = max(at - _AT_ONCE, 0)
        rest = len(read_at(begin, at - begin).rstrip(b"\0"))
        at = begin + rest
        if rest:
            break
    return at + (end - at) % 4


def _stream_before(read_at: Callable[[int, int], bytes], end: int, *, damaged: bool) -> Stream | None:
    """The stream that ends at a place, or None when none does."""
    foot = read_at(end - _FOOT.size, _FOOT.size) if end >= _FOOT.size + _HEAD.size else b""
    if len(foot) < _FOOT.size:
        return None
    crc, backward, flags, magic = _FOOT.unpack(foot)
    index_size = (backward + 1) * 4
    index_at = end - _FOOT.size - index_size
    if magic != _END_MAGIC or zlib.crc32(foot[4:10]) != crc or index_at < _HEAD.size or index_size > _MOST_INDEX:
        return None
    records = _index(read_at(index_at, index_size))
    if records is None:
        return None
    start = index_at - sum(-(-unpadded // 4) * 4 for unpadded, _ in records) - _HEAD.size
    moved = 0
    if start < 0 or (read_at(start, _HEAD.size) != _head(flags) and not (damaged and start == 0)):
        start, moved = 0, start  # something of it may be missing, or too much
        if not moved or read_at(start, _HEAD.size) != _head(flags):
            return None
    blocks, at = [], start + _HEAD.size
    for unpadded, plain in records:
        place = at + moved if moved and not _begins_block(read_at, at) and _begins_block(read_at, at + moved) else at
        blocks.append(Block(place, unpadded, plain))
        at += blocks[-1].padded
    return Stream(start, end, flags, tuple(blocks))


def _begins_block(read_at: Callable[[int, int], bytes], at: int) -> bool:
    """Whether a block's header stands at a place, by its checksum (section 3.1)."""
    length = (read_at(at, 1)[0] + 1) * 4 if at >= 0 and read_at(at, 1) else 0
    data = read_at(at, length) if length > 4 else b""
    return 4 < length == len(data) and zlib.crc32(data[:-4]) == int.from_bytes(data[-4:], "little")


def _index(data: bytes) -> list[tuple[int, int]] | None:
    """The sizes that an index holds, or None when it is damaged (section 4)."""
    if len(data) < 8 or data[0] or zlib.crc32(data[:-4]) != int.from_bytes(data[-4:], "little"):
        return None
    numbers = []
    value = shift = 0
    for byte in data[1:-4]:  # section 1.2: seven bits a byte, the low ones first; what fills the index up are zeros
        value |= (byte & 0x7F) << shift
        shift += 7
        if shift > 63:
            return None
        if not byte & 0x80:
            numbers.append(value)
            value = shift = 0
    count = numbers[0] if numbers else 0
    if shift or len(numbers) < 1 + 2 * count:
        return None
    return list(zip(numbers[1 : 1 + 2 * count : 2], numbers[2 : 2 + 2 * count : 2], strict=True))


def frame(flags: bytes, block: Block) -> tuple[bytes, bytes]:
    """What stands before and behind a block in a stream of its own."""
    index = b"\0" + _number(1) + _number(block.unpadded) + _number(block.plain)
    index += bytes(-len(index) % 4)
    index += struct.pack("<I", zlib.crc32(index))
    rest = struct.pack("<I", len(index) // 4 - 1) + flags
    return _head(flags), index + struct.pack("<I", zlib.crc32(rest)) + rest + _END_MAGIC


def _head(flags: bytes) -> bytes:
    return _HEAD.pack(_MAGIC, flags, zlib.crc32(flags))


def _number(value: int) -> bytes:
    out = bytearray()
    while value >= 0x80:
        out.append(value & 0x7F | 0x80)
        value >>= 7
    return bytes((*out, value))
