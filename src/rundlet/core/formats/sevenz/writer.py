"""Writing 7z archives: solid blocks of what is alike, packed in pieces on all cores, always the same bytes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from rundlet.core.codecs import lzma2, ppmd
from rundlet.core.codecs.aes import BLOCK, CbcEncryptor, stretched_key
from rundlet.core.codecs.branch import filtered
from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.side_by_side import cores, in_order
from rundlet.core.errors import RundletError, file_problem, left_out
from rundlet.core.formats.base import NO_TIME, ArchiveReader, Kind, PackItem, Sink, WriteOptions
from rundlet.core.formats.items import CHANGED, ReadFailed, open_item, read_piece, read_whole
from rundlet.core.formats.sevenz import fields
from rundlet.core.formats.sevenz.reader import SevenReader
from rundlet.core.formats.sevenz.records import (
    EPOCH,
    HEAD_SIZE,
    IDS,
    UNIX_EXTENSION,
    Attribute,
    BindPair,
    Coder,
    CoderFlag,
    Folder,
    Property,
    SignatureHeader,
)
from rundlet.core.formats.sevenz.sorting import FILTERS, BlockPlan, Sort, blocks
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.limits import CHUNK, GIB, KIB, MIB

_POWER = 19  # 2**19 rounds for a key, as is usual in this format: a tenth of a second
_SALT_SIZE = 16
_ENCODER_MEMORY = 2 * GIB  # all encoders together, so that the tightest level runs beside other programs
_PIECES_IN_A_BLOCK = 4
_HEADER_PRESET = 6
_PPMD_STEP = 4 * KIB  # the encoder loses bytes now and then when it is given more at once
_PPMD_LARGEST = 16 * MIB


@dataclass(frozen=True, slots=True)
class Level:
    """How a level packs.

    Attributes:
        preset: of the codec.
        dictionary: bytes that repetitions are looked for in. Pieces are twice as large, which costs 0.2 % of size.
        memory: bytes that one encoder takes, about.
        order, model: of PPMd.
    """

    preset: int
    dictionary: int
    memory: int
    order: int
    model: int

    @property
    def piece(self) -> int:
        return 2 * self.dictionary


LEVELS = {
    1: Level(1, 1 * MIB, 10 * MIB, 4, 4 * MIB),
    2: Level(2, 2 * MIB, 18 * MIB, 4, 8 * MIB),
    3: Level(3, 4 * MIB, 33 * MIB, 5, 8 * MIB),
    4: Level(4, 4 * MIB, 49 * MIB, 6, 16 * MIB),
    5: Level(5, 8 * MIB, 95 * MIB, 6, 16 * MIB),
    6: Level(6, 8 * MIB, 95 * MIB, 8, 32 * MIB),
    7: Level(7, 16 * MIB, 187 * MIB, 12, 64 * MIB),
    8: Level(8, 32 * MIB, 371 * MIB, 16, 128 * MIB),
    9: Level(9, 64 * MIB, 675 * MIB, 24, 192 * MIB),
}


@dataclass(slots=True)
class _Row:
    """An entry as the header keeps it."""

    path: str
    kind: Kind
    mtime_ns: int
    attributes: int
    size: int = 0
    crc: int = 0
    has_stream: bool = False


@dataclass(slots=True)
class _BlockRow:
    """A block as the header keeps it.

    Attributes:
        sizes: bytes that come out of each coder, as a decoder sees it.
        pack_sizes: bytes of its packed streams.
    """

    folder: Folder
    sizes: list[int]
    pack_sizes: list[int]
    files: list[_Row]


@dataclass(slots=True)
class _Open:
    """A block that is being read and written.

    Attributes:
        plain: bytes read so far.
        failed: what kept its only file from being read to its end.
    """

    plan: BlockPlan
    name: str
    filter: str
    files: list[_Row] = field(default_factory=list)
    plain: int = 0
    failed: ReadFailed | None = None


@dataclass(slots=True)
class _Piece:
    """A piece of a block, packed; the last one of a block says so and may hold nothing."""

    block: _Open
    data: bytes
    plain: int
    properties: bytes = b""
    is_last: bool = False


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
        self._blocks: list[_BlockRow] = []
        self._empty: list[_Row] = []
        self._start = sink.tell()
        sink.write(bytes(HEAD_SIZE))

    def write(self, items: Sequence[PackItem], *, pool: ThreadPoolExecutor, job: Job, report: Report) -> None:
        for item in items:
            if item.kind == Kind.DIR or (item.kind == Kind.FILE and not item.size):
                self._empty.append(_row(item))
                report.files += item.kind == Kind.FILE
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
        ahead = max(min(2 * cores() + 1, _ENCODER_MEMORY // how.memory), 1)
        tasks = (task for plan in plans for task in self._tasks(plan, how, job, report))
        writing: _Writing | None = None
        for piece in in_order(pool, tasks, ahead=ahead):
            if writing is None:
                writing = _Writing(self._sink, self._lock)
            writing.add(piece)
            job.advance(piece.plain)
            if piece.is_last:
                self._end_block(writing, piece.block, report)
                writing = None

    def _end_block(self, writing: _Writing, block: _Open, report: Report) -> None:
        if block.failed is not None:
            self._sink.rewind(writing.start)
            report.add(block.plan.items[0].path, left_out(block.failed.problem))
            return
        report.files += sum(row.kind == Kind.FILE for row in block.files)
        report.bytes_in += block.plain
        if block.plain:
            self._blocks.append(writing.finish(block))
        else:
            self._sink.rewind(writing.start)
        self._empty += [row for row in block.files if not row.has_stream]

    def _tasks(self, plan: BlockPlan, how: Level, job: Job, report: Report) -> Iterator[Callable[[], _Piece]]:
        """The pieces of a block, read here one after the other, to be packed side by side."""
        name, filter_name = "lzma2", FILTERS.get(plan.sort, "")
        if plan.sort == Sort.PACKED:
            name = "copy"
        elif plan.sort == Sort.TEXT and self._text and sum(item.size for item in plan.items) <= _PPMD_LARGEST:
            name = "ppmd"
        block = _Open(plan, name, filter_name)
        content = self._content(block, how.piece, job, report)
        if filter_name:
            content = filtered(filter_name, content)
        if name == "ppmd":
            yield partial(_pack_text, block, b"".join(content), how)
            return
        step = MIB if name == "copy" else how.piece
        for data in _cut(content, step):
            yield partial(_pack_piece, block, data, how)
        yield partial(_Piece, block, b"", 0, is_last=True)

    def _content(self, block: _Open, largest: int, job: Job, report: Report) -> Iterator[bytes]:
        """The plain bytes of a block; notes its files on the way."""
        for item in block.plan.items:
            row = _row(item)
            try:
                pieces = self._pieces(item, largest)
                for data in pieces:
                    row.crc = crc32(data, row.crc)
                    row.size += len(data)
                    yield data
            except ReadFailed as failure:
                if row.size:
                    block.failed = failure  # it has a block to itself, which is taken back
                else:
                    report.add(item.path, left_out(failure.problem))
                job.advance(entries=1)
                continue
            row.has_stream = row.size > 0
            block.plain += row.size
            block.files.append(row)
            if item.kind == Kind.FILE and row.size != item.size:
                report.add(item.path, CHANGED, problem=False)
            job.advance(entries=1)

    def _pieces(self, item: PackItem, largest: int) -> Iterator[bytes]:
        """The content of one item: whole before the first byte of it is given out, when it shares its block."""
        if item.kind == Kind.LINK:
            yield item.target.encode("utf-8", "surrogateescape")
            return
        try:
            if item.size <= largest:
                yield read_whole(item)
                return
            fd = open_item(item)
            try:
                at = 0
                while data := read_piece(fd, CHUNK, at):
                    at += len(data)
                    yield data
            finally:
                os.close(fd)
        except OSError as error:
            raise ReadFailed(file_problem(error, "read", item.source)) from error

    def keep(self, reader: ArchiveReader, job: Job) -> None:
        assert isinstance(reader, SevenReader)
        for folder in range(len(reader.streams.folders)):
            before = self._sink.tell()
            self.copy_block(reader, folder)
            job.advance(self._sink.tell() - before)
        self._empty += _kept_rows(reader, -1)

    def copy_block(self, reader: SevenReader, folder: int) -> None:
        """Take over a block of another archive as it is, with all its entries.

        Raises:
            FileProblem, FormatError: when it can't be read.
        """
        streams = reader.streams
        begin = int(streams.first_pack[folder])
        coders = streams.folders[folder]
        span = range(begin, begin + len(coders.packed))
        for i in span:
            at, left = HEAD_SIZE + int(streams.pack_at[i]), int(streams.pack_size[i])
            while left:
                data = reader.source.read_at(at, min(left, MIB))
                if not data:
                    raise RundletError("The archive ends within a block that was to be kept.")
                self._sink.write(data)
                at, left = at + len(data), left - len(data)
        rows = _kept_rows(reader, folder)
        sizes = [int(streams.pack_size[i]) for i in span]
        self._blocks.append(_BlockRow(coders, streams.output_sizes(folder), sizes, rows))

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
        if self._blocks:
            out.append(bytes([Property.MAIN_STREAMS_INFO]) + _streams_info(self._blocks, 0))
        rows = [row for block in self._blocks for row in block.files] + self._empty
        if rows:
            out.append(_files_info(rows))
        return b"".join(out) + bytes([Property.END])

    def _encoded(self, header: bytes, at: int) -> bytes:
        """The header packed, and locked where the names are to be hidden, and what says so in its place."""
        dictionary = min(8 * MIB, max(len(header), 4 * KIB))
        packed = lzma2.encoded(header, _HEADER_PRESET, dictionary) + lzma2.END
        writing = _Writing(self._sink, self._lock if self._hide_names else None)
        block = _Open(BlockPlan(Sort.OTHER, ()), "lzma2", "")
        block.plain = len(header)
        writing.add(_Piece(block, packed, len(header), lzma2.properties_for(dictionary), True), ended=True)
        row = writing.finish(block)
        row.files = [_Row("", Kind.FILE, NO_TIME, 0, len(header), crc32(header), True)]
        return bytes([Property.ENCODED_HEADER]) + _streams_info([row], at, whole=True)


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

    def add(self, piece: _Piece, *, ended: bool = False) -> None:
        """Write a piece; the last one ends the stream."""
        data = piece.data
        self._properties = piece.properties or self._properties
        if piece.is_last and piece.block.name == "lzma2" and not ended:
            data += lzma2.END
        self._packed += len(data)
        if self._cipher is not None:
            data = self._cipher.update(data) + (self._cipher.finish() if piece.is_last else b"")
        self._sink.write(data)

    def finish(self, block: _Open) -> _BlockRow:
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
        return _BlockRow(folder, sizes, [self._sink.tell() - self.start], files)


def _cut(content: Iterator[bytes], step: int) -> Iterator[bytes]:
    """Bytes in pieces of one size, the last one shorter."""
    pending: list[bytes] = []
    total = 0
    for data in content:
        while total + len(data) >= step:
            pending.append(data[: step - total])
            data = data[step - total :]
            yield b"".join(pending)
            pending, total = [], 0
        if data:
            pending.append(data)
            total += len(data)
    if pending:
        yield b"".join(pending)


def _pack_piece(block: _Open, data: bytes, how: Level) -> _Piece:
    if block.name == "copy":
        return _Piece(block, data, len(data))
    properties = lzma2.properties_for(how.dictionary)
    return _Piece(block, lzma2.encoded(data, how.preset, min(how.dictionary, len(data))), len(data), properties)


def ppmd_encoded(data: bytes, how: Level) -> bytes:
    """Text packed by PPMd as a level says."""
    import pyppmd  # only for those who ask for it

    encoder = pyppmd.Ppmd7Encoder(how.order, how.model)
    packed = b"".join(encoder.encode(data[at : at + _PPMD_STEP]) for at in range(0, len(data), _PPMD_STEP))
    return packed + encoder.flush()


def _pack_text(block: _Open, data: bytes, how: Level) -> _Piece:
    """A whole block through PPMd, read back, as its encoder may lose bytes; through LZMA2 when it did."""
    packed = ppmd_encoded(data, how)
    properties = bytes([how.order]) + how.model.to_bytes(4, "little")
    settings = {"order": how.order, "memory": how.model, "restore": 0, "size": len(data), "allowed": how.model}
    try:
        at = 0
        for piece in ppmd.decode(ppmd.VARIANT_H, iter((packed,)), **settings):
            if data[at : at + len(piece)] != piece:
                break
            at += len(piece)
    except RundletError:
        at = -1
    if at == len(data):
        return _Piece(block, packed, len(data), properties, True)
    block.name = "lzma2"
    whole = _pack_piece(block, data, how)
    return _Piece(block, whole.data, len(data), whole.properties, True)


# The header


def _row(item: PackItem) -> _Row:
    return _Row(item.path, item.kind, item.mtime_ns, _attributes(item.kind, item.mode))


_UNIX_KINDS = {Kind.FILE: 0o100000, Kind.DIR: 0o040000, Kind.LINK: 0o120000}


def _attributes(kind: Kind, mode: int) -> int:
    low = Attribute.DIRECTORY if kind == Kind.DIR else Attribute.ARCHIVE
    if mode and not mode & 0o222:
        low |= Attribute.READ_ONLY
    return (_UNIX_KINDS.get(kind, 0o100000) | mode) << 16 | UNIX_EXTENSION | low


def _kept_rows(reader: SevenReader, folder: int) -> list[_Row]:
    """The entries of a block of another archive, with the attributes that they have there."""
    return [
        _Row(
            entry.path,
            entry.kind,
            entry.mtime_ns,
            int(reader.attributes[entry.row]),
            max(entry.size, 0),
            entry.crc,
            folder >= 0,
        )
        for entry in map(reader.catalog.entry, reader.rows_of(folder))
    ]


def _property(kind: Property, data: bytes) -> bytes:
    return bytes([kind]) + fields.number(len(data)) + data


def _streams_info(rows: Sequence[_BlockRow], position: int, *, whole: bool = False) -> bytes:
    """A "Streams Info"; with ``whole``, of one stream that is no file."""
    pack_sizes = np.array([size for row in rows for size in row.pack_sizes], np.int64)
    sizes = np.array([size for row in rows for size in row.sizes], np.int64)
    out = [bytes([Property.PACK_INFO]), fields.number(position), fields.number(len(pack_sizes))]
    out += [bytes([Property.SIZE]), fields.numbers(pack_sizes), bytes([Property.END])]
    out += [bytes([Property.UNPACK_INFO, Property.FOLDER]), fields.number(len(rows)), b"\0"]
    out += [_folder(row.folder) for row in rows]
    out += [bytes([Property.CODERS_UNPACK_SIZE]), fields.numbers(sizes)]
    if whole:
        out.append(bytes([Property.CRC, 1]) + rows[0].files[0].crc.to_bytes(4, "little"))
    out.append(bytes([Property.END]))
    if not whole:
        out.append(_substreams(rows))
    return b"".join(out) + bytes([Property.END])


def _folder(folder: Folder) -> bytes:
    out = [fields.number(len(folder.coders))]
    for coder in folder.coders:
        is_complex = (coder.num_in_streams, coder.num_out_streams) != (1, 1)
        flags = len(coder.method)
        flags |= CoderFlag.COMPLEX if is_complex else 0
        flags |= CoderFlag.PROPERTIES if coder.properties else 0
        out.append(bytes([flags]) + coder.method)
        if is_complex:
            out.append(fields.number(coder.num_in_streams) + fields.number(coder.num_out_streams))
        if coder.properties:
            out.append(fields.number(len(coder.properties)) + coder.properties)
    out += [fields.number(pair.in_index) + fields.number(pair.out_index) for pair in folder.bind_pairs]
    if len(folder.packed) > 1:
        out += map(fields.number, folder.packed)
    return b"".join(out)


def _substreams(rows: Sequence[_BlockRow]) -> bytes:
    counts = np.array([len(row.files) for row in rows], np.int64)
    sizes = np.array([file.size for row in rows for file in row.files[:-1]], np.int64)
    crcs = np.array([file.crc for row in rows for file in row.files], np.int64)
    out = [bytes([Property.SUBSTREAMS_INFO, Property.NUM_UNPACK_STREAM]), fields.numbers(counts)]
    if len(sizes):
        out += [bytes([Property.SIZE]), fields.numbers(sizes)]
    known = crcs >= 0
    out += [bytes([Property.CRC]), fields.known_bits(known), crcs[known].astype("<u4").tobytes()]
    return b"".join(out) + bytes([Property.END])


def _files_info(rows: Sequence[_Row]) -> bytes:
    out = [bytes([Property.FILES_INFO]), fields.number(len(rows))]
    empty = np.array([not row.has_stream for row in rows], np.bool_)
    if empty.any():
        out.append(_property(Property.EMPTY_STREAM, fields.bits(empty)))
        files = np.array([row.kind != Kind.DIR for row in rows if not row.has_stream], np.bool_)
        if files.any():
            out.append(_property(Property.EMPTY_FILE, fields.bits(files)))
    names = "\0".join([row.path for row in rows]) + "\0"
    out.append(_property(Property.NAME, b"\0" + _utf16(names)))
    times = np.array([row.mtime_ns for row in rows], np.int64)
    known = times != NO_TIME
    if known.any():
        ticks = times[known] // 100 + EPOCH
        out.append(_property(Property.MTIME, fields.known_bits(known) + b"\0" + ticks.astype("<u8").tobytes()))
    attributes = np.array([row.attributes for row in rows], np.int64)
    out.append(_property(Property.WIN_ATTRIBUTES, b"\x01\0" + attributes.astype("<u4").tobytes()))
    return b"".join(out) + bytes([Property.END])


def _utf16(names: str) -> bytes:
    """Names in UTF-16. Bytes of a name that are no UTF-8 can't be kept there; they become the mark for such."""
    return names.encode("utf-8", "surrogateescape").decode("utf-8", "replace").encode("utf-16-le")
