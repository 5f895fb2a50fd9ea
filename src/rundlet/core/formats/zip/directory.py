"""The central directory, read in columns: a million entries are arrays, not objects."""

from __future__ import annotations

import struct
import time
from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import Corrupt, LimitExceeded, MissingPart
from rundlet.core.formats.name_encoding import decode_name, guess_code_page
from rundlet.core.formats.zip.end_record import End
from rundlet.core.formats.zip.header_scan import Scan, scan
from rundlet.core.formats.zip.records import (
    AES_FIELD,
    AES_WITHOUT_CHECKSUM,
    CENTRAL,
    CENTRAL_SIGNATURE,
    CENTRAL_SIZE,
    EPOCH_1601,
    MAX16,
    MAX32,
    Extra,
    Flag,
    Host,
    LocalHeader,
    Method,
)
from rundlet.core.jobs.findings import Finding, Issue, Reason, issue
from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind
from rundlet.core.streams.exact import read_exactly

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.limits import Limits
    from rundlet.core.streams.sources import ByteSource

_LENGTHS = struct.Struct("<HHH")
_DIGITAL_SIGNATURE = b"PK\x05\x05"
_MODE_BITS = 0o7777
_FAR = 1 << 60  # stands for any size or offset that no archive can have, so that sums of two stay numbers
_UNIX_KINDS = {0o040000: Kind.DIR, 0o120000: Kind.LINK, 0o100000: Kind.FILE, 0: Kind.FILE}

U8 = NDArray[np.uint8]
I64 = NDArray[np.int64]


@dataclass(slots=True)
class Directory:
    """The central directory in columns.

    Attributes:
        catalog: what every format has.
        method, flags, time: of each entry, as in the records.
        offset: where each local header begins in the source.
        overlapping: entries whose data would run into another entry.
        aes: for entries locked with AES: version of the scheme, strength, and the method below it.
        notices: what is to be said of the archive as a whole.
        code_page: how names are read that do not say how they are written; "" when all say so.
        recovered: the records and where each begins, where some of them were found by the headers in front of the entries.
    """

    catalog: Catalog
    method: NDArray[np.uint16]
    flags: NDArray[np.uint16]
    time: NDArray[np.uint16]
    offset: I64
    overlapping: NDArray[np.bool_]
    aes: dict[int, tuple[int, int, int]]
    notices: list[Issue]
    code_page: str
    recovered: tuple[bytes, I64] | None = None


def raw_records(source: ByteSource, end: End) -> tuple[bytes, I64]:
    """All records of a whole directory as they are, without a signature behind them, and where each of them begins."""
    blob = read_exactly(source, end.start, end.size)
    positions, _ = _record_positions(blob)
    if not len(positions):
        return b"", positions
    last = int(positions[-1])
    return blob[: last + CENTRAL_SIZE + sum(_LENGTHS.unpack_from(blob, last + 28))], positions


def read_directory(source: ByteSource, end: End, limits: Limits, job: Job, code_page: str | None = None) -> Directory:
    """Read the whole central directory (section 4.3.12).

    What is missing in a damaged one is looked for by the headers in front of the entries.

    Args:
        code_page: how names are written that do not say so themselves; None to guess.

    Raises:
        LimitExceeded: when it is larger than the limits allow.
        Corrupt: when no entry of it can be read.
    """
    if end.size > limits.directory_bytes:
        raise LimitExceeded(
            "The file list of {archive:name} takes {count:number} bytes, more than Rundlet reads.",
            archive=source.name,
            count=end.size,
        )
    blob = read_exactly(source, end.start, end.size)
    positions, damaged = _record_positions(blob)
    if damaged and not len(positions):
        raise Corrupt("The file list of {archive:name} is damaged.", archive=source.name, offset=end.start)
    notices = []
    if damaged:
        known = _columns(blob, positions, source, end, [], code_page).offset.tolist()
        rest = scan(source, job, shift=end.shift, known=set(known))
        notices += _scan_notices(source, Finding.of(Reason.LIST_DAMAGED_BEHIND, count=len(positions)), rest)
        blob = b"".join([*_one_by_one(blob, positions), *rest.records])
        positions, _ = _record_positions(blob)
    elif len(positions) != end.entries and (len(positions) - end.entries) % (MAX16 + 1):
        notices.append(issue(source.name, Reason.COUNT_DIFFERS, said=end.entries, there=len(positions)))
    if end.trailing:
        notices.append(issue(source.name, Reason.JUNK_BEHIND, count=end.trailing))
    directory = _columns(blob, positions, source, end, notices, code_page)
    directory.recovered = (blob, positions) if damaged else None
    if end.shift and _find_moved(directory, source, end):
        notices.append(issue(source.name, Reason.GAPS))
    return directory


