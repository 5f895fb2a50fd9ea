"""Writing tar archives: ustar headers, pax ones before them where something does not fit, and the stream in pieces."""

from __future__ import annotations

import errno
import grp
import itertools
import os
import pwd
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache, partial
from typing import TYPE_CHECKING, Protocol

from rundlet.core.codecs.parallel import Pool, cores, in_order
from rundlet.core.formats.compressed_stream import Point
from rundlet.core.formats.edits import NOTHING, Edits
from rundlet.core.formats.item_reading import READ_ERRORS, open_item, read_problem
from rundlet.core.formats.tar.headers import BLOCK, Fields, Type, split_name
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.formats.tar.rewriting import Changes, extension, first_change, head_of, kept, read_stretches, record
from rundlet.core.jobs.findings import Reason
from rundlet.core.limits import CHUNK
from rundlet.core.model.contents import OpenContent, OpenFile
from rundlet.core.model.entry import Kind
from rundlet.core.streams.copying import copy_bytes
from rundlet.core.streams.exact import in_pieces

if TYPE_CHECKING:
    from rundlet.core.codecs.packers import Packer
    from rundlet.core.formats.base import ArchiveReader, Sink
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.model.item import PackItem

_MOST_SIZE = 8**11
_MOST_UNSTATED = 256  # chunks of a file that does not say how large it is
_END = bytes(2 * BLOCK)
_RECORD = 20 * BLOCK  # archives are filled up to whole records of this size
_TYPES = {Kind.FILE: Type.FILE, Kind.DIR: Type.FOLDER, Kind.LINK: Type.SYMBOLIC}


class _Advances(Protocol):
    """What is told of progress; see :meth:`Job.advance`."""

    def advance(self, count: int = 0, *, entries: int = 0) -> None: ...


