"""Deflate (RFC 1951): pieces that make up one ordinary stream. Whole buffers are in :mod:`rundlet.core.codecs.whole`.

The levels are a measured frontier (``benchmarks/``): each is slower than the one before and smaller. Levels 1
and 2 come from one library, 3 to 9 from another that has no preset dictionaries; its pieces are closed by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from isal import igzip_lib, isal_zlib

from rundlet.core.codecs.system_inflate import SystemInflate, system_inflate_is_there
from rundlet.core.codecs.whole import QUICK, deflated
from rundlet.core.limits import KIB, MIB

if TYPE_CHECKING:
    from rundlet.core.codecs.base import Decoder

WINDOW = 32 * KIB
"""How far back a deflate stream can refer (RFC 1951, section 2)."""

_SLOW_FROM = 8
_EMPTY_STORED = b"\x00\x00\xff\xff"
_RAW = -15


def piece_size(level: int) -> int:
    """Bytes of input that make a good piece at this level: so many that it packs well, and so few that it can be cancelled."""
    return 1 * MIB if level in QUICK or level >= _SLOW_FROM else 2 * MIB


def compress_piece(data: bytes, level: int, *, before: bytes, last: bool) -> bytes:
    """One piece of a stream whose pieces are compressed apart and joined in order.

    Args:
        data: the piece, not empty.
        level: 1 to 9.
        before: up to :data:`WINDOW` bytes that come before the piece in the input.
        last: whether it ends the stream; all other pieces end on a whole byte with an empty stored block.
    """
    if level in QUICK or not system_inflate_is_there():
        quick = QUICK.get(level, 3)
        coder = isal_zlib.compressobj(quick, isal_zlib.DEFLATED, _RAW, 9, 0, *([before] if before else []))
        return coder.compress(data) + coder.flush(isal_zlib.Z_FINISH if last else isal_zlib.Z_SYNC_FLUSH)
    packed = deflated(data, level)
    return packed if last else _open_ended(packed, len(data))


def decoder() -> Decoder:
    """An incremental decoder of a raw stream."""
    decoder: Decoder = igzip_lib.IgzipDecompressor(flag=igzip_lib.DECOMP_DEFLATE)
    return decoder


def _open_ended(packed: bytes, size: int) -> bytes:
    """Take the end mark out of a raw stream and bring it to a whole byte (RFC 1951, sections 3.2.3 and 3.2.4)."""
    header, end = _last_block(packed, size)
    stream = bytearray(packed)
    stream[header >> 3] &= ~(1 << (header & 7)) & 0xFF
    whole = (end + 3 + 7) // 8  # the three header bits of the stored block are zero, and so is the padding
    stream += bytes(max(whole - len(stream), 0))
    return bytes(stream[:whole]) + _EMPTY_STORED


def _last_block(packed: bytes, size: int) -> tuple[int, int]:
    """Where the last block's header and its end are, in bits from the start of the stream."""
    inflate = SystemInflate()
    inflate.stop_at_blocks = True
    header = 0
    try:
        inflate.decompress(packed, size + 1)
        while not inflate.eof:
            if inflate.at_block:
                position = inflate.consumed * 8 - inflate.unused_bits
                if inflate.in_last_block:
                    return header, position
                header = position
            inflate.decompress(b"", size + 1)
    finally:
        inflate.close()
    raise AssertionError("a stream of our own ends with a last block")
