"""A tar archive written anew with other names, times or permissions, or with less in it.

Headers are changed only where something in them is to be another (POSIX.1-2024, "pax Interchange Format" and "ustar Interchange
Format", and the GNU extensions), so that attributes which nobody here knows stay as they are. A file that goes while another
name of it stays is kept under that name.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import Corrupt, FormatError, MissingPart
from rundlet.core.formats.tar.headers import (
    BLOCK,
    CHECKSUM,
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
    Fields,
    Type,
    is_header,
    number,
    pax_records,
    split_name,
)
from rundlet.core.limits import MIB
from rundlet.core.model.entry import Kind
from rundlet.core.streams.exact import read_exactly

if TYPE_CHECKING:
    from rundlet.core.formats.edits import Edits
    from rundlet.core.formats.tar.reader import TarReader
    from rundlet.core.streams.feed import Feed

_EXTENSIONS = (Type.EXTENDED, Type.SOLARIS, Type.GLOBAL, Type.GNU_NAME, Type.GNU_LINK, Type.GNU_VOLUME)
_FOR_ALL = (Type.GLOBAL, Type.GNU_VOLUME)  # they hold for more than the entry behind them
_BILLION = 1_000_000_000
_MOST_OCTAL = 8**11
_MOST_HEAD = 4 * MIB  # damage in front of an entry may look like anything

Stretch = tuple[int, int]
"""Where bytes of the other archive's plain stream begin and end."""


@dataclass(slots=True)
class Changes:
    """What is to be done to the entries of a tar, hard links thought of.

    Attributes:
        edits: as they were asked for, but that a file which goes takes the name of the first link to it that stays.
        links: the new targets of hard links that stay.
    """

    edits: Edits
    links: dict[int, bytes]

    @classmethod
    def of(cls, reader: TarReader, edits: Edits) -> Changes:
        """Work them out."""
        removed, renamed = set(edits.removed), dict(edits.renamed)
        times, modes = dict(edits.times), dict(edits.modes)
        links: dict[int, bytes] = {}
        if not (removed or renamed):
            return cls(edits, links)
        for row in np.flatnonzero(reader.catalog.kind == Kind.HARD).tolist():
            target = reader.hard_target(row)
            if row in removed or target is None:
                continue
            if target in removed:
                removed.discard(target)
                removed.add(row)
                renamed[target] = edits.path(reader, row)
                for new, asked in ((times, edits.times), (modes, edits.modes)):
                    new.pop(target, None)
                    if row in asked:
                        new[target] = asked[row]
            elif target in renamed:
                links[row] = renamed[target].encode("utf-8", "surrogateescape")
        return cls(replace(edits, removed=frozenset(removed), renamed=renamed, times=times, modes=modes), links)

    @property
    def touched(self) -> list[int]:
        """The rows that don't stay as they are, in order."""
        return sorted(self.edits.removed | self.edits.altered | set(self.links))


def first_change(reader: TarReader, changes: Changes) -> int:
    """Where in the plain stream the first entry begins that does not stay as it is; the end of the last one if all do."""
    touched = changes.touched
    return _begin(reader, touched[0]) if touched else reader.end


