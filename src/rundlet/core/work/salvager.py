"""Saving what is intact in a damaged archive: it becomes a new one, which is read back before it is kept."""

from __future__ import annotations

import contextlib
import os
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from io import FileIO
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import Pool, cores
from rundlet.core.errors import (
    Corrupt,
    FileProblem,
    FormatError,
    LimitExceeded,
    MissingPart,
    NothingIntact,
    RundletError,
    file_problem,
)
from rundlet.core.formats.detect import by_id
from rundlet.core.formats.edits import Edits
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.fs.replaced import settle_backup
from rundlet.core.fs.safe_names import doubted
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Checked, Salvaged
from rundlet.core.limits import CHUNK, Limits
from rundlet.core.model.contents import ContentSource, OpenContent
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.model.opening import Opening
from rundlet.core.plans.convert_plan import items_in
from rundlet.core.plans.pack_plan import PackClash, free_name, settled
from rundlet.core.sentences import fill
from rundlet.core.streams.exact import next_there, read_there
from rundlet.core.streams.private import cache_root, private_folder
from rundlet.core.streams.sinks import ArchiveSink, open_folder, put_file
from rundlet.core.text import plain_path
from rundlet.core.work.checker import Verdict, check, rows_to_check
from rundlet.core.work.verify import WrittenSource

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.format_info import FormatInfo

_MEMORY = 1 << 40  # what was written here is read with whatever it takes


@dataclass(slots=True)
class Condition:
    """What is so of a damaged archive.

    Attributes:
        checked: what reading it came to.
        verdicts: of each row that was read.
    """

    checked: Checked
    verdicts: dict[int, Verdict] = field(default_factory=dict)

    @property
    def doubtful(self) -> frozenset[int]:
        """The rows that can be read and may be damaged."""
        return frozenset(row for row, verdict in self.verdicts.items() if verdict is Verdict.DOUBTFUL)

    def wanted(self, reader: ArchiveReader) -> list[int]:
        """The rows that can be had: files and links that can be read to their end, folders, and further names of such files."""
        kinds = reader.catalog.kind
        good = {row for row, verdict in self.verdicts.items() if verdict.can_be_had}
        good.update(np.flatnonzero(kinds == Kind.DIR).tolist())
        good.update(row for row in np.flatnonzero(kinds == Kind.HARD).tolist() if reader.hard_target(row) in good)
        return sorted(good)


Report = Callable[[Salvaged, Condition], str]
"""What is to be said of it in a file beside the new archive."""


def salvage(
    reader: ArchiveReader,
    target: Path,
    info: FormatInfo,
    job: Job | None = None,
    *,
    options: WriteOptions | None = None,
    parts_too: bool = False,
    on_clash: PackClash = PackClash.REFUSE,
    report: Report | None = None,
    workers: int | None = None,
) -> Salvaged:
    """Put all that is intact in an archive into a new one, and what may be damaged under names that say so.

    There are three classes: what was seen to be intact or has nothing against it; what can be read, but lies in a stretch whose
    checksum is wrong, as in a compressed tar with damage behind it; and what is damaged, which is put in only when that is asked for.

    In the same format it is taken over as it is packed, where it can be told from what is damaged; else it is packed anew.

    Args:
        reader: the damaged archive, unlocked where it is locked.
        target: the new archive.
        info: its format.
        options: how what has to be packed anew is packed.
        parts_too: whether damaged files are put into it as far as they can be read, under names that say so. Where the archive
            holds them as they are, what stands behind the damage is saved, too, with zeros in place of what is missing.
        on_clash: what happens when the name is taken; see :class:`~rundlet.core.plans.pack_plan.PackClash`.
        report: makes what is written into a text file beside the new archive.

    Raises:
        NothingIntact: when nothing can be read to its end.
        Clash: when the name is taken and the rule is to refuse.
        FileProblem: when the new archive can't be written.
        Corrupt: when what was written can't be read back; it is not kept then.
    """
    job = job or Job()
    started = time.monotonic()
    options = options or WriteOptions(info.default_level)
    target, replaces = settled(target, on_clash, in_parts=False)
    condition = condition_of(reader, job, workers=workers)
    checked = condition.checked
    outcome = Salvaged(target, damaged=checked.damaged, missing=checked.missing, unreadable=checked.unreadable)
    with contextlib.ExitStack() as held:
        rows = condition.wanted(reader)
        pieces = _Pieces(reader, held)
        parts = pieces.of(_worth_trying(condition), job) if parts_too else []
        if not parts and (reader.catalog.kind[rows] == Kind.DIR).all():
            raise NothingIntact(
                "Nothing in {archive:name} is intact, so there is nothing to save.",
                hint="Fetch it again, or save what is left of damaged files.",
                archive=reader.source.name,
            )
        pool = Pool(workers or cores(), "salvage")
        held.callback(pool.shutdown, cancel_futures=True)
        sink = ArchiveSink(target, replace=replaces)
        held.callback(sink.close)
        _Writing(reader, info, options, sink, pool, job, condition.doubtful).write(rows, parts, outcome)
        outcome.doubtful = len(condition.doubtful)
        outcome.issues[:0] = [*checked.issues, *pieces.issues]
        outcome.parts = len(parts)
        outcome.bytes_in, outcome.bytes_out = reader.source.size, sink.tell()
        job.checkpoint()
        paths = sink.paths
        with noted([target.parent]):
            settle_backup(sink.commit(), outcome, keep=True)
        outcome.created += map(str, paths)
    outcome.seconds = time.monotonic() - started
    if report is not None:
        try:
            outcome.created.append(str(_written_report(target, info, report(outcome, condition))))
        except (OSError, FileProblem) as error:  # what was saved is there all the same
            problem = error if isinstance(error, FileProblem) else file_problem(error, "write", target)
            outcome.issues.append(issue_of(target.name, problem))
    return outcome


