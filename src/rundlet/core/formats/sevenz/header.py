"""The header of a 7z archive, read into columns."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from rundlet.core.errors import Corrupt, LimitExceeded, Truncated, Unsupported
from rundlet.core.formats.sevenz.fields import I64, Bits, FieldReader, Ticks
from rundlet.core.formats.sevenz.records import EPOCH, BindPair, Coder, CoderFlag, Folder, Property
from rundlet.core.model.catalog import NameTable
from rundlet.core.model.entry import NO_TIME

_MOST_CODERS = 32
_MOST_STREAMS = 32
_NANOSECONDS = 100
_TIMES = {Property.CTIME, Property.ATIME, Property.MTIME}


def _none() -> I64:
    return np.zeros(0, np.int64)


@dataclass(slots=True)
class Streams:
    """Packed streams, the folders that they feed, and the files that these hold.

    Attributes:
        pack_at, pack_size, pack_crc: place (from the end of the signature header), bytes and CRC-32 of each packed
            stream; -1 for a CRC that is not stated, here and below.
        folders: one for each solid block; equal ones are one object.
        first_pack: the first packed stream of each folder.
        sizes, first_size: bytes that come out of each coder output, and where those of a folder begin.
        folder_crc: of the plain stream of each folder.
        num_files: how many files each folder holds.
        file_size, file_crc: of the files of all folders, in their order.
    """

    pack_at: I64 = field(default_factory=_none)
    pack_size: I64 = field(default_factory=_none)
    pack_crc: I64 = field(default_factory=_none)
    folders: list[Folder] = field(default_factory=list)
    first_pack: I64 = field(default_factory=_none)
    sizes: I64 = field(default_factory=_none)
    first_size: I64 = field(default_factory=_none)
    folder_crc: I64 = field(default_factory=_none)
    num_files: I64 = field(default_factory=_none)
    file_size: I64 = field(default_factory=_none)
    file_crc: I64 = field(default_factory=_none)

    def unpack_size(self, folder: int) -> int:
        """Bytes of the plain stream of a folder."""
        return int(self.sizes[self.first_size[folder] + self.folders[folder].main_output])

    def output_sizes(self, folder: int) -> list[int]:
        """Bytes that come out of each output of a folder's coders."""
        first = int(self.first_size[folder])
        sizes: list[int] = self.sizes[first : first + self.folders[folder].num_out_streams].tolist()
        return sizes


@dataclass(slots=True)
class Header:
    """All that a header says.

    Attributes:
        names: as the archive has them, but in UTF-8.
        has_stream, is_empty_file, is_anti: of each file; the second and third only mean something without a stream.
        mtime_ns: as in a catalog.
        attributes: 0 where there are none.
        kept: for times and start positions, which files have one and what it is, as the archive has it.
        unknown: what else is said of the files, by its ID, as it stands there.
        elsewhere: whether something that is said of the files does not stand in the header.
        archive_properties: what is said of the archive as a whole, as it stands there.
    """

    streams: Streams
    names: NameTable
    has_stream: Bits
    is_empty_file: Bits
    is_anti: Bits
    mtime_ns: I64
    attributes: I64
    kept: dict[Property, tuple[Bits, Ticks]] = field(default_factory=dict)
    unknown: list[tuple[int, bytes]] = field(default_factory=list)
    elsewhere: bool = False
    archive_properties: bytes = b""


_MOST_UNNAMED = 10_000


def read_header(data: bytes) -> Header:
    """Read a plain header ("Header" of the description), its ID included.

    Raises:
        Truncated, Corrupt: when it contradicts the description.
        Unsupported: when parts of it stand elsewhere.
    """
    fields = FieldReader(data)
    if fields.byte() != Property.HEADER:
        raise Corrupt("Its file list begins with something unknown.")
    streams = Streams()
    header = _no_files()
    properties = b""
    last = int(Property.HEADER)
    while (kind := fields.number()) != Property.END:
        last = _behind(last, kind)
        if kind == Property.ARCHIVE_PROPERTIES:
            begin = fields.at
            while fields.number() != Property.END:
                fields.take(fields.number())
            properties = data[begin : fields.at]
        elif kind == Property.ADDITIONAL_STREAMS_INFO:
            read_streams(fields)
        elif kind == Property.MAIN_STREAMS_INFO:
            streams = read_streams(fields)
        elif kind == Property.FILES_INFO:
            header = _files(fields)
        else:
            raise Corrupt("Its file list has a part of an unknown kind.")
    header.streams, header.archive_properties = streams, properties
    if int(header.has_stream.sum()) != len(streams.file_size):
        raise Corrupt("Its file list lists other files than its data has.")
    return header


