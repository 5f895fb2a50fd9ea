"""Writing 7z archives: solid blocks of what is alike, packed in pieces on all cores, always the same bytes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

from rundlet.core.codecs import lzma2
from rundlet.core.codecs.aes import BLOCK, CbcEncryptor, stretched_key
from rundlet.core.codecs.branch import filtered
from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.parallel import Pool, cores, in_order
from rundlet.core.errors import Corrupt
from rundlet.core.formats.edits import NOTHING, Edits
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.formats.item_reading import (
    READ_ERRORS,
    ReadFailed,
    open_item,
    read_problem,
    read_whole,
    with_size,
)
from rundlet.core.formats.sevenz.levels import LEVELS, Level
from rundlet.core.formats.sevenz.new_header import (
    BlockRow,
    Row,
    anti_rows,
    files_info,
    kept_rows,
    new_row,
    streams_info,
)
from rundlet.core.formats.sevenz.pieces import OpenBlock, Piece, pack_piece, pack_text
from rundlet.core.formats.sevenz.reader import SevenReader
from rundlet.core.formats.sevenz.records import HEAD_SIZE, IDS, BindPair, Coder, Folder, Property, SignatureHeader
from rundlet.core.formats.sevenz.sorting import FILTERS, BlockPlan, ContentType, blocks, content_type_of_block
from rundlet.core.jobs.findings import Reason
from rundlet.core.limits import CHUNK, GIB, KIB, MIB
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.model.item import PackItem
from rundlet.core.streams.copying import copy_bytes
from rundlet.core.streams.exact import in_pieces

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Sink
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.format_info import WriteOptions

_POWER = 19  # 2**19 rounds for a key, as is usual in this format: a tenth of a second
_SALT_SIZE = 16
_ENCODER_MEMORY = 2 * GIB  # all encoders together, so that the tightest level runs beside other programs
_PIECES_IN_A_BLOCK = 4
_HEADER_PRESET = 6
_PPMD_LARGEST = 16 * MIB


class _Lock:
    """The password's key with what it was made from."""

    def __init__(self, password: str) -> None:
        self._salt = os.urandom(_SALT_SIZE)
        self._key = stretched_key(password.encode("utf-16-le"), self._salt, _POWER)

    def begin(self) -> tuple[CbcEncryptor, bytes]:
        """A cipher for one stream, and the properties of its coder."""
        iv = os.urandom(BLOCK)
        lengths = bytes([0xC0 | _POWER, (_SALT_SIZE - 1) << 4 | BLOCK - 1])
        return CbcEncryptor(self._key, iv), lengths + self._salt + iv


