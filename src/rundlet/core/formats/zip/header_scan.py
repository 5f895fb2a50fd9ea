"""Entries of a zip found by the headers in front of their data, where the file list is missing or damaged.

What such a header does not hold is not known then: Unix modes, and whether an entry is a link.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from rundlet.core.errors import MissingPart, Truncated
from rundlet.core.formats.zip.records import (
    CENTRAL_REST,
    CENTRAL_SIGNATURE,
    DESCRIPTOR_SIGNATURE,
    MAX16,
    MAX32,
    SHARED,
    EndRecord,
    Extra,
    Flag,
    Host,
    LocalHeader,
)
from rundlet.core.limits import KIB, MIB
from rundlet.core.streams.exact import read_exactly, read_there

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.streams.sources import ByteSource

_SIGNATURES = re.compile(rb"PK(?:\x03\x04|\x07\x08|\x01\x02|\x05\x06)")
ENDS = (CENTRAL_SIGNATURE, EndRecord.SIGNATURE)
"""How what stands behind the last entry begins."""
_MARK = b"PK"  # how everything begins that may follow
_NARROW, _WIDE = struct.Struct("<3I"), struct.Struct("<I2Q")
_VERSION = 20


@dataclass(slots=True)
class Scan:
    """What was found.

    Attributes:
        records: an entry of a central directory for each (section 4.3.12).
        gaps: whether something stands between them that is none.
        cut: the name of an entry whose end can't be found.
    """

    records: list[bytes] = field(default_factory=list)
    gaps: bool = False
    cut: bytes = b""


def scan(source: ByteSource, job: Job, *, shift: int = 0, known: Collection[int] = ()) -> Scan:
    """Go from local header to local header (section 4.3.7), and look for the next one where none is.

    Args:
        shift: bytes in front of the archive, from behind which offsets count.
        known: where entries begin that are left out, as they are known already.
    """
    found = Scan()
    at = shift
    try:
        while at < source.size:
            head = read_there(source, at, LocalHeader.LAYOUT.size)
            if head[:4] in ENDS:
                break
            if head[:4] != LocalHeader.SIGNATURE:
                # Parts of a divided archive begin with a mark of their own (section 8.5.4).
                found.gaps |= at > 0 or head[:4] != DESCRIPTOR_SIGNATURE
                at = next(header_places(source, at + 1, job), source.size)
                continue
            record, begin, after = local_entry(source, at, shift, job)
            job.advance(after - begin)
            at = after
            if begin not in known:
                found.records.append(record)
    except EndUnknown as error:
        found.cut = error.name
    except (MissingPart, Truncated):
        found.gaps = True
    return found


class EndUnknown(Exception):
    """The end of an entry can't be found.

    Attributes:
        name: that of the entry, as it is in its header.
    """

    def __init__(self, name: bytes) -> None:
        super().__init__()
        self.name = name


def local_entry(source: ByteSource, at: int, shift: int, job: Job) -> tuple[bytes, int, int]:
    """A record of the entry whose header stands at a place, that place, and the one behind its data.

    Args:
        shift: what is taken off that place in the record.

    Raises:
        EndUnknown: when its sizes stand behind its data, and are not found there.
        Truncated: when the source ends within its header.
    """
    head = read_exactly(source, at, LocalHeader.LAYOUT.size)
    _, version, flags, method, time, date, crc, packed, size, name_length, extra_length = LocalHeader.LAYOUT.unpack(
        head
    )
    rest = read_exactly(source, at + len(head), name_length + extra_length)
    name, extra = rest[:name_length], rest[name_length:]
    begin, data_at = at, at + len(head) + len(rest)
    wide, extra = _without_zip64(extra)
    if MAX32 in (packed, size) and len(wide) >= 16:
        size, packed = struct.unpack_from("<2Q", wide)
    after = data_at + packed
    if flags & Flag.DESCRIPTOR and not packed:
        described = _described(source, data_at, job)
        if described is None:
            raise EndUnknown(name)
        crc, packed, size, after = described
    elif flags & Flag.DESCRIPTOR:
        after = next(header_places(source, after, job), source.size)
    return _record((version, flags, method, time, date, crc), packed, size, begin - shift, name, extra), begin, after


def _record(
    shared: tuple[int, int, int, int, int, int], packed: int, size: int, offset: int, name: bytes, extra: bytes
) -> bytes:
    if max(packed, size, offset) >= MAX32:
        extra = struct.pack("<2H3Q", Extra.ZIP64, 24, size, packed, offset) + extra
        packed = size = offset = MAX32
    extra = extra if len(extra) <= MAX16 else b""
    middle = SHARED.pack(*shared, packed, size, len(name), len(extra))
    # Such a header does not tell the system either; a name with backslashes alone has them between its steps.
    host = Host.FAT if b"\\" in name and b"/" not in name else Host.UNIX
    made_by = bytes((_VERSION, host))
    return CENTRAL_SIGNATURE + made_by + middle + CENTRAL_REST.pack(0, 0, 0, 0, offset) + name + extra


def _without_zip64(extra: bytes) -> tuple[bytes, bytes]:
    """The zip64 field's body (section 4.5.3), and all other fields."""
    at, wide, others = 0, b"", b""
    while at + 4 <= len(extra):
        header, length = struct.unpack_from("<2H", extra, at)
        end = at + 4 + length
        if header == Extra.ZIP64:
            wide = extra[at + 4 : end]
        else:
            others += extra[at:end]
        at = end
    return wide, others


def _described(source: ByteSource, data_at: int, job: Job) -> tuple[int, int, int, int] | None:
    """CRC-32, packed and plain size from the descriptor behind an entry's data (section 4.3.9), and where that ends.

    It is the first one that says as many packed bytes as stand before it; with a signature of its own, or without one
    before the next header.
    """
    for place in _places(source, data_at, job):
        signed = source.read_at(place, 4) == DESCRIPTOR_SIGNATURE
        found = []
        for layout in (_NARROW, _WIDE):
            begin = place + 4 if signed else place - layout.size
            data = source.read_at(begin, layout.size) if begin >= data_at else b""
            if len(data) == layout.size:
                crc, packed, size = layout.unpack(data)
                if packed == (place if signed else begin) - data_at:
                    found.append((crc, packed, size, begin + layout.size))
        if found:
            # Behind a signature both may seem to fit, as the first half of a wide number is a narrow one.
            return next((one for one in found if source.read_at(one[-1], 2) in (_MARK, b"")), found[0])
    return None


def header_places(source: ByteSource, at: int, job: Job) -> Iterator[int]:
    """Where a header of an entry, or what comes behind the last of them, may begin, from a place on."""
    return (place for place in _places(source, at, job) if source.read_at(place, 4) != DESCRIPTOR_SIGNATURE)


def _places(source: ByteSource, at: int, job: Job) -> Iterator[int]:
    """Where something with a signature begins, from a place on."""
    step = 4 * KIB  # little at first, as the next one is near as a rule
    while at < source.size:
        data = read_there(source, at, step)
        step = min(2 * step, MIB)
        for match in _SIGNATURES.finditer(data):
            yield at + match.start()
        job.advance()
        if len(data) < len(DESCRIPTOR_SIGNATURE):
            return
        at += len(data) - len(DESCRIPTOR_SIGNATURE) + 1