def _behind(last: int, kind: int) -> int:
    """The kind of a part, which must be none that stands before the last one: the description fixes their order.

    Raises:
        Corrupt: when it is.
    """
    if kind <= last:
        raise Corrupt("Its file list has its parts in the wrong order, or one of them twice.")
    return kind


def read_streams(fields: FieldReader) -> Streams:
    """Read a "Streams Info"; raises as :func:`read_header`."""
    streams = Streams()
    split = False
    last = int(Property.FILES_INFO)
    while (kind := fields.number()) != Property.END:
        last = _behind(last, kind)
        if kind == Property.PACK_INFO:
            _pack_info(fields, streams)
        elif kind == Property.UNPACK_INFO:
            _unpack_info(fields, streams)
        elif kind == Property.SUBSTREAMS_INFO:
            _substreams_info(fields, streams)
            split = True
        else:
            raise Corrupt("Its file list has a part of an unknown kind.")
    if not split:
        streams.num_files = np.ones(len(streams.folders), np.int64)
        streams.file_size = _plain_sizes(streams)
        streams.file_crc = streams.folder_crc
    return streams


def _pack_info(fields: FieldReader, streams: Streams) -> None:
    position = fields.number()
    count = fields.number()
    sizes, crcs = np.zeros(0, np.int64), None
    while (kind := fields.number()) != Property.END:
        if kind == Property.SIZE:
            sizes = fields.numbers(count)
        elif kind == Property.CRC:
            crcs = fields.digests(count)
        else:
            raise Corrupt("Its file list has a part of an unknown kind.")
    if len(sizes) != count:
        raise Corrupt("Its file list does not say how large its data is.")
    streams.pack_size = sizes
    streams.pack_at = position + _begins(sizes)
    streams.pack_crc = crcs if crcs is not None else np.full(count, -1, np.int64)


def _begins(sizes: I64) -> I64:
    """Where each of some stretches begins when they stand end to end.

    Raises:
        Corrupt: when they are larger together than any file can be.
    """
    if float(sizes.sum(dtype=np.float64)) >= 2.0**62:
        raise Corrupt("Its file list has sizes beyond all bounds.")
    return np.cumsum(sizes) - sizes


def _unpack_info(fields: FieldReader, streams: Streams) -> None:
    if fields.number() != Property.FOLDER:
        raise Corrupt("Its file list has a part of an unknown kind.")
    count = fields.number()
    if count > fields.left:
        raise Truncated("Its file list ends too early.")
    if fields.byte():
        raise Unsupported("Parts of its file list stand elsewhere, which Rundlet does not read.")
    while len(streams.folders) < count:
        begin = fields.at
        folder = _folder(fields)
        streams.folders.append(folder)
        end = fields.at
        while len(streams.folders) < count and fields.same(begin, end):
            streams.folders.append(folder)  # most archives have the same coders throughout
    outputs = np.array([folder.num_out_streams for folder in streams.folders], np.int64)
    packed = np.array([len(folder.packed) for folder in streams.folders], np.int64)
    streams.first_size = np.cumsum(outputs) - outputs
    streams.first_pack = np.cumsum(packed) - packed
    streams.folder_crc = np.full(count, -1, np.int64)
    if int(packed.sum()) > len(streams.pack_size):
        raise Corrupt("Its file list names more data than there is.")
    if fields.number() != Property.CODERS_UNPACK_SIZE:
        raise Corrupt("Its file list does not say how large its content is.")
    streams.sizes = fields.numbers(int(outputs.sum()))
    while (kind := fields.number()) != Property.END:
        if kind != Property.CRC:
            raise Corrupt("Its file list has a part of an unknown kind.")
        streams.folder_crc = fields.digests(count)


