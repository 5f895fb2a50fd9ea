"""A zip archive written anew with other names, times or permissions, or with less in it; what stays is not packed again.

Only what is to be another is touched in an entry's two headers (sections 4.3.7 and 4.3.12 of the application note), so that extra
fields and comments which nobody here knows stay as they are.
"""

from __future__ import annotations

import itertools
import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import Corrupt, FormatError, MissingPart, PlanError
from rundlet.core.formats.edits import Edits
from rundlet.core.formats.name_encoding import decode_name
from rundlet.core.formats.zip.directory import raw_records
from rundlet.core.formats.zip.headers import dos_time, time_fields
from rundlet.core.formats.zip.records import (
    CENTRAL_REST,
    CENTRAL_SIGNATURE,
    CENTRAL_SIZE,
    DESCRIPTOR_SIGNATURE,
    EPOCH_1601,
    MAX32,
    SHARED,
    VERSION_64,
    Extra,
    Flag,
    Host,
    LocalHeader,
    Method,
)
from rundlet.core.model.entry import Kind
from rundlet.core.streams.copying import copy_bytes
from rundlet.core.streams.exact import read_exactly

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.base import Sink
    from rundlet.core.formats.zip.reader import ZipReader

_DISK_AT, _OFFSET_AT = 34, 42  # in a record of the central directory
_SECOND = 1_000_000_000
_SHARED_AT = 6
_LOCAL_SIZE = 30
_UNIX = (Host.UNIX, Host.DARWIN)


@dataclass(slots=True)
class _Shared:
    """What both headers of an entry have, from the version needed to the lengths, with the name and the extra field."""

    version: int
    flags: int
    method: int
    time: int
    date: int
    crc: int
    packed: int
    size: int
    name: bytes
    extra: bytes

    @classmethod
    def unpack(cls, data: bytes, at: int, name_at: int) -> _Shared:
        version, flags, method, time, date, crc, packed, size, name, extra = SHARED.unpack_from(data, at)
        end = name_at + name
        if end + extra > len(data):
            raise Corrupt("A header reaches over its end.")
        words = data[name_at:end], data[end : end + extra]
        return cls(version, flags, method, time, date, crc, packed, size, *words)

    def numbers(self) -> bytes:
        return SHARED.pack(
            self.version,
            self.flags,
            self.method,
            self.time,
            self.date,
            self.crc,
            self.packed,
            self.size,
            len(self.name),
            len(self.extra),
        )


def keep(reader: ZipReader, edits: Edits, sink: Sink, tick: Callable[[int], object]) -> bytes:
    """Write the entries that stay, and what stands in front of them, to a sink.

    Args:
        sink: takes the bytes.
        tick: told of bytes that were handled.

    Returns:
        Their records for the central directory, one behind the other, in their old order.

    Raises:
        PlanError: when entries share bytes, so that none can be told from the others, and something is to be another.
        Corrupt: when an entry is not where the file list says.
    """
    end = reader.end
    assert end is not None, "an archive without its file list is not written anew"
    source = reader.source
    blob, at = raw_records(source, end)
    if not edits:
        copy_bytes(sink, source, 0, end.start, tick)
        return blob
    if reader.directory.overlapping.any():
        raise PlanError(
            "{archive:name} can't be changed, because some of its items share their data.", archive=source.name
        )
    order = np.argsort(reader.directory.offset, kind="stable")
    begins = reader.directory.offset[order]
    first = int(begins[0]) if len(at) else end.start
    copy_bytes(sink, source, 0, first, tick)
    offsets = np.zeros(len(at), np.int64)
    altered = edits.altered
    touched = np.zeros(len(at), np.bool_)
    touched[list(altered | edits.removed)] = True
    stops = np.append(begins[1:], end.start)
    for run in _runs(touched[order]):
        rows = order[run]
        begin, stop = int(begins[run.start]), int(stops[run.stop - 1])
        if not touched[rows[0]]:
            offsets[rows] = begins[run] + (sink.tell() - begin)
            copy_bytes(sink, source, begin, stop - begin, tick)
        elif rows[0] in edits.removed:
            tick(stop - begin)
        else:
            offsets[rows[0]] = sink.tell()
            _copy_altered(reader, int(rows[0]), edits, sink, begin, stop, tick)
    return _records(blob, at, offsets - end.shift, reader, edits)


