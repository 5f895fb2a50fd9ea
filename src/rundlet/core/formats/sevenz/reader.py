"""Reading 7z archives."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from rundlet.core.codecs.base import checked
from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import (
    Corrupt,
    FormatError,
    LimitExceeded,
    MissingPart,
    PasswordNeeded,
    RundletError,
    Truncated,
    WrongPassword,
)
from rundlet.core.formats.base import ArchiveReader, Unit
from rundlet.core.formats.passwords import spellings
from rundlet.core.formats.sevenz.fields import FieldReader
from rundlet.core.formats.sevenz.header import Header, Streams, read_header, read_streams
from rundlet.core.formats.sevenz.lost_header import PackedHeader, PlainHeader, headers_at_end
from rundlet.core.formats.sevenz.records import HEAD_SIZE, UNIX_EXTENSION, Attribute, Folder, Property, SignatureHeader
from rundlet.core.formats.sevenz.solid_blocks import Block, Keys, exactly
from rundlet.core.jobs.findings import Issue, Reason, cause_of, issue
from rundlet.core.limits import MIB
from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.streams.exact import read_exactly
from rundlet.core.streams.feed import Feed, SourceFeed
from rundlet.core.streams.sources import ByteSource, SliceSource

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.edits import Edits
    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.model.opening import Opening

_MOST_NESTED = 4
_MOST_HEADERS = 30  # that are unpacked to find out whether they are the one
_HEADER_AT_LEAST = 32 * MIB
_HEADER_RATIO = 1000  # bytes that a packed one may unpack to for each of its own; real ones stay below a hundred
_TRIED = 4 * MIB  # bytes decoded to find out whether a password is right
_WORTH_A_UNIT = 8 * MIB
_ROWS_IN_A_UNIT = 256
_LINK = 0o120000
_KIND_BITS = 0o170000
_FOLDER_BITS = 0o040000
_FILE_BITS = 0o100000


class AntiItem(NamedTuple):
    """What only says that a file or folder is to be taken away where the archive is unpacked over it."""

    path: str
    is_file: bool
    attributes: int
    times: dict[Property, int]
    original_row: int


class SevenReader(ArchiveReader):
    """An open 7z archive.

    Args:
        source: begins with the signature header.

    Raises:
        FormatError: when its file list can't be read.
        PasswordNeeded, WrongPassword: when that is locked.
    """

    def __init__(self, source: ByteSource, info: FormatInfo, opening: Opening) -> None:
        self.info = info
        self.source = source
        self.notices: list[Issue] = []
        self._memory = opening.limits.memory_bytes
        self._keys = Keys()
        self.names_hidden = False
        self._shift = 0
        header = self._opened_header(opening)
        self.streams = header.streams
        self._shift = self._shift if len(header.streams.folders) else 0
        self.attributes = header.attributes
        self.kept, self.unknown = header.kept, header.unknown
        self.original_rows: NDArray[np.int64] = np.arange(len(header.has_stream))
        self.archive_properties = header.archive_properties
        if header.elsewhere:
            self.unkept = self.uncounted = (
                "{archive:name} can't be changed, as it holds information about its files that Rundlet can't read."
            )
        elif self.unknown:
            self.uncounted = (
                "{archive:name} can't be changed, as it holds information about its files that Rundlet can't keep."
            )
        self.anti: list[AntiItem] = []
        self.catalog = self._catalog(header)
        self._blocks: dict[int, Block] = {}
        self._rows_of: dict[int, list[int]] = {}
        if self._shift:
            self._find_blocks()

    # The file list

    def _opened_header(self, opening: Opening) -> Header:
        """The header, with the spelling of the password that opens it where it is locked."""
        words = spellings(opening.password) if opening.password is not None else []
        for word in words[:-1]:
            self._keys.take(word)
            try:
                return self._read_header(opening)
            except WrongPassword:
                self.notices.clear()
        if words:
            self._keys.take(words[-1])
        return self._read_header(opening)

    def _read_header(self, opening: Opening) -> Header:
        """The header where the archive says that it is, or else where headers stand as a rule."""
        try:
            return self._header_in_place(opening)
        except (Truncated, Corrupt) as error:
            self.notices.clear()
            with contextlib.suppress(MissingPart):
                for found in itertools.islice(headers_at_end(self.source, self._start_header()), _MOST_HEADERS):
                    header = self._taken(found, opening)
                    if header is not None:
                        self._shift = found.shift
                        self.notices.append(issue(self.source.name, Reason.LIST_AT_END, cause=cause_of(error)))
                        return header
            raise

    def _start_header(self) -> SignatureHeader | None:
        """What leads to the header, where it is not damaged itself."""
        try:
            return SignatureHeader.unpack(self.source.read_at(0, HEAD_SIZE))
        except FormatError:
            return None

    def _taken(self, found: PackedHeader | PlainHeader, opening: Opening) -> Header | None:
        """The header that was found, unless what was found is none."""
        if isinstance(found, PlainHeader):
            return found.header
        try:
            data = self._unpacked_header(found.streams, opening)
            for _ in range(_MOST_NESTED):
                if data[:1] != bytes([Property.ENCODED_HEADER]):
                    return read_header(data)
                data = self._decoded_header(data[1:], opening)
        except PasswordNeeded:
            raise
        except (FormatError, LimitExceeded, MissingPart):
            pass
        return None

    def _find_blocks(self) -> None:
        """Some bytes are missing in front of the header, or too many: blocks behind that place stand elsewhere, too."""
        for folder in range(len(self.streams.folders)):
            rows = self.rows_of(folder)
            if not rows or self._is_readable(rows[0]):
                continue
            first = int(self.streams.first_pack[folder])
            places = slice(first, first + len(self.streams.folders[folder].packed))
            for shift in (self._shift, -self._shift):
                self.streams.pack_at[places] += shift
                self._blocks.pop(folder, None)
                if shift == self._shift and self._is_readable(rows[0]):
                    break
            else:  # it is damaged itself, and may seem to reach over the end
                left = np.maximum(self.source.size - HEAD_SIZE - self.streams.pack_at[places], 0)
                self.streams.pack_size[places] = np.minimum(self.streams.pack_size[places], left)
                self.streams.pack_at[places] = np.minimum(
                    self.streams.pack_at[places], self.source.size - HEAD_SIZE - self.streams.pack_size[places]
                )

    def _is_readable(self, row: int) -> bool:
        try:
            return self._opens(row)
        except RundletError:
            return False

    def _header_in_place(self, opening: Opening) -> Header:
        start = SignatureHeader.unpack(self.source.read_at(0, HEAD_SIZE))
        if not start.next_header_size:
            return read_header(bytes([Property.HEADER, Property.END]))
        if start.next_header_size > opening.limits.directory_bytes:
            raise LimitExceeded(
                "The file list of {archive:name} takes {count:number} bytes, more than Rundlet reads.",
                archive=self.source.name,
                count=start.next_header_size,
            )
        at = HEAD_SIZE + start.next_header_offset
        end = at + start.next_header_size
        if end > self.source.size:
            raise Truncated(
                "{archive:name} is cut off: {missing:byte is|bytes are} missing, and its file list with them.",
                hint="Fetch the rest of it, or use repair data if there is any.",
                archive=self.source.name,
                missing=end - self.source.size,
            )
        if end < self.source.size:
            self.notices.append(issue(self.source.name, Reason.JUNK_BEHIND, count=self.source.size - end))
        data = read_exactly(self.source, at, start.next_header_size)
        if crc32(data) != start.next_header_crc:
            raise Corrupt("The file list of {archive:name} is damaged.", offset=at, archive=self.source.name)
        try:
            for _ in range(_MOST_NESTED):
                if data[:1] != bytes([Property.ENCODED_HEADER]):
                    return read_header(data)
                data = self._decoded_header(data[1:], opening)
        except PasswordNeeded:
            raise
        except FormatError as error:
            raise type(error)(
                "{archive:name} can't be read. {cause}", archive=self.source.name, cause=error.sentence
            ) from error
        raise Corrupt("The file list of {archive:name} is packed within itself too often.", archive=self.source.name)

    def _decoded_header(self, data: bytes, opening: Opening) -> bytes:
        """The header that stands packed, and perhaps locked, in the archive."""
        return self._unpacked_header(read_streams(FieldReader(data)), opening)

    def _unpacked_header(self, streams: Streams, opening: Opening) -> bytes:
        if len(streams.folders) != 1:
            raise Corrupt("Its file list is not where it should be.")
        size = streams.unpack_size(0)
        packed = int(streams.pack_size.sum())
        if size > min(opening.limits.directory_bytes, _HEADER_AT_LEAST + _HEADER_RATIO * packed):
            raise LimitExceeded(
                "The file list of {archive:name} takes more memory than Rundlet gives it.", archive=self.source.name
            )
        block = self._make_block(streams, 0)
        if block.locked and self._keys.password is None:
            raise PasswordNeeded(
                "{archive:name} is locked with a password, the names in it too.",
                archive=self.source.name,
                hint="Give its password.",
            )
        try:
            plain = b"".join(exactly(block.plain(), size))
            fits = int(streams.folder_crc[0]) in (UNKNOWN, crc32(plain)) and (
                not block.locked or plain[:1] in b"\x01\x17"
            )
        except LimitExceeded:
            if not block.locked:
                raise
            fits = False
        except FormatError:
            if not block.locked:
                raise
            fits = False
        if not fits and block.locked:
            raise WrongPassword("The password does not open {archive:name}.", archive=self.source.name)
        if not fits:
            raise Corrupt("Its file list is damaged.")
        if block.locked:
            self.names_hidden = self.unlocked = True
        return plain

    def _catalog(self, header: Header) -> Catalog:
        """The entries, without those that only say that a file is to be taken away."""
        streams = header.streams
        count = len(header.has_stream)
        size = np.zeros(count, np.int64)
        crc = np.full(count, UNKNOWN, np.int64)
        size[header.has_stream] = streams.file_size
        crc[header.has_stream] = streams.file_crc
        folder_of = np.repeat(np.arange(len(streams.folders)), streams.num_files)
        before = np.cumsum(streams.file_size) - streams.file_size
        firsts = np.cumsum(streams.num_files) - streams.num_files
        starts = (
            np.append(before, 0)[np.minimum(firsts, len(before))] if len(before) else np.zeros(len(firsts), np.int64)
        )
        block = np.full(count, -1, np.int64)
        offset = np.zeros(count, np.int64)
        block[header.has_stream] = folder_of
        offset[header.has_stream] = before - starts[folder_of] if len(folder_of) else 0
        locked = np.array([_is_locked(folder) for folder in streams.folders], np.bool_)
        packed = np.where(header.has_stream, UNKNOWN, 0)
        alone = np.flatnonzero(streams.num_files == 1)
        if len(alone):
            last = np.append(streams.first_pack[1:], len(streams.pack_size))
            sums = np.append(0, np.cumsum(streams.pack_size))
            rows = np.flatnonzero(header.has_stream)[firsts[alone]]
            packed[rows] = (sums[last] - sums[streams.first_pack])[alone]
        names = header.names
        if not any(names.starts) and count == 1:
            names = NameTable.of([_stem(self.source.name)])
        kinds, modes = _kinds(header)
        catalog = Catalog(
            names=_slashes(names, header),
            kind=kinds,
            size=size,
            packed=packed,
            mtime_ns=header.mtime_ns,
            mode=modes,
            crc=crc,
            encrypted=np.append(locked, False)[block],
        )
        anti = header.is_anti & ~header.has_stream
        if anti.any():
            kept = np.flatnonzero(~anti)
            self.notices.append(issue(self.source.name, Reason.ANTI_ITEMS, count=int(anti.sum())))
            for row in np.flatnonzero(anti).tolist():
                is_file, attributes = bool(header.is_empty_file[row]), int(self.attributes[row])
                self.anti.append(AntiItem(catalog.path(row), is_file, attributes, self.times(row), row))
            self.original_rows = kept
            catalog, block, offset = _some(catalog, kept), block[kept], offset[kept]
            self.attributes = self.attributes[kept]
            self.kept = {kind: (known[kept], ticks[kept]) for kind, (known, ticks) in self.kept.items()}
        self._block_of, self._offset = block, offset
        return catalog

    def times(self, row: int) -> dict[Property, int]:
        """The times of an entry and its start position, as far as the archive keeps them, in its own units."""
        return {kind: int(ticks[row]) for kind, (known, ticks) in self.kept.items() if known[row]}

    # Entries

    def _make_block(self, streams: Streams, folder: int) -> Block:
        coders = streams.folders[folder]
        first = int(streams.first_pack[folder])
        packed = [
            SliceSource(self.source, HEAD_SIZE + int(streams.pack_at[i]), int(streams.pack_size[i]))
            for i in range(first, first + len(coders.packed))
        ]
        return Block(coders, streams.output_sizes(folder), packed, self._keys, self._memory)

    def block_of(self, row: int) -> int:
        """The solid block that an entry with content is in."""
        return int(self._block_of[row])

    def rows_of(self, folder: int) -> list[int]:
        """The entries of one solid block, in its order; of -1, those without content."""
        if not self._rows_of:
            order = np.argsort(self._block_of, kind="stable")
            folders, begins = np.unique(self._block_of[order], return_index=True)
            rows = np.split(order, begins[1:])
            self._rows_of = {int(f): r.tolist() for f, r in zip(folders, rows, strict=True)}
        return self._rows_of.get(folder, [])

    def raw_range(self, row: int) -> tuple[int, int] | None:
        folder = self.block_of(row)
        if folder < 0:
            return None
        first = int(self.streams.first_pack[folder])
        last = first + len(self.streams.folders[folder].packed) - 1
        begin, end = HEAD_SIZE + int(self.streams.pack_at[first]), HEAD_SIZE + int(self.streams.pack_at[last])
        return begin, end + int(self.streams.pack_size[last])

    def strays(self) -> int:
        order = np.argsort(self.streams.pack_at, kind="stable")
        begins, ends = self.streams.pack_at[order], (self.streams.pack_at + self.streams.pack_size)[order]
        between = begins - np.append(0, np.maximum.accumulate(ends)[:-1]) if len(ends) else np.zeros(0, np.int64)
        return int(np.maximum(between, 0).sum())

    def packed_again(self, edits: Edits) -> int:
        total = 0
        for folder in {self.block_of(row) for row in edits.removed} - {-1}:
            kept = [row for row in self.rows_of(folder) if row not in edits.removed]
            total += int(self.catalog.size[kept].sum())
        return total

    def block(self, folder: int) -> Block:
        """One solid block."""
        if folder not in self._blocks:
            self._blocks[folder] = self._make_block(self.streams, folder)
        return self._blocks[folder]

    def unlock(self, password: str) -> None:
        locked = np.flatnonzero(self.catalog.encrypted & (self.catalog.size > 0))
        for word in spellings(password):
            self._keys.take(word)
            if not len(locked) or self.names_hidden:
                break
            # The entry that is the quickest to read to its end, where its checksum stands.
            row = int(locked[np.argmin((self._offset + self.catalog.size)[locked])])
            if self._opens(row):
                break
            self._keys.drop()
            self._blocks.clear()
        else:
            raise WrongPassword("The password does not open {archive:name}.", archive=self.source.name)
        self.unlocked = True

    def _opens(self, row: int) -> bool:
        """Whether an entry can be decoded, as far as a few megabytes tell."""
        left = _TRIED
        try:
            feed = self.feed(self.block_of(row), 0, self.end_of(row))
            feed.skip(min(int(self._offset[row]), left))
            left -= int(self._offset[row])
            if left <= 0:
                return True
            for data in self.content(row, feed):
                left -= len(data)
                if left <= 0:
                    break
        except LimitExceeded:
            return True
        except FormatError:
            return False
        return True

    def feed(self, folder: int, segment: int, until: int) -> Feed:
        """The plain bytes of a block from one of its segments on; those behind ``until`` need not be there."""
        block = self.block(folder)
        source = block.as_source()
        if source is not None:
            return SourceFeed(source)
        segments = block.segments()
        start = segments[segment].at if segments else 0
        end = min(until, block.size)
        return Feed(exactly(block.plain(segment, end), end - start), start)

    def end_of(self, row: int) -> int:
        """Where an entry ends in the plain bytes of its block."""
        return int(self._offset[row] + self.catalog.size[row])

    def content(self, row: int, feed: Feed) -> Iterator[bytes]:
        """One entry out of a feed that stands before it, compared with its checksum."""
        feed.skip(int(self._offset[row]) - feed.position)
        size, crc = self.catalog.size.item(row), self.catalog.crc.item(row)
        return checked(feed.chunks(size), size, None if crc == UNKNOWN else crc)

    def segment_of(self, row: int) -> int:
        """The last segment of its block that begins at or before an entry."""
        return self.segment_at(self.block_of(row), int(self._offset[row]))

    def segment_at(self, folder: int, place: int) -> int:
        """The segment that a place in a block's plain bytes is in."""
        starts = [segment.at for segment in self.block(folder).segments()]
        return max(int(np.searchsorted(starts, place, side="right")) - 1, 0)

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        empty = rows[self._block_of[rows] < 0]
        if len(empty):
            yield EmptyUnit(empty.tolist())
        filled = rows[self._block_of[rows] >= 0]
        order = np.lexsort((self._offset[filled], self._block_of[filled]))
        filled = filled[order]
        bounds = np.flatnonzero(np.diff(self._block_of[filled])) + 1
        for group in np.split(filled, bounds):
            if len(group):
                yield from self._block_units(group)

    def _block_units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        """The wanted entries of one block, in stretches that are worth a core of their own."""
        folder = int(self._block_of[rows[0]])
        ends = self._offset[rows] + self.catalog.size[rows]
        starts = self._starts(folder)
        if starts is None:  # a place like any other: each entry can be read where it is
            for begin in range(0, len(rows), _ROWS_IN_A_UNIT):
                part = rows[begin : begin + _ROWS_IN_A_UNIT]
                yield SevenUnit(self, part.tolist(), int(self.catalog.size[part].sum()))
            return
        at = np.array(starts, np.int64)[np.maximum(np.searchsorted(starts, self._offset[rows], side="right") - 1, 0)]
        begin = 0
        for i in range(1, len(rows) + 1):
            if i == len(rows) or at[i] - at[begin] >= _WORTH_A_UNIT:
                yield SevenUnit(self, rows[begin:i].tolist(), int(ends[i - 1] - at[begin]))
                begin = i

    def _starts(self, folder: int) -> list[int] | None:
        """Where decoding of a block can begin; None when that is everywhere."""
        block = self.block(folder)
        try:
            if block.as_source() is not None:
                return None
            return [segment.at for segment in block.segments()] or [0]
        except RundletError:
            return [0]  # what is wrong is said of the entries

    def read_through(self, rows: NDArray[np.int64]) -> int:
        wanted = int(np.maximum(self.catalog.size[rows], 0).sum())
        return max(sum(unit.cost for unit in self.units(rows)) - wanted, 0)


