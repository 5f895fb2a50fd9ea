"""Reading an archive back before it gets its name, and comparing it with the files that went in."""

from __future__ import annotations

import itertools
import os
import stat
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import numpy as np

from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Corrupt, RundletError, file_problem
from rundlet.core.formats.detect import by_id
from rundlet.core.formats.edits import NOTHING, Edits
from rundlet.core.formats.item_reading import READ_ERRORS, open_item
from rundlet.core.jobs.findings import Finding, Reason, cause_of
from rundlet.core.limits import CHUNK, Limits
from rundlet.core.model.contents import OpenContent, OpenFile
from rundlet.core.model.entry import Kind
from rundlet.core.model.opening import Opening
from rundlet.core.sentences import Sentence
from rundlet.core.streams.files import Stamp, stamp_of
from rundlet.core.text import plain_path
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.item import PackItem

_MEMORY = 1 << 32  # what the tightest levels asked for when they packed, reading may have too


@dataclass(slots=True)
class Proof:
    """What an archive was seen to hold, by paths on the disk.

    Attributes:
        files: the files whose bytes were compared, and what they were then.
        links: the links, and where they point.
        folders: the folders themselves; what is in them is proven by itself.
    """

    files: dict[str, Stamp] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    folders: set[str] = field(default_factory=set)

    def lacks(self, original: Path) -> Finding | None:
        """Why something must not go to the trash, or None when all of it is in the archive as it is now."""
        above = len(str(original.parent).rstrip("/")) + 1
        pending = [str(original)]
        while pending:
            path = pending.pop()
            name = path[above:]
            try:
                status = os.lstat(path)
                if stat.S_ISDIR(status.st_mode):
                    if path not in self.folders:
                        return Finding.of(Reason.NOT_IN_ARCHIVE, name=name)
                    with os.scandir(path) as entries:
                        pending += [entry.path for entry in entries]
                elif stat.S_ISLNK(status.st_mode):
                    if self.links.get(path) != os.readlink(path):  # noqa: PTH115 - a Path would tidy it
                        return Finding.of(Reason.LINK_NOT_IN_ARCHIVE, name=name)
                elif path not in self.files:
                    return Finding.of(Reason.NOT_IN_ARCHIVE_AS_IT_IS, name=name)
                elif self.files[path] != stamp_of(status):
                    return Finding.of(Reason.CHANGED_SINCE_PACKED, name=name)
            except OSError as error:
                cause = cause_of(file_problem(error, "look at", path))
                return Finding.of(Reason.NOT_LOOKED_AT, name=name, cause=cause)
        return None


class Plan(Protocol):
    """What was to be written."""

    @property
    def target(self) -> Path: ...
    @property
    def info(self) -> FormatInfo: ...
    @property
    def options(self) -> WriteOptions: ...
    @property
    def items(self) -> tuple[PackItem, ...]: ...


@dataclass(frozen=True, slots=True)
class Kept:
    """What an archive held before and is to hold still.

    Attributes:
        paths: as they are to be, without a slash at their end.
        files: how many files there are among them.
    """

    paths: frozenset[str]
    files: int


def kept_of(reader: ArchiveReader, edits: Edits = NOTHING) -> Kept:
    """What stays of an archive once the edits are made."""
    rows = [row for row in range(len(reader.catalog)) if row not in edits.removed]
    files = int(np.isin(reader.catalog.kind[rows], (Kind.FILE, Kind.HARD)).sum()) if rows else 0
    return Kept(frozenset(plain_path(edits.path(reader, row)) for row in rows), files)


class Written(Protocol):
    """A sink that can be read again."""

    target: Path

    def tell(self) -> int: ...
    def read_at(self, offset: int, length: int) -> bytes: ...


class WrittenSource:
    """What a sink has taken, as a source."""

    def __init__(self, sink: Written) -> None:
        self._sink = sink
        self.name = sink.target.name
        self.size = sink.tell()

    def read_at(self, offset: int, length: int) -> bytes:
        return self._sink.read_at(offset, max(min(length, self.size - offset), 0))

    def fingerprint(self) -> tuple[int, ...]:
        return ()  # it is read as it is now, whatever was learned of others of its name

    def close(self) -> None:
        """The sink stays open: it is its owner's."""