def _find_moved(directory: Directory, source: ByteSource, end: End) -> bool:
    """Where bytes are missing within the archive, or too many, entries in front of that place stand where the list says, and
    those behind it are moved by as much as the list is; whether it is so."""
    order = np.argsort(directory.offset, kind="stable")
    offsets = directory.offset[order].tolist()
    if not offsets or (end.shift > 0 and _is_header(source, offsets[0])):
        return False
    unmoved = bisect_left(offsets, True, key=lambda offset: not _is_header(source, offset - end.shift))
    if not unmoved:
        return False
    directory.offset[order[:unmoved]] -= end.shift
    moved = bisect_left(offsets, True, lo=unmoved, key=lambda offset: _is_header(source, offset))
    packed = directory.catalog.packed.copy()
    packed[order[unmoved - 1]] = 0  # it is the one that has lost bytes, and seems to run into those behind it
    there = np.concatenate([order[:unmoved], order[moved:]])  # of those in between, the headers are missing, too
    directory.overlapping[:] = False
    directory.overlapping[there] = _overlapping(directory.offset[there], packed[there], end.start)
    return True


def _is_header(source: ByteSource, at: int) -> bool:
    try:
        return at >= 0 and source.read_at(at, len(LocalHeader.SIGNATURE)) == LocalHeader.SIGNATURE
    except MissingPart:
        return False


def scanned_directory(source: ByteSource, job: Job, code_page: str | None = None) -> Directory | None:
    """A directory made of what is found by the headers in front of the entries; None when nothing is."""
    job.begin("Looking for items", total_bytes=source.size)
    found = scan(source, job)
    if not found.records:
        return None
    blob = b"".join(found.records)
    positions, _ = _record_positions(blob)
    anywhere = End(start=_FAR, size=0, entries=len(positions), shift=0, trailing=0)
    notices = _scan_notices(source, Finding(Reason.LIST_MISSING), found)
    directory = _columns(blob, positions, source, anywhere, notices, code_page)
    directory.recovered = blob, positions
    return directory


def _scan_notices(source: ByteSource, why: Finding, found: Scan) -> list[Issue]:
    reason = Reason.FOUND_WITHOUT_LIST if found.records else Reason.NOTHING_WITHOUT_LIST
    notices = [issue(source.name, reason, cause=why, count=len(found.records))]
    if found.gaps:
        notices.append(issue(source.name, Reason.GAPS))
    if found.cut:
        notices.append(issue(found.cut.decode("utf-8", "replace"), Reason.ENTRY_CUT))
    return notices


def _one_by_one(blob: bytes, positions: I64) -> Iterator[bytes]:
    """Each record of a directory."""
    for at in positions.tolist():
        yield blob[at : at + CENTRAL_SIZE + sum(_LENGTHS.unpack_from(blob, at + 28))]


def _record_positions(blob: bytes) -> tuple[I64, bool]:
    """Where each record begins, and whether the last ones can't be followed."""
    signed_places = _signed_places(blob)
    if signed_places is not None:
        return signed_places, False
    positions: list[int] = []
    add, lengths, at, last = positions.append, _LENGTHS.unpack_from, 0, len(blob) - CENTRAL_SIZE
    while at <= last:
        add(at)
        name, extra, comment = lengths(blob, at + 28)
        at += CENTRAL_SIZE + name + extra + comment
    found = np.array([*positions, at], np.int64)
    octets = np.frombuffer(blob, np.uint8)
    signed = np.ones(len(positions), np.bool_)
    for i, octet in enumerate(CENTRAL_SIGNATURE):
        signed &= octets[found[:-1] + i] == octet
    count = len(positions) if signed.all() else int(np.argmin(signed))
    if count and found[count] > len(blob):
        count -= 1
    end = int(found[count])
    # A digital signature (section 4.3.13) may follow the last record.
    damaged = end != len(blob) and not blob.startswith(_DIGITAL_SIGNATURE, end)
    return found[:count], damaged


