"""Writing zip archives: many small files side by side, large ones in pieces, always the same bytes."""

from __future__ import annotations

import functools
import itertools
import os
import struct
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from rundlet.core.codecs import deflate_codec
from rundlet.core.codecs.aes import SALT_SIZES, ZipKeys, encrypt
from rundlet.core.codecs.checksums import crc32, crc32_combine
from rundlet.core.codecs.encoders import ENCODERS, compress_whole
from rundlet.core.codecs.side_by_side import cores, in_order
from rundlet.core.errors import FileProblem, file_problem, left_out
from rundlet.core.formats.base import NO_TIME, ArchiveReader, Kind, PackItem, Sink, WriteOptions
from rundlet.core.formats.items import CHANGED, ReadFailed, open_item, read_piece, read_whole, shrinks
from rundlet.core.formats.zip.directory import raw_records
from rundlet.core.formats.zip.reader import ZipReader
from rundlet.core.formats.zip.records import (
    AES_FIELD,
    CENTRAL_REST,
    CENTRAL_SIGNATURE,
    LOCATOR,
    LOCATOR_SIGNATURE,
    MAX16,
    MAX32,
    SHARED,
    UNIX_TIMES,
    End64Record,
    EndRecord,
    Extra,
    Flag,
    Host,
    LocalHeader,
    Method,
)
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.limits import MIB, SMALL
from rundlet.core.streams.exact import chunks

_VERSION_PLAIN = 20
_VERSION_64 = 45
_VERSION_AES = 51
_BATCH = 64
_RECORDS_AT_ONCE = 4096
_SECOND = 1_000_000_000  # nanoseconds
_DOS_FOLDER = 0x10
_STRENGTH = 3  # AES-256
_SCHEME = 2

_METHODS = {
    "deflate": Method.DEFLATED,
    "bzip2": Method.BZIP2,
    "lzma": Method.LZMA,
    "zstd": Method.ZSTD,
    "xz": Method.XZ,
}
_CODECS = {
    Method.DEFLATED: "deflate",
    Method.BZIP2: "bzip2",
    Method.LZMA: "headed lzma",
    Method.ZSTD: "zstd",
    Method.XZ: "xz",
}
_NEEDED = {Method.BZIP2: 46, Method.LZMA: 63, Method.ZSTD: 63, Method.XZ: 63}

# A source may grow while it is read: from this size on, room is kept for 64-bit sizes.
_ROOM_FROM = MAX32 - 64 * MIB


@dataclass(frozen=True, slots=True)
class _How:
    """How entries are written: the level, the method below any lock, and the password."""

    level: int
    method: Method
    codec: str
    password: bytes

    @property
    def locked(self) -> bool:
        return bool(self.password)


@dataclass(slots=True)
class _Packed:
    """A small item, ready to be written."""

    item: PackItem
    method: Method
    crc: int
    size: int
    data: bytes


@dataclass(slots=True)
class _Failed:
    """A small item that could not be read."""

    item: PackItem
    problem: FileProblem


@dataclass(slots=True)
class _Row:
    """What the central directory keeps of an entry."""

    name: bytes
    item: PackItem
    method: Method
    crc: int
    packed: int
    size: int
    offset: int
    locked: bool

    @property
    def stored_method(self) -> int:
        """The method in the records, which is that of the lock for a locked entry."""
        return Method.AES if self.locked else self.method

    @property
    def stored_crc(self) -> int:
        """Locked entries keep no checksum, which could tell what is in them."""
        return 0 if self.locked else self.crc

    @property
    def version(self) -> int:
        """The version of the format needed (section 4.4.3)."""
        wide = _VERSION_64 if self.item.size >= _ROOM_FROM else _VERSION_PLAIN
        return max(wide, _NEEDED.get(self.method, 0), _VERSION_AES if self.locked else 0)


