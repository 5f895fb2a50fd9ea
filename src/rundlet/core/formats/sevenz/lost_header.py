"""The header of a 7z archive where nothing leads to it any more: it stands at the end, so it is looked for there."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import FormatError, LimitExceeded
from rundlet.core.formats.sevenz.fields import FieldReader
from rundlet.core.formats.sevenz.header import Header, Streams, read_header, read_streams
from rundlet.core.formats.sevenz.records import HEAD_SIZE, Property, SignatureHeader
from rundlet.core.limits import MIB
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.streams.exact import read_last

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_SEARCHED = MIB
_MOST_BEGINNINGS = 2000  # noise has some twenty in a mebibyte
_HEADER, _ENCODED = bytes([Property.HEADER]), bytes([Property.ENCODED_HEADER])
_BEGINS = re.compile(rb"\x17\x06|\x01[\x02\x04\x05]")


@dataclass(slots=True)
class PackedHeader:
    """What may be a header that stands packed in the archive.

    Attributes:
        streams: where and how it is packed.
        shift: bytes by which it stands elsewhere than its record says.
    """

    streams: Streams
    shift: int


@dataclass(slots=True)
class PlainHeader:
    """What may be a header.

    Attributes:
        shift: bytes by which it stands elsewhere than right behind the content.
    """

    header: Header
    shift: int


def headers_at_end(source: ByteSource, start: SignatureHeader | None) -> Iterator[PackedHeader | PlainHeader]:
    """What may be a header among the last bytes, the last one first. Whoever takes a packed one compares its checksum.

    Args:
        start: what leads to the header, with its checksum; None where that is damaged, so that nothing vouches for a header
            that is not packed.

    Raises:
        MissingPart: when these bytes are not there.
    """
    tail = read_last(source, min(_SEARCHED, max(source.size - HEAD_SIZE, 0))) if source.size > HEAD_SIZE else b""
    first = source.size - len(tail)
    for match in itertools.islice(reversed(list(_BEGINS.finditer(tail))), _MOST_BEGINNINGS):
        data, at = tail[match.start() :], first + match.start()
        try:
            if data.startswith(_HEADER):
                if start is not None and crc32(data[: start.next_header_size]) != start.next_header_crc:
                    continue
                header = read_header(data)
                yield PlainHeader(header, at - _end_of(header.streams))
                continue
            streams = read_streams(FieldReader(data[1:]))
        except (FormatError, LimitExceeded):
            continue
        if len(streams.folders) == 1 and int(streams.folder_crc[0]) != UNKNOWN:
            shift = at - _end_of(streams)
            yield PackedHeader(streams, 0)
            if shift:
                yield PackedHeader(replace(streams, pack_at=np.asarray(streams.pack_at + shift, np.int64)), shift)


def _end_of(streams: Streams) -> int:
    """Where the content ends that a header speaks of, and the header stands as a rule."""
    return HEAD_SIZE + (int((streams.pack_at + streams.pack_size).max()) if len(streams.pack_size) else 0)