def take_over(
    reader: ZipReader, rows: Sequence[int], sink: Sink, tick: Callable[[int], object]
) -> tuple[bytes, frozenset[int]]:
    """Write entries that are intact, and nothing of what stands between them, to a sink.

    Returns:
        Their records for the central directory, one behind the other, in the archive's order; and which they are. An entry
        whose two headers contradict each other is not among them.

    Raises:
        RundletError: when one of them can't be read.
    """
    source, directory = reader.source, reader.directory
    if directory.recovered is not None:
        blob, at = directory.recovered
    else:
        assert reader.end is not None, "a list that was not recovered was read"
        blob, at = raw_records(source, reader.end)
    offsets = np.zeros(len(at), np.int64)
    taken = set()
    for row in sorted(rows, key=directory.offset.item):
        head = _sound_head(reader, row)
        if head is None:
            continue
        taken.add(row)
        begin, length = directory.offset.item(row), len(head)
        packed = max(reader.catalog.packed.item(row), 0)
        offsets[row] = sink.tell()
        sink.write(head)
        copy_bytes(sink, source, begin + length, packed, tick)
        if struct.unpack_from("<H", head, 6)[0] & Flag.DESCRIPTOR:
            sink.write(_descriptor(head, reader, row, packed))
    gone = frozenset(range(len(at))) - taken
    octets = np.frombuffer(blob, np.uint8).copy()
    for i in range(2):  # it is on one disk, whatever the archive was divided into
        octets[at + _DISK_AT + i] = 0
    return _records(octets.tobytes(), at, offsets, reader, Edits(removed=gone)), frozenset(taken)


def _sound_head(reader: ZipReader, row: int) -> bytes | None:
    """The local header of an entry, where it says what the file list says."""
    begin, catalog = reader.directory.offset.item(row), reader.catalog
    try:
        head = read_exactly(reader.source, begin, _LOCAL_SIZE)
        head = read_exactly(reader.source, begin, _LOCAL_SIZE + sum(struct.unpack_from("<HH", head, 26)))
        shared = _Shared.unpack(head, 4, _LOCAL_SIZE)
        if not head.startswith(LocalHeader.SIGNATURE) or reader.contradiction(row) is not None:
            return None
    except (FormatError, MissingPart):
        return None
    said = shared.method, shared.crc, shared.packed, shared.size
    listed = (
        reader.directory.method.item(row),
        *(max(column.item(row), 0) for column in (catalog.crc, catalog.packed, catalog.size)),
    )
    is_streamed = shared.flags & Flag.DESCRIPTOR and said[0] == listed[0]
    is_wide = MAX32 in (shared.packed, shared.size) and said[:2] == listed[:2]
    if catalog.kind.item(row) == Kind.DIR and any(listed[1:]):
        return None
    return head if is_streamed or is_wide or said == listed else None


def _descriptor(head: bytes, reader: ZipReader, row: int, packed: int) -> bytes:
    """What stands behind the data of an entry that was written as a stream (section 4.3.9)."""
    is_wide = any(kind == Extra.ZIP64 for kind, _ in _fields(_Shared.unpack(head, 4, _LOCAL_SIZE).extra))
    numbers = max(reader.catalog.crc.item(row), 0), packed, reader.catalog.size.item(row)
    return DESCRIPTOR_SIGNATURE + struct.pack("<I2Q" if is_wide else "<3I", *numbers)


def _runs(touched: NDArray[np.bool_]) -> Iterator[slice]:
    """Stretches of entries that stay as they are, and each of the others by itself."""
    borders = np.flatnonzero(touched[1:] | touched[:-1]) + 1
    for begin, end in itertools.pairwise([0, *borders.tolist(), len(touched)]):
        if begin < end:
            yield slice(begin, end)


def _copy_altered(
    reader: ZipReader, row: int, edits: Edits, sink: Sink, begin: int, stop: int, tick: Callable[[int], object]
) -> None:
    """An entry with another header in front of the same data."""
    head = read_exactly(reader.source, begin, _LOCAL_SIZE)
    if not head.startswith(LocalHeader.SIGNATURE):
        raise Corrupt("An item does not begin where the file list says.", offset=begin)
    length = _LOCAL_SIZE + sum(struct.unpack_from("<HH", head, 26))
    head = read_exactly(reader.source, begin, length)
    shared = _Shared.unpack(head, 4, _LOCAL_SIZE)
    _alter(shared, reader, row, edits)
    sink.write(LocalHeader.SIGNATURE + shared.numbers() + shared.name + shared.extra)
    copy_bytes(sink, reader.source, begin + length, stop - begin - length, tick)


def _alter(shared: _Shared, reader: ZipReader, row: int, edits: Edits) -> None:
    """Put what is to be another into what both headers have."""
    if row in edits.renamed:
        shared.name = edits.stored_path(reader, row)
        shared.extra = _fields_without(shared.extra, Extra.UNICODE_PATH)
        if not shared.name.isascii():
            shared.flags |= Flag.UTF8
    if row in edits.times:
        _set_time(shared, edits.times[row])


