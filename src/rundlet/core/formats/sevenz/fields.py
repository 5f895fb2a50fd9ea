"""The fields that 7z headers are made of: numbers of one to nine bytes, bit vectors, and arrays with gaps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from rundlet.core.errors import Corrupt, Truncated

I64 = NDArray[np.int64]
Bits = NDArray[np.bool_]
Ticks = NDArray[np.uint64]

_LONGEST = 9
_LENGTHS = [1] * 0x80 + [2] * 0x40 + [3] * 0x20 + [4] * 0x10 + [5] * 8 + [6] * 4 + [7, 7, 8, 9]
_OWN_BITS = (0x7F, 0x3F, 0x1F, 0x0F, 0x07, 0x03, 0x01, 0, 0)
_MOST = (1 << 63) - 1


class FieldReader:
    """Exact reads from a header in memory.

    Every method raises ``Truncated`` when the header ends before, and sets nothing aside for what is not there.
    """

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 0

    @property
    def left(self) -> int:
        """How many bytes are left."""
        return len(self._data) - self._at

    def take(self, count: int) -> bytes:
        """The next bytes."""
        if not 0 <= count <= self.left:
            raise Truncated("Its file list ends too early.")
        self._at += count
        return self._data[self._at - count : self._at]

    def byte(self) -> int:
        """The next byte."""
        return self.take(1)[0]

    def part(self, count: int) -> FieldReader:
        """A reader of the next bytes alone."""
        return FieldReader(self.take(count))

    def same(self, begin: int, end: int) -> bool:
        """Whether the next bytes are those between two places; they are taken then."""
        length = end - begin
        if self._data[self._at : self._at + length] != self._data[begin:end] or self.left < length:
            return False
        self._at += length
        return True

    @property
    def at(self) -> int:
        """The place of the next byte."""
        return self._at

    def number(self) -> int:
        """A number: the ones at the head of the first byte count the bytes behind it."""
        first = self.byte()
        length = _LENGTHS[first]
        rest = self.take(length - 1)
        value = int.from_bytes(rest, "little") | (first & _OWN_BITS[length - 1]) << 8 * (length - 1)
        if value > _MOST:
            raise Corrupt("Its file list has a number beyond all bounds.")
        return value

    def numbers(self, count: int) -> I64:
        """Many numbers: their places are found one by one, all else is done for all at once."""
        if count > self.left:
            raise Truncated("Its file list ends too early.")
        data = np.frombuffer(self._data, np.uint8, min(self.left, count * _LONGEST), self._at)
        if count and int(data[:count].max()) < 0x80:
            self._at += count
            return data[:count].astype(np.int64)
        lengths = np.array(_LENGTHS, np.uint8)[data].tolist()
        places, at, last = [], 0, len(lengths)
        for _ in range(count):
            if at >= last:
                raise Truncated("Its file list ends too early.")
            places.append(at)
            at += lengths[at]
        if at > last:
            raise Truncated("Its file list ends too early.")
        self._at += at
        return _decoded(data, np.array(places, np.int64))

    def bits(self, count: int) -> Bits:
        """A vector of bits, the highest of each byte first."""
        packed = np.frombuffer(self.take((count + 7) // 8), np.uint8)
        return np.unpackbits(packed, count=count).astype(np.bool_)

    def known_bits(self, count: int) -> Bits:
        """The same behind a byte that says whether they are all set, and then they are left out."""
        if self.byte():
            if count > 8 * len(self._data):
                raise Truncated("Its file list ends too early.")
            return np.ones(count, np.bool_)
        return self.bits(count)

    def array(self, kind: str, count: int) -> NDArray[np.generic]:
        """Fixed numbers such as ``<u4``."""
        return np.frombuffer(self.take(count * np.dtype(kind).itemsize), kind)

    def digests(self, count: int) -> I64:
        """The CRC-32 of some streams, -1 where there is none."""
        known = self.known_bits(count)
        values = np.full(count, -1, np.int64)
        values[known] = self.array("<u4", int(known.sum()))
        return values


def _decoded(data: NDArray[np.uint8], places: I64) -> I64:
    """The numbers that begin at places."""
    firsts = data[places]
    lengths = np.array(_LENGTHS, np.int64)[firsts]
    own = np.array(_OWN_BITS, np.uint64)[lengths - 1] & firsts
    values = np.zeros(len(places), np.uint64)
    for i in range(1, _LONGEST):
        rows = np.flatnonzero(lengths > i)
        if not len(rows):
            break
        values[rows] |= data[places[rows] + i].astype(np.uint64) << np.uint64(8 * (i - 1))
    shift = np.minimum(8 * (lengths - 1), 56).astype(np.uint64)
    values |= np.where(lengths <= 8, own << shift, np.uint64(0))
    if int(values.max(initial=0)) > _MOST:
        raise Corrupt("Its file list has a number beyond all bounds.")
    return values.astype(np.int64)


def number(value: int) -> bytes:
    """A number as :meth:`FieldReader.number` reads it, in as few bytes as can be."""
    for length in range(1, _LONGEST):
        if value < 1 << 7 * length:
            ones = 0xFF00 >> (length - 1) & 0xFF
            return bytes([ones | value >> 8 * (length - 1)]) + (value & (1 << 8 * (length - 1)) - 1).to_bytes(
                length - 1, "little"
            )
    return b"\xff" + value.to_bytes(8, "little")


def numbers(values: I64) -> bytes:
    """Many numbers."""
    if len(values) and int(values.max()) < 0x80:
        return values.astype(np.uint8).tobytes()
    return b"".join(map(number, values.tolist()))


def bits(values: Bits) -> bytes:
    """A vector of bits."""
    return np.packbits(values).tobytes()


def known_bits(values: Bits) -> bytes:
    """A vector of bits, left out when all are set."""
    return b"\x01" if values.all() else b"\x00" + bits(values)
