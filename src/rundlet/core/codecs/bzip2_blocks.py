"""The blocks of a bzip2 stream, each of which can be decoded by itself.

A stream is a head of four bytes, blocks that begin at any bit with the same 48, and an end mark with a checksum of the
blocks' own checksums. Neither says how long a block is, so the marks are looked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

HEAD_SIZE = 4
HEADS = tuple(b"BZh%d" % size for size in range(1, 10))
"""What a stream can begin with; the number says how many hundreds of thousands of bytes are in a block."""
MARK_BITS = 48
END_BITS = MARK_BITS + 32
"""The end mark with its checksum; the stream then goes on to a whole byte."""

_BLOCK = 0x314159265359
_END = 0x177245385090
_HEAD = HEADS[-1]  # a decoder for the largest blocks takes smaller ones too
_STEP = 1 << 20


def _needles() -> list[tuple[bytes, int, bool]]:
    """Five whole bytes of each mark at each of eight places in a byte, that place, and whether it is the end mark."""
    found = []
    for mark, is_end in ((_BLOCK, False), (_END, True)):
        for shift in range(8):
            whole = (mark << (8 - shift)).to_bytes(7, "big")
            found.append((whole[1:6], shift, is_end))
    return found


_NEEDLES = _needles()


def marks(read_at: Callable[[int, int], bytes], start: int) -> Iterator[tuple[int, bool]]:
    """Where blocks and ends of streams begin, in order, from a byte on.

    Args:
        read_at: gives the bytes from a place on, so many at the most, and none at the end alone.

    Yields:
        the place in bits, and whether it is the end of a stream.
    """
    at = start
    while len(data := read_at(at, _STEP + 7)) >= MARK_BITS // 8:
        found = []
        for needle, shift, is_end in _NEEDLES:
            inner = data.find(needle)
            while inner >= 0:
                begin = inner - 1
                mark = _END if is_end else _BLOCK
                if 0 <= begin < _STEP and _bits(data, begin * 8 + shift, MARK_BITS) == mark:
                    found.append(((at + begin) * 8 + shift, is_end))
                inner = data.find(needle, inner + 1)
        yield from sorted(found)
        at += min(len(data), _STEP)  # where fewer came, reading on tells whether it is the end or a gap


def begins_stream(read_at: Callable[[int, int], bytes], at: int) -> bool:
    """Whether the block that begins at a byte is the first one of a stream, with the end of another one before that."""
    before = -(-END_BITS // 8) + 1 + HEAD_SIZE
    data = read_at(max(at - before, 0), min(before, at))
    if data[-HEAD_SIZE:] not in HEADS:
        return False
    ended = (len(data) - HEAD_SIZE) * 8
    firsts = (ended - filler - END_BITS for filler in range(8))
    return at == HEAD_SIZE or any(first >= 0 and _bits(data, first, MARK_BITS) == _END for first in firsts)


def _bits(data: bytes, first: int, count: int) -> int:
    """``count`` bits of some bytes from a bit on, or -1 where they are not all there."""
    begin, end = first // 8, -(-(first + count) // 8)
    if end > len(data):
        return -1
    return int.from_bytes(data[begin:end], "big") >> (end * 8 - first - count) & (1 << count) - 1


def checksum_at(data: bytes, bit: int) -> int:
    """The checksum that stands behind a mark, which begins at a bit of ``data``; -1 where it is not all there."""
    return _bits(data, bit + MARK_BITS, 32)


def alone(data: bytes, bit: int, count: int) -> bytes:
    """A stream of one block: ``count`` bits of ``data`` from ``bit`` on, which begin with the block's mark."""
    whole, rest = divmod(count, 8)
    begin, shift = divmod(bit, 8)
    bytes_ = np.frombuffer(data, np.uint8, whole + (shift > 0), begin)
    body = (bytes_[:-1] << shift | bytes_[1:] >> (8 - shift)) if shift else bytes_
    last = _bits(data, bit + whole * 8, rest) if rest else 0
    tail = (last << MARK_BITS | _END) << 32 | checksum_at(data, bit)
    size = rest + END_BITS
    return _HEAD + body.tobytes() + (tail << -size % 8).to_bytes(-(-size // 8), "big")


def together(one: int, checksum: int) -> int:
    """The stream's checksum with one more block."""
    return (one << 1 & 0xFFFFFFFF | one >> 31) ^ checksum
