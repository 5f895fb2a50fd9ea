"""Pieces of blocks, packed side by side."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from rundlet.core.codecs import lzma2, ppmd
from rundlet.core.codecs.steps import Tick, no_tick
from rundlet.core.errors import RundletError
from rundlet.core.limits import KIB

if TYPE_CHECKING:
    from rundlet.core.formats.item_reading import ReadFailed
    from rundlet.core.formats.sevenz.levels import Level
    from rundlet.core.formats.sevenz.new_header import Row
    from rundlet.core.formats.sevenz.sorting import BlockPlan

_PPMD_STEP = 4 * KIB  # the encoder loses bytes now and then when it is given more at once


@dataclass(slots=True)
class OpenBlock:
    """A block that is being read and written.

    Attributes:
        plain: bytes read so far.
        failed: what kept its only file from being read to its end.
    """

    plan: BlockPlan
    name: str
    filter: str
    files: list[Row] = field(default_factory=list)
    plain: int = 0
    failed: ReadFailed | None = None


@dataclass(slots=True)
class Piece:
    """A piece of a block, packed; the last one of a block says so and may hold nothing."""

    block: OpenBlock
    data: bytes
    plain: int
    properties: bytes = b""
    is_last: bool = False


def pack_piece(block: OpenBlock, data: bytes, how: Level, tick: Tick = no_tick) -> Piece:
    """A piece as its block is packed: by LZMA2, or as it is; ``tick`` is told on the way."""
    if block.name == "copy":
        tick(len(data))
        return Piece(block, data, len(data))
    properties = lzma2.properties_for(how.dictionary)
    packed = lzma2.encoded(data, how.preset, min(how.dictionary, len(data)), tick)
    return Piece(block, packed, len(data), properties)


def ppmd_encoded(data: bytes, how: Level, tick: Tick = no_tick) -> bytes:
    """Text packed by PPMd as a level says; ``tick`` is told on the way."""
    import pyppmd  # only for those who ask for it

    encoder = pyppmd.Ppmd7Encoder(how.order, how.model)
    packed = []
    for at in range(0, len(data), _PPMD_STEP):
        piece = data[at : at + _PPMD_STEP]
        packed.append(encoder.encode(piece))
        tick(len(piece))
    rest: bytes = encoder.flush()
    return b"".join(packed) + rest


def pack_text(block: OpenBlock, data: bytes, how: Level, tick: Tick = no_tick) -> Piece:
    """A whole block through PPMd, read back, as its encoder may lose bytes; through LZMA2 when it did."""
    packed = ppmd_encoded(data, how, tick)
    properties = bytes([how.order]) + how.model.to_bytes(4, "little")
    settings = {"order": how.order, "memory": how.model, "restore": 0, "size": len(data), "allowed": how.model}
    try:
        at = 0
        for piece in ppmd.decode(ppmd.VARIANT_H, iter((packed,)), **settings):
            if data[at : at + len(piece)] != piece:
                break
            at += len(piece)
            tick(0)
    except RundletError:
        at = -1
    if at == len(data):
        return Piece(block, packed, len(data), properties, True)
    block.name = "lzma2"
    whole = pack_piece(block, data, how)
    return Piece(block, whole.data, len(data), whole.properties, True)
