"""The journal: what was packed and unpacked, kept over restarts, with all that is needed to take it back."""

from __future__ import annotations

import json
import logging
import os
import stat
from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from rundlet.core.errors import file_problem
from rundlet.core.fs.atomic_files import keep_bytes, keep_text
from rundlet.core.fs.base_folders import former_folder, moved_from, state_folder
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.jobs.outcomes import Outcome, Unpacked, outcome_from
from rundlet.core.sentences import Sentence
from rundlet.core.userdata.store import locked

_log = logging.getLogger(__name__)

_KEPT = 500
_LARGEST = 2_000_000  # bytes of all lines: some thousand ordinary records
_MOST_PROBLEMS = 100
_MOST_NOTES = 20
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
        outcome: what came of it, without its issues; of a job of which nothing came, its kind and target.
        source: what it took: the items, as far as they are not too many, or the archive.
        result: ``"done"``, ``"failed"`` or ``"cancelled"``.
        why: why nothing came of it; a plain string where an earlier version wrote it.
        expected_size, expected_seconds: what the trial had estimated, in bytes and seconds; 0 for nothing.
        problems: the first problems.
        more_problems: how many there are beside these; see :meth:`Journal.problems`.
        notes: the first of what is only worth knowing.
        undone: whether it was undone.
        can_undo: whether it put anything on the disk or moved anything away.
        stamps: what each of ``source`` was when the work ended: device, file number, size, time of change; -1 for what was gone.
        boot: the run of the system in which the device numbers hold.
        back: what an undo that did not come to its end has restored already.
        how: how it was packed, as :class:`~rundlet.core.userdata.presets.SavedSettings` has it, and whether it was locked.
    """

    id: str
    when: str
    outcome: Outcome
    source: tuple[str, ...] = ()
    result: str = "done"
    why: Sentence | str = ""
    expected_size: int = 0
    expected_seconds: float = 0.0
    problems: tuple[Issue, ...] = ()
    more_problems: int = 0
    notes: tuple[Issue, ...] = ()
    undone: bool = False
    can_undo: bool = False
    stamps: tuple[tuple[int, int, int, int], ...] = ()
    boot: str = ""
    back: tuple[str, ...] = ()
    how: dict[str, Any] = field(default_factory=dict)

    @property
    def can_be_repeated(self) -> bool:
        """Whether all is known that it takes to do it again."""
        is_packed = self.outcome.kind == "pack" and self.result == "done"
        return is_packed and bool(self.how) and 0 < len(self.source) < _MOST_SOURCES


def new_id() -> str:
    """A name for a job that no other has."""
    return os.urandom(16).hex()


def failed_record(
    kind: type[Outcome], source: Sequence[Path], target: Path, why: Sentence | str, *, cancelled: bool, id: str = ""
) -> Record:
    """A record of a job of which nothing came.

    Args:
        why: why.
        id: a name for it; a new one by default.
        cancelled: whether a person cancelled it, rather than that it failed.
    """
    return Record(
        id=id or new_id(),
        when=_now(),
        outcome=kind(target),
        source=tuple(map(str, source[:_MOST_SOURCES])),
        result="cancelled" if cancelled else "failed",
        why=why,
    )


def _now() -> str:
    return datetime.now(UTC).astimezone().isoformat(timespec="seconds")


def record_of(
    outcome: Outcome,
    source: Sequence[Path],
    *,
    expected: tuple[int, float] = (0, 0.0),
    id: str = "",
    how: dict[str, Any] | None = None,
) -> tuple[Record, list[Put]]:
    """A record of a job that has just ended, and what it put on the disk as it is now.

    Args:
        expected: bytes and seconds that were estimated, or zeros.
        id: a name for it; a new one by default.
        how: as in :class:`Record`.
    """
    problems = outcome.problems
    puts = [put for path in outcome.created if (put := _put(path)) is not None]
    is_unpacked = isinstance(outcome, Unpacked)
    record = Record(
        id=id or new_id(),
        when=_now(),
        outcome=replace(outcome, issues=[], created=[]),
        source=tuple(map(str, source[:_MOST_SOURCES])),
        expected_size=expected[0],
        expected_seconds=round(expected[1], 3),
        problems=tuple(problems[:_MOST_PROBLEMS]),
        more_problems=max(len(problems) - _MOST_PROBLEMS, 0),
        notes=tuple(issue for issue in outcome.issues if not issue.problem)[:_MOST_NOTES],
        can_undo=bool(puts) or bool(outcome.trashed) or bool(outcome.moved),
        stamps=tuple(stamp(str(path)) for path in source[:_MOST_SOURCES]) if is_unpacked else (),
        boot=boot_id(),
        how=how or {},
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
    values = {each.name: getattr(record, each.name) for each in fields(record)}
    values["outcome"] = record.outcome.as_values()
    if isinstance(record.why, Sentence):
        values["why"] = record.why.as_values()
    for name in ("problems", "notes"):
        values[name] = [issue.as_values() for issue in getattr(record, name)]
    return json.dumps(values) + "\n"


def _record(values: dict[str, Any]) -> Record:
    """A record from a line. Raises ``ValueError`` and what wrong types raise."""
    if "verb" in values:
        return _former_record(values)
    values["outcome"] = outcome_from(values["outcome"])
    if isinstance(values.get("why"), dict):
        values["why"] = Sentence.from_values(values["why"])
    for name in ("problems", "notes"):
        values[name] = tuple(map(Issue.from_values, values.get(name, ())))
    for name in {"source", "back"} & set(values):
        values[name] = tuple(map(str, values[name]))
    values["stamps"] = tuple(tuple(row) for row in values.get("stamps", ()))
    return Record(**values)


def _former_record(values: dict[str, Any]) -> Record:
    """A record as earlier versions wrote it: all in one, with sentences instead of what they say."""
    outcome = outcome_from({**values, "kind": values["verb"]})
    failed = values.get("result", "done") != "done"
    return Record(
        id=values["id"],
        when=values["when"],
        outcome=outcome,
        source=tuple(map(str, values["source"])),
        result=values.get("result", "done"),
        why=str(values.get("words", "")) if failed else "",
        expected_size=values.get("expected_size", 0),
        expected_seconds=values.get("expected_seconds", 0.0),
        problems=() if failed else tuple(_said(str(line)) for line in values.get("problems", ())),
        more_problems=values.get("more_problems", 0),
        undone=values.get("undone", False),
        can_undo=values.get("can_undo", False),
        stamps=tuple(tuple(row) for row in values.get("stamps", ())),
        boot=values.get("boot", ""),
        back=tuple(map(str, values.get("back", ()))),
    )


def _problem(line: str) -> Issue:
    try:
        return Issue.from_values(json.loads(line))
    except (ValueError, TypeError, KeyError, AttributeError, AssertionError):
        return _said(line)  # as earlier versions wrote it


def _said(line: str) -> Issue:
    return issue("", Reason.SAID, problem=line)


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

    def problems(self, record: Record) -> list[Issue]:
        """All problems of a job."""
        if not record.more_problems:
            return list(record.problems)
        import gzip  # seldom needed when the window opens

        try:
            with gzip.open(self._problems_of(record.id), "rt", encoding="utf-8", errors="surrogateescape") as lines:
                return [*record.problems, *map(_problem, lines.read().split("\n"))]
        except (OSError, EOFError):
            return list(record.problems)

    def add(self, record: Record, puts: Sequence[Put], problems: Sequence[Issue] = ()) -> None:
        """Keep one more record; the oldest ones go when there are very many.

        Args:
            problems: all problems of the job, of which the record has the first ones.
        """
        import gzip

        try:
            with locked(self.folder, "lock"):
                if puts:
                    rows = [[put.path, put.size, put.mtime_ns, put.device, put.inode] for put in puts]
                    content = json.dumps(rows).encode("utf-8", "surrogateescape")
                    keep_bytes(self._puts_of(record.id), gzip.compress(content, 6, mtime=0))
                if record.more_problems:
                    rest = "\n".join(json.dumps(problem.as_values()) for problem in problems[_MOST_PROBLEMS:]).encode(
                        "utf-8", "surrogateescape"
                    )
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
                record = _record(values)
            except (ValueError, TypeError, KeyError, AttributeError, AssertionError):
                continue
            found[record.id] = record
        return list(reversed(found.values()))

    def puts(self, record: Record) -> list[Put]:
        """What a job put on the disk, in that order."""
        import gzip

        try:
            with gzip.open(self._puts_of(record.id), "rt", encoding="utf-8", errors="surrogateescape") as lines:
                return [Put(*values) for values in json.load(lines)]
        except (OSError, ValueError, TypeError, EOFError):
            return []

    def undone(self, record: Record) -> None:
        """Note that a job was undone."""
        self._note({"undone": record.id})

    def tried(self, record: Record, back: Sequence[str]) -> None:
        """Note what an undo has restored that did not come to its end, so that it can be tried again."""
        self._note({"tried": record.id, "back": list(back)})

    def _note(self, values: dict[str, object]) -> None:
        try:
            with locked(self.folder, "lock"):
                self._append(json.dumps(values) + "\n")
        except OSError as error:
            _log.warning("The log could not be written: %s", error)

    def clear(self) -> None:
        """Forget all jobs, so that none of them can be undone any more.

        Raises:
            FileProblem: when the system refuses.
        """
        try:
            with locked(self.folder, "lock"):
                for path in (self._lines, *self.folder.glob("*.json.gz"), *self.folder.glob("*.problems.gz")):
                    path.unlink(missing_ok=True)
        except OSError as error:
            raise file_problem(error, "remove", self.folder) from error

    def _rewrite(self) -> None:
        """Keep the newest records; what the others put on the disk is forgotten with them."""
        records = self.records()
        keep_text(self._lines, "".join(_line(record) for record in reversed(records[:_KEPT])))
        for record in records[_KEPT:]:
            self._puts_of(record.id).unlink(missing_ok=True)
            self._problems_of(record.id).unlink(missing_ok=True)