class EmptyUnit:
    """Entries without content."""

    cost = 0

    def __init__(self, rows: Sequence[int]) -> None:
        self.rows = rows

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        for row in self.rows:
            yield row, iter(())


class SevenUnit:
    """Entries of one block that are decoded one after the other."""

    def __init__(self, reader: SevenReader, rows: Sequence[int], cost: int) -> None:
        self._reader = reader
        self.rows = rows
        self.cost = cost

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        current = _Current(self._reader, self._reader.end_of(self.rows[-1]))
        for row in self.rows:
            yield row, current.content(row)


class _Current:
    """The feed that a unit goes through. After a fault the next one begins at the nearest place behind it."""

    def __init__(self, reader: SevenReader, until: int) -> None:
        self._reader = reader
        self._until = until
        self._feed: Feed | None = None
        self._fault: RundletError | None = None
        self._bad = -1

    def content(self, row: int) -> Iterator[bytes]:
        """One entry; see :meth:`rundlet.core.formats.base.Unit.stream` for what it raises."""
        feed = self._feed_for(row)
        try:
            yield from self._reader.content(row, feed)
        except RundletError:
            if feed.fault is not None:
                self._fault = feed.fault
                self._bad = self._reader.segment_at(self._reader.block_of(row), feed.position)
            raise

    def _feed_for(self, row: int) -> Feed:
        reader = self._reader
        if self._feed is None or self._fault is not None:
            segment = reader.segment_of(row)
            if self._fault is not None and segment <= self._bad:
                raise Corrupt("The archive is damaged before it, within the same block.") from self._fault
            self._feed, self._fault = reader.feed(reader.block_of(row), segment, self._until), None
        return self._feed


