"""Every decoder by its name."""

from __future__ import annotations

import bz2
import lzma
import struct
from collections.abc import Callable
from typing import TYPE_CHECKING

from rundlet.core.codecs import deflate_codec
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import Corrupt, LimitExceeded
from rundlet.core.limits import KIB

if TYPE_CHECKING:
    from rundlet.core.codecs.base import Decoder

_INFLATE64_STEP = 4 * KIB  # it has no bound on its output; this keeps it to some 4 MiB at a time
_ZSTD_LARGEST = 31
_LZMA_HEADER = struct.Struct("<2BH")
_LZMA_PROPERTIES = struct.Struct("<BI")


class Deflate64Decoder:
    """Deflate64: deflate with a 64 KiB window."""

    def __init__(self) -> None:
        import inflate64  # rarely needed, and slow to import

        self._inflater = inflate64.Inflater()
        self._input = b""

    @property
    def eof(self) -> bool:
        return bool(self._inflater.eof)

    @property
    def needs_input(self) -> bool:
        return not self._input

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        self._input += data
        step, self._input = self._input[:_INFLATE64_STEP], self._input[_INFLATE64_STEP:]
        return bytes(self._inflater.inflate(step)) if step and not self.eof else b""


class HeadedLzmaDecoder:
    """LZMA as zip keeps it (its application note, section 5.8.8): version, length of properties, properties, stream."""

    def __init__(self, memory: int) -> None:
        self._memory = memory
        self._head = b""
        self._decoder: lzma.LZMADecompressor | None = None

    @property
    def eof(self) -> bool:
        return self._decoder is not None and self._decoder.eof

    @property
    def needs_input(self) -> bool:
        return self._decoder is None or self._decoder.needs_input

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        if self._decoder is None:
            self._head += data
            whole = _LZMA_HEADER.size + _LZMA_PROPERTIES.size
            if len(self._head) < whole:
                return b""
            if _LZMA_HEADER.unpack_from(self._head)[2] != _LZMA_PROPERTIES.size:
                raise Corrupt("Its packed data is damaged.")
            properties = self._head[_LZMA_HEADER.size : whole]
            self._decoder = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[lzma_filter(properties, self._memory)])
            data = self._head[whole:]
        return self._decoder.decompress(data, max_length)


def lzma_filter(properties: bytes, memory: int) -> dict[str, int]:
    """The filter for five bytes of LZMA properties.

    Raises:
        Corrupt: when they are not LZMA's.
        LimitExceeded: when the dictionary takes more memory than allowed.
    """
    packed, dictionary = _LZMA_PROPERTIES.unpack(properties)
    if packed >= 9 * 5 * 5:
        raise Corrupt("Its packed data is damaged.")
    check_memory(dictionary, memory)
    return {
        "id": lzma.FILTER_LZMA1,
        "dict_size": max(dictionary, 4096),
        "lc": packed % 9,
        "lp": packed // 9 % 5,
        "pb": packed // 45,
    }


def check_memory(wanted: int, allowed: int) -> None:
    """Refuse what would take more memory than allowed; both in bytes.

    Raises:
        LimitExceeded: then.
    """
    if wanted > allowed:
        raise LimitExceeded(
            "Unpacking it would take {wanted:size} of memory, more than the {allowed:size} allowed.",
            hint="It can be allowed more with --memory.",
            wanted=wanted,
            allowed=allowed,
        )


def zstd_decoder(memory: int) -> Decoder:
    """A zstd decoder whose window may take so many bytes."""
    log = min(max(memory.bit_length() - 1, 10), _ZSTD_LARGEST)
    return zstd.ZstdDecompressor(options={zstd.DecompressionParameter.window_log_max.value: log})


DECODERS: dict[str, Callable[[int], Decoder]] = {
    "deflate": lambda memory: deflate_codec.decoder(),
    "deflate64": lambda memory: Deflate64Decoder(),
    "bzip2": lambda memory: bz2.BZ2Decompressor(),
    "headed lzma": HeadedLzmaDecoder,
    "xz": lambda memory: lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=memory),
    "lzma": lambda memory: lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=memory),
    "zstd": zstd_decoder,
}
"""Makes a new decoder by the name of its codec, for the bytes of memory that it may take."""
