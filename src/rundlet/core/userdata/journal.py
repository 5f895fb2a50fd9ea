"""The journal: what was packed and unpacked, kept over restarts, with all that is needed to take it back."""

from __future__ import annotations

import gzip
import json
import logging
import os
import stat
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.fs.atomic_files import keep_bytes, keep_text
from rundlet.core.fs.base_folders import former_folder, moved_from, state_folder
from rundlet.core.userdata.store import locked

if TYPE_CHECKING:
    from rundlet.core.jobs.report import Issue, Report

_log = logging.getLogger(__name__)

_KEPT = 500
_LARGEST = 2_000_000  # bytes of all lines: some thousand ordinary records
_MOST_PROBLEMS = 100
_MOST_SOURCES = 200  # of very many items the first ones tell what it was


@dataclass(frozen=True, slots=True)
class Put:
    """Something that a job put on the disk, and how it was then.

    Attributes:
        path: where.
        size, mtime_ns: bytes, and time of change in nanoseconds; both -1 for a folder.
        device, inode: which file of which disk it is; -1 where that was not noted.
    """

    path: str
    size: int = -1
    mtime_ns: int = -1
    device: int = -1
    inode: int = -1

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return self.size < 0

    def is_still(self, status: os.stat_result, *, same_boot: bool) -> bool:
        """Whether this is what the job put there, as the job left it.

        Args:
            same_boot: whether the system has run on since; device numbers may be others after it was started anew.
        """
        if self.inode >= 0 and status.st_ino != self.inode:
            return False
        if self.device >= 0 and same_boot and status.st_dev != self.device:
            return False
        if self.is_folder:
            return stat.S_ISDIR(status.st_mode)
        return not stat.S_ISDIR(status.st_mode) and (status.st_size, status.st_mtime_ns) == (self.size, self.mtime_ns)


def boot_id() -> str:
    """What tells this run of the system from all others; "" where it does not say."""
    try:
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except (OSError, ValueError):
        return ""


@dataclass(frozen=True, slots=True)
class Record:
    """One job that came to an end.

    Attributes:
        id: a name for it that no other has.
        when: its end, in ISO 8601 with the offset from UTC.
        verb: ``"pack"``, ``"add"``, ``"unpack"``, ``"trash"``, ``"copy"``, ``"move"``, ``"rename"`` or ``"folder"``.
        source: what it took: the items, as far as they are not too many, or the archive.
        target: the archive made, the folder unpacked into, or the folder that things were moved to the trash from.
        words: what became of it, in a sentence.
        files, bytes_in, bytes_out, seconds: as in the report.
        expected_size, expected_seconds: what the trial had foretold; 0 for nothing.
        problems: one line each.
        trashed: what it moved to the trash.
        replaced: in which places it put something else, with what was there before in the trash.
        moved: from where to where it moved other things.
        undone: whether it was undone.
        can_undo: whether it put anything on the disk or moved anything away.
        result: ``"done"``, ``"failed"`` or ``"cancelled"``.
        bins: for each of ``trashed`` and ``replaced``, what tells the thing from all else in the trash.
        stamps: what each of ``source`` was when the work ended: device, file number, size, time of change; -1 for what was gone.
        boot: the run of the system in which the device numbers hold.
        back: what an undo that did not come to its end has given back already.
        title: what was to be done, where nothing came of it.
        more_problems: how many there are beside ``problems``; see :meth:`Journal.problems`.
    """

    id: str
    when: str
    verb: str
    source: tuple[str, ...]
    target: str
    words: str
    files: int = 0
    bytes_in: int = 0
    bytes_out: int = 0
    seconds: float = 0.0
    expected_size: int = 0
    expected_seconds: float = 0.0
    problems: tuple[str, ...] = ()
    trashed: tuple[str, ...] = ()
    replaced: tuple[str, ...] = ()
    moved: tuple[tuple[str, str], ...] = ()
    undone: bool = False
    can_undo: bool = False
    result: str = "done"
    bins: dict[str, str] = field(default_factory=dict)
    stamps: tuple[tuple[int, int, int, int], ...] = ()
    boot: str = ""
    back: tuple[str, ...] = ()
    title: str = ""
    more_problems: int = 0