class TarWriter:
    """A new tar archive. See :class:`rundlet.core.formats.base.ArchiveWriter`.

    Args:
        packer: compresses the stream; None for a plain archive.
    """

    def __init__(self, sink: Sink, options: WriteOptions, packer: Packer | None) -> None:
        self._sink = sink
        self._options = options
        self._packer = packer
        self._names: dict[tuple[int, int], bytes] = {}
        self._written = 0
        self._kept: TarReader | None = None
        self._changes = Changes(NOTHING, {})
        self._start = Point(0, 0)
        self._globals: list[bytes] = []

    def keep(self, reader: ArchiveReader, edits: Edits, *, pool: Pool, job: Job, outcome: Outcome) -> None:
        assert isinstance(reader, TarReader)
        self._kept = reader
        self._globals = sorted(reader.index.globals)
        self._changes = Changes.of(reader, edits)
        if self._packer is not None:
            start = reader.member_before(first_change(reader, self._changes))
            copy_bytes(self._sink, reader.source, 0, start.packed, job.advance)
            self._start, self._written = start, start.plain

    def take_over(self, reader: ArchiveReader, rows: Sequence[int], job: Job) -> frozenset[int]:
        """Entries of an archive that is not compressed, with all that stands in front of them. The stream of another one is
        one piece, so that all of it must be packed anew."""
        assert isinstance(reader, TarReader)
        if self._packer is not None:
            return frozenset()
        taken = set()
        for row in sorted(rows):
            if reader.catalog.kind[row] == Kind.HARD and reader.hard_target(row) not in taken:
                continue  # it would be a link to nothing
            head = head_of(reader, row)
            if head is not None:
                data_at, stored = int(reader.index.data_at[row]), int(reader.index.stored[row])
                self._sink.write(head)
                copy_bytes(self._sink, reader.source, data_at, stored, job.advance)
                self._sink.write(bytes(-stored % BLOCK))
                self._written += len(head) + stored + -stored % BLOCK
                taken.add(row)
        return frozenset(taken)

    def write(self, items: Sequence[PackItem], *, pool: Pool, job: Job, outcome: Outcome) -> None:
        if self._packer is None:
            self._keep_plain(job)
            for data in self._counted(self._new(items, job, outcome)):
                self._sink.write(data)
            return
        told = _Told(job, items, self._kept, self._start)
        entries = itertools.chain(self._kept_packed(), self._new(items, _Unsaid(job), outcome))
        pieces = in_pieces(self._counted(entries), self._packer.piece)
        tasks: Iterator[Callable[[], bytes]] = (partial(self._packer.pack, piece, told.packed) for piece in pieces)
        for data in in_order(pool, tasks, ahead=cores() + 2):
            self._sink.write(data)
            job.checkpoint()

    def finish(self) -> None:
        """Nothing: the end of the archive is the end of its stream."""

    def _counted(self, entries: Iterable[bytes]) -> Iterator[bytes]:
        """The entries, and behind them the two empty blocks that end an archive, up to a whole record."""
        for data in entries:
            self._written += len(data)
            yield data
        yield _END + bytes(-(self._written + len(_END)) % _RECORD)

    def _new(self, items: Sequence[PackItem], job: _Advances, outcome: Outcome) -> Iterator[bytes]:
        for item in items:
            if item.kind == Kind.FILE:
                yield from self._file(item, job, outcome)
            else:
                yield self._header(item)
            job.advance(entries=1)

    def _keep_plain(self, job: Job) -> None:
        """What stays of another archive, copied by the system."""
        if self._kept is None:
            return
        begin = self._sink.tell()
        feed = self._kept.feed(Point(0, 0))
        for part in kept(self._kept, self._changes, feed, 0):
            if isinstance(part, bytes):
                self._sink.write(part)
            else:
                copy_bytes(self._sink, self._kept.source, part[0], part[1] - part[0], job.advance)
        self._written = self._sink.tell() - begin

    def _kept_packed(self) -> Iterator[bytes]:
        """What stays of another archive behind what was copied as it is packed."""
        if self._kept is not None:
            feed = self._kept.feed(self._start)
            yield from read_stretches(kept(self._kept, self._changes, feed, self._start.plain), feed)

    def _file(self, item: PackItem, job: _Advances, outcome: Outcome) -> Iterator[bytes]:
        if item.inode is not None and item.inode in self._names:
            yield self._header(item, link=self._names[item.inode])
            outcome.files += 1
            return
        try:
            content = open_item(item)
        except READ_ERRORS as error:
            outcome.add_error(item.path, read_problem(error, item), Reason.NOT_READ)
            return
        try:
            size = content.size
            fd = content.fd if isinstance(content, OpenFile) else -1
            if not size and fd >= 0 and (unstated := _unstated(fd)):
                size = len(unstated)
                yield self._header(item, size=size) + unstated + bytes(-size % BLOCK)
                outcome.files += 1
                outcome.bytes_in += size
                return
            stretches = _stretches(fd, size) if fd >= 0 else None
            if stretches is None:
                yield self._header(item, size=size)
                yield from _content(content, item, [(0, size)], job, outcome)
                yield bytes(-size % BLOCK)
            else:
                yield from self._sparse(content, item, stretches, size, job, outcome)
        finally:
            content.close()
        if item.inode is not None:
            self._names[item.inode] = _raw(item.path)
        outcome.files += 1
        outcome.bytes_in += size

    def _sparse(
        self,
        content: OpenContent,
        item: PackItem,
        stretches: list[tuple[int, int]],
        size: int,
        job: _Advances,
        outcome: Outcome,
    ) -> Iterator[bytes]:
        """A file with holes, in pax sparse format 1.0: its map stands before its data."""
        lines = [len(stretches), *(value for pair in stretches for value in pair)]
        head = b"".join(b"%d\n" % value for value in lines)
        head += bytes(-len(head) % BLOCK)
        data = sum(length for _, length in stretches)
        records = {
            b"GNU.sparse.major": b"1",
            b"GNU.sparse.minor": b"0",
            b"GNU.sparse.name": _raw(item.path),
            b"GNU.sparse.realsize": b"%d" % size,
        }
        folder, _, name = item.path.rpartition("/")
        inner = f"{folder}/GNUSparseFile.0/{name}" if folder else f"GNUSparseFile.0/{name}"
        yield self._header(item, size=len(head) + data, records=records, name=_raw(inner))
        yield head
        yield from _content(content, item, stretches, job, outcome)
        yield bytes(-data % BLOCK)
        job.advance(size - data)

    def _header(
        self,
        item: PackItem,
        *,
        size: int = 0,
        link: bytes | None = None,
        records: dict[bytes, bytes] | None = None,
        name: bytes | None = None,
    ) -> bytes:
        """The header of an entry, with a pax header before it where something does not fit."""
        pax = dict(records or {})
        path = name if name is not None else _raw(item.path) + (b"/" if item.kind == Kind.DIR else b"")
        target = link if link is not None else _raw(item.target)
        kind = Type.HARD if link is not None else _TYPES[item.kind]
        seconds = item.mtime_ns // 1_000_000_000
        if not path.isascii() or split_name(path) is None:
            pax.setdefault(b"path", path)
        if not target.isascii() or len(target) > 100:
            pax[b"linkpath"] = target
        if size >= _MOST_SIZE:
            pax[b"size"] = b"%d" % size
        if not 0 <= seconds < _MOST_SIZE:
            pax[b"mtime"] = b"%d" % seconds
        owner = _owner(item, pax) if self._options.owners else (0, 0, b"", b"")
        if self._globals:  # of the entries before, which would hold for this one too
            own = {b"path": path, b"linkpath": target, b"size": b"%d" % size, b"mtime": b"%d" % seconds}
            own |= {b"uid": b"%d" % owner[0], b"gid": b"%d" % owner[1], b"uname": owner[2], b"gname": owner[3]}
            for key in self._globals:
                pax.setdefault(key, own.get(key, b""))
        fields = Fields(
            name=path,
            mode=item.mode,
            size=size if size < _MOST_SIZE else 0,
            mtime=min(max(seconds, 0), _MOST_SIZE - 1),
            type=kind,
            link=target,
            uid=owner[0],
            gid=owner[1],
            uname=owner[2],
            gname=owner[3],
        )
        return (extended(path, pax) if pax else b"") + fields.pack()