def condition_of(reader: ArchiveReader, job: Job, *, workers: int | None = None) -> Condition:
    """Read all of an archive, and note what is so of each item."""
    verdicts: dict[int, Verdict] = {}
    rows = rows_to_check(reader)
    if not len(rows):
        return Condition(Checked(Path(reader.source.name), issues=list(reader.notices)))
    checked = check(reader, job, tell=verdicts.__setitem__, workers=workers)
    return Condition(checked, verdicts)


def _worth_trying(condition: Condition) -> list[int]:
    wanted = (Verdict.DAMAGED, Verdict.MISSING)
    return sorted(row for row, verdict in condition.verdicts.items() if verdict in wanted)


def _written_report(target: Path, info: FormatInfo, text: str) -> Path:
    stem = target.name.removesuffix(info.ending)
    path = free_name(target.with_name(fill("{stem} report.txt", {"stem": stem})))
    folder = open_folder(path.parent)
    try:
        put_file(folder, path.name, text.encode("utf-8", "surrogateescape"), mode=0, times=None)
    finally:
        os.close(folder)
    return path


class _Writing:
    """The new archive on its way."""

    def __init__(
        self,
        reader: ArchiveReader,
        info: FormatInfo,
        options: WriteOptions,
        sink: ArchiveSink,
        pool: Pool,
        job: Job,
        doubtful: frozenset[int],
    ) -> None:
        self._reader = reader
        self._info = info
        self._options = options
        self._sink = sink
        self._pool = pool
        self._job = job
        self._doubtful = doubtful

    def write(self, rows: Sequence[int], parts: Sequence[PackItem], outcome: Salvaged) -> None:
        """Write it with as much as can be taken over; all is packed anew where that can't be told from what is damaged."""
        try:
            self._write(rows, parts, outcome, take_over=self._reader.info.id == self._info.id)
        except FileProblem:
            raise
        except RundletError:
            self._sink.rewind(0)
            outcome.files = outcome.taken_over = 0
            outcome.issues.clear()
            self._write(rows, parts, outcome, take_over=False)

    def _write(self, rows: Sequence[int], parts: Sequence[PackItem], outcome: Salvaged, *, take_over: bool) -> None:
        """Write it, and read it back."""
        reader, kinds = self._reader, self._reader.catalog.kind
        writer = by_id(self._info.id).create(self._sink, self._options)
        total = int(np.maximum(reader.catalog.size[list(rows)], 0).sum()) + sum(part.size for part in parts)
        self._job.begin("Saving", total_bytes=total, total_entries=len(rows) + len(parts))
        sure = [row for row in rows if row not in self._doubtful]
        taken = writer.take_over(reader, _alike_once(reader, sure), self._job) if take_over else frozenset()
        rest = [row for row in rows if row not in taken]
        contents = ArchiveContents(reader, [row for row in rest if kinds[row] == Kind.FILE])
        try:
            said = Edits(renamed={row: _doubted(plain_path(reader.catalog.path(row))) for row in self._doubtful})
            items, issues = items_in(reader, contents, rest, self._job, said)
            known = {plain_path(reader.catalog.path(row)) for row in taken}
            items = [item for item in items if item.path not in known]
            writer.write([*items, *parts], pool=self._pool, job=self._job, outcome=outcome)
            writer.finish()
        finally:
            contents.close()
        outcome.issues += issues
        outcome.taken_over = sum(kinds[row] in (Kind.FILE, Kind.HARD) for row in taken)
        outcome.files += outcome.taken_over - len(parts)
        self._read_back(len(taken) + len(items) + len(parts))

    def _read_back(self, count: int) -> None:
        opening = Opening(password=self._options.password or None, limits=Limits(memory_bytes=_MEMORY))
        written = by_id(self._info.id).open(WrittenSource(self._sink), opening)
        if self._options.password and not written.unlocked:
            written.unlock(self._options.password)
        checked = check(written, self._job)
        if checked.problems or len(written.catalog) != count:
            raise Corrupt(
                "No archive was made, as what was written failed the check. The disk with {folder:name} may be failing.",
                folder=str(self._sink.target.parent),
            )