def new_id() -> str:
    """A name for a job that no other has."""
    return uuid.uuid4().hex


def failed_record(
    verb: str, source: Sequence[Path], target: Path, words: str, *, title: str, cancelled: bool, id: str = ""
) -> Record:
    """A record of a job of which nothing came.

    Args:
        words: why, in a sentence.
        title: what was to be done.
        id: a name for it; a new one by default.
        cancelled: whether a person cancelled it, rather than that it failed.
    """
    return Record(
        id=id or new_id(),
        when=_now(),
        verb=verb,
        source=tuple(map(str, source[:_MOST_SOURCES])),
        target=str(target),
        words=words,
        result="cancelled" if cancelled else "failed",
        title=title,
        problems=() if cancelled else (words,),
    )


def _now() -> str:
    return datetime.now(UTC).astimezone().isoformat(timespec="seconds")


def record_of(
    report: Report, source: Sequence[Path], words: str, *, expected: tuple[int, float] = (0, 0.0), id: str = ""
) -> tuple[Record, list[Put]]:
    """A record of a job that has just ended, and what it put on the disk as it is now.

    Args:
        id: a name for it; a new one by default.
    """
    problems = report.problems
    puts = [put for path in report.created if (put := _put(path)) is not None]
    record = Record(
        id=id or new_id(),
        when=_now(),
        verb=report.verb,
        source=tuple(map(str, source[:_MOST_SOURCES])),
        target=str(report.target),
        words=words,
        files=report.files,
        bytes_in=report.bytes_in,
        bytes_out=report.bytes_out,
        seconds=round(report.seconds, 3),
        expected_size=expected[0],
        expected_seconds=round(expected[1], 3),
        problems=tuple(map(str, problems[:_MOST_PROBLEMS])),
        more_problems=max(len(problems) - _MOST_PROBLEMS, 0),
        trashed=tuple(report.trashed),
        replaced=tuple(report.replaced),
        moved=tuple(report.moved),
        can_undo=bool(puts) or bool(report.trashed) or bool(report.moved),
        bins=dict(report.bins),
        stamps=tuple(stamp(str(path)) for path in source[:_MOST_SOURCES]) if report.verb == "unpack" else (),
        boot=boot_id(),
    )
    return record, puts


def stamp(path: str) -> tuple[int, int, int, int]:
    """What a file is: device, file number, size and time of change; all -1 where there is none."""
    try:
        status = os.lstat(path)
    except OSError:
        return (-1, -1, -1, -1)
    return status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns


def _line(record: Record) -> str:
    values = {field.name: getattr(record, field.name) for field in fields(record)}
    return json.dumps(values) + "\n"


def _put(path: str) -> Put | None:
    try:
        status = os.lstat(path)
    except OSError:
        return None
    if stat.S_ISDIR(status.st_mode):
        return Put(path, device=status.st_dev, inode=status.st_ino)
    return Put(path, status.st_size, status.st_mtime_ns, status.st_dev, status.st_ino)