def _signed_places(blob: bytes) -> I64 | None:
    """All places with a record's signature, when each record ends where the next one begins and the last at the end.

    So it is in nearly every archive, and it is found out for all records at once; None where it is not so.
    """
    octets = np.frombuffer(blob, np.uint8)
    first, *others = CENTRAL_SIGNATURE
    places = np.flatnonzero(octets[: max(len(blob) - CENTRAL_SIZE + 1, 0)] == first)
    for i, octet in enumerate(others, 1):
        places = places[octets[places + i] == octet]
    if not len(places) or places[0] != 0:
        return None
    ends = places + CENTRAL_SIZE
    for at in (28, 30, 32):  # the lengths of name, extra field and comment
        ends += octets[places + at].astype(np.int64) + (octets[places + at + 1].astype(np.int64) << 8)
    return places if np.array_equal(ends, np.append(places[1:], len(blob))) else None


def _columns(
    blob: bytes, at: I64, source: ByteSource, end: End, notices: list[Issue], code_page: str | None
) -> Directory:
    octets = np.frombuffer(blob, np.uint8)
    table = np.empty(len(at), CENTRAL)
    raw = table.view(np.uint8).reshape(len(at), CENTRAL_SIZE)
    for begin in range(0, len(at), 1 << 17):  # gathered in stretches, to keep the index arrays small
        part = at[begin : begin + (1 << 17)]
        raw[begin : begin + len(part)] = octets[part[:, None] + np.arange(CENTRAL_SIZE)]
    size = table["uncompressed_size"].astype(np.int64)
    packed = table["compressed_size"].astype(np.int64)
    offset = table["local_offset"].astype(np.int64)
    mtime = _dos_times(table["date"], table["time"])
    name_at = at + CENTRAL_SIZE
    extra_at = name_at + table["name_length"]
    extras = _Extras(octets, extra_at, table["extra_length"].astype(np.int64))
    extras.apply(size=size, packed=packed, offset=offset, mtime=mtime)
    names, code_page = _names(blob, name_at, table, extras.unicode_path, code_page)
    aes = _aes_fields(blob, extras.aes)
    kind, mode = _kinds(table, names)
    crc = table["crc32"].astype(np.int64)
    unstated = np.array([row for row, (version, *_) in aes.items() if version == AES_WITHOUT_CHECKSUM], np.int64)
    crc[unstated[table["method"][unstated] == Method.AES]] = UNKNOWN
    starts = np.array(getattr(source, "starts", (0,)), np.int64)
    offset += end.shift + starts[np.minimum(table["disk_start"], len(starts) - 1)]
    catalog = Catalog(
        names=names,
        kind=kind,
        size=size,
        packed=packed,
        mtime_ns=mtime,
        mode=mode,
        crc=crc,
        encrypted=(table["flags"] & Flag.ENCRYPTED) != 0,
    )
    return Directory(
        catalog=catalog,
        method=table["method"].copy(),
        flags=table["flags"].copy(),
        time=table["time"].copy(),
        offset=offset,
        overlapping=_overlapping(offset, packed, end.start),
        aes=aes,
        notices=notices,
        code_page=code_page,
    )


