"""Where a compressed stream goes on behind damage, or behind a part that is not there."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from rundlet.core.codecs import bzip2_blocks
from rundlet.core.errors import FormatError, LimitExceeded, MissingPart
from rundlet.core.formats.compressed_stream import Notes, Packing, Point, decoded, xz_table
from rundlet.core.limits import MIB
from rundlet.core.streams.exact import next_there, read_there

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_STEP = MIB
_FINE_STEP = 512
_WITH_MAGIC = ("gz", "xz", "zst")
_HEAD = 4  # bytes of a member: the flags are the last of them in gzip
_RESERVED_FLAGS = 0xE0  # (RFC 1952, section 2.3.1.2)


def points_behind(
    source: ByteSource, packing: Packing, notes: Notes, *, to_the_end: bool, memory: int, tick: Callable[[], None]
) -> Iterator[Point]:
    """Points from which decoding may go on behind where it failed, each tried when the one before it was no good.

    Blocks are found by their marks or by the index, and members by how they begin. A file within the archive may hold
    what looks like a member, so one counts only when nothing but members follows on it.

    Args:
        notes: of the decoding that failed; what it says when the next point is asked for tells where to look.
        to_the_end: whether the members must be whole up to the end, as it failed there and may only be cut off.
        memory: bytes that a decoder may take.
        tick: called now and then; may raise to end the search.

    Returns:
        points with a place in the file, which is not known of the decoded bytes and therefore 0.
    """
    table = xz_table(source, damaged=True) if packing.id == "xz" else []
    if packing.id == "bz2":
        yield from _bzip2_blocks(source, notes, tick)
    elif table:
        for block in [block for stream in table for block in stream.blocks]:
            if block.start * 8 > notes.begun:
                yield Point(block.start, 0, window=b"")
    elif packing.id in _WITH_MAGIC:
        at = 0
        while True:
            behind = max(at, notes.begun // 8, 0 if to_the_end else notes.fed - 1)
            found = _magic_behind(source, packing, behind, tick)
            if found is None:
                return
            at = found
            if _only_members_follow(source, packing, at, to_the_end=to_the_end, memory=memory, tick=tick):
                yield Point(at, 0)


def _bzip2_blocks(source: ByteSource, notes: Notes, tick: Callable[[], None]) -> Iterator[Point]:
    def read(offset: int, length: int) -> bytes:
        tick()
        return read_there(source, offset, length)

    last = -1
    while True:
        last = max(last, notes.begun)
        at: int | None = last // 8
        found = None
        while at is not None and found is None:
            try:
                marks = bzip2_blocks.marks(read, at)
                found = next((bit for bit, is_end in marks if bit > last and not is_end), -1)
            except MissingPart as error:
                at = next_there(source, max(error.offset or at, at + 1), _FINE_STEP)
        if found is None or found < 0:
            return
        last = found
        packed = -(-found // 8)
        yield Point(packed, 0, packed * 8 - found, b"")


def _magic_behind(source: ByteSource, packing: Packing, behind: int, tick: Callable[[], None]) -> int | None:
    """The next place where a member may begin."""
    at: int | None = behind + 1
    while at is not None and at < source.size:
        tick()
        try:
            data = read_there(source, at, _STEP)
        except MissingPart:
            at = next_there(source, at, _FINE_STEP)
            continue
        place = data.find(packing.magic)
        while place >= 0:
            if _may_begin(source, packing, at + place):
                return at + place
            place = data.find(packing.magic, place + 1)
        at += max(len(data) - len(packing.magic) + 1, 1)
    return None


def _may_begin(source: ByteSource, packing: Packing, at: int) -> bool:
    try:
        head = read_there(source, at, _HEAD)
    except MissingPart:
        return False
    return len(head) == _HEAD and not (packing.id == "gz" and head[-1] & _RESERVED_FLAGS)


def _only_members_follow(
    source: ByteSource, packing: Packing, at: int, *, to_the_end: bool, memory: int, tick: Callable[[], None]
) -> bool:
    """Whether a whole member begins at a place, and members alone follow on it up to the end or to the next damage."""
    notes = Notes()
    try:
        for _ in decoded(source, packing, start=Point(at, 0), notes=notes, memory=memory):
            tick()
    except (FormatError, MissingPart):
        return bool(notes.sound) and not to_the_end
    except LimitExceeded:
        return False  # the archive's own members asked for less
    return not notes.trailing
