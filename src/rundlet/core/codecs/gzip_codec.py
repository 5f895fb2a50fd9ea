"""gzip members (RFC 1952), taken apart here so that what was decoded is given out before a wrong checksum is told."""

from __future__ import annotations

from enum import IntFlag
from typing import TYPE_CHECKING

from rundlet.core.codecs import deflate_codec
from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import ChecksumMismatch, Corrupt

if TYPE_CHECKING:
    from rundlet.core.codecs.system_inflate import SystemInflate

_FIXED = 10
_TRAILER = 8
_LONGEST_HEAD = 1 << 20


class _Flag(IntFlag):
    """The FLG byte (section 2.3.1)."""

    HCRC = 2
    EXTRA = 4
    NAME = 8
    COMMENT = 16


class GzipDecoder:
    """An incremental decoder of one member, in the shape of the standard library's.

    Args:
        inner: decodes the stream within; None for the quickest.
        midway: whether it begins within the member, so that there is no header and nothing to compare at the end.
    """

    def __init__(self, inner: SystemInflate | None = None, *, midway: bool = False) -> None:
        self._inner = inner if inner is not None else deflate_codec.decoder()
        self._head: bytes | None = None if midway else b""
        self._midway = midway
        self._tail = b""
        self._crc = self._size = 0
        self.eof = False
        self.unused_data = b""

    @property
    def needs_input(self) -> bool:
        if self._inner.eof:
            return len(self._tail) < _TRAILER
        return self._head is not None or self._inner.needs_input

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        """Take data and give out what can be decoded of it.

        Raises:
            Corrupt: when the member is damaged; for its checksum, in a call of its own after the last bytes.
        """
        if self._head is not None:
            self._head += data
            length = _head_length(self._head)
            if length is None:
                if len(self._head) > _LONGEST_HEAD:
                    raise Corrupt("Its packed data is damaged.")
                return b""
            data, self._head = self._head[length:], None
        if self._inner.eof:
            self._end(data)
            return b""
        out = self._inner.decompress(data, max_length)
        self._crc = crc32(out, self._crc)
        self._size += len(out)
        if self._inner.eof:
            rest: bytes = self._inner.unused_data
            if out:
                self._tail = rest  # looked at in the next call, when these bytes are safely out
            else:
                self._end(rest)
        return out

    def _end(self, data: bytes) -> None:
        self._tail += data
        if len(self._tail) < _TRAILER:
            return
        self.unused_data = self._tail[_TRAILER:]
        stated = int.from_bytes(self._tail[:4], "little"), int.from_bytes(self._tail[4:_TRAILER], "little")
        if not self._midway and stated != (self._crc, self._size & 0xFFFFFFFF):
            raise ChecksumMismatch("Its packed data fails its checksum.")
        self.eof = True


def _head_length(head: bytes) -> int | None:
    """The bytes of a header (section 2.3), or None while it is not all there."""
    if len(head) < _FIXED:
        return None
    flags, at = head[3], _FIXED
    if head[:3] != b"\x1f\x8b\x08":
        raise Corrupt("Its packed data is damaged.")
    if flags & _Flag.EXTRA:
        if len(head) < at + 2:
            return None
        at += 2 + int.from_bytes(head[at : at + 2], "little")
    for flag in (_Flag.NAME, _Flag.COMMENT):
        if flags & flag:
            end = head.find(b"\0", at)
            if end < 0:
                return None
            at = end + 1
    if flags & _Flag.HCRC:
        at += 2
    return at if len(head) >= at else None
