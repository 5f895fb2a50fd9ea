"""What all decoders have in common."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Iterable, Iterator
from typing import Any, Protocol

import deflate
from isal import igzip_lib, isal_zlib

from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.whole import DAMAGED, TOO_LITTLE, WRONG_SUM
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import ChecksumMismatch, Corrupt, LimitExceeded, RundletError, Truncated
from rundlet.core.limits import CHUNK

CODEC_ERRORS: Any = (
    zlib.error,
    isal_zlib.error,
    igzip_lib.error,
    lzma.LZMAError,
    deflate.DeflateError,
    zstd.ZstdError,
    OSError,
    EOFError,
    ValueError,
)
"""What the codec libraries raise on data that is not theirs."""

MEMORY_ERRORS = (MemoryError, lzma.LZMAError)
"""What they raise when the data asks for too much memory, though not only then."""


class Decoder(Protocol):
    """An incremental decoder, in the shape that the standard library's own decoders have."""

    @property
    def eof(self) -> bool:
        """Whether the end of the stream was reached."""

    @property
    def needs_input(self) -> bool:
        """Whether all that can be decoded of the input so far was given out."""

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        """Take ``data`` and give out up to ``max_length`` bytes."""


def expand(
    decoder: Decoder, packed: Iterable[bytes], *, step: int = CHUNK, until: int | None = None
) -> Iterator[bytes]:
    """Decode a stream, ``step`` bytes of output at the most at a time; what follows it in the input is read and left.

    Args:
        until: for streams without an end mark: how many bytes they decode to, after which they are at their end.

    Raises:
        Corrupt: when the bytes are not what the codec writes.
        Truncated: when the input ends before the stream does.
    """
    total = 0
    inputs = iter(packed)
    for data in inputs:
        while not decoder.eof and (until is None or total < until):
            try:
                out = decoder.decompress(data, step if until is None else min(step, until - total))
            except MEMORY_ERRORS as error:
                raise _too_large(error) from error
            except CODEC_ERRORS as error:
                raise Corrupt(DAMAGED) from error
            if out:
                total += len(out)
                yield out
            if decoder.needs_input:
                break
            data = b""
        if decoder.eof:
            break
    if not decoder.eof and (until is None or total < until):
        raise Truncated("Its packed data ends too early.")
    for _ in inputs:
        pass  # read to its end, so that whoever checks the packed bytes sees them all


def _too_large(error: Exception) -> RundletError:
    if isinstance(error, MemoryError) or "emory" in str(error):
        return LimitExceeded("Unpacking it would take more memory than allowed.")
    return Corrupt(DAMAGED)


def checked(plain: Iterable[bytes], size: int, crc: int | None) -> Iterator[bytes]:
    """Pass content on and compare its length and CRC-32 with what the archive states.

    Args:
        crc: what it should be, or None when something else vouches for the content or nothing does.

    Raises:
        Corrupt: as soon as there is more than stated; ``Truncated`` when there is less at the end.
        ChecksumMismatch: at the end.
    """
    seen, total = 0, 0
    for data in plain:
        total += len(data)
        if total > size:
            raise Corrupt("It unpacks to more than its stated size.")
        if crc is not None:
            seen = crc32(data, seen)
        yield data
    if total < size:
        raise Truncated(TOO_LITTLE)
    if crc not in (None, seen):
        raise ChecksumMismatch(WRONG_SUM)
