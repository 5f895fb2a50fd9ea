"""Walking through a tar archive from header to header, collecting its entries in columns."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from rundlet.core.errors import Corrupt, FormatError, LimitExceeded, RundletError, Truncated
from rundlet.core.formats.base import NO_TIME, UNKNOWN, Catalog, Kind, NameTable
from rundlet.core.formats.tar.headers import (
    BLOCK,
    GNU,
    LINK,
    MAGIC_AT,
    MTIME,
    NAME,
    PREFIX,
    SIZE,
    TYPE,
    Type,
    checksums_fit,
    number,
    octal,
    pax_records,
    sparse_pairs,
    text,
)
from rundlet.core.limits import CHUNK, MIB
from rundlet.core.streams.sources import ByteSource

_WINDOW = 4 * MIB
_MOST_EXTENDED = 16 * MIB  # names and attributes of one entry; real ones are a few kB
_MOST_STRETCHES = 1 << 20
_NUMBERS = (b"size", b"mtime", b"GNU.sparse.realsize", b"GNU.sparse.size")
_PLAIN = frozenset(map(int, (Type.OLD_FILE, Type.FILE, Type.CONTIGUOUS, Type.FOLDER, Type.HARD, Type.SYMBOLIC)))
_NO_DATA = frozenset((Type.HARD, Type.SYMBOLIC, Type.CHARACTER, Type.DEVICE, Type.FOLDER, Type.PIPE))
_EMPTY = frozenset(map(int, _NO_DATA))
_KINDS = {
    Type.HARD: Kind.HARD,
    Type.SYMBOLIC: Kind.LINK,
    Type.CHARACTER: Kind.OTHER,
    Type.DEVICE: Kind.OTHER,
    Type.FOLDER: Kind.DIR,
    Type.PIPE: Kind.OTHER,
    Type.GNU_DUMP: Kind.DIR,
}
_KNOWN_TYPES = frozenset(map(int, Type))
_BILLION = 1_000_000_000
_FAR = 1 << 33  # seconds that still fit into 64 bits as nanoseconds: until the year 2242

Stretches = list[tuple[int, int]]


class Feed:
    """Exact reads from front to back over chunks; skipping reads and forgets."""

    def __init__(self, chunks: Iterator[bytes], start: int = 0) -> None:
        self._chunks = chunks
        self._buffer = b""
        self._at = 0
        self._fault: RundletError | None = None
        self.position = start

    def _next(self) -> bytes:
        """The next chunk, or nothing at the end. What once went wrong is said again to whoever asks later."""
        if self._fault is not None:
            raise self._fault
        try:
            return next(self._chunks, b"")
        except RundletError as error:
            self._fault = error
            raise

    def read(self, count: int) -> bytes:
        """The next ``count`` bytes, or fewer at the end."""
        end = self._at + count
        if end <= len(self._buffer):
            data = self._buffer[self._at : end]
            self._at = end
        else:
            pieces = [self._buffer[self._at :]]
            missing = count - len(pieces[0])
            self._buffer, self._at = b"", 0
            while missing > 0 and (chunk := self._next()):
                pieces.append(chunk[:missing])
                if len(chunk) > missing:
                    self._buffer, self._at = chunk, missing
                missing -= len(pieces[-1])
            data = b"".join(pieces)
        self.position += len(data)
        return data

    def window(self) -> tuple[bytes, int]:
        """What is in memory anyway, and where in it the next byte is: a whole header at least, but at the end."""
        while len(self._buffer) - self._at < BLOCK and (chunk := self._next()):
            self._buffer, self._at = self._buffer[self._at :] + chunk, 0
        return self._buffer, self._at

    def skip(self, count: int) -> None:
        """Leave out ``count`` bytes, or as many as there are."""
        inside = min(count, len(self._buffer) - self._at)
        self._at += inside
        self.position += inside
        count -= inside
        while count > 0 and (data := self.read(min(count, CHUNK))):
            count -= len(data)

    def chunks(self, count: int) -> Iterator[bytes]:
        """The next ``count`` bytes in chunks.

        Raises:
            Truncated: when they are not all there.
        """
        while count > 0:
            data = self.read(min(count, CHUNK))
            if not data:
                raise Truncated("The archive is cut off within it.")
            count -= len(data)
            yield data


class SourceFeed(Feed):
    """The same over a source, where skipping costs nothing."""

    def __init__(self, source: ByteSource, start: int = 0) -> None:
        super().__init__(iter(()), start)
        self._source = source

    def window(self) -> tuple[bytes, int]:
        if len(self._buffer) - self._at < BLOCK:
            self._buffer, self._at = self._source.read_at(self.position, _WINDOW), 0
        return self._buffer, self._at

    def read(self, count: int) -> bytes:
        end = self._at + count
        if end > len(self._buffer):
            self._buffer = self._source.read_at(self.position, max(count, CHUNK))
            self._at, end = 0, count
        data = self._buffer[self._at : end]
        self._at = end
        self.position += len(data)
        return data

    def skip(self, count: int) -> None:
        count = min(count, max(self._source.size - self.position, 0))
        self._at += count
        self.position += count
        if self._at > len(self._buffer):
            self._buffer, self._at = b"", 0


@dataclass(slots=True)
class Members:
    """The entries found so far, column by column; the index is the row.

    Attributes:
        data_at: where the data of each entry begins, in decoded bytes.
        stored: how many bytes of data it has in the archive.
        links: targets of links by row.
        sparse: stretches with data of sparse files by row; ``None`` when the map stands before the data.
        damaged: what ended the walk early, or "".
    """

    names: list[bytes] = field(default_factory=list)
    kind: list[int] = field(default_factory=list)
    size: list[int] = field(default_factory=list)
    mtime_ns: list[int] = field(default_factory=list)
    mode: list[int] = field(default_factory=list)
    data_at: list[int] = field(default_factory=list)
    stored: list[int] = field(default_factory=list)
    links: dict[int, bytes] = field(default_factory=dict)
    sparse: dict[int, Stretches | None] = field(default_factory=dict)
    damaged: str = ""

    def catalog(self, *, shared: bool, first: int = 0) -> Catalog:
        """As a catalog, from a row on; ``shared`` when entries have no packed size of their own."""
        count = len(self.names) - first
        stored = np.array(self.stored[first:], np.int64)
        return Catalog(
            names=NameTable.of(self.names[first:]),
            kind=np.array(self.kind[first:], np.uint8),
            size=np.array(self.size[first:], np.int64),
            packed=np.full(count, UNKNOWN, np.int64) if shared else stored,
            mtime_ns=np.array(self.mtime_ns[first:], np.int64),
            mode=np.array(self.mode[first:], np.uint32),
            crc=np.full(count, UNKNOWN, np.int64),
            encrypted=np.zeros(count, np.bool_),
        )


class Walker:
    """Walks a feed to its end.

    Args:
        feed: the decoded archive.
        tick: called now and then with the position and the number of entries; may raise to end the walk.
    """

    def __init__(self, feed: Feed, tick: Callable[[int, int], None]) -> None:
        self._feed = feed
        self._tick = tick
        self.members = Members()
        self._global: dict[bytes, bytes] = {}
        self._next: dict[bytes, bytes] = {}
        self._data: bytes = b""

    def walk(self) -> Members:
        """Find every entry. Damage ends the walk and is noted; what was found before it counts."""
        try:
            self._walk()
        except LimitExceeded:
            raise
        except FormatError as error:
            self.members.damaged = error.message
        return self.members

    def _walk(self) -> None:
        feed = self._feed
        while True:
            if self._next or self._global or not self._plain_run():
                block = feed.read(BLOCK)
                if len(block) < BLOCK:
                    if block.strip(b"\0"):
                        raise Truncated("It is cut off within a header.")
                    return
                if block[0] == 0 and not any(block):
                    if not any(feed.read(BLOCK)):
                        return
                    raise Corrupt("Something stands behind an empty header.")
                self._special(block, block[TYPE])
            self._tick(feed.position, len(self.members.names))

    def _plain_run(self) -> bool:
        """Take the entries without any extension that are in memory anyway; False when there is none.

        This is the inner loop of listing: only what is needed to find the next header is read here, the rest for all
        of them at once.
        """
        buffer, begin = self._feed.window()
        last, at = len(buffer) - BLOCK, begin
        places: list[int] = []
        stored: list[int] = []
        plain, empty = _PLAIN, _EMPTY
        while at <= last:
            kind = buffer[at + 156]
            if kind not in plain or not buffer[at]:
                break
            size = 0
            if kind not in empty:
                digits = buffer[at + 124 : at + 135]
                if buffer[at + 135] > 32 or not digits.isdigit():
                    break  # an unusual number: looked at with more care
                try:
                    size = int(digits, 8)
                except ValueError:
                    break
            places.append(at)
            stored.append(size)
            at += 512 + (size + 511 & -512)
        if not places:
            return False
        base = self._feed.position - begin
        self._collect(buffer, places, stored, base)
        end = base + places[-1] + BLOCK + stored[-1]
        self._feed.skip(at - begin)
        if self._feed.position < end:
            raise Truncated("It is cut off within the last entry.")
        return True

    def _collect(self, buffer: bytes, places: list[int], stored: list[int], base: int) -> None:
        """The columns for many plain headers at once; a wrong checksum ends the walk there."""
        m = self.members
        at = np.array(places, np.int64)
        table = np.frombuffer(b"".join([buffer[p : p + BLOCK] for p in places]), np.uint8).reshape(-1, BLOCK)
        fit = checksums_fit(table)
        good = len(at) if fit.all() else int(np.argmin(fit))
        table = table[:good]
        first = len(m.names)
        names, folder_like = _plain_names(table)
        types = table[:, TYPE]
        kinds = np.zeros(good, np.int64)
        for value, kind in _KINDS.items():
            kinds[types == value] = kind
        for i in np.flatnonzero((types == Type.HARD) | (types == Type.SYMBOLIC)).tolist():
            m.links[first + i] = text(table[i, LINK].tobytes())
        kinds[(kinds == Kind.FILE) & folder_like] = Kind.DIR  # the oldest writers had no type for folders
        times = octal(table[:, MTIME])
        for i in np.flatnonzero(table[:, MTIME.start] & 0x80).tolist():
            times[i] = number(table[i, MTIME].tobytes())
        near = np.abs(times) <= _FAR
        m.names += names
        m.kind += kinds.tolist()
        m.mtime_ns += np.where(near, np.where(near, times, 0) * _BILLION, NO_TIME).tolist()
        m.mode += (octal(table[:, 100:108]) & 0o7777).tolist()
        m.data_at += (at[:good] + base + BLOCK).tolist()
        m.stored += stored[:good]
        m.size += stored[:good]
        if good < len(at):
            raise Corrupt("A header is damaged.")

    def _skip_data(self, stored: int) -> None:
        before = self._feed.position
        whole = stored + -stored % BLOCK
        self._feed.skip(whole)
        if self._feed.position - before < stored:
            raise Truncated("It is cut off within the last entry.")

    def _special(self, block: bytes, kind: int) -> None:
        if not checksums_fit(np.frombuffer(block, np.uint8).reshape(1, BLOCK))[0]:
            raise Corrupt("A header is damaged.")
        if kind in (Type.EXTENDED, Type.SOLARIS, Type.GLOBAL, Type.GNU_NAME, Type.GNU_LINK):
            self._extension(block, kind)
        elif kind == Type.GNU_VOLUME:
            self._skip_data(number(block[SIZE]))
        else:
            self._extended_entry(block, kind)

    def _extension(self, block: bytes, kind: int) -> None:
        size = number(block[SIZE])
        if not 0 <= size <= _MOST_EXTENDED:
            raise LimitExceeded("A header says it has more attributes than Rundlet reads.")
        data = self._feed.read(size)
        if len(data) < size:
            raise Truncated("It is cut off within a header.")
        self._feed.skip(-size % BLOCK)
        if kind == Type.GNU_NAME:
            self._next[b"path"] = text(data)
        elif kind == Type.GNU_LINK:
            self._next[b"linkpath"] = text(data)
        elif kind == Type.GLOBAL:
            self._global.update(pax_records(data))
        else:
            self._next.update(pax_records(data))
            if b"GNU.sparse.offset" in self._next:  # format 0.0 repeats its keywords, so the last would hide the others
                self._data = _repeated(data)

    def _extended_entry(self, block: bytes, kind: int) -> None:
        """An entry with attributes in extended headers, or of a rare type."""
        records = {key: value for key, value in (self._global | self._next).items() if value}
        data, self._data = self._data, b""
        self._next = {}
        sizes = {key: _whole(records[key]) for key in _NUMBERS if key in records and key != b"mtime"}
        stored = 0 if kind in _NO_DATA else sizes.get(b"size", number(block[SIZE]))
        if stored < 0:
            raise Corrupt("A header has a size below nothing.")
        name = _utf8(records.get(b"GNU.sparse.name", records.get(b"path", _name(block))))
        entry_kind = _KINDS.get(Type(kind) if kind in _KNOWN_TYPES else Type.FILE, Kind.FILE)
        if entry_kind == Kind.FILE and name.endswith(b"/"):
            entry_kind = Kind.DIR
        mtime_ns = _nanoseconds(records[b"mtime"]) if b"mtime" in records else _in_reach(number(block[MTIME]))
        mode = number(block[100:108]) & 0o7777
        stretches: Stretches | None = []
        size = stored
        is_sparse = True
        if kind == Type.GNU_SPARSE:
            stretches, size = self._gnu_sparse(block)
        elif records.get(b"GNU.sparse.major") == b"1":
            stretches, size = None, sizes.get(b"GNU.sparse.realsize", stored)
        elif b"GNU.sparse.map" in records or data:
            stretches = sparse_pairs(records, data)
            size = sizes.get(b"GNU.sparse.size", sizes.get(b"GNU.sparse.realsize", stored))
        else:
            is_sparse = False
        # Nothing can fail any more, so that no column is longer than another.
        m = self.members
        row = len(m.names)
        if kind in (Type.HARD, Type.SYMBOLIC):
            m.links[row] = records.get(b"linkpath", text(block[LINK]))
        if is_sparse:
            m.sparse[row] = stretches
        m.names.append(name)
        m.kind.append(entry_kind)
        m.mtime_ns.append(mtime_ns)
        m.mode.append(mode)
        m.size.append(size)
        m.data_at.append(self._feed.position)
        m.stored.append(stored)
        self._skip_data(stored)

    def _gnu_sparse(self, block: bytes) -> tuple[Stretches, int]:
        """The map in a GNU sparse header and the blocks that continue it; also the file's real size."""
        pairs = _pairs(block[386:482])
        size, more = number(block[483:495]), block[482]
        while more:
            block = self._feed.read(BLOCK)
            if len(block) < BLOCK or len(pairs) > _MOST_STRETCHES:
                raise Corrupt("The map of a sparse file is damaged.")
            pairs += _pairs(block[:504])
            more = block[504]
        return pairs, size