class _Unsaid:
    """A job that is not told of bytes that are read, as they are yet to be packed."""

    def __init__(self, job: Job) -> None:
        self._job = job

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        """Add entries alone."""
        self._job.advance(entries=entries)


class _Told:
    """Tells a job of the bytes of a stream that were packed, as the share that they are of the content in it.

    Args:
        kept: the archive whose members are packed first, which count as the bytes of its file.
        start: up to where that was copied as it is packed.
    """

    def __init__(self, job: Job, items: Sequence[PackItem], kept: TarReader | None, start: Point) -> None:
        self._job = job
        content = sum(item.size for item in items)
        stream = sum(BLOCK + item.size + -item.size % BLOCK for item in items)
        if kept is not None:
            content += kept.source.size - start.packed
            stream += kept.end - start.plain
        self._share = content / max(stream, 1)
        self._lock = threading.Lock()
        self._packed = self._said = 0

    def packed(self, count: int) -> None:
        """So many more bytes of the stream."""
        with self._lock:
            self._packed += count
            now = int(self._packed * self._share)
            more, self._said = now - self._said, now
        self._job.advance(more)


def _raw(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def extended(path: bytes, records: dict[bytes, bytes], kind: int = Type.EXTENDED) -> bytes:
    """A pax header with records."""
    data = b"".join(record(key, value) for key, value in records.items())
    name = b"PaxHeaders/" + path.rstrip(b"/").rpartition(b"/")[2][:80]
    return extension(name, kind, data) + data + bytes(-len(data) % BLOCK)


def _owner(item: PackItem, pax: dict[bytes, bytes]) -> tuple[int, int, bytes, bytes]:
    """Numbers and names of the owner and the group, as far as they are known."""
    try:
        status = os.lstat(item.source)
    except OSError:
        return 0, 0, b"", b""
    numbers = []
    for key, value in ((b"uid", status.st_uid), (b"gid", status.st_gid)):
        if value >= 8**7:
            pax[key] = b"%d" % value
        numbers.append(value if value < 8**7 else 0)
    return numbers[0], numbers[1], _user(status.st_uid), _group(status.st_gid)


@lru_cache(maxsize=256)
def _user(number: int) -> bytes:
    try:
        return _raw(pwd.getpwuid(number).pw_name)
    except KeyError:
        return b""


@lru_cache(maxsize=256)
def _group(number: int) -> bytes:
    try:
        return _raw(grp.getgrgid(number).gr_name)
    except KeyError:
        return b""


def _unstated(fd: int) -> bytes:
    """The content of a file that states no size, as those of the process file system do. Raises ``OSError``."""
    pieces = []
    while piece := os.read(fd, CHUNK):
        pieces.append(piece)
        if len(pieces) > _MOST_UNSTATED:
            raise OSError(errno.EOVERFLOW, os.strerror(errno.EOVERFLOW))
    return b"".join(pieces)


def _stretches(fd: int, size: int) -> list[tuple[int, int]] | None:
    """The stretches of a file that hold data, or None when it has no holes worth the trouble."""
    status = os.fstat(fd)
    if size < CHUNK or status.st_blocks * 512 >= size:
        return None
    found: list[tuple[int, int]] = []
    at = 0
    try:
        while at < size:
            begin = os.lseek(fd, at, os.SEEK_DATA)
            at = os.lseek(fd, begin, os.SEEK_HOLE)
            found.append((begin, min(at, size) - begin))
    except OSError as error:
        if error.errno != errno.ENXIO:  # that one says: only a hole from here on
            return None
    if not found or found[-1][0] + found[-1][1] < size:
        found.append((size, 0))
    return found


def _content(
    content: OpenContent, item: PackItem, stretches: list[tuple[int, int]], job: _Advances, outcome: Outcome
) -> Iterator[bytes]:
    """The data of a file. What can't be read any more is filled with zeros, as the header has said how much there is."""
    said = False
    for begin, length in stretches:
        at, end = begin, begin + length
        while at < end:
            try:
                data = content.read(min(CHUNK, end - at), at)
                why = None
            except READ_ERRORS as error:
                data, why = b"", read_problem(error, item)
            if not data:
                if not said and why is not None:
                    outcome.add_error(item.path, why, Reason.NOT_READ_TO_END)
                elif not said:
                    outcome.add(item.path, Reason.BECAME_SHORTER)
                said = True
                data = bytes(min(CHUNK, end - at))
            at += len(data)
            yield data
            job.advance(len(data))