def _folder(fields: FieldReader) -> Folder:
    count = fields.number()
    if not 1 <= count <= _MOST_CODERS:
        raise Corrupt("Its file list has a block without coders, or with too many.")
    coders = tuple(_coder(fields) for _ in range(count))
    inputs = sum(coder.num_in_streams for coder in coders)
    outputs = sum(coder.num_out_streams for coder in coders)
    if outputs - 1 > inputs or not outputs:
        raise Corrupt("Its file list has coders that do not fit together.")
    pairs = tuple(BindPair(fields.number(), fields.number()) for _ in range(outputs - 1))
    bound = {pair.in_index for pair in pairs}
    free = inputs - len(pairs)
    packed = tuple(i for i in range(inputs) if i not in bound)
    if free > 1:
        packed = tuple(fields.number() for _ in range(free))
    fits = (
        len(bound) == len({pair.out_index for pair in pairs}) == len(pairs)
        and all(pair.in_index < inputs and pair.out_index < outputs for pair in pairs)
        and len(packed) == len(set(packed)) == free
        and not bound & set(packed)
        and all(index < inputs for index in packed)
    )
    if not fits:
        raise Corrupt("Its file list has coders that do not fit together.")
    return Folder(coders, pairs, packed)


def _coder(fields: FieldReader) -> Coder:
    flags = fields.byte()
    if flags & CoderFlag.RESERVED:
        raise Corrupt("Its file list has a coder of an unknown kind.")
    method = fields.take(flags & CoderFlag.ID_SIZE)
    inputs = outputs = 1
    if flags & CoderFlag.COMPLEX:
        inputs, outputs = fields.number(), fields.number()
        if not (1 <= inputs <= _MOST_STREAMS and outputs == 1):
            raise Corrupt("Its file list has a coder with too many streams.")
    properties = fields.take(fields.number()) if flags & CoderFlag.PROPERTIES else b""
    return Coder(method, inputs, outputs, properties)


def _plain_sizes(streams: Streams) -> I64:
    mains = np.array([folder.main_output for folder in streams.folders], np.int64)
    return streams.sizes[streams.first_size + mains] if len(mains) else np.zeros(0, np.int64)


def _substreams_info(fields: FieldReader, streams: Streams) -> None:
    folders = len(streams.folders)
    counts = np.ones(folders, np.int64)
    plain = _plain_sizes(streams)
    kind = fields.number()
    if kind == Property.NUM_UNPACK_STREAM:
        counts = fields.numbers(folders)
        kind = fields.number()
    if float(counts.sum(dtype=np.float64)) > fields.left + folders:
        raise Truncated("Its file list ends too early.")
    sizes = np.zeros(int(counts.sum()), np.int64)
    last = np.cumsum(counts) - 1
    filled = counts > 0
    stated = np.ones(len(sizes), np.bool_)
    stated[last[filled]] = False
    if kind == Property.SIZE:
        sizes[stated] = fields.numbers(int(stated.sum()))
        kind = fields.number()
    elif stated.any():
        raise Corrupt("Its file list does not say how large its files are.")
    if len(sizes):
        if float(sizes.sum(dtype=np.float64)) >= 2.0**62:
            raise Corrupt("Its file list has sizes beyond all bounds.")
        sums = np.add.reduceat(sizes, (last - counts + 1)[filled])
        sizes[last[filled]] = plain[filled] - sums
        if int(sizes.min()) < 0:
            raise Corrupt("Its file list has files larger than the block that they are in.")
    crcs = np.full(len(sizes), -1, np.int64)
    alone = (counts == 1) & (streams.folder_crc >= 0)
    crcs[last[alone]] = streams.folder_crc[alone]
    unknown = np.ones(len(sizes), np.bool_)
    unknown[last[alone]] = False
    while kind != Property.END:
        if kind != Property.CRC:
            raise Corrupt("Its file list has a part of an unknown kind.")
        crcs[unknown] = fields.digests(int(unknown.sum()))
        kind = fields.number()
    streams.num_files, streams.file_size, streams.file_crc = counts, sizes, crcs


def _no_files(count: int = 0) -> Header:
    return Header(
        streams=Streams(),
        names=NameTable(b"", np.zeros(count + 1, np.int64)),
        has_stream=np.ones(count, np.bool_),
        is_empty_file=np.zeros(count, np.bool_),
        is_anti=np.zeros(count, np.bool_),
        mtime_ns=np.full(count, NO_TIME, np.int64),
        attributes=np.zeros(count, np.int64),
    )