def read_back(
    plan: Plan,
    sink: Written,
    job: Job,
    outcome: Outcome,
    *,
    kept: Kept | None = None,
    workers: int | None = None,
) -> Proof:
    """Read every entry and compare it with its file; differences of files that changed meanwhile are noted.

    Args:
        kept: what was in the archive before and is to be in it still. It must be listed; it is not read.

    Returns:
        What the archive was seen to hold.

    Raises:
        Corrupt: when something does not come back as it went in. The archive must not be kept then.
    """
    reader = _open_written(plan, sink)
    kept = kept or Kept(frozenset(), 0)
    files = int(np.isin(reader.catalog.kind, (Kind.FILE, Kind.HARD)).sum()) - kept.files
    if files != outcome.files or any(notice.problem for notice in reader.notices):
        raise _failed(plan, plan.target.name, "its file list is damaged")
    items = {item.path: item for item in plan.items if item.kind == Kind.FILE}
    rows = np.flatnonzero(reader.catalog.kind == Kind.FILE)
    if kept.paths:
        paths = [plain_path(reader.catalog.path(row)) for row in range(len(reader.catalog))]
        if not kept.paths.issubset(paths):
            raise _failed(plan, plan.target.name, "not all that was in it before is in it now")
        rows = rows[[paths[row] not in kept.paths for row in rows.tolist()]]
    job.begin("Checking", total_bytes=int(reader.catalog.size[rows].sum()), total_entries=len(rows))
    proof = Proof()

    def work(units: Iterator[Unit]) -> None:
        for unit in units:
            for row, chunks in unit.stream():
                path = reader.catalog.path(row)
                item = items.get(path)  # None for a name that the format could not keep as it was
                try:
                    same, seen = _seen(item, chunks, job)
                except RundletError as error:
                    raise _failed(plan, path, "{cause:clause}", cause=error.sentence) from error
                if item is not None and not same:
                    _judge(plan, reader, row, item, outcome)
                elif item is not None and seen is not None:
                    proof.files[item.source] = seen
                job.advance(entries=1)

    run_side_by_side(reader.units(rows), work, workers or cores())
    _prove_all_else(plan, reader, proof, kept.paths)
    return proof


def _open_written(plan: Plan, sink: Written) -> ArchiveReader:
    """What was written, read as an archive."""
    options = plan.options
    opening = Opening(password=options.password or None, limits=Limits(memory_bytes=_MEMORY))
    reader = by_id(plan.info.id).open(WrittenSource(sink), opening)
    if options.password and not reader.unlocked:
        reader.unlock(options.password)
    return reader


def same_as_before(plan: Plan, before: ArchiveReader, edits: Edits, sink: Written, job: Job) -> None:
    """See to it that what stays of a changed archive is what it was.

    Files that are copied as they are packed are compared in their packed bytes, others in their content.

    Args:
        before: the archive as it was.
        edits: what became of it.

    Raises:
        Corrupt: when something is not what it was. The new archive must not be kept then.
    """
    after = _open_written(plan, sink)
    places: dict[str, list[int]] = {}
    for row in range(len(after.catalog)):
        places.setdefault(plain_path(after.catalog.path(row)), []).append(row)
    raw: dict[tuple[int, int], tuple[int, int]] = {}
    decoded: dict[int, int] = {}
    for row in np.flatnonzero(before.catalog.kind == Kind.FILE).tolist():
        if row in edits.removed:
            continue
        path = edits.path(before, row)
        there = places.get(plain_path(path))
        if not there:
            raise _failed(plan, path, "it is not listed any more")
        now = there.pop(0)
        if after.catalog.kind[now] != Kind.FILE:
            continue  # a further name of it is the file now
        if before.catalog.size[row] != after.catalog.size[now]:
            raise _failed(plan, path, "it has another size")
        one, other = before.raw_range(row), after.raw_range(now)
        if one is not None and other is not None and one[1] - one[0] == other[1] - other[0]:
            raw[one] = other
        else:
            decoded[row] = now
    again = sum(int(before.catalog.size[row]) for row in decoded)
    job.begin("Checking", total_bytes=sum(end - begin for begin, end in raw) + 2 * again)
    for (begin, end), (at, _) in raw.items():
        for step in range(begin, end, CHUNK):
            length = min(CHUNK, end - step)
            if before.source.read_at(step, length) != after.source.read_at(at + step - begin, length):
                raise _failed(plan, plan.target.name, "what was copied is not what it was")
            job.advance(length)
    if decoded:
        sums_before = _sums(before, list(decoded), job)
        sums_after = _sums(after, list(decoded.values()), job)
        for row, now in decoded.items():
            if sums_before[row] != sums_after[now]:
                raise _failed(plan, edits.path(before, row), "it is not what it was")