def _doubted(path: str) -> str:
    """The path of a file that may be damaged, whose name says so."""
    folder, slash, name = path.rpartition("/")
    return folder + slash + doubted(name)


def _alike_once(reader: ArchiveReader, rows: Sequence[int]) -> list[int]:
    """Rows of which no two have one name; the last of each name is what unpacking gives."""
    last = {plain_path(reader.catalog.path(row)): row for row in rows}
    return sorted(last.values())


class _Piece(ContentSource):
    """What could be read of a file, in a private file without a name."""

    def __init__(self, file: FileIO) -> None:
        self._file = file

    @property
    def size(self) -> int:
        """Bytes of it."""
        return os.fstat(self._file.fileno()).st_size

    def open(self) -> OpenContent:
        return _OpenPiece(self._file.fileno())


class _OpenPiece:
    def __init__(self, fd: int) -> None:
        self._fd = fd

    @property
    def size(self) -> int:
        return os.fstat(self._fd).st_size

    def read(self, length: int, offset: int) -> bytes:
        return os.pread(self._fd, length, offset)

    def close(self) -> None:
        """The file is its owner's."""


class _Pieces:
    """Damaged files as far as they can be read.

    Attributes:
        issues: what was saved of each.
    """

    def __init__(self, reader: ArchiveReader, held: contextlib.ExitStack) -> None:
        self._reader = reader
        self._held = held
        self.issues: list[Issue] = []

    def of(self, rows: Sequence[int], job: Job) -> list[PackItem]:
        """Items of what could be read of some files."""
        catalog = self._reader.catalog
        taken = {plain_path(catalog.path(row)) for row in range(len(catalog))}
        items = []
        folder = str(private_folder(cache_root()))
        for row in rows:
            job.checkpoint()
            if catalog.kind[row] != Kind.FILE:
                continue
            file = self._held.enter_context(tempfile.TemporaryFile(dir=folder, buffering=0))  # noqa: SIM115 - it is closed with what holds it
            there = 0
            for data, is_real in self._readable(row):
                _write(file, data, folder)
                there += len(data) if is_real else 0
                job.checkpoint()
            piece, entry = _Piece(file), catalog.entry(row)
            if not there:
                continue
            path = _saying_so(plain_path(entry.path), taken)
            taken.add(path)
            time_ns = entry.mtime_ns if entry.mtime_ns != NO_TIME else 0
            items.append(PackItem(path, Kind.FILE, "", piece.size, time_ns, entry.mode or 0o644, content=piece))
            size = max(int(catalog.size[row]), there)
            self.issues.append(issue(entry.path, Reason.ONLY_IN_PART, there=there, size=size, name=path))
        return items

    def _readable(self, row: int) -> Iterator[tuple[bytes, bool]]:
        """What can be read of a file, in order; zeros stand for what is missing in between, and are not real."""
        try:
            place = self._reader.plain_range(row)
        except (FormatError, MissingPart):
            place = None
        if place is not None:
            yield from self._plain(*place)
            return
        left = self._reader.catalog.size.item(row)
        with contextlib.suppress(FormatError, MissingPart, LimitExceeded):
            for data in self._reader.readable(row):
                wanted = bytes(data) if left == UNKNOWN else bytes(data[:left])
                yield wanted, True
                left -= 0 if left == UNKNOWN else len(wanted)
                if not left:
                    return  # what has more than it says is no longer this file

    def _plain(self, begin: int, end: int) -> Iterator[tuple[bytes, bool]]:
        source, at = self._reader.source, begin
        end = min(end, source.size)
        while at < end:
            try:
                data = read_there(source, at, min(CHUNK, end - at))
                yield data, True
                at += len(data)
            except MissingPart:
                there = next_there(source, at, 1) or end
                if there < end:  # else nothing of it stands behind
                    yield from ((bytes(min(CHUNK, there - step)), False) for step in range(at, there, CHUNK))
                at = there


def _write(file: FileIO, data: bytes, folder: str) -> None:
    left = memoryview(data)
    try:
        while left:
            left = left[file.write(left) :]
    except OSError as error:
        raise file_problem(error, "write", folder) from error


def _saying_so(path: str, taken: set[str]) -> str:
    """A name that says that this is not all of the file."""
    folders, _, name = path.rpartition("/")
    whole = PurePosixPath(name)
    words, number = "{stem} (damaged){suffix}", 1
    while True:
        facts = {"stem": whole.stem, "suffix": whole.suffix, "number": number}
        found = f"{folders}/{fill(words, facts)}" if folders else fill(words, facts)
        if found not in taken:
            return found
        words, number = "{stem} (damaged {number}){suffix}", number + 1