@dataclass(slots=True)
class Journal:
    """The records on the disk: one line each, and what each job put there in a file of its own.

    A journal that can't be written or read is as good as none: no work depends on it.
    """

    folder: Path = field(default_factory=lambda: moved_from(former_folder() / "journal", state_folder() / "journal"))

    @property
    def _lines(self) -> Path:
        return self.folder / "jobs.jsonl"

    def _puts_of(self, name: str) -> Path:
        return self.folder / f"{name}.json.gz"

    def _problems_of(self, name: str) -> Path:
        return self.folder / f"{name}.problems.gz"

    def problems(self, record: Record) -> list[str]:
        """All problems of a job, one line each."""
        try:
            with gzip.open(self._problems_of(record.id), "rt", encoding="utf-8", errors="surrogateescape") as lines:
                return [*record.problems, *lines.read().split("\n")] if record.more_problems else list(record.problems)
        except (OSError, EOFError):
            return list(record.problems)

    def add(self, record: Record, puts: Sequence[Put], problems: Sequence[Issue] = ()) -> None:
        """Keep one more record; the oldest ones go when there are very many.

        Args:
            problems: all problems of the job, of which the record has the first ones.
        """
        try:
            with locked(self.folder, "lock"):
                if puts:
                    rows = [[put.path, put.size, put.mtime_ns, put.device, put.inode] for put in puts]
                    content = json.dumps(rows).encode("utf-8", "surrogateescape")
                    keep_bytes(self._puts_of(record.id), gzip.compress(content, 6, mtime=0))
                if record.more_problems:
                    rest = "\n".join(map(str, problems[_MOST_PROBLEMS:])).encode("utf-8", "surrogateescape")
                    keep_bytes(self._problems_of(record.id), gzip.compress(rest, 6, mtime=0))
                self._append(_line(record))
                if self._lines.stat().st_size > _LARGEST:
                    self._rewrite()
        except OSError as error:
            _log.warning("The log could not be written: %s", error)

    def _append(self, line: str) -> None:
        """Write a line at the end, in one go; behind half a line, which a job that was killed may have left, on one of its own."""
        fd = os.open(self._lines, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
        try:
            size = os.fstat(fd).st_size
            whole = not size or os.pread(fd, 1, size - 1) == b"\n"
            data = ("" if whole else "\n").encode() + line.encode("utf-8", "surrogateescape")
            while data:
                data = data[os.write(fd, data) :]
        finally:
            os.close(fd)

    def records(self) -> list[Record]:
        """All records, the newest first; lines that can't be read are passed over."""
        try:
            lines = self._lines.read_text("utf-8", "surrogateescape").splitlines()
        except OSError:
            return []
        found: dict[str, Record] = {}
        for line in lines:
            try:
                values = json.loads(line)
                if set(values) == {"undone"}:
                    found[values["undone"]] = replace(found[values["undone"]], undone=True)
                    continue
                if set(values) == {"tried", "back"}:
                    tried = found[values["tried"]]
                    found[tried.id] = replace(tried, back=(*tried.back, *map(str, values["back"])))
                    continue
                for name in {"source", "problems", "trashed", "replaced", "back"} & set(values):
                    values[name] = tuple(values[name])
                values["stamps"] = tuple(tuple(row) for row in values.get("stamps", ()))
                values["moved"] = tuple((str(a), str(b)) for a, b in values.get("moved", ()))
                record = Record(**values)
            except (ValueError, TypeError, KeyError, AttributeError):
                continue
            found[record.id] = record
        return list(reversed(found.values()))

    def puts(self, record: Record) -> list[Put]:
        """What a job put on the disk, in that order."""
        try:
            with gzip.open(self._puts_of(record.id), "rt", encoding="utf-8", errors="surrogateescape") as lines:
                return [Put(*values) for values in json.load(lines)]
        except (OSError, ValueError, TypeError, EOFError):
            return []

    def undone(self, record: Record) -> None:
        """Note that a job was undone."""
        self._note({"undone": record.id})

    def tried(self, record: Record, back: Sequence[str]) -> None:
        """Note what an undo has given back that did not come to its end, so that it can be tried again."""
        self._note({"tried": record.id, "back": list(back)})

    def _note(self, values: dict[str, object]) -> None:
        try:
            with locked(self.folder, "lock"):
                self._append(json.dumps(values) + "\n")
        except OSError as error:
            _log.warning("The log could not be written: %s", error)

    def _rewrite(self) -> None:
        """Keep the newest records; what the others put on the disk is forgotten with them."""
        records = self.records()
        keep_text(self._lines, "".join(_line(record) for record in reversed(records[:_KEPT])))
        for record in records[_KEPT:]:
            self._puts_of(record.id).unlink(missing_ok=True)
            self._problems_of(record.id).unlink(missing_ok=True)
