"""Walking through a tar archive from header to header, collecting its entries in columns."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import Corrupt, FormatError, LimitExceeded, MissingPart, Truncated
from rundlet.core.formats.tar.headers import (
    BLOCK,
    GNU,
    LINK,
    MAGIC_AT,
    MODE,
    MTIME,
    NAME,
    PREFIX,
    SIZE,
    TYPE,
    USTAR,
    Type,
    checksums_fit,
    is_header,
    number,
    octal,
    pax_records,
    plain_sizes,
    sparse_pairs,
    text,
)
from rundlet.core.formats.tar.members import Members, Rows, Stretches
from rundlet.core.limits import MAX_FILE, MIB
from rundlet.core.model.catalog import NameTable
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.sentences import Sentence

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.streams.feed import Feed

_RECORD = 20 * BLOCK  # what an archive's end is filled up to
MOST_EXTENDED = 16 * MIB
"""Bytes of the names and attributes of one entry; real ones are a few kB."""
_MOST_STRETCHES = 1 << 20
_NUMBERS = (b"size", b"mtime", b"GNU.sparse.realsize", b"GNU.sparse.size")
NO_DATA = frozenset((Type.HARD, Type.SYMBOLIC, Type.CHARACTER, Type.DEVICE, Type.FOLDER, Type.PIPE))
"""Types of entries that have no data behind their headers."""
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
_PLACES = np.arange(NAME.stop)


def _table(types: Iterable[Type]) -> NDArray[np.bool_]:
    """Which of all type bytes are among some."""
    table = np.zeros(256, np.bool_)
    table[list(types)] = True
    return table


_PLAIN = _table((Type.OLD_FILE, Type.FILE, Type.CONTIGUOUS, Type.FOLDER, Type.HARD, Type.SYMBOLIC))
_EMPTY = _table(NO_DATA)
_KIND_OF = np.array(
    [_KINDS.get(Type(code) if code in _KNOWN_TYPES else Type.FILE, Kind.FILE) for code in range(256)], np.uint8
)
_BILLION = 1_000_000_000
_MOST_DIGITS = 18
_BEYOND = 1 << 40
_MOST_STARTS = 1000  # headers within an entry that are followed to find out whether it lost bytes
_FAR = 1 << 33  # seconds that still fit into 64 bits as nanoseconds: until the year 2242


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
        self._charted: bytes | None = None
        self._phase = 0
        self._blocks = np.empty((0, BLOCK), np.uint8)
        self._sizes = np.empty(0, np.int64)
        self._chart: list[int] = []
        self._looked_at = 0

    def walk(self) -> Members:
        """Find every entry. Damage is noted, and the walk goes on from the next header behind it, where there is one."""
        while True:
            try:
                self._walk()
                if self._feed.ends_within(_RECORD) or not self._find_header():
                    for (
                        _
                    ) in self._feed.rest():  # so that damage behind the last entry and junk behind the stream are seen
                        self._tick(self._feed.position, len(self.members))
                    return self.members
                self.members.wrong = True
                self.members.lost = self.members.lost or Sentence("zeros stand where an item should be", {})
            except LimitExceeded:
                raise
            except (FormatError, MissingPart) as error:
                self._next, self._data = {}, b""
                self.members.wrong |= isinstance(error, Corrupt)
                if not (self._go_back() or self._find_header()):
                    self.members.damaged = error.sentence
                    return self.members
                self.members.lost = self.members.lost or error.sentence

    def _find_header(self) -> bool:
        """Go to the next block that is a header; False when there is none, or nothing more can be decoded."""
        feed = self._feed
        while feed.to_what_is_there(BLOCK):
            try:
                buffer, at = feed.window(BLOCK)
            except (FormatError, MissingPart):
                if feed.fault is None:
                    return False
                continue
            there = len(buffer) - at
            if there < BLOCK:
                return False
            found = _first_header(buffer, at, -feed.position % BLOCK)
            feed.skip(there - BLOCK + 1 if found is None else found - at)
            self._tick(feed.position, len(self.members))
            if found is not None:
                return True
        return False

    def _go_back(self) -> bool:
        """Where bytes are missing within the last entry, the next one begins before that seems to end: go back there.

        An archive that is an entry itself has headers, too, but none of these leads over its end.
        """
        count = len(self.members)
        if not count or self._looked_at == count:
            return False
        self._looked_at = count
        last, here = self.members.rows(count - 1), self._feed.position
        begin, stored = int(last.data_at[0]), int(last.stored[0])
        end = begin + stored + -stored % BLOCK
        at, starts = begin, 0
        while at < end and starts < _MOST_STARTS and self._feed.back_to(at):
            self._tick(at, count)
            try:
                buffer, start = self._feed.window(BLOCK)
            except (FormatError, MissingPart):
                break
            if len(buffer) - start < BLOCK:
                break
            found = _first_header(buffer, start, -at % BLOCK)
            if found is None:
                at += len(buffer) - start - BLOCK + 1
                continue
            at += found - start
            if at >= end:
                break
            stop = self._stop_before(at, end)
            if stop is None:
                self.members.cut_last(at - begin)
                return self._feed.back_to(at)
            at, starts = stop + 1, starts + 1
        self._feed.back_to(here)
        return False

    def _stop_before(self, at: int, end: int) -> int | None:
        """None where headers follow one after the other, from one on to one whose data reaches over a place; else where the
        last of them stands."""
        last = at
        while at < end and self._feed.back_to(at):
            block = self._feed.peek(0, BLOCK)
            if block is None or not is_header(block):
                return last
            try:
                size = 0 if block[TYPE] in NO_DATA else number(block[SIZE])
            except Corrupt:
                return last
            if not 0 <= size <= MAX_FILE:
                return last
            last, at = at, at + BLOCK + size + -size % BLOCK
            self._tick(at, len(self.members))
        return None if at > end else last

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
            self._tick(feed.position, len(self.members))

    def _plain_run(self) -> bool:
        """Take the entries without any extension that are in memory anyway; False when there is none.

        This is the inner loop of listing: it only follows from header to header what :meth:`_chart_of` found for all
        blocks in memory at once.
        """
        buffer, begin = self._feed.window(BLOCK)
        chart = self._chart_of(buffer, begin)
        first = at = (begin - self._phase) // BLOCK
        count = len(chart)
        places: list[int] = []
        while at < count and (after := chart[at]) > 0:
            places.append(at)
            at = after
        if not places:
            return False
        base = self._feed.position - begin + self._phase
        stored = self._collect(places, base)
        end = base + (places[-1] + 1) * BLOCK + stored
        self._feed.skip((at - first) * BLOCK)
        if self._feed.position < end:
            raise Truncated("It is cut off within the last item.")
        return True

    def _chart_of(self, buffer: bytes, begin: int) -> list[int]:
        """For each block in memory, were it a plain header, the block of the next header; else 0.

        Args:
            buffer: what is in memory.
            begin: where in it a header is expected; headers are whole blocks away from each other.
        """
        if self._charted is not buffer or begin % BLOCK != self._phase:
            self._charted, self._phase = buffer, begin % BLOCK
            blocks = np.frombuffer(buffer, np.uint8, (len(buffer) - self._phase) // BLOCK * BLOCK, self._phase)
            self._blocks = blocks.reshape(-1, BLOCK)
            types = self._blocks[:, TYPE]
            self._sizes = np.where(_EMPTY[types], 0, plain_sizes(self._blocks))
            after = np.arange(1, len(self._blocks) + 1) + (self._sizes + BLOCK - 1) // BLOCK
            plain = _PLAIN[types] & (self._blocks[:, 0] != 0) & (self._sizes >= 0)
            self._chart = np.where(plain, after, 0).tolist()
        return self._chart

    def _collect(self, places: list[int], base: int) -> int:
        """Take many plain headers at once; a wrong checksum ends the walk there. The size of the last is restored."""
        m = self.members
        at = np.array(places, np.int64)
        is_run = at[-1] - at[0] == len(at) - 1
        table = self._blocks[at[0] : at[-1] + 1] if is_run else self._blocks[at]
        fit = checksums_fit(table)
        good = len(at) if fit.all() else int(np.argmin(fit))
        table, at = table[:good], at[:good]
        stored = self._sizes[at]
        names, folder_like = _plain_names(table)
        types = table[:, TYPE]
        for i in np.flatnonzero((types == Type.HARD) | (types == Type.SYMBOLIC)).tolist():
            m.links[len(m) + i] = text(table[i, LINK].tobytes())
        kinds = _KIND_OF[types]
        kinds[(kinds == Kind.FILE) & folder_like] = Kind.DIR  # the oldest writers had no type for folders
        times = octal(table[:, MTIME])
        for i in np.flatnonzero(table[:, MTIME.start] & 0x80).tolist():
            times[i] = max(-_BEYOND, min(number(table[i, MTIME].tobytes()), _BEYOND))
        near = np.abs(times) <= _FAR
        rows = Rows(
            names=names,
            kind=kinds,
            size=stored,
            mtime_ns=np.where(near, np.where(near, times, 0) * _BILLION, NO_TIME),
            mode=(octal(table[:, MODE]) & 0o7777).astype(np.uint32),
            data_at=at * BLOCK + (base + BLOCK),
            stored=stored,
        )
        m.add_many(rows)
        if good < len(places):
            self._feed.skip(base + places[good] * BLOCK - self._feed.position)
            raise damaged_header(self._feed, self._feed.read(BLOCK))
        return int(stored[-1])

    def _skip_data(self, stored: int) -> None:
        if not 0 <= stored <= MAX_FILE:
            raise Corrupt("A header has a size that no file has.")
        before = self._feed.position
        whole = stored + -stored % BLOCK
        self._feed.skip(whole)
        if self._feed.position - before < stored:
            raise Truncated("It is cut off within the last item.")

    def _special(self, block: bytes, kind: int) -> None:
        if not checksums_fit(np.frombuffer(block, np.uint8).reshape(1, BLOCK))[0]:
            raise damaged_header(self._feed, block)
        if kind in (Type.EXTENDED, Type.SOLARIS, Type.GLOBAL, Type.GNU_NAME, Type.GNU_LINK):
            self._extension(block, kind)
        elif kind == Type.GNU_VOLUME:
            self._skip_data(number(block[SIZE]))
        else:
            self._extended_entry(block, kind)

    def _extension(self, block: bytes, kind: int) -> None:
        size = number(block[SIZE])
        if not 0 <= size <= MOST_EXTENDED:
            raise Corrupt("A header says that it has more attributes than any has.")
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
            self.members.globals.update(self._global)
        else:
            self._next.update(pax_records(data))
            if b"GNU.sparse.offset" in self._next:  # format 0.0 repeats its keywords, so the last would hide the others
                self._data = _repeated(data)

    def _extended_entry(self, block: bytes, kind: int) -> None:
        """An entry with attributes in extended headers, or of a rare type."""
        records = {key: value for key, value in (self._global | self._next).items() if value}
        data, self._data = self._data, b""
        self._next = {}
        sizes = {key: whole_number(records[key]) for key in _NUMBERS if key in records and key != b"mtime"}
        stored = 0 if kind in NO_DATA else sizes.get(b"size", number(block[SIZE]))
        if not 0 <= stored <= MAX_FILE:
            raise Corrupt("A header has a size that no file has.")
        name = _utf8(records.get(b"GNU.sparse.name", records.get(b"path", _name(block))))
        entry_kind = _KINDS.get(Type(kind) if kind in _KNOWN_TYPES else Type.FILE, Kind.FILE)
        if entry_kind == Kind.FILE and name.endswith(b"/"):
            entry_kind = Kind.DIR
        mtime_ns = _nanoseconds(records[b"mtime"]) if b"mtime" in records else _in_reach(number(block[MTIME]))
        mode = number(block[MODE]) & 0o7777
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
        if not 0 <= size <= MAX_FILE:
            raise Corrupt("A header has a size that no file has.")
        # Nothing can fail any more, so that no column is longer than another.
        m = self.members
        row = len(m)
        if kind in (Type.HARD, Type.SYMBOLIC):
            m.links[row] = records.get(b"linkpath", text(block[LINK]))
        if is_sparse:
            m.sparse[row] = stretches
        m.add((name, entry_kind, size, mtime_ns, mode, self._feed.position, stored))
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


def damaged_header(feed: Feed, block: bytes) -> Corrupt:
    """What to say of a header with a wrong checksum; its data is skipped when another header follows on it.

    Args:
        feed: stands behind the header.
    """
    try:
        size = number(block[SIZE]) if block[MAGIC_AT][:5] == USTAR[:5] and block[TYPE] not in NO_DATA else 0
    except Corrupt:
        size = 0
    whole = size + -size % BLOCK
    following = feed.peek(whole, BLOCK) if whole > 0 else None
    if following is not None and is_header(following):
        feed.skip(whole)
    return Corrupt("A header is damaged.")


def _first_header(buffer: bytes, at: int, aligned: int) -> int | None:
    """Where the first header stands in memory from a place on, or None.

    Args:
        aligned: bytes behind that place to where headers stand in an archive of which nothing is missing. Elsewhere only those
            count that have a magic.
    """
    first = at + aligned
    blocks = np.frombuffer(buffer, np.uint8, max(len(buffer) - first, 0) // BLOCK * BLOCK, min(first, len(buffer)))
    blocks = blocks.reshape(-1, BLOCK)
    fitting = np.flatnonzero(checksums_fit(blocks)).tolist() if len(blocks) else []
    found = next((first + number * BLOCK for number in fitting if is_header(blocks[number].tobytes())), None)
    end = len(buffer) if found is None else found + MAGIC_AT.start
    magic = buffer.find(USTAR[:5], at + MAGIC_AT.start, end)
    while magic >= 0:
        begin = magic - MAGIC_AT.start
        if is_header(buffer[begin : begin + BLOCK]):
            return begin
        magic = buffer.find(USTAR[:5], magic + 1, end)
    return found


def _plain_names(table: NDArray[np.uint8]) -> tuple[NameTable, NDArray[np.bool_]]:
    """The paths of plain headers, those in two fields or not ASCII with more care, and which of them end in a slash."""
    field = np.ascontiguousarray(table[:, NAME])
    ends = (field == 0).argmax(axis=1)
    ends[field[np.arange(len(field)), ends] != 0] = NAME.stop
    blob = field[ends[:, None] > _PLACES].tobytes()
    folder_like = field[np.arange(len(field)), np.maximum(ends - 1, 0)] == ord("/")
    if table[:, PREFIX.start].any() or not blob.isascii():
        return NameTable.of([_name(block.tobytes()) for block in table]), folder_like
    return NameTable(blob, np.concatenate(([0], np.cumsum(ends)))), folder_like


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


def whole_number(value: bytes) -> int:
    """A number as extended headers have it: decimal digits, perhaps behind a plus sign and zeros."""
    digits = value.removeprefix(b"+").lstrip(b"0") or b"0"
    if not digits.isdigit() or value in (b"", b"+") or len(digits) > _MOST_DIGITS:
        raise Corrupt("An extended header has a number that is none.")
    return int(digits)


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