class SevenWriter:
    """A new 7z archive. See :class:`rundlet.core.formats.base.ArchiveWriter`."""

    def __init__(self, sink: Sink, options: WriteOptions) -> None:
        self._sink = sink
        self._level = options.level
        self._text = options.method == "ppmd"
        self._hide_names = options.hide_names
        self._lock = _Lock(options.password) if options.password else None
        self._blocks: list[BlockRow] = []
        self._empty: list[Row] = []
        self._properties = b""
        self._unknown: list[tuple[int, bytes]] = []
        self._start = sink.tell()
        sink.write(bytes(HEAD_SIZE))

    def write(self, items: Sequence[PackItem], *, pool: Pool, job: Job, outcome: Outcome) -> None:
        items = [item if item.size or item.kind != Kind.FILE else with_size(item) for item in items]
        for item in items:
            if item.kind == Kind.DIR or (item.kind == Kind.FILE and not item.size):
                self._empty.append(new_row(item))
                outcome.files += item.kind == Kind.FILE
                job.advance(entries=1)
        how = LEVELS.get(self._level, LEVELS[1])
        plans = blocks(
            items,
            alone_from=how.piece,
            largest=_PIECES_IN_A_BLOCK * how.piece,
            copy=not self._level,
            pool=pool,
            job=job,
        )
        self._pack(plans, how, pool=pool, job=job, outcome=outcome)

    def _pack(self, plans: Iterable[BlockPlan], how: Level, *, pool: Pool, job: Job, outcome: Outcome) -> None:
        """Write the blocks, their pieces packed side by side."""
        ahead = max(min(2 * cores() + 1, _ENCODER_MEMORY // how.memory), 1)
        tasks = (task for plan in plans for task in self._tasks(plan, how, job, outcome))
        writing: _Writing | None = None
        for piece in in_order(pool, tasks, ahead=ahead):
            if writing is None:
                writing = _Writing(self._sink, self._lock)
            writing.add(piece)
            job.checkpoint()
            if piece.is_last:
                self._end_block(writing, piece.block, outcome)
                writing = None

    def _end_block(self, writing: _Writing, block: OpenBlock, outcome: Outcome) -> None:
        if block.failed is not None:
            self._sink.rewind(writing.start)
            outcome.add_error(block.plan.items[0].path, block.failed.problem, Reason.NOT_READ)
            return
        if not block.plan.rows:
            outcome.files += sum(row.kind == Kind.FILE for row in block.files)
            outcome.bytes_in += block.plain
        if block.plain:
            self._blocks.append(writing.finish(block))
        else:
            self._sink.rewind(writing.start)
        self._empty += [row for row in block.files if not row.has_stream]

    def _tasks(self, plan: BlockPlan, how: Level, job: Job, outcome: Outcome) -> Iterator[Callable[[], Piece]]:
        """The pieces of a block, read here one after the other, to be packed side by side."""
        name, filter_name = "lzma2", FILTERS.get(plan.content_type, "")
        if plan.content_type == ContentType.PACKED:
            name = "copy"
        elif (
            plan.content_type == ContentType.TEXT
            and self._text
            and sum(item.size for item in plan.items) <= _PPMD_LARGEST
        ):
            name = "ppmd"
        block = OpenBlock(plan, name, filter_name)
        content = self._content(block, how.piece, job, outcome)
        if filter_name:
            content = filtered(filter_name, content)
        if name == "ppmd":
            yield partial(pack_text, block, b"".join(content), how, job.advance)
            return
        step = MIB if name == "copy" else how.piece
        for data in in_pieces(content, step):
            yield partial(pack_piece, block, data, how, job.advance)
        yield partial(Piece, block, b"", 0, is_last=True)

    def _content(self, block: OpenBlock, largest: int, job: Job, outcome: Outcome) -> Iterator[bytes]:
        """The plain bytes of a block; notes its files on the way."""
        for number, item in enumerate(block.plan.items):
            row = block.plan.rows[number] if block.plan.rows else new_row(item)
            row.size = row.crc = 0
            try:
                pieces = self._pieces(item, largest, job)
                for data in pieces:
                    job.checkpoint()
                    row.crc = crc32(data, row.crc)
                    row.size += len(data)
                    yield data
            except ReadFailed as failure:
                if block.plan.rows:
                    raise Corrupt(
                        "{path:name} can't be kept: {cause}.", path=item.path, cause=failure.problem.reason
                    ) from failure
                if row.size:
                    block.failed = failure  # it has a block to itself, which is taken back
                else:
                    outcome.add_error(item.path, failure.problem, Reason.NOT_READ)
                job.advance(entries=1)
                continue
            row.has_stream = row.size > 0
            block.plain += row.size
            block.files.append(row)
            if item.kind == Kind.FILE and row.size != item.size:
                outcome.add(item.path, Reason.CHANGED_WHILE_READ)
            job.advance(entries=1)

    def _pieces(self, item: PackItem, largest: int, job: Job) -> Iterator[bytes]:
        """The content of one item: whole before the first byte of it is given out, when it shares its block."""
        if item.kind == Kind.LINK:
            yield item.target.encode("utf-8", "surrogateescape")
            return
        try:
            if item.size <= largest:
                yield read_whole(item, job.checkpoint)
                return
            content = open_item(item)
            try:
                at = 0
                while data := content.read(CHUNK, at):
                    at += len(data)
                    yield data
            finally:
                content.close()
        except READ_ERRORS as error:
            raise ReadFailed(read_problem(error, item)) from error

    def keep(self, reader: ArchiveReader, edits: Edits, *, pool: Pool, job: Job, outcome: Outcome) -> None:
        assert isinstance(reader, SevenReader)
        for folder in range(len(reader.streams.folders)):
            rows = reader.rows_of(folder)
            gone = sum(row in edits.removed for row in rows)
            before = self._sink.tell()
            if not gone:
                self.copy_block(reader, folder, edits)
                job.advance(self._sink.tell() - before)
            elif gone < len(rows):
                self._pack_anew(reader, folder, edits, pool, job, outcome)
        self._empty += kept_rows(reader, -1, edits) + anti_rows(reader)
        self._properties = reader.archive_properties
        self._unknown = reader.unknown

    def take_over(self, reader: ArchiveReader, rows: Sequence[int], job: Job) -> frozenset[int]:
        """Whole blocks, and what has no content. Of a block that is damaged somewhere, the rest must be packed anew."""
        assert isinstance(reader, SevenReader)
        wanted, taken = frozenset(rows), set[int]()
        edits = Edits(removed=frozenset(range(len(reader.catalog))) - wanted)
        for folder in range(len(reader.streams.folders)):
            within = reader.rows_of(folder)
            if within and wanted.issuperset(within):
                self.copy_block(reader, folder, edits)
                taken.update(within)
                job.advance(sum(reader.catalog.size[within].tolist()))
        self._empty += kept_rows(reader, -1, edits)
        taken.update(wanted.intersection(reader.rows_of(-1)))
        return frozenset(taken)

    def copy_block(self, reader: SevenReader, folder: int, edits: Edits = NOTHING) -> None:
        """Take over a block of another archive as it is, with all its entries.

        Raises:
            FileProblem, FormatError: when it can't be read.
        """
        streams = reader.streams
        begin = int(streams.first_pack[folder])
        coders = streams.folders[folder]
        span = range(begin, begin + len(coders.packed))
        for i in span:
            at, length = HEAD_SIZE + int(streams.pack_at[i]), int(streams.pack_size[i])
            copy_bytes(self._sink, reader.source, at, length, lambda _: None)
        sizes = [int(streams.pack_size[i]) for i in span]
        self._blocks.append(BlockRow(coders, streams.output_sizes(folder), sizes, kept_rows(reader, folder, edits)))

    def _pack_anew(
        self, reader: SevenReader, folder: int, edits: Edits, pool: Pool, job: Job, outcome: Outcome
    ) -> None:
        """A block that loses entries: decoded once, and written without them."""
        rows = kept_rows(reader, folder, edits)
        kept = [row for row in reader.rows_of(folder) if row not in edits.removed]
        contents = ArchiveContents(reader, kept)
        try:
            items = [
                PackItem(row.path, Kind.FILE, "", row.size, 0, 0, content=contents.source(number))
                for row, number in zip(rows, kept, strict=True)
            ]
            plan = BlockPlan(content_type_of_block(reader.streams.folders[folder]), items, rows)
            self._pack([plan], LEVELS.get(self._level, LEVELS[1]), pool=pool, job=job, outcome=outcome)
        finally:
            contents.close()

    def finish(self) -> None:
        """Write the header, packed, and what leads to it."""
        end = self._sink.tell()
        header = self._header()
        if self._blocks or self._empty:
            header = self._encoded(header, end - self._start - HEAD_SIZE)
        at = self._sink.tell()
        self._sink.write(header)
        start = SignatureHeader(at - self._start - HEAD_SIZE, len(header), crc32(header))
        self._sink.patch(self._start, start.pack())

    def _header(self) -> bytes:
        out = [bytes([Property.HEADER])]
        if self._properties:
            out.append(bytes([Property.ARCHIVE_PROPERTIES]) + self._properties)
        if self._blocks:
            out.append(bytes([Property.MAIN_STREAMS_INFO]) + streams_info(self._blocks, 0))
        rows = [row for block in self._blocks for row in block.files] + self._empty
        rows.sort(key=lambda row: row.original_row)
        if rows:
            out.append(files_info(rows, self._unknown))
        return b"".join(out) + bytes([Property.END])

    def _encoded(self, header: bytes, at: int) -> bytes:
        """The header packed, and locked where the names are to be hidden, and what says so in its place."""
        dictionary = min(8 * MIB, max(len(header), 4 * KIB))
        packed = lzma2.encoded(header, _HEADER_PRESET, dictionary) + lzma2.END
        writing = _Writing(self._sink, self._lock if self._hide_names else None)
        block = OpenBlock(BlockPlan(ContentType.OTHER, ()), "lzma2", "")
        block.plain = len(header)
        writing.add(Piece(block, packed, len(header), lzma2.properties_for(dictionary), True), ended=True)
        row = writing.finish(block)
        row.files = [Row("", Kind.FILE, NO_TIME, 0, len(header), crc32(header), True)]
        return bytes([Property.ENCODED_HEADER]) + streams_info([row], at, whole=True)


class _Writing:
    """One block on its way into the archive."""

    def __init__(self, sink: Sink, lock: _Lock | None) -> None:
        self._sink = sink
        self.start = sink.tell()
        self._cipher: CbcEncryptor | None = None
        self._lock_properties = b""
        if lock is not None:
            self._cipher, self._lock_properties = lock.begin()
        self._packed = 0
        self._properties = b""

    def add(self, piece: Piece, *, ended: bool = False) -> None:
        """Write a piece; the last one ends the stream."""
        data = piece.data
        self._properties = piece.properties or self._properties
        if piece.is_last and piece.block.name == "lzma2" and not ended:
            data += lzma2.END
        self._packed += len(data)
        if self._cipher is not None:
            data = self._cipher.update(data) + (self._cipher.finish() if piece.is_last else b"")
        self._sink.write(data)

    def finish(self, block: OpenBlock) -> BlockRow:
        """What the header keeps of it."""
        coders, sizes = [], []
        if block.filter:
            coders.append(Coder(IDS[block.filter]))
            sizes.append(block.plain)
        coders.append(Coder(IDS[block.name], properties=self._properties))
        sizes.append(block.plain)
        if self._cipher is not None:
            coders.append(Coder(IDS["aes"], properties=self._lock_properties))
            sizes.append(self._packed)
        pairs = tuple(BindPair(i, i + 1) for i in range(len(coders) - 1))
        folder = Folder(tuple(coders), pairs, (len(coders) - 1,))
        files = [row for row in block.files if row.has_stream]
        return BlockRow(folder, sizes, [self._sink.tell() - self.start], files)