class ZipWriter:
    """A new zip archive. See :class:`rundlet.core.formats.base.ArchiveWriter`."""

    def __init__(self, sink: Sink, options: WriteOptions) -> None:
        self._sink = sink
        method = _METHODS[options.method or "deflate"]
        self._how = _How(options.level, method, _CODECS[method], options.password.encode("utf-8"))
        self._records: list[bytes] = []
        self._kept, self._kept_count, self._comment = b"", 0, b""
        self._shift = 0  # bytes in front of the archive, which no offset counts

    def keep(self, reader: ArchiveReader, job: Job) -> None:
        assert isinstance(reader, ZipReader)
        source, end = reader.source, reader.end
        for data in chunks(source, 0, end.start):
            self._sink.write(data)
            job.advance(len(data))
        self._kept, self._kept_count = raw_records(source, end)
        self._shift = end.shift
        self._comment = source.read_at(source.size - end.trailing - end.comment, end.comment)

    def write(self, items: Sequence[PackItem], *, pool: ThreadPoolExecutor, job: Job, report: Report) -> None:
        for is_small, group in itertools.groupby(items, key=_is_small):
            if is_small:
                tasks = (functools.partial(_pack_batch, batch, self._how) for batch in _batches(group))
                for batch in in_order(pool, tasks, ahead=2 * cores() + 2):
                    self._write_batch(batch, job, report)
            else:
                for item in group:
                    self._write_large(item, pool, job, report)

    def _write_batch(self, batch: list[_Packed | _Failed], job: Job, report: Report) -> None:
        pieces: list[bytes] = []
        offset, size, entries = self._sink.tell() - self._shift, 0, 0
        for packed in batch:
            entries += 1
            if isinstance(packed, _Failed):
                report.add(packed.item.path, left_out(packed.problem))
                continue
            if packed.item.kind == Kind.FILE and packed.size != packed.item.size:
                report.add(packed.item.path, CHANGED, problem=False)
            row = _Row(
                packed.item.path.encode("utf-8", "surrogateescape"),
                packed.item,
                packed.method,
                packed.crc,
                len(packed.data),
                packed.size,
                offset,
                self._how.locked and packed.item.kind != Kind.DIR,
            )
            local, central = _headers(row)
            pieces += (local, packed.data)
            self._records.append(central)
            offset += len(local) + len(packed.data)
            report.files += packed.item.kind == Kind.FILE
            size += packed.size
        self._sink.write(b"".join(pieces))
        report.bytes_in += size
        job.advance(size, entries=entries)

    def _write_large(self, item: PackItem, pool: ThreadPoolExecutor, job: Job, report: Report) -> None:
        """One large file in pieces; its sizes and checksum are put into its header when they are known."""
        offset = self._sink.tell()
        try:
            fd = open_item(item)
        except OSError as error:
            report.add(item.path, left_out(file_problem(error, "read", item.source)))
            job.advance(entries=1)
            return
        try:
            row = self._stream(item, fd, offset, pool, job)
        except ReadFailed as failure:
            self._sink.rewind(offset)
            report.add(item.path, left_out(failure.problem))
            job.advance(entries=1)
            return
        finally:
            os.close(fd)
        if row.size != item.size:
            report.add(item.path, CHANGED, problem=False)
        self._records.append(_headers(row)[1])
        report.files += 1
        report.bytes_in += row.size
        job.advance(entries=1)

    def _stream(self, item: PackItem, fd: int, offset: int, pool: ThreadPoolExecutor, job: Job) -> _Row:
        how = self._how
        stored = how.level == 0 or not shrinks(fd, item.size)
        method = Method.STORED if stored else how.method
        name = item.path.encode("utf-8", "surrogateescape")
        row = _Row(name, item, method, 0, 0, 0, offset - self._shift, how.locked)
        self._sink.write(_headers(row)[0])
        begin = self._sink.tell()
        pieces = self._pieces(item, fd, row, pool, job)
        if how.locked:
            salt = os.urandom(SALT_SIZES[_STRENGTH])
            keys = ZipKeys(how.password, salt, _STRENGTH)
            self._sink.write(salt + keys.verifier)
            pieces = encrypt(keys, pieces)
        for data in pieces:
            self._sink.write(data)
        row.packed = self._sink.tell() - begin
        self._sink.patch(offset, _headers(row)[0])
        return row

    def _pieces(self, item: PackItem, fd: int, row: _Row, pool: ThreadPoolExecutor, job: Job) -> Iterator[bytes]:
        """The packed pieces of a file in order; fills in the row's size and checksum on the way."""
        side_by_side = row.method in (Method.STORED, Method.DEFLATED)
        level = self._how.level if row.method == Method.DEFLATED else 0
        tasks = _piece_tasks(fd, item, level)
        stream = None if side_by_side else ENCODERS[self._how.codec](self._how.level)
        for data, crc, length in in_order(pool, tasks, ahead=2 * cores() + 1):
            row.crc = crc32_combine(row.crc, crc, length)
            row.size += length
            yield data if stream is None else stream.compress(data)
            job.advance(length)
        if stream is not None:
            yield stream.flush()

    def finish(self) -> None:
        """Write the central directory and its end records (sections 4.3.12 to 4.3.16)."""
        start = self._sink.tell() - self._shift
        self._sink.write(self._kept)
        for first in range(0, len(self._records), _RECORDS_AT_ONCE):
            self._sink.write(b"".join(self._records[first : first + _RECORDS_AT_ONCE]))
        end = self._sink.tell() - self._shift
        count, size = self._kept_count + len(self._records), end - start
        if count >= MAX16 or size >= MAX32 or start >= MAX32:
            wide = End64Record(44, Host.UNIX << 8 | _VERSION_64, _VERSION_64, 0, 0, count, count, size, start)
            self._sink.write(wide.pack() + LOCATOR.pack(LOCATOR_SIGNATURE, 0, end, 1))
        narrow = min(count, MAX16)
        record = EndRecord(0, 0, narrow, narrow, min(size, MAX32), min(start, MAX32), len(self._comment))
        self._sink.write(record.pack() + self._comment)