def kept(reader: TarReader, changes: Changes, feed: Feed, start: int) -> Iterator[bytes | Stretch]:
    """What the archive holds afterwards, from a place before the first change on: new headers, and stretches that stay.

    Args:
        feed: the plain stream; headers are read from it, and stretches are for the caller to read or to pass by.
        start: where to begin.
    """
    at = start
    for row in changes.touched:
        begin, data_at = _begin(reader, row), int(reader.index.data_at[row])
        if begin > at:
            yield at, begin
        feed.skip(begin - feed.position)
        head = _Head(feed.read(data_at - begin))
        at = data_at
        if row in changes.edits.removed:
            yield head.for_all()
            at = data_at + -(-int(reader.index.stored[row]) // BLOCK) * BLOCK
        else:
            _alter(head, reader, row, changes)
            yield head.pack()
    if reader.end > at:
        yield at, reader.end


def _begin(reader: TarReader, row: int) -> int:
    """Where the headers of an entry begin, which is where the entry before it ends."""
    if not row:
        return 0
    return int(reader.index.data_at[row - 1]) + -(-int(reader.index.stored[row - 1]) // BLOCK) * BLOCK


def head_of(reader: TarReader, row: int) -> bytes | None:
    """All headers of an entry of an archive that is not compressed; None where something else stands in front of its data,
    or what stands there holds for other entries, too."""
    begin, data_at = _begin(reader, row), int(reader.index.data_at[row])
    if reader.index.globals or not 0 < data_at - begin <= _MOST_HEAD:
        return None
    try:
        data = read_exactly(reader.source, begin, data_at - begin)
        head = _Head(data)
        at = len(data) - len(head.rest) - BLOCK
        is_whole = is_header(bytes(head.block)) and not head.has(Type.GNU_VOLUME) and not head.rest
        return data if is_whole and at >= 0 and all(is_header(block) for block in head.extensions) else None
    except (FormatError, MissingPart):
        return None


class _Head:
    """The headers of one entry: extended ones, its own, and what follows on that before its data."""

    def __init__(self, data: bytes) -> None:
        self._extensions: list[tuple[bytes, bytes]] = []
        at = 0
        while True:
            block = data[at : at + BLOCK]
            if len(block) < BLOCK:
                raise Corrupt("An item does not begin where the file list says.")
            at += BLOCK
            if block[TYPE] not in _EXTENSIONS:
                break
            size = number(block[SIZE])
            self._extensions.append((block, data[at : at + size]))
            at += size + -size % BLOCK
        self.block = bytearray(block)
        self.rest = data[at:]

    @property
    def extensions(self) -> list[bytes]:
        """The headers of what stands in front of its own."""
        return [block for block, _ in self._extensions]

    @property
    def is_gnu(self) -> bool:
        """Whether it is one of the GNU format, in which the prefix field means other things."""
        return bytes(self.block[MAGIC_AT]) == GNU

    @property
    def is_ustar(self) -> bool:
        """Whether names may stand in two fields."""
        return bytes(self.block[MAGIC_AT]) == USTAR

    def for_all(self) -> bytes:
        """Those that hold for more than this entry, as they are."""
        return b"".join(_padded(block, data) for block, data in self._extensions if block[TYPE] in _FOR_ALL)

    def records(self) -> dict[bytes, bytes]:
        """The pax records that hold for this entry alone."""
        found: dict[bytes, bytes] = {}
        for block, data in self._extensions:
            if block[TYPE] in (Type.EXTENDED, Type.SOLARIS):
                found |= pax_records(data)
        return found

    def has(self, kind: Type) -> bool:
        """Whether an extension of this kind is there."""
        return any(block[TYPE] == kind for block, _ in self._extensions)

    def set_record(self, key: bytes, value: bytes) -> None:
        """Give a pax record another value; all others stay as they are, repeated ones too."""
        for number_, (block, data) in enumerate(self._extensions):
            if block[TYPE] in (Type.EXTENDED, Type.SOLARIS):
                self._extensions[number_] = (block, _without(data, key) + record(key, value))
                return
        self._extensions.append((extension(b"PaxHeaders/entry", Type.EXTENDED, b""), record(key, value)))

    def set_long(self, kind: Type, value: bytes) -> None:
        """Give the GNU extension for a long name or target another value."""
        data = value + b"\0"
        for number_, (block, _) in enumerate(self._extensions):
            if block[TYPE] == kind:
                self._extensions[number_] = (block, data)
                return
        self._extensions.append((extension(b"././@LongLink", kind, b""), data))

    def pack(self) -> bytes:
        """All of it as blocks."""
        self.block[CHECKSUM] = b" " * 8
        self.block[CHECKSUM] = b"%06o\0 " % sum(self.block)
        return b"".join(_padded(block, data) for block, data in self._extensions) + bytes(self.block) + self.rest


def _alter(head: _Head, reader: TarReader, row: int, changes: Changes) -> None:
    edits, block = changes.edits, head.block
    if row in edits.renamed:
        _set_name(head, edits.stored_path(reader, row), reader.index.globals)
    if row in changes.links:
        _set_text(head, LINK, b"linkpath", Type.GNU_LINK, changes.links[row], reader.index.globals)
    if row in edits.times:
        whole, part = divmod(edits.times[row], _BILLION)
        fits = 0 <= whole < _MOST_OCTAL
        block[MTIME] = b"%011o\0" % min(max(whole, 0), _MOST_OCTAL - 1)
        if not fits or b"mtime" in head.records() or b"mtime" in reader.index.globals:
            head.set_record(b"mtime", _decimal(whole, part))
    if row in edits.modes:
        block[MODE] = b"%07o\0" % edits.modes[row]


def _decimal(whole: int, part: int) -> bytes:
    """Seconds and nanoseconds as pax has them; the sign holds for both."""
    if whole < 0 < part:
        whole, part = whole + 1, _BILLION - part
        sign = b"-" if not whole else b""
    else:
        sign = b""
    return sign + b"%d" % whole + (b".%09d" % part if part else b"")


def _set_name(head: _Head, name: bytes, globals_: frozenset[bytes]) -> None:
    if b"GNU.sparse.name" in head.records():
        head.set_record(b"GNU.sparse.name", name)
        return
    parts = split_name(name) if head.is_ustar and not head.has(Type.GNU_NAME) else None
    if parts is not None and parts[1]:
        _put(head.block, NAME, parts[0])
        _put(head.block, PREFIX, parts[1])
        if not name.isascii() or b"path" in head.records() or b"path" in globals_:
            head.set_record(b"path", name)
        return
    if head.is_ustar:
        _put(head.block, PREFIX, b"")
    _set_text(head, NAME, b"path", Type.GNU_NAME, name, globals_)


def _set_text(head: _Head, field: slice, key: bytes, long: Type, value: bytes, globals_: frozenset[bytes]) -> None:
    """A name or a target, in the field if that has room for it, and in whatever else holds for it."""
    fits = len(value) <= 100
    _put(head.block, field, value)
    if head.has(long):
        head.set_long(long, value)
    elif key in head.records() or key in globals_ or not value.isascii() or (not fits and not head.is_gnu):
        head.set_record(key, value)
    elif not fits:
        head.set_long(long, value)
    if head.has(long) and key in head.records():
        head.set_record(key, value)


def _put(block: bytearray, field: slice, value: bytes) -> None:
    width = field.stop - field.start
    block[field] = value[:width].ljust(width, b"\0")


def _without(data: bytes, key: bytes) -> bytes:
    """Pax records but for those with one keyword."""
    out, at = b"", 0
    while at < len(data) and data[at] != 0:
        end = at + int(data[at : data.index(b" ", at)])
        piece = data[at:end]
        if piece.split(b" ", 1)[1].partition(b"=")[0] != key:
            out += piece
        at = end
    return out


def record(key: bytes, value: bytes) -> bytes:
    """A pax record, ``length keyword=value``, where the length counts its own digits too."""
    rest = len(key) + len(value) + 3
    length = rest + len(str(rest))
    length = rest + len(str(length))
    return b"%d %s=%s\n" % (length, key, value)


def extension(name: bytes, kind: int, data: bytes) -> bytes:
    """The header of an extension with so much data."""
    return Fields(name=name, mode=0o644, size=len(data), mtime=0, type=kind).pack()


def _padded(block: bytes, data: bytes) -> bytes:
    """A header with the size of its data, and the data, up to a whole block."""
    if number(block[SIZE]) != len(data):
        changed = bytearray(block)
        changed[SIZE] = b"%011o\0" % len(data)
        changed[CHECKSUM] = b" " * 8
        changed[CHECKSUM] = b"%06o\0 " % sum(changed)
        block = bytes(changed)
    return block + data + bytes(-len(data) % BLOCK)


def read_stretches(parts: Iterator[bytes | Stretch], feed: Feed) -> Iterator[bytes]:
    """What :func:`kept` gives, with the stretches read from the feed."""
    for part in parts:
        if isinstance(part, bytes):
            yield part
            continue
        begin, end = part
        feed.skip(begin - feed.position)
        yield from itertools.chain(feed.chunks(end - begin))
