"""Encoders by name: whole buffers, and streams for large files."""

from __future__ import annotations

import bz2
import lzma
from collections.abc import Callable

from rundlet.core.codecs.steps import Encoder, Tick, in_steps, no_tick
from rundlet.core.codecs.whole import deflated
from rundlet.core.codecs.zstd_library import zstd

ZSTD_LEVELS = (1, 1, 2, 3, 5, 7, 9, 12, 16, 19)
_ZSTD_WORKERS = 2  # any number over 0 gives the same bytes

XZ_PRESETS = (0, 0, 1, 2, 4, 6, 7, 8, 9, 9 | lzma.PRESET_EXTREME)
"""The preset for each level; the level 5 is the library's own default."""


class _HeadedLzma:
    """LZMA as zip keeps it (its application note, section 5.8.8), with an end mark."""

    def __init__(self, level: int) -> None:
        preset = XZ_PRESETS[level]
        properties = _lzma_properties(preset)
        self._head = b"\x09\x14" + len(properties).to_bytes(2, "little") + properties
        self._encoder = lzma.LZMACompressor(lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA1, "preset": preset}])

    def compress(self, data: bytes, /) -> bytes:
        head, self._head = self._head, b""
        return head + self._encoder.compress(data)

    def flush(self) -> bytes:
        return self.compress(b"") + self._encoder.flush()


def _lzma_properties(preset: int) -> bytes:
    """The five bytes for a preset: lc 3, lp 0, pb 2 and the dictionary's size, as the library's own header says it."""
    return lzma.compress(b"", lzma.FORMAT_ALONE, preset=preset)[:5]


def _zstd(level: int) -> Encoder:
    options: dict[int, int] = {
        zstd.CompressionParameter.compression_level: ZSTD_LEVELS[level],
        zstd.CompressionParameter.nb_workers: _ZSTD_WORKERS,
    }
    encoder: Encoder = zstd.ZstdCompressor(options=options)
    return encoder


ENCODERS: dict[str, Callable[[int], Encoder]] = {
    "bzip2": bz2.BZ2Compressor,
    "headed lzma": _HeadedLzma,
    "xz": lambda level: lzma.LZMACompressor(lzma.FORMAT_XZ, preset=XZ_PRESETS[level]),
    "zstd": _zstd,
}
"""Makes a new encoder for a level of 1 to 9, by the name of its codec."""


def compress_whole(name: str, data: bytes, level: int, tick: Tick = no_tick) -> bytes:
    """A whole buffer as one stream; ``tick`` is told on the way."""
    if name == "deflate":
        return deflated(data, level)
    if name == "zstd":
        return in_steps(sized_zstd({}, ZSTD_LEVELS[level], len(data)), data, tick)
    return in_steps(ENCODERS[name](level), data, tick)


def sized_zstd(options: dict[int, int], level: int, size: int) -> Encoder:
    """An encoder of one zstd frame for so many bytes, which the frame states and the encoder suits itself to."""
    encoder = zstd.ZstdCompressor(options={**options, zstd.CompressionParameter.compression_level.value: level})
    encoder.set_pledged_input_size(size)
    return encoder