def _is_small(item: PackItem) -> bool:
    return item.kind != Kind.FILE or item.size <= SMALL


def _batches(items: Iterator[PackItem]) -> Iterator[list[PackItem]]:
    """Neighbours put together, so that handing them to another core costs little beside the work itself."""
    batch: list[PackItem] = []
    total = 0
    for item in items:
        batch.append(item)
        total += item.size
        if len(batch) == _BATCH or total > SMALL:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


def _pack_batch(batch: list[PackItem], how: _How) -> list[_Packed | _Failed]:
    return [_pack_small(item, how) for item in batch]


def _pack_small(item: PackItem, how: _How) -> _Packed | _Failed:
    if item.kind == Kind.DIR:
        return _Packed(item, Method.STORED, 0, 0, b"")
    if item.kind == Kind.LINK:
        data = item.target.encode("utf-8", "surrogateescape")
    else:
        try:
            data = read_whole(item)
        except OSError as error:
            return _Failed(item, file_problem(error, "read", item.source))
    method, packed = Method.STORED, data
    if how.level and data and item.kind == Kind.FILE:
        smaller = compress_whole(how.codec, data, how.level)
        if len(smaller) < len(data):
            method, packed = how.method, smaller
    if how.locked:
        salt = os.urandom(SALT_SIZES[_STRENGTH])
        keys = ZipKeys(how.password, salt, _STRENGTH)
        packed = salt + keys.verifier + b"".join(encrypt(keys, [packed]))
    return _Packed(item, method, crc32(data), len(data), packed)


def _piece_tasks(fd: int, item: PackItem, level: int) -> Iterator[Callable[[], tuple[bytes, int, int]]]:
    """Tasks for the pieces of a file, each giving packed bytes, CRC-32 and length in bytes.

    One byte past the end of each piece is looked at, so that the last one knows that it is the last even when the
    file has grown or shrunk since the plan.
    """
    step = deflate_codec.piece_size(level) if level else MIB
    before = b""
    try:
        data = read_piece(fd, step, 0)
        offset = len(data)
        while data or not offset:
            following = read_piece(fd, step, offset)
            yield functools.partial(_pack_piece, data, before, level, last=not following)
            if not following:
                return
            before = data[-deflate_codec.WINDOW :]
            data = following
            offset += len(data)
    except OSError as error:
        raise ReadFailed.of(error, item) from error


