"""The journal: what was packed and unpacked, kept over restarts, with all that is needed to take it back."""

from __future__ import annotations

import gzip
import json
import os
import stat
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import UTC, datetime
from pathlib import Path

import platformdirs

from rundlet.core.files.kept import keep_text
from rundlet.core.jobs.report import Report

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
    """

    path: str
    size: int = -1
    mtime_ns: int = -1


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
        undone: whether it was taken back.
        can_undo: whether it put anything on the disk or moved anything away.
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


def record_of(
    report: Report, source: Sequence[Path], words: str, *, expected: tuple[int, float] = (0, 0.0)
) -> tuple[Record, list[Put]]:
    """A record of a job that has just ended, and what it put on the disk as it is now."""
    puts = [put for path in report.created if (put := _put(path)) is not None]
    record = Record(
        id=uuid.uuid4().hex,
        when=datetime.now(UTC).astimezone().isoformat(timespec="seconds"),
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
        problems=tuple(map(str, report.problems[:_MOST_PROBLEMS])),
        trashed=tuple(report.trashed),
        replaced=tuple(report.replaced),
        moved=tuple(report.moved),
        can_undo=bool(puts) or bool(report.trashed) or bool(report.moved),
    )
    return record, puts


def _line(record: Record) -> str:
    values = {field.name: getattr(record, field.name) for field in fields(record)}
    return json.dumps(values) + "\n"


def _put(path: str) -> Put | None:
    try:
        status = os.lstat(path)
    except OSError:
        return None
    if stat.S_ISDIR(status.st_mode):
        return Put(path)
    return Put(path, status.st_size, status.st_mtime_ns)


@dataclass(slots=True)
class Journal:
    """The records on the disk: one line each, and what each job put there in a file of its own.

    A journal that can't be written or read is as good as none: no work depends on it.
    """

    folder: Path = field(default_factory=lambda: Path(platformdirs.user_data_dir("rundlet")) / "journal")

    @property
    def _lines(self) -> Path:
        return self.folder / "jobs.jsonl"

    def _puts_of(self, name: str) -> Path:
        return self.folder / f"{name}.json.gz"

    def add(self, record: Record, puts: Sequence[Put]) -> None:
        """Keep one more record; the oldest ones go when there are very many."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            if puts:
                with gzip.open(self._puts_of(record.id), "wt", encoding="utf-8", errors="surrogateescape") as out:
                    json.dump([[put.path, put.size, put.mtime_ns] for put in puts], out)
            with self._lines.open("a", encoding="utf-8", errors="surrogateescape") as lines:
                lines.write(_line(record))
            if self._lines.stat().st_size > _LARGEST:
                self._rewrite(self.records()[:_KEPT])
        except OSError:
            return

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
                for name in {"source", "problems", "trashed", "replaced"} & set(values):
                    values[name] = tuple(values[name])
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
        """Note that a job was taken back."""
        try:
            with self._lines.open("a", encoding="utf-8") as lines:
                lines.write(json.dumps({"undone": record.id}) + "\n")
        except OSError:
            return

    def _rewrite(self, kept: Sequence[Record]) -> None:
        keep_text(self._lines, "".join(_line(record) for record in reversed(kept)))
        names = {self._puts_of(record.id) for record in kept}
        for path in self.folder.glob("*.json.gz"):
            if path not in names:
                path.unlink(missing_ok=True)
