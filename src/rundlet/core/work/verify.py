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

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Corrupt, RundletError, file_problem
from rundlet.core.formats.detect import by_id
from rundlet.core.formats.item_reading import READ_ERRORS, open_item
from rundlet.core.jobs.findings import Finding, Reason, cause_of
from rundlet.core.limits import Limits
from rundlet.core.model.contents import OpenContent, OpenFile
from rundlet.core.model.entry import Kind
from rundlet.core.model.opening import Opening
from rundlet.core.streams.files import Stamp, stamp_of
from rundlet.core.text import lower, quoted
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, Unit
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.item import PackItem
    from rundlet.core.plans.pack_plan import PackPlan

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
    plan: PackPlan,
    sink: Written,
    job: Job,
    outcome: Outcome,
    *,
    base: ArchiveReader | None = None,
    workers: int | None = None,
) -> Proof:
    """Read every entry and compare it with its file; differences of files that changed meanwhile are noted.

    Args:
        base: the archive that was added to. Its entries must be listed as they were; they are not read.

    Returns:
        What the archive was seen to hold.

    Raises:
        Corrupt: when something does not come back as it went in. The archive must not be kept then.
    """
    options = plan.options
    opening = Opening(password=options.password or None, limits=Limits(memory_bytes=_MEMORY))
    reader = by_id(plan.info.id).open(WrittenSource(sink), opening)
    if options.password and not reader.unlocked:
        reader.unlock(options.password)
    files = int(np.isin(reader.catalog.kind, (Kind.FILE, Kind.HARD)).sum())
    if base is not None:
        files -= int(np.isin(base.catalog.kind, (Kind.FILE, Kind.HARD)).sum())
    if files != outcome.files or any(notice.problem for notice in reader.notices):
        raise Corrupt(_failed(plan, plan.target.name, "its file list is damaged"))
    items = {item.path: item for item in plan.items if item.kind == Kind.FILE}
    rows = np.flatnonzero(reader.catalog.kind == Kind.FILE)
    if base is not None:
        kept = set(base.catalog.names.all_raw())
        if not kept.issubset(reader.catalog.names.all_raw()):
            raise Corrupt(_failed(plan, plan.target.name, "not all that was in it before is in it now"))
        rows = rows[[reader.catalog.names.raw(row) not in kept for row in rows.tolist()]]
    job.begin("Checking", total_bytes=int(reader.catalog.size[rows].sum()), total_entries=len(rows))
    proof = Proof()

    def work(units: Iterator[Unit]) -> None:
        for unit in units:
            for row, chunks in unit.stream():
                path = reader.catalog.path(row)
                item = items.get(path)  # None for a name that the format could not keep as it was
                try:
                    seen = _seen(item, chunks, job)
                except RundletError as error:
                    raise Corrupt(_failed(plan, path, lower(error.message))) from error
                if item is not None and seen is None:
                    _judge(plan, reader, row, item, outcome)
                elif item is not None and seen is not None:
                    proof.files[item.source] = seen
                job.advance(entries=1)

    run_side_by_side(reader.units(rows), work, workers or cores())
    _prove_all_else(plan, reader, proof, set() if base is None else kept)
    return proof


def _prove_all_else(plan: PackPlan, reader: ArchiveReader, proof: Proof, kept: Collection[bytes]) -> None:
    """Folders, links and further names of files that are in the archive as they are to be."""
    others = {item.path: item for item in plan.items if item.kind != Kind.FILE or item.inode is not None}
    firsts = {item.inode: item for item in plan.items if item.inode is not None and item.source in proof.files}
    for row in np.flatnonzero(reader.catalog.kind != Kind.FILE).tolist():
        if reader.catalog.names.raw(row) in kept:
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


def _seen(item: PackItem | None, chunks: Iterable[bytes], job: Job) -> Stamp | None:
    """What a file is that still has these bytes and no others, else None; all of them are read in any case."""
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
        stamp = None
    finally:
        if content is not None:
            content.close()
    return stamp


def _judge(plan: PackPlan, reader: ArchiveReader, row: int, item: PackItem, outcome: Outcome) -> None:
    """A file that is not what is in the archive was changed meanwhile, or else the archive is wrong."""
    try:
        status = os.lstat(item.source)
        unchanged = (status.st_size, status.st_mtime_ns) == (item.size, item.mtime_ns)
    except OSError:
        unchanged = False
    if unchanged and reader.catalog.size[row] == item.size:
        raise Corrupt(_failed(plan, item.path, "it is not what the file holds."))
    outcome.add(item.path, Reason.CHANGED_WHILE_PACKED)


def _failed(plan: PackPlan, path: str, why: str) -> str:
    return (
        f"No archive was made: {quoted(path)} failed the check ({why.rstrip('.')}). "
        f"The disk with {quoted(str(plan.target.parent))} may be failing."
    )