def _is_locked(folder: Folder) -> bool:
    return any(coder.name == "aes" for coder in folder.coders)


def _stem(name: str) -> bytes:
    return name.rpartition(".")[0].encode("utf-8", "surrogateescape") or b"content"


def _kinds(header: Header) -> tuple[NDArray[np.uint8], NDArray[np.uint32]]:
    """Kinds and permissions, from the attributes' Unix half where there is one."""
    attributes = header.attributes
    unix = np.where(attributes & UNIX_EXTENSION, attributes >> 16 & 0xFFFF, 0)
    kinds = np.full(len(attributes), Kind.FILE, np.uint8)
    bits = unix & _KIND_BITS
    kinds[(bits != 0) & (bits != _FILE_BITS)] = Kind.OTHER
    kinds[(bits == _LINK) & header.has_stream] = Kind.LINK
    folders = ~header.has_stream & ~header.is_empty_file
    folders |= ~header.has_stream & ((attributes & Attribute.DIRECTORY != 0) | (bits == _FOLDER_BITS))
    kinds[folders] = Kind.DIR
    return kinds, (unix & 0o7777).astype(np.uint32)


def _slashes(names: NameTable, header: Header) -> NameTable:
    """Names with ``/`` between folders, also where another system wrote its own stroke, and behind those of none."""
    if b"\\" not in names.blob:
        return names
    foreign = header.attributes & UNIX_EXTENSION == 0
    if foreign.all():
        return NameTable(names.blob.replace(b"\\", b"/"), names.starts)
    rows = names.all_raw()
    return NameTable.of(
        [name.replace(b"\\", b"/") if other else name for name, other in zip(rows, foreign, strict=True)]
    )


def _some(catalog: Catalog, rows: NDArray[np.int64]) -> Catalog:
    """A few rows of a catalog."""
    names = catalog.names.all_raw()
    return Catalog(
        names=NameTable.of([names[row] for row in rows.tolist()]),
        kind=catalog.kind[rows],
        size=catalog.size[rows],
        packed=catalog.packed[rows],
        mtime_ns=catalog.mtime_ns[rows],
        mode=catalog.mode[rows],
        crc=catalog.crc[rows],
        encrypted=catalog.encrypted[rows],
    )