def _files(fields: FieldReader) -> Header:
    """Read a "Files Info"."""
    count = fields.number()
    if count > 8 * fields.left:
        raise LimitExceeded("Its file list says that it has more files than it could list.")
    header = _no_files(count)
    named = False
    while (kind := fields.number()) != Property.END:
        part = fields.part(fields.number())
        if kind == Property.EMPTY_STREAM:
            header.has_stream = ~part.bits(count)
        elif kind == Property.EMPTY_FILE:
            header.is_empty_file[~header.has_stream] = part.bits(int((~header.has_stream).sum()))
        elif kind == Property.ANTI:
            header.is_anti[~header.has_stream] = part.bits(int((~header.has_stream).sum()))
        elif kind == Property.NAME:
            header.names = _names(_inside(part), count)
            named = True
        elif kind == Property.MTIME:
            known = part.known_bits(count)
            ticks = _inside(part).array("<u8", int(known.sum()))
            header.mtime_ns[known] = _nanoseconds(ticks)
            header.kept[Property.MTIME] = known, _spread(known, ticks)
        elif kind in (Property.CTIME, Property.ATIME, Property.START_POS):
            known = part.known_bits(count)
            if part.byte():
                header.elsewhere = True
            else:
                header.kept[Property(kind)] = known, _spread(known, part.array("<u8", int(known.sum())))
        elif kind == Property.WIN_ATTRIBUTES:
            known = part.known_bits(count)
            header.attributes[known] = _inside(part).array("<u4", int(known.sum()))
        elif kind != Property.DUMMY:
            header.unknown.append((kind, part.take(part.left)))
    if not named and count > 1:
        raise Corrupt("Its file list has no names.")
    return header


def _spread(known: Bits, values: np.ndarray[tuple[int, ...], np.dtype[np.generic]]) -> Ticks:
    """Values at the places that have one."""
    column = np.zeros(len(known), np.uint64)
    column[known] = values.astype(np.uint64)
    return column


def _inside(part: FieldReader) -> FieldReader:
    """A property whose values stand in it and not in a stream of their own."""
    if part.byte():
        raise Unsupported("Parts of its file list stand elsewhere, which Rundlet does not read.")
    return part


def _names(part: FieldReader, count: int) -> NameTable:
    """Names in UTF-16, each ended by a NUL."""
    data = part.take(part.left & ~1)
    octets = np.frombuffer(data.decode("utf-16-le", "replace").encode("utf-8"), np.uint8)
    ends = np.flatnonzero(octets == 0)
    if len(ends) < count or (count and int(ends[count - 1]) + 1 != len(octets)) or len(ends) > count:
        raise Corrupt("Its file list has other names than files.")
    starts = np.concatenate(([0], ends + 1)) - np.arange(count + 1)
    unnamed = int((np.diff(starts) == 0).sum())
    if unnamed > _MOST_UNNAMED:  # a few bytes can claim millions
        raise Corrupt("Its file list has files without names.")
    if count > 1 and unnamed > 1:
        return _numbered(NameTable(octets[octets != 0].tobytes(), starts))
    return NameTable(octets[octets != 0].tobytes(), starts)


def _numbered(names: NameTable) -> NameTable:
    """Names with a numbered one for each of several files that have none."""
    raw = names.all_raw()
    taken, number = set(raw), 0
    for row, name in enumerate(raw):
        while not name:
            number += 1
            name = b"unnamed %d" % number
            name = b"" if name in taken else name
        raw[row] = name
    return NameTable.of(raw)


def _nanoseconds(times: np.ndarray[tuple[int, ...], np.dtype[np.generic]]) -> I64:
    """Times in nanoseconds since 1970; those that 64 bits can't hold count as not kept."""
    ticks = times.astype(np.uint64)
    far = ticks > np.uint64(2 * EPOCH)
    since = np.where(far, np.uint64(EPOCH), ticks).astype(np.int64) - EPOCH
    near = ~far & (np.abs(since) < (1 << 63) // _NANOSECONDS)
    return np.where(near, np.where(near, since, 0) * _NANOSECONDS, NO_TIME)
