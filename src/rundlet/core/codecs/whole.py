"""Small content that is there as a whole, perhaps still packed.

Kept apart from the other codecs, as helper processes that handle such content are to start quickly.
"""

from __future__ import annotations

from collections.abc import Iterator

import deflate
from isal import isal_zlib

from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import ChecksumMismatch, Corrupt, Truncated

QUICK = {1: 2, 2: 3}
TIGHT = {3: 1, 4: 4, 5: 5, 6: 7, 7: 8, 8: 10, 9: 12}
"""The level of the one library or the other for each of ours."""

_STEADY, _STEADY_LEVEL = 64 << 10, 3
"""Up to so many bytes the quickest level of its library may miss a match for what happens to lie in memory, about once in 70,000
files; its next level does not, and costs next to nothing there beside all else that a small file takes."""

DAMAGED = "Its packed data is damaged."
TOO_LITTLE = "It unpacks to less than its stated size."
WRONG_SUM = "Its content fails its checksum."
SIZES_DIFFER = "It is stored as it is, and yet its two sizes differ."


class Whole:
    """The content of one small entry.

    Iterating gives it in one chunk and raises what :meth:`content` does.

    Args:
        data: its bytes as they are in the archive.
        deflated: whether they are a raw deflate stream (RFC 1951), and not the content itself.
        size: bytes of the content.
        crc: the content's CRC-32; None when it was compared already.
    """

    __slots__ = ("crc", "data", "deflated", "size")

    def __init__(self, data: bytes, deflated: bool, size: int, crc: int | None) -> None:
        self.data = data
        self.deflated = deflated
        self.size = size
        self.crc = crc

    def __iter__(self) -> Iterator[bytes]:
        yield self.content()

    def content(self) -> bytes:
        """The content, compared with its size and checksum.

        Raises:
            Corrupt: when it is damaged or longer than stated; ``Truncated`` when it is shorter.
            ChecksumMismatch: when its checksum is another.
        """
        data = self.data
        if self.deflated:
            data = inflated(data, self.size)
            if len(data) < self.size:
                raise Truncated(TOO_LITTLE)
        elif self.size != len(data):
            raise Corrupt(SIZES_DIFFER)
        if self.crc is not None and crc32(data) != self.crc:
            raise ChecksumMismatch(WRONG_SUM)
        return data


def deflated(data: bytes, level: int) -> bytes:
    """The whole of ``data`` as one raw deflate stream (RFC 1951); ``level`` 1 to 9."""
    if level in QUICK:
        return isal_zlib.compress(data, QUICK[level] if len(data) > _STEADY else _STEADY_LEVEL, -15)
    return bytes(deflate.deflate_compress(data, TIGHT[level]))


def inflated(data: bytes, size: int) -> bytes:
    """Decode a whole raw deflate stream whose decoded size is known.

    Raises:
        Corrupt: when the stream is damaged or decodes to more than ``size`` bytes.
    """
    try:
        return bytes(deflate.deflate_decompress(data, size))
    except (deflate.DeflateError, ValueError) as error:
        raise Corrupt(DAMAGED) from error