def _plain_names(table: NDArray[np.uint8]) -> tuple[list[bytes], NDArray[np.bool_]]:
    """The paths of plain headers, those in two fields or not ASCII with more care, and which of them end in a slash."""
    field = np.ascontiguousarray(table[:, NAME])
    names: list[bytes] = field.view("S100").ravel().tolist()
    odd = (field >= 0x80).any(axis=1) | (table[:, PREFIX.start] != 0)
    ends = (field == 0).argmax(axis=1)
    ends[(field != 0).all(axis=1)] = NAME.stop
    lengths = np.fromiter(map(len, names), np.int64, len(names))
    odd |= lengths != ends  # something stands behind the NUL
    for i in np.flatnonzero(odd).tolist():
        names[i] = _name(table[i].tobytes())
    return names, field[np.arange(len(field)), np.maximum(ends - 1, 0)] == ord("/")


def _name(block: bytes) -> bytes:
    name = text(block[NAME])
    if block[PREFIX.start] and block[MAGIC_AT] != GNU and block[257:262] == b"ustar":
        name = text(block[PREFIX]) + b"/" + name
    return _utf8(name)


def _utf8(name: bytes) -> bytes:
    """A name as UTF-8; what is none is read as Latin-1, in which every byte is a character."""
    if name.isascii():
        return name
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return name.decode("latin-1").encode("utf-8")
    return name


