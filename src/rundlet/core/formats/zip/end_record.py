"""The end record of a zip, from which its central directory is found."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.formats.zip.records import (
    CENTRAL_SIGNATURE,
    LOCATOR,
    LOCATOR_SIGNATURE,
    MAX16,
    End64Record,
    EndRecord,
    LocalHeader,
)
from rundlet.core.streams.exact import read_last

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_TAIL = EndRecord.LAYOUT.size + MAX16


@dataclass(slots=True)
class End:
    """Where the central directory is.

    Attributes:
        start, size: its place in the source, in bytes.
        entries: how many entries it is said to have.
        shift: bytes in front of the archive; all offsets count from behind them. Fewer than none where some of it are missing.
        trailing: bytes behind the archive that don't belong to it.
        comment: bytes of the archive's comment.
    """

    start: int
    size: int
    entries: int
    shift: int
    trailing: int
    comment: int = 0


def find_end(source: ByteSource) -> End | None:
    """Look for the end record from the back (section 4.3.16); None when there is none.

    A record whose comment ends exactly where the source ends is taken first; else the last one, with junk behind it. That
    one is not taken when its archive begins behind an entry, or another record stands where the source ends: then it
    belongs to an archive within an entry, and it is the outer one that is cut off or damaged.
    """
    tail = read_last(source, _TAIL)
    positions = []
    at = tail.rfind(EndRecord.SIGNATURE)
    while at >= 0:
        if at + EndRecord.LAYOUT.size <= len(tail):
            positions.append(at)
        at = tail.rfind(EndRecord.SIGNATURE, 0, at)
    best, damaged = None, False
    for at in positions:
        record = EndRecord.unpack(tail[at : at + EndRecord.LAYOUT.size])
        trailing = len(tail) - at - EndRecord.LAYOUT.size - record.comment_length
        if trailing < 0:
            continue
        end = _locate(source, source.size - len(tail) + at, record, trailing)
        if end is not None and trailing == 0:
            return end
        best, damaged = best or end, damaged or trailing == 0
    if damaged or (best is not None and best.shift and source.read_at(0, 4) == LocalHeader.SIGNATURE):
        return None
    return best


def has_end(source: ByteSource) -> bool:
    """Whether the source ends in an end record, whatever that says."""
    tail = read_last(source, _TAIL)
    at = tail.rfind(EndRecord.SIGNATURE)
    size = EndRecord.LAYOUT.size
    return (
        0 <= at <= len(tail) - size and EndRecord.unpack(tail[at : at + size]).comment_length == len(tail) - at - size
    )


def _locate(source: ByteSource, position: int, record: EndRecord, trailing: int) -> End | None:
    """Where the directory of this end record is, or None when there can't be one."""
    end, size, offset, entries = position, record.directory_size, record.directory_offset, record.entries
    at = position - LOCATOR.size
    if at >= 0 and (locator := source.read_at(at, LOCATOR.size))[:4] == LOCATOR_SIGNATURE:
        found = _locate64(source, LOCATOR.unpack(locator)[2], at)
        if found is not None:
            end, wide = found
            size, offset, entries = wide.directory_size, wide.directory_offset, wide.entries
    starts = getattr(source, "starts", (0,))
    if 0 < record.directory_disk < len(starts):  # the parts of a divided archive: offsets count from their parts
        start = starts[record.directory_disk] + offset
        return End(start=start, size=min(size, source.size - start), entries=entries, shift=0, trailing=trailing)
    start = end - size
    if start < 0 or (start < offset and source.read_at(start, 4) != CENTRAL_SIGNATURE):
        return None
    if size and source.read_at(start, 4) != CENTRAL_SIGNATURE:
        if source.read_at(offset, 4) != CENTRAL_SIGNATURE:
            return None
        start = offset  # something stands between the directory and its end record
    return End(
        start=start,
        size=size,
        entries=entries,
        shift=start - offset,
        trailing=trailing,
        comment=record.comment_length,
    )


def _locate64(source: ByteSource, stated: int, locator: int) -> tuple[int, End64Record] | None:
    """The zip64 record, where it is stated to be or right before its locator when something stands in front."""
    size = End64Record.LAYOUT.size
    for at in (stated, locator - size):
        if 0 <= at <= locator - size and (data := source.read_at(at, size))[:4] == End64Record.SIGNATURE:
            return at, End64Record.unpack(data)
    return None
