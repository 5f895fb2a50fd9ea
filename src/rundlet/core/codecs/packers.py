"""Compressing a stream in pieces: each piece is a member, stream or frame of its own, and any reader joins them."""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable
from dataclasses import dataclass

import deflate
from isal import isal_zlib

from rundlet.core.codecs.encoders import XZ_PRESETS, ZSTD_LEVELS, sized_zstd
from rundlet.core.codecs.steps import Tick, in_steps, no_tick
from rundlet.core.codecs.whole import QUICK, TIGHT
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.limits import KIB, MIB

_GZIP_WBITS = 31
_SLOW_FROM = 8  # the level from which on 4 MiB take so long that one would wait for it
_DICTIONARIES = (256 * KIB, MIB, 2 * MIB, 4 * MIB, 4 * MIB, 8 * MIB, 8 * MIB, 16 * MIB, 32 * MIB, 64 * MIB)


@dataclass(frozen=True, slots=True)
class Packer:
    """A way to compress a stream.

    Attributes:
        piece: bytes of input for one piece.
        encode: compresses one piece; releases the interpreter while it works, and tells of each step.
    """

    piece: int
    encode: Callable[[bytes, Tick], bytes]

    def pack(self, data: bytes, tick: Tick = no_tick) -> bytes:
        """One piece compressed; ``tick`` is told on the way."""
        return self.encode(data, tick)


def _at_once(encode: Callable[[bytes], bytes]) -> Callable[[bytes, Tick], bytes]:
    """An encoder that is so quick that its pieces need no steps."""

    def whole(data: bytes, tick: Tick) -> bytes:
        packed = encode(data)
        tick(len(data))
        return packed

    return whole


def _gzip(level: int) -> Packer:
    if level == 0:
        return Packer(4 * MIB, _at_once(lambda data: zlib.compress(data, 0, _GZIP_WBITS)))
    if level in QUICK:
        return Packer(4 * MIB, _at_once(lambda data: bytes(isal_zlib.compress(data, QUICK[level], _GZIP_WBITS))))
    piece = 4 * MIB if level < _SLOW_FROM else 1 * MIB
    return Packer(piece, _at_once(lambda data: bytes(deflate.gzip_compress(data, TIGHT[level]))))


def _bzip2(level: int) -> Packer:
    return Packer(level * 900_000 // 9 * 4, lambda data, tick: in_steps(bz2.BZ2Compressor(level), data, tick))


def _xz(level: int) -> Packer:
    preset = XZ_PRESETS[level]
    dictionary = _DICTIONARIES[preset & 0xF]
    return Packer(
        max(2 * dictionary, 4 * MIB), lambda data, tick: in_steps(lzma.LZMACompressor(preset=preset), data, tick)
    )


def _zstd(level: int) -> Packer:
    options = {zstd.CompressionParameter.checksum_flag.value: 1}
    return Packer(
        4 * MIB if level < 7 else 16 * MIB,
        lambda data, tick: in_steps(sized_zstd(options, ZSTD_LEVELS[level], len(data)), data, tick),
    )


PACKERS: dict[str, Callable[[int], Packer]] = {"gz": _gzip, "bz2": _bzip2, "xz": _xz, "zst": _zstd}
"""Makes a packer for a level, by the short name of the packing."""
