"""What all decoders have in common."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Iterable, Iterator
from typing import Any, Protocol

import deflate
from backports import zstd
from isal import igzip_lib, isal_zlib

from rundlet.core.errors import Corrupt, LimitExceeded, RundletError, Truncated
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
                out = decoder.decompress(data, step)
            except MEMORY_ERRORS as error:
                raise _too_large(error) from error
            except CODEC_ERRORS as error:
                raise Corrupt("Its packed data is damaged.") from error
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
    return Corrupt("Its packed data is damaged.")