def _pairs(data: bytes) -> Stretches:
    pairs = []
    for at in range(0, len(data) - 23, 24):
        if data[at] == 0:
            break
        pairs.append((number(data[at : at + 12]), number(data[at + 12 : at + 24])))
    return pairs


def _repeated(data: bytes) -> bytes:
    """The offsets and lengths of sparse format 0.0 in their order, as format 0.1 has them."""
    values = []
    at = 0
    while at < len(data) and (space := data.find(b" ", at)) > 0 and data[at:space].isdigit():
        end = at + int(data[at:space])
        key, _, value = data[space + 1 : end - 1].partition(b"=")
        if key in (b"GNU.sparse.offset", b"GNU.sparse.numbytes"):
            values.append(value)
        at = max(end, at + 1)
    return b",".join(values)


def _whole(value: bytes) -> int:
    if not value.isdigit() or len(value) > 18:
        raise Corrupt("An extended header has a number that is none.")
    return int(value)


def _in_reach(seconds: int) -> int:
    return seconds * _BILLION if abs(seconds) <= _FAR else NO_TIME


def _nanoseconds(value: bytes) -> int:
    whole, _, part = value.partition(b".")
    try:
        seconds = int(whole or b"0")
        fraction = int((part + b"0" * 9)[:9] or b"0")
    except ValueError:
        return NO_TIME
    if abs(seconds) > _FAR:
        return NO_TIME
    return seconds * _BILLION + (-fraction if whole.startswith(b"-") else fraction)