def _pack_piece(data: bytes, before: bytes, level: int, *, last: bool) -> tuple[bytes, int, int]:
    crc = crc32(data)
    packed = deflate_codec.compress_piece(data, level, before=before, last=last) if level else data
    return packed, crc, len(data)


def _headers(row: _Row) -> tuple[bytes, bytes]:
    """The header in front of an entry's data, and its record in the central directory (sections 4.3.7 and 4.3.12).

    In the first, both sizes of a file that may become very large stand in the zip64 field (section 4.5.3); in the other
    it holds what does not fit elsewhere.
    """
    wide = row.item.size >= _ROOM_FROM
    date, clock = _dos_time(row.item.mtime_ns // _SECOND if row.item.mtime_ns != NO_TIME else None)
    name, more, flags = _stored_name(row), _common_extra(row), _flags(row)
    version, method, crc = row.version, row.stored_method, row.stored_crc
    extra = more if not wide else struct.pack("<HHQQ", Extra.ZIP64, 16, row.size, row.packed) + more
    packed, size = (MAX32, MAX32) if wide else (row.packed, row.size)
    shared = SHARED.pack(version, flags, method, clock, date, crc, packed, size, len(name), len(extra))
    local = LocalHeader.SIGNATURE + shared + name + extra
    large = [value for value in (row.size, row.packed, row.offset) if value >= MAX32]
    if large or wide:
        extra = struct.pack(f"<HH{len(large)}Q", Extra.ZIP64, 8 * len(large), *large) + more if large else more
        version = max(version, _VERSION_64 if large else 0)
        packed, size = min(row.packed, MAX32), min(row.size, MAX32)
        shared = SHARED.pack(version, flags, method, clock, date, crc, packed, size, len(name), len(extra))
    attributes = row.item.unix_mode << 16 | (_DOS_FOLDER if row.item.kind == Kind.DIR else 0)
    rest = CENTRAL_REST.pack(0, 0, 0, attributes, min(row.offset, MAX32))
    central = CENTRAL_SIGNATURE + bytes((version, Host.UNIX)) + shared + rest + name + extra
    return local, central


def _stored_name(row: _Row) -> bytes:
    return row.name + b"/" if row.item.kind == Kind.DIR else row.name


def _flags(row: _Row) -> int:
    flags = 0 if row.name.isascii() else int(Flag.UTF8)
    if row.locked:
        flags |= Flag.ENCRYPTED
    return flags | Flag.END_MARK if row.method == Method.LZMA else flags


def _common_extra(row: _Row) -> bytes:
    """The fields that both headers have."""
    extra = _times(row.item.mtime_ns)
    if row.locked:
        body = AES_FIELD.pack(_SCHEME, b"AE", _STRENGTH, row.method)
        extra += struct.pack("<HH", Extra.AES, len(body)) + body
    return extra


def _times(mtime_ns: int) -> bytes:
    """Extended timestamp, in whole seconds; left out for years that it can't hold."""
    if mtime_ns == NO_TIME or not -(1 << 31) <= mtime_ns // _SECOND < 1 << 31:
        return b""
    return UNIX_TIMES.pack(Extra.TIMESTAMP, 5, 1, mtime_ns // _SECOND)


@functools.lru_cache(maxsize=4096)
def _dos_time(seconds: int | None) -> tuple[int, int]:
    """Local date and time in DOS form (section 4.4.6), held between 1980 and 2107."""
    if seconds is None:
        return (1 << 5) | 1, 0
    parts = time.localtime(seconds)
    if parts.tm_year < 1980:
        return (1 << 5) | 1, 0
    if parts.tm_year > 2107:
        return (127 << 9) | (12 << 5) | 31, (23 << 11) | (59 << 5) | 29
    date = (parts.tm_year - 1980) << 9 | parts.tm_mon << 5 | parts.tm_mday
    return date, parts.tm_hour << 11 | parts.tm_min << 5 | min(parts.tm_sec, 59) // 2