def _sums(reader: ArchiveReader, rows: list[int], job: Job) -> dict[int, int]:
    """The CRC-32 of the content of files, read from the archive."""
    found: dict[int, int] = {}
    for unit in reader.units(np.array(rows, np.int64)):
        for row, chunks in unit.stream():
            total = 0
            for data in chunks:
                total = crc32(data, total)
                job.advance(len(data))
            found[row] = total
    return found


def _prove_all_else(plan: Plan, reader: ArchiveReader, proof: Proof, kept: Collection[str]) -> None:
    """Folders, links and further names of files that are in the archive as they are to be."""
    others = {item.path: item for item in plan.items if item.kind != Kind.FILE or item.inode is not None}
    firsts = {item.inode: item for item in plan.items if item.inode is not None and item.source in proof.files}
    for row in np.flatnonzero(reader.catalog.kind != Kind.FILE).tolist():
        if plain_path(reader.catalog.path(row)) in kept:
            continue
        item = others.get(reader.catalog.path(row).rstrip("/"))
        if item is None:
            continue
        kind = reader.catalog.kind[row]
        if item.kind == Kind.DIR == kind:
            proof.folders.add(item.source)
        elif item.kind == Kind.LINK == kind and reader.link_target(row) == item.target:
            proof.links[item.source] = item.target
        elif item.inode is not None and kind == Kind.HARD and (first := firsts.get(item.inode)) is not None:
            target = reader.hard_target(row)
            if target is not None and reader.catalog.path(target) == first.path:
                proof.files[item.source] = proof.files[first.source]


def _seen(item: PackItem | None, chunks: Iterable[bytes], job: Job) -> tuple[bool, Stamp | None]:
    """Whether an item still has these bytes and no others, and what its file on the disk is, where it has one; all of the
    bytes are read in any case."""
    same, stamp = True, None
    content: OpenContent | None = None
    try:
        content = open_item(item) if item is not None else None
    except READ_ERRORS:
        same = False
    try:
        at = 0
        for data in itertools.chain(chunks, (b"",)):
            same = same and content is not None and content.read(max(len(data), 1), at)[: len(data) or 1] == data
            at += len(data)
            job.advance(len(data))
        if same and isinstance(content, OpenFile):
            stamp = stamp_of(os.fstat(content.fd))
    except OSError:
        same, stamp = False, None
    finally:
        if content is not None:
            content.close()
    return same, stamp


def _judge(plan: Plan, reader: ArchiveReader, row: int, item: PackItem, outcome: Outcome) -> None:
    """A file that is not what is in the archive was changed meanwhile, or else the archive is wrong."""
    if item.content is not None:
        raise _failed(plan, item.path, "it is not what it was packed from")
    try:
        status = os.lstat(item.source)
        unchanged = (status.st_size, status.st_mtime_ns) == (item.size, item.mtime_ns)
    except OSError:
        unchanged = False
    if unchanged and reader.catalog.size[row] == item.size:
        raise _failed(plan, item.path, "it is not what the file holds")
    outcome.add(item.path, Reason.CHANGED_WHILE_PACKED)


def _failed(plan: Plan, path: str, why: str, **facts: object) -> Corrupt:
    return Corrupt(
        "No archive was made: {path:name} failed the check ({why}). The disk with {folder:name} may be failing.",
        path=path,
        why=Sentence(why, facts),
        folder=str(plan.target.parent),
    )
