"""What all decoders have in common."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Iterable, Iterator
from typing import Any, Protocol

import deflate
from isal import igzip_lib, isal_zlib

from rundlet.core.errors import Corrupt, Truncated
from rundlet.core.limits import CHUNK

CODEC_ERRORS: Any = (
    zlib.error,
    isal_zlib.error,
    igzip_lib.error,
    lzma.LZMAError,
    deflate.DeflateError,
    OSError,
    EOFError,
    ValueError,
)
"""What the codec libraries raise on data that is not theirs."""


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


def expand(decoder: Decoder, packed: Iterable[bytes], *, step: int = CHUNK) -> Iterator[bytes]:
    """Decode a stream, ``step`` bytes of output at the most at a time.

    Raises:
        Corrupt: when the bytes are not what the codec writes.
        Truncated: when the input ends before the stream does.
    """
    for data in packed:
        while not decoder.eof:
            try:
                out = decoder.decompress(data, step)
            except CODEC_ERRORS as error:
                raise Corrupt("Its packed data is damaged.") from error
            if out:
                yield out
            if decoder.needs_input:
                break
            data = b""
        if decoder.eof:
            return
    if not decoder.eof:
        raise Truncated("Its packed data ends too early.")