def _set_time(shared: _Shared, mtime_ns: int) -> None:
    """Another time of change, in each place where there is one."""
    # Under the old lock, the time is what the password is tried on where the sizes stand behind the data.
    tried = Flag.ENCRYPTED | Flag.DESCRIPTOR
    if shared.flags & tried != tried or shared.method == Method.AES:
        shared.date, shared.time = dos_time(mtime_ns // _SECOND)
    seconds = mtime_ns // _SECOND
    out, is_kept = b"", False
    for kind, body in _fields(shared.extra):
        if kind == Extra.TIMESTAMP and len(body) >= 5 and body[0] & 1:
            if not -(1 << 31) <= seconds < 1 << 31:
                continue
            body = body[:1] + struct.pack("<i", seconds) + body[5:]
            is_kept = True
        elif kind == Extra.NTFS and len(body) >= 16 and body[4:8] == b"\x01\0\x18\0":
            ticks = max(mtime_ns // 100 + EPOCH_1601 * 10_000_000, 0)
            body = body[:8] + struct.pack("<Q", ticks) + body[16:]
            is_kept = True
        out += struct.pack("<HH", kind, len(body)) + body
    shared.extra = out if is_kept else out + time_fields(mtime_ns)


def _fields(extra: bytes) -> Iterator[tuple[int, bytes]]:
    """The extra fields (section 4.5); what can't be followed at the end is left out."""
    at = 0
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        if at + 4 + length > len(extra):
            return
        yield kind, extra[at + 4 : at + 4 + length]
        at += 4 + length


def _fields_without(extra: bytes, unwanted: int) -> bytes:
    if all(kind != unwanted for kind, _ in _fields(extra)):
        return extra
    return b"".join(struct.pack("<HH", kind, len(body)) + body for kind, body in _fields(extra) if kind != unwanted)


def _records(blob: bytes, at: NDArray[np.int64], offsets: NDArray[np.int64], reader: ZipReader, edits: Edits) -> bytes:
    """The records of the entries that stay, with their new offsets and whatever else is another."""
    octets = np.frombuffer(blob, np.uint8).copy()
    stops = np.append(at[1:], len(blob))
    stored = _at_places(octets, at + _OFFSET_AT)
    plain = (stored != MAX32) & (offsets < MAX32)
    places = at[plain] + _OFFSET_AT
    for i in range(4):
        octets[places + i] = (offsets[plain] >> (8 * i)) & 0xFF
    altered = edits.altered
    by_hand = sorted((set(np.flatnonzero(~plain).tolist()) | altered) - edits.removed)
    stays = np.ones(len(at), np.bool_)
    stays[list(edits.removed)] = False
    patched = octets.tobytes()
    pieces: list[bytes] = []
    begin = 0
    # Stretches between records that go or are made anew are taken over as they are.
    for row in sorted(set(by_hand) | set(edits.removed)):
        pieces.append(patched[begin : int(at[row])])
        begin = int(stops[row])
        if stays[row]:
            pieces.append(_record(patched[int(at[row]) : begin], int(offsets[row]), reader, row, edits))
    pieces.append(patched[begin:])
    return b"".join(pieces)


def _at_places(octets: NDArray[np.uint8], at: NDArray[np.int64]) -> NDArray[np.int64]:
    """Four-byte numbers at many places."""
    value = np.zeros(len(at), np.int64)
    for i in range(4):
        value |= octets[at + i].astype(np.int64) << (8 * i)
    return value


def _record(data: bytes, offset: int, reader: ZipReader, row: int, edits: Edits) -> bytes:
    """One record of the central directory with another offset, and with what else is to be another."""
    version, host = data[4], data[5]
    shared = _Shared.unpack(data, _SHARED_AT, CENTRAL_SIZE)
    comment_length, disk, internal, attributes, before = CENTRAL_REST.unpack_from(data, _SHARED_AT + SHARED.size)
    comment = data[len(data) - comment_length :]
    had_utf8 = shared.flags & Flag.UTF8
    _alter(shared, reader, row, edits)
    if shared.flags & Flag.UTF8 and not had_utf8 and not comment.isascii():
        comment = decode_name(comment, reader.code_page or "utf-8").encode("utf-8")
    if row in edits.modes:
        high = attributes >> 16 if host in _UNIX else 0
        kind = high & 0o170000 or Kind(int(reader.catalog.kind[row])).type_bits
        attributes = (kind | edits.modes[row]) << 16 | attributes & 0xFFFF
        host = host if host in _UNIX else Host.UNIX
    shared.extra = _with_offset(shared, offset, before)
    if offset >= MAX32:
        shared.version = max(shared.version, VERSION_64)
    rest = CENTRAL_REST.pack(len(comment), disk, internal, attributes, min(offset, MAX32))
    return CENTRAL_SIGNATURE + bytes((version, host)) + shared.numbers() + rest + shared.name + shared.extra + comment


def _with_offset(shared: _Shared, offset: int, before: int) -> bytes:
    """The extra field with the numbers that do not fit elsewhere (section 4.5.3): sizes, offset, and the disk after them."""
    sizes = 8 * ((shared.size == MAX32) + (shared.packed == MAX32))
    wide = next((body for kind, body in _fields(shared.extra) if kind == Extra.ZIP64), b"")
    had = 8 if before == MAX32 and len(wide) >= sizes + 8 else 0
    body = wide[:sizes] + (struct.pack("<Q", offset) if offset >= MAX32 else b"") + wide[sizes + had :]
    if body == wide:
        return shared.extra
    rest = _fields_without(shared.extra, Extra.ZIP64)
    return (struct.pack("<HH", Extra.ZIP64, len(body)) + body if body else b"") + rest
