"""LZMA2: its properties, and the places in a stream from which decoding can begin."""

from __future__ import annotations

import lzma
from collections.abc import Callable
from dataclasses import dataclass

from rundlet.core.codecs.registry import check_memory
from rundlet.core.codecs.steps import Tick, in_steps, no_tick
from rundlet.core.errors import Corrupt, MissingPart, Truncated
from rundlet.core.limits import MIB

END = b"\0"
"""The control byte that ends a stream."""

_LARGEST = 40
_HEAD = 6
_WINDOW = 1 * MIB
_LEAST_DICTIONARY = 4096


@dataclass(frozen=True, slots=True)
class Segment:
    """A stretch that needs nothing of what comes before it.

    Attributes:
        packed_at, packed_size: where it is in the packed stream, in bytes.
        at, size: the same in the plain stream.
    """

    packed_at: int
    packed_size: int
    at: int
    size: int


def dictionary_size(properties: bytes) -> int:
    """The bytes of the dictionary that the one byte of properties stands for.

    Raises:
        Corrupt: when it stands for none.
    """
    if len(properties) != 1 or properties[0] > _LARGEST:
        raise Corrupt("Its packed data is damaged.")
    value = properties[0]
    return 0xFFFFFFFF if value == _LARGEST else (2 | value & 1) << (value // 2 + 11)


def properties_for(dictionary: int) -> bytes:
    """The byte for the least dictionary of its kind that is not smaller than this."""
    return bytes([next(v for v in range(_LARGEST + 1) if dictionary_size(bytes([v])) >= dictionary)])


def decoder(properties: bytes, memory: int) -> lzma.LZMADecompressor:
    """A decoder for a whole stream or a segment with :data:`END` behind it.

    Raises:
        Corrupt: when the properties are none.
        LimitExceeded: when the dictionary takes more than ``memory`` bytes.
    """
    dictionary = dictionary_size(properties)
    check_memory(dictionary, memory)
    filters = [{"id": lzma.FILTER_LZMA2, "dict_size": max(dictionary, _LEAST_DICTIONARY)}]
    return lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters)


def encoded(data: bytes | memoryview, preset: int, dictionary: int, tick: Tick = no_tick) -> bytes:
    """Data as a segment: a stream without its end, to be followed by others; ``tick`` is told on the way."""
    filters = [{"id": lzma.FILTER_LZMA2, "preset": preset, "dict_size": max(dictionary, _LEAST_DICTIONARY)}]
    return in_steps(lzma.LZMACompressor(lzma.FORMAT_RAW, filters=filters), data, tick)[: -len(END)]


def segments(read_at: Callable[[int, int], bytes], size: int) -> list[Segment]:
    """Follow a stream from chunk to chunk by their heads and find where the dictionary is begun anew.

    A stream that can't be followed to its end gives the segments before that place, the last of them up to the end of
    the stream, so that decoding says what is wrong with it.

    Args:
        read_at: reads bytes of the packed stream, by place and number.
        size: bytes of the packed stream.
    """
    starts: list[tuple[int, int]] = []
    at = plain = begin = 0
    window = b""
    while at < size:
        if at + _HEAD > begin + len(window):
            try:
                begin, window = at, read_at(at, _WINDOW)
            except MissingPart:
                break
        head = window[at - begin : at - begin + _HEAD]
        control = head[0] if head else 0
        if not control or (len(head) < _HEAD and at + len(head) < size) or 2 < control < 0x80:
            break
        if control == 1 or control >= 0xE0:
            starts.append((at, plain))
        if control < 0x80:
            length = int.from_bytes(head[1:3], "big") + 1
            plain += length
            at += 3 + length
        else:
            plain += ((control & 0x1F) << 16) + int.from_bytes(head[1:3], "big") + 1
            at += 5 + (control >= 0xC0) + int.from_bytes(head[3:5], "big") + 1
    ends = [*starts[1:], (size, plain)] if starts else []
    return [
        Segment(at, after - at, plain, plain_after - plain)
        for (at, plain), (after, plain_after) in zip(starts, ends, strict=True)
    ]


def whole(packed: bytes, properties: bytes, segment: Segment, memory: int) -> bytes:
    """A segment decoded at once.

    Raises:
        Corrupt, Truncated: when it is damaged.
        LimitExceeded: when the dictionary takes more than ``memory`` bytes.
    """
    inner = decoder(properties, memory)
    try:
        plain = inner.decompress(packed, segment.size)
    except lzma.LZMAError as error:
        raise Corrupt("Its packed data is damaged.") from error
    if len(plain) < segment.size:
        raise Truncated("Its packed data ends too early.")
    return plain
