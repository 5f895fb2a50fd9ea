"""Compressing a stream in pieces: each piece is a member, stream or frame of its own, and any reader joins them."""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable
from dataclasses import dataclass

import deflate
from backports import zstd
from isal import isal_zlib

from rundlet.core.codecs.encoders import XZ_PRESETS, ZSTD_LEVELS
from rundlet.core.codecs.whole import QUICK, TIGHT
from rundlet.core.limits import KIB, MIB

_GZIP_WBITS = 31
_DICTIONARIES = (256 * KIB, MIB, 2 * MIB, 4 * MIB, 4 * MIB, 8 * MIB, 8 * MIB, 16 * MIB, 32 * MIB, 64 * MIB)


@dataclass(frozen=True, slots=True)
class Packer:
    """A way to compress a stream.

    Attributes:
        piece: bytes of input for one piece.
        pack: compresses one piece; releases the interpreter while it works.
    """

    piece: int
    pack: Callable[[bytes], bytes]


def _gzip(level: int) -> Packer:
    if level == 0:
        return Packer(4 * MIB, lambda data: zlib.compress(data, 0, _GZIP_WBITS))
    if level in QUICK:
        return Packer(4 * MIB, lambda data: bytes(isal_zlib.compress(data, QUICK[level], _GZIP_WBITS)))
    return Packer(4 * MIB, lambda data: bytes(deflate.gzip_compress(data, TIGHT[level])))


def _bzip2(level: int) -> Packer:
    return Packer(level * 900_000 // 9 * 4, lambda data: bz2.compress(data, level))


def _xz(level: int) -> Packer:
    preset = XZ_PRESETS[level]
    dictionary = _DICTIONARIES[preset & 0xF]
    return Packer(max(2 * dictionary, 4 * MIB), lambda data: lzma.compress(data, preset=preset))


def _zstd(level: int) -> Packer:
    options = {
        zstd.CompressionParameter.compression_level.value: ZSTD_LEVELS[level],
        zstd.CompressionParameter.checksum_flag.value: 1,
    }
    return Packer(4 * MIB if level < 7 else 16 * MIB, lambda data: bytes(zstd.compress(data, options=options)))


PACKERS: dict[str, Callable[[int], Packer]] = {"gz": _gzip, "bz2": _bzip2, "xz": _xz, "zst": _zstd}
"""Makes a packer for a level, by the short name of the packing."""