class _Extras:
    """The extra fields of all entries (section 4.5), walked side by side: one round a field, not one an entry."""

    def __init__(self, octets: U8, at: I64, length: I64) -> None:
        self._octets = octets
        self._at = at
        self._end = at + length
        self.unicode_path: dict[int, tuple[int, int]] = {}
        self.aes: dict[int, tuple[int, int]] = {}

    def apply(self, *, size: I64, packed: I64, offset: I64, mtime: I64) -> None:
        """Put what the fields say into the columns."""
        rows = np.flatnonzero(self._end - self._at >= 4)
        at = self._at[rows].copy()
        while len(rows):
            header, length = self._number(at, 2), self._number(at + 2, 2)
            body = at + 4
            fits = body + length <= self._end[rows]
            rows, header, length, body = rows[fits], header[fits], length[fits], body[fits]
            self._zip64(header == Extra.ZIP64, rows, body, length, (size, packed, offset))
            self._times(header, rows, body, length, mtime)
            for wanted, places in ((Extra.UNICODE_PATH, self.unicode_path), (Extra.AES, self.aes)):
                for i in np.flatnonzero(header == wanted):
                    places[int(rows[i])] = (int(body[i]), int(length[i]))
            at = body + length
            more = at + 4 <= self._end[rows]
            rows, at = rows[more], at[more]

    def _zip64(self, mask: NDArray[np.bool_], rows: I64, body: I64, length: I64, columns: tuple[I64, I64, I64]) -> None:
        """Zip64 extended information (section 4.5.3): only the numbers that did not fit, in this order."""
        rows, body, left = rows[mask], body[mask], length[mask]
        for column in columns:
            here = (column[rows] == MAX32) & (left >= 8)
            wide = self._number(body[here], 8)
            column[rows[here]] = np.where((wide < 0) | (wide > _FAR), _FAR, wide)
            body = np.where(here, body + 8, body)
            left = np.where(here, left - 8, left)

    def _times(self, header: I64, rows: I64, body: I64, length: I64, mtime: I64) -> None:
        """Time of change from the NTFS field (section 4.5.5) and, with preference, the extended timestamp."""
        ntfs = (header == Extra.NTFS) & (length >= 16)
        ntfs[ntfs] = (self._number(body[ntfs] + 4, 2) == 1) & (self._number(body[ntfs] + 6, 2) >= 8)
        ticks = self._number(body[ntfs] + 8, 8).astype(np.int64)
        sane = (ticks > 0) & (ticks // 10_000_000 < EPOCH_1601 + (1 << 33))
        mtime[rows[ntfs][sane]] = (ticks[sane] - EPOCH_1601 * 10_000_000) * 100
        unix = (header == Extra.TIMESTAMP) & (length >= 5)
        unix[unix] = (self._number(body[unix], 1) & 1) == 1
        seconds = self._number(body[unix] + 1, 4).astype(np.uint32).astype(np.int32).astype(np.int64)
        chosen = rows[unix]
        # The NTFS field is finer: where both agree on the second, its time stays.
        coarser = mtime[chosen] // 1_000_000_000 != seconds
        mtime[chosen[coarser]] = seconds[coarser] * 1_000_000_000

    def _number(self, at: I64, width: int) -> I64:
        """Little-endian numbers at many places at once; eight bytes wide they come out as they would in 64 bits."""
        value = np.zeros(len(at), np.uint64)
        for i in range(width):
            value |= self._octets[at + i].astype(np.uint64) << np.uint64(8 * i)
        return value.astype(np.int64)


def _names(
    blob: bytes, at: I64, table: NDArray[np.void], unicode_path: dict[int, tuple[int, int]], code_page: str | None
) -> tuple[NameTable, str]:
    """All names as UTF-8 (sections 4.4.17 and 4.6.9, appendix D), and the code page that some were read in, or "".

    A name is UTF-8 when it says so or is valid UTF-8; else the Unicode path field counts; else a code page.
    """
    names = NameTable.other_folders(blob, at, table["name_length"].astype(np.int64))
    windows = np.isin(table["host"], (Host.FAT, Host.NTFS, Host.VFAT)) & (b"\\" in names.blob)
    if names.blob.isascii() and not windows.any():
        return names, ""
    raw = names.all_raw()
    unknown = []
    for row in names.rows_with(np.frombuffer(names.blob, np.uint8) >= 0x80):
        stated = bool(int(table["flags"][row]) & Flag.UTF8)
        field = _unicode_path(blob, unicode_path.get(row), raw[row])
        if field is not None:
            raw[row] = field
        elif (code_page is not None and not stated) or not _is_utf8(raw[row]):
            unknown.append(row)
    page = ""
    if unknown:
        page = code_page or guess_code_page([raw[row] for row in unknown])
        for row in unknown:
            raw[row] = decode_name(raw[row], page).encode("utf-8")
    for row in np.flatnonzero(windows).tolist():
        raw[row] = raw[row].replace(b"\\", b"/")
    return NameTable.of(raw), page


def _unicode_path(blob: bytes, field: tuple[int, int] | None, raw: bytes) -> bytes | None:
    """The name in the Unicode path field, when the field belongs to this very name (section 4.6.9)."""
    if field is None or field[1] < 5 or blob[field[0]] != 1:
        return None
    body = blob[field[0] : field[0] + field[1]]
    name = body[5:]
    return name if int.from_bytes(body[1:5], "little") == crc32(raw) and _is_utf8(name) else None


def _is_utf8(raw: bytes) -> bool:
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _aes_fields(blob: bytes, places: dict[int, tuple[int, int]]) -> dict[int, tuple[int, int, int]]:
    found = {}
    for row, (at, length) in places.items():
        if length >= AES_FIELD.size:
            version, _, strength, method = AES_FIELD.unpack_from(blob, at)
            found[row] = (version, strength, method)
    return found


def _kinds(table: NDArray[np.void], names: NameTable) -> tuple[NDArray[np.uint8], NDArray[np.uint32]]:
    """Kind and Unix mode from the external attributes (section 4.4.15) and a slash at the end of the name."""
    attributes, host = table["external_attributes"], table["host"]
    unix = (host == Host.UNIX) | (host == Host.DARWIN)
    high = np.where(unix, attributes >> 16, 0).astype(np.uint32)
    kind = np.full(len(table), Kind.OTHER, np.uint8)
    for bits, value in _UNIX_KINDS.items():
        kind[(high & 0o170000) == bits] = value
    dos_folder = ~unix & ((attributes & 0x10) != 0) & (table["uncompressed_size"] == 0)
    ends = np.frombuffer(names.blob, np.uint8)
    last = names.starts[1:] - 1
    nonempty = names.starts[1:] > names.starts[:-1]
    slash = np.zeros(len(table), np.bool_)
    if len(ends):
        slash = nonempty & (ends[np.maximum(last, 0)] == ord("/"))
    kind[dos_folder | slash] = Kind.DIR
    mode = high & np.uint32(_MODE_BITS)
    read_only = ~unix & ((attributes & 0x01) != 0) & (kind == Kind.FILE)
    mode[read_only] = 0o444
    return kind, mode


def _dos_times(date: NDArray[np.uint16], clock: NDArray[np.uint16]) -> I64:
    """DOS dates and times (section 4.4.6), which are local, as nanoseconds since 1970.

    The distance to UTC is asked of the system once an hour of the calendar that occurs, not once an entry.
    """
    hours = (date.astype(np.int64) << 5) | (clock >> 11)
    distinct, back = np.unique(hours, return_inverse=True)
    starts = np.array([_hour_start(int(h)) for h in distinct], np.int64)
    seconds = starts[back]
    rest = ((clock >> 5) & 63).astype(np.int64) * 60 + (clock & 31).astype(np.int64) * 2
    return np.where(seconds == NO_TIME, NO_TIME, (seconds + rest) * 1_000_000_000)


def _hour_start(packed: int) -> int:
    date, hour = packed >> 5, packed & 31
    year, month, day = 1980 + (date >> 9), (date >> 5) & 15, date & 31
    if not (1 <= month <= 12 and 1 <= day <= 31 and hour < 24):
        return NO_TIME
    try:
        return int(time.mktime((year, month, day, hour, 0, 0, 0, 1, -1)))
    except (OverflowError, ValueError):
        return NO_TIME


def _overlapping(offset: I64, packed: I64, directory: int) -> NDArray[np.bool_]:
    """Entries whose data would run into the next local header or into the directory."""
    if not len(offset):
        return np.zeros(0, np.bool_)
    order = np.argsort(offset, kind="stable")
    sorted_offset = offset[order]
    ends = sorted_offset + 30 + packed[order]
    bad = np.zeros(len(offset), np.bool_)
    bad[order[:-1][ends[:-1] > sorted_offset[1:]]] = True
    bad[order[1:][np.maximum.accumulate(ends)[:-1] > sorted_offset[1:]]] = True
    bad[order[ends > directory]] = True
    return bad
