"""Writing zip archives: many small files side by side, large ones in pieces, always the same bytes."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rundlet.core.codecs.aes import encrypt
from rundlet.core.codecs.checksums import crc32_combine
from rundlet.core.codecs.encoders import ENCODERS
from rundlet.core.codecs.parallel import Pool, cores, in_order
from rundlet.core.codecs.steps import STEP
from rundlet.core.errors import PlanError
from rundlet.core.formats.deflate_workers import Deflaters
from rundlet.core.formats.item_reading import ReadFailed
from rundlet.core.formats.zip.headers import Row, descriptor, headers
from rundlet.core.formats.zip.reader import ZipReader
from rundlet.core.formats.zip.records import (
    LOCATOR,
    LOCATOR_SIGNATURE,
    MAX16,
    MAX32,
    VERSION_64,
    End64Record,
    EndRecord,
    Host,
    Method,
)
from rundlet.core.formats.zip.rewriting import keep, take_over
from rundlet.core.formats.zip.tasks import Failed, How, Packed, Piece, Step, is_small, tasks
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.worker_process import WORTH_IT
from rundlet.core.model.entry import Kind

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Sink
    from rundlet.core.formats.edits import Edits
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.model.item import PackItem

_RECORDS_AT_ONCE = 4096

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


class ZipWriter:
    """A new zip archive. See :class:`rundlet.core.formats.base.ArchiveWriter`."""

    def __init__(self, sink: Sink, options: WriteOptions) -> None:
        self._sink = sink
        method = _METHODS[options.method or "deflate"]
        self._how = How(options.level, method, _CODECS[method], options.password.encode("utf-8"), sink.forward)
        self._records: list[bytes] = []
        self._kept, self._kept_count, self._comment = b"", 0, b""
        self._shift = 0  # bytes in front of the archive, which no offset counts

    def keep(self, reader: ArchiveReader, edits: Edits, *, pool: Pool, job: Job, outcome: Outcome) -> None:
        assert isinstance(reader, ZipReader)
        end = reader.end
        assert end is not None, "nothing is added to a damaged archive"
        self._kept = keep(reader, edits, self._sink, job.advance)
        self._kept_count = len(reader.catalog) - len(edits.removed)
        self._shift = end.shift
        self._comment = reader.source.read_at(reader.source.size - end.trailing - end.comment, end.comment)

    def take_over(self, reader: ArchiveReader, rows: Sequence[int], job: Job) -> frozenset[int]:
        assert isinstance(reader, ZipReader)
        self._kept, taken = take_over(reader, rows, self._sink, job.advance)
        self._kept_count = len(taken)
        return taken

    def write(self, items: Sequence[PackItem], *, pool: Pool, job: Job, outcome: Outcome) -> None:
        helpers = self._helpers(items, pool)
        try:
            with contextlib.closing(
                in_order(pool, tasks(items, self._how, helpers, job.advance), ahead=2 * cores() + 2)
            ) as steps:
                for step in steps:
                    if isinstance(step, Piece):
                        self._write_large(step, steps, job, outcome)
                    else:
                        self._write_batch([step] if isinstance(step, Failed) else step, job, outcome)
        finally:
            if helpers:
                helpers.close()

    def _helpers(self, items: Sequence[PackItem], pool: Pool) -> Deflaters | None:
        """Processes that deflate small files, where there are enough of these."""
        how = self._how
        if pool.workers == 1 or how.locked or how.method != Method.DEFLATED or not how.level:
            return None
        return Deflaters(pool.workers) if sum(map(is_small, items)) >= WORTH_IT else None

    def _write_batch(self, batch: list[Packed | Failed], job: Job, outcome: Outcome) -> None:
        pieces: list[bytes] = []
        offset, size, entries = self._sink.tell() - self._shift, 0, 0
        for packed in batch:
            entries += 1
            if isinstance(packed, Failed):
                outcome.add_error(packed.item.path, packed.problem, Reason.NOT_READ)
                continue
            if packed.item.kind == Kind.FILE and packed.size != packed.item.size:
                outcome.add(packed.item.path, Reason.CHANGED_WHILE_READ)
            row = Row(
                packed.item.path.encode("utf-8", "surrogateescape"),
                packed.item,
                packed.method,
                packed.crc,
                len(packed.data),
                packed.size,
                offset,
                self._how.locked and packed.item.kind != Kind.DIR,
            )
            local, central = headers(row)
            pieces += (local, packed.data)
            self._records.append(central)
            offset += len(local) + len(packed.data)
            outcome.files += packed.item.kind == Kind.FILE
            size += packed.size
        self._sink.write(b"".join(pieces))
        outcome.bytes_in += size
        job.advance(size, entries=entries)

    def _write_large(self, first: Piece, steps: Iterator[Step], job: Job, outcome: Outcome) -> None:
        """One large file in pieces; its sizes and checksum are put into its header when they are known."""
        item, offset = first.item, self._sink.tell()
        try:
            row = self._stream(first, steps, offset, job)
        except ReadFailed as failure:
            if self._sink.forward:
                raise failure.problem from failure
            self._sink.rewind(offset)
            outcome.add_error(item.path, failure.problem, Reason.NOT_READ)
            job.advance(entries=1)
            return
        if row.size != item.size:
            outcome.add(item.path, Reason.CHANGED_WHILE_READ)
        self._records.append(headers(row)[1])
        outcome.files += 1
        outcome.bytes_in += row.size
        job.advance(entries=1)

    def _stream(self, first: Piece, steps: Iterator[Step], offset: int, job: Job) -> Row:
        name = first.item.path.encode("utf-8", "surrogateescape")
        forward = self._sink.forward
        row = Row(name, first.item, first.method, 0, 0, 0, offset - self._shift, self._how.locked, forward)
        self._sink.write(headers(row)[0])
        begin = self._sink.tell()
        pieces = self._pieces(first, steps, row, job)
        if self._how.locked:
            keys, lock = self._how.new_lock()
            self._sink.write(lock)
            pieces = encrypt(keys, pieces)
        for data in pieces:
            self._sink.write(data)
        row.packed = self._sink.tell() - begin
        if not forward:
            self._sink.patch(offset, headers(row)[0])
        elif max(row.packed, row.size) >= MAX32 and not row.wide:
            raise PlanError("{name:name} has grown by gigabytes while it was read.", name=first.item.path)
        else:
            self._sink.write(descriptor(row))
        return row

    def _pieces(self, first: Piece, steps: Iterator[Step], row: Row, job: Job) -> Iterator[bytes]:
        """The packed pieces of a file in order; fills in the row's size and checksum on the way."""
        as_they_are = row.method in (Method.STORED, Method.DEFLATED)
        stream = None if as_they_are else ENCODERS[self._how.codec](self._how.level)
        for piece in itertools.chain((first,), steps):
            if isinstance(piece, Failed):
                raise ReadFailed(piece.problem)
            assert isinstance(piece, Piece)
            row.crc = crc32_combine(row.crc, piece.crc, piece.size)
            row.size += piece.size
            if stream is None:
                yield piece.data
                job.advance(piece.size)
            else:
                for at in range(0, len(piece.data), STEP):
                    step = piece.data[at : at + STEP]
                    yield stream.compress(step)
                    job.advance(len(step))
            if piece.last:
                break
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
            wide = End64Record(44, Host.UNIX << 8 | VERSION_64, VERSION_64, 0, 0, count, count, size, start)
            self._sink.write(wide.pack() + LOCATOR.pack(LOCATOR_SIGNATURE, 0, end, 1))
        narrow = min(count, MAX16)
        record = EndRecord(0, 0, narrow, narrow, min(size, MAX32), min(start, MAX32), len(self._comment))
        self._sink.write(record.pack() + self._comment)
