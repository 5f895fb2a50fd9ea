"""What is compared, in columns: what an archive holds, and what a folder on the disk holds."""

from __future__ import annotations

import os
import stat
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from rundlet.core.errors import PlanError, file_problem
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind
from rundlet.core.text import plain_path
from rundlet.core.work.checksums import sums_of, sums_within

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.checksum_list import Algorithm
    from rundlet.core.streams.files import Stamp

_KIND_BITS = 0o170000
_KINDS = {stat.S_IFDIR: Kind.DIR, stat.S_IFREG: Kind.FILE, stat.S_IFLNK: Kind.LINK}
_EVERY = 4096  # entries between two looks at whether the work is cancelled

I64 = NDArray[np.int64]


class Side(ABC):
    """Items in columns, by their paths, which are bytes with ``/`` between folders and none at the end.

    Attributes:
        name: of the archive or the folder.
        names: the path of each row, in no order. No two are the same.
        kind, size, mtime_ns, mode, crc: as in :class:`~rundlet.core.model.catalog.Catalog`; a further name of a file is a file.
        issues: what can't be looked at.
    """

    name: str
    names: list[bytes]
    kind: NDArray[np.uint8]
    size: I64
    mtime_ns: I64
    mode: NDArray[np.uint32]
    crc: I64

    def __init__(self) -> None:
        self.issues: list[Issue] = []

    @abstractmethod
    def link(self, row: int) -> str:
        """Where a link leads. Raises ``RundletError``."""

    @abstractmethod
    def sums(self, rows: Sequence[int], algorithm: Algorithm, job: Job) -> dict[int, str]:
        """A checksum of the content of each of some files. One that can't be read is missing from it, and is an issue."""


class ArchiveSide(Side):
    """What an archive holds.

    Folders that it does not list, but that items of it lie in, are rows, too.

    Args:
        reader: stays open, and unlocked where it is locked, as long as content is read.

    Attributes:
        rows: the row in the archive's own catalog of each row but those of folders that it does not list, which come last.
    """

    def __init__(self, reader: ArchiveReader) -> None:
        super().__init__()
        self._reader = reader
        self.name = reader.source.name
        catalog = reader.catalog
        paths = _plain_paths(catalog.names.all_raw(), catalog.names.blob)
        last = {
            path: row for row, path in enumerate(paths)
        }  # of two items of one name, unpacking puts the last one there
        last.pop(b"", None)
        implied = _folders_above(last) - last.keys()
        rows = np.fromiter(last.values(), np.int64, len(last))
        at = rows.copy()
        kind = catalog.kind[rows].copy()
        for place in np.flatnonzero(kind == Kind.HARD).tolist():
            target = reader.hard_target(int(rows[place]))
            kind[place], at[place] = (Kind.FILE, target) if target is not None else (Kind.OTHER, rows[place])
        more = len(implied)
        self._at, self.rows = at, rows
        self.names = [*last, *implied]
        self.kind = np.append(kind, np.full(more, Kind.DIR, np.uint8))
        self.size = np.append(np.where(kind == Kind.FILE, catalog.size[at], 0), np.zeros(more, np.int64))
        self.mtime_ns = np.append(catalog.mtime_ns[rows], np.full(more, NO_TIME, np.int64))
        self.mode = np.append(catalog.mode[rows], np.zeros(more, np.uint32))
        self.crc = np.append(catalog.crc[at], np.full(more, UNKNOWN, np.int64))

    def link(self, row: int) -> str:
        return self._reader.link_target(int(self._at[row]))

    def catalog_row(self, row: int) -> int:
        """The row in the archive's own catalog, or -1 for a folder that it does not list."""
        return int(self.rows[row]) if 0 <= row < len(self.rows) else -1

    def sums(self, rows: Sequence[int], algorithm: Algorithm, job: Job) -> dict[int, str]:
        wanted: dict[int, list[int]] = {}
        for row in rows:
            wanted.setdefault(int(self._at[row]), []).append(row)
        found = {}
        places = np.array(sorted(wanted), np.int64)
        for each in sums_within(self._reader, [algorithm], job, rows=places, begins=False):
            if each.problem is not None:
                self.issues.append(issue_of(each.path, each.problem))
            else:
                found.update(dict.fromkeys(wanted[each.row], each.sums[algorithm]))
        return found


def _file_number(path: Path) -> tuple[int, int] | None:
    try:
        status = os.stat(path)
    except OSError:
        return None
    return status.st_dev, status.st_ino


class FolderSide(Side):
    """What a folder on the disk holds. Links are not followed.

    Args:
        folder: where it begins.
        only: names in it that are looked at; empty for all.
        without: files that are no items of it, wherever they lie in it, such as the archive that it is compared with.

    Attributes:
        holds_left_out: whether such a file lies in it.
        stamps: what the files were whose content was read.
        links: where the links led that were looked at.

    Raises:
        PlanError: when there is no such folder.
    """

    def __init__(self, folder: Path, only: Collection[str], job: Job, *, without: Iterable[Path] = ()) -> None:
        super().__init__()
        self._without = set(filter(None, map(_file_number, without)))
        self.holds_left_out = False
        if not folder.is_dir():
            raise PlanError("There is no folder {folder:name}.", folder=str(folder))
        self.name = folder.name
        self._folder = os.fsencode(folder).rstrip(b"/")
        self.stamps: dict[int, Stamp] = {}
        self.links: dict[int, str] = {}
        self.names = []
        self._modes: list[int] = []
        self._sizes: list[int] = []
        self._times: list[int] = []
        self._scan({os.fsencode(name) for name in only}, job)
        count = len(self.names)
        modes = np.fromiter(self._modes, np.uint32, count)
        self.kind = _kinds_of(modes)
        self.mode = (modes & 0o7777).astype(np.uint32)
        self.size = np.where(self.kind == Kind.FILE, np.fromiter(self._sizes, np.int64, count), 0)
        self.mtime_ns = np.fromiter(self._times, np.int64, count)
        self.crc = np.full(count, UNKNOWN, np.int64)
        self._modes, self._sizes, self._times = [], [], []

    def _scan(self, only: set[bytes], job: Job) -> None:
        pending = [b""]
        add, mode, size, mtime = self.names.append, self._modes.append, self._sizes.append, self._times.append
        while pending:
            above = pending.pop()
            job.checkpoint()
            try:
                with os.scandir(self._folder + b"/" + above) as entries:
                    for number, entry in enumerate(entries):
                        if not (above or not only or entry.name in only):
                            continue
                        path = above + entry.name
                        try:
                            status = entry.stat(follow_symlinks=False)
                        except OSError as error:
                            said = file_problem(error, "look at", os.fsdecode(path))
                            self.issues.append(issue_of(os.fsdecode(path), said))
                            continue
                        if self._without and (status.st_dev, status.st_ino) in self._without:
                            self.holds_left_out = True
                            continue
                        add(path)
                        mode(status.st_mode)
                        size(status.st_size)
                        mtime(status.st_mtime_ns)
                        if status.st_mode & _KIND_BITS == stat.S_IFDIR:
                            pending.append(path + b"/")
                        if not (number + 1) % _EVERY:
                            job.checkpoint()
            except OSError as error:
                path_read = os.fsdecode(above.rstrip(b"/")) or self.name
                self.issues.append(issue_of(path_read, file_problem(error, "read", path_read), Reason.NOT_READ))

    def path(self, row: int) -> Path:
        """Where an item lies on the disk."""
        return Path(os.fsdecode(self._folder + b"/" + self.names[row]))

    def link(self, row: int) -> str:
        path = self.path(row)
        try:
            target = os.readlink(path)  # noqa: PTH115 - a Path would tidy it
        except OSError as error:
            raise file_problem(error, "read", path) from error
        return self.links.setdefault(row, target)

    def sums(self, rows: Sequence[int], algorithm: Algorithm, job: Job) -> dict[int, str]:
        found = {}
        for row, each in zip(
            rows, sums_of([self.path(row) for row in rows], [algorithm], job, begins=False), strict=True
        ):
            if each.problem is not None:
                self.issues.append(issue_of(os.fsdecode(self.names[row]), each.problem))
            elif each.stamp is None:
                self.issues.append(issue(os.fsdecode(self.names[row]), Reason.CHANGED_WHILE_COMPARED))
            else:
                self.stamps[row] = each.stamp
                found[row] = each.sums[algorithm]
        return found


def _kinds_of(modes: NDArray[np.uint32]) -> NDArray[np.uint8]:
    kinds = np.full(len(modes), Kind.OTHER, np.uint8)
    for bits, kind in _KINDS.items():
        kinds[modes & _KIND_BITS == bits] = kind
    return kinds


def _plain_paths(paths: list[bytes], blob: bytes) -> list[bytes]:
    """Paths as they are compared; see :func:`rundlet.core.text.plain_path`."""
    if b"//" in blob or b"./" in blob or any(path.startswith(b"/") for path in paths):
        return [
            plain_path(path.decode("utf-8", "surrogateescape")).encode("utf-8", "surrogateescape") for path in paths
        ]
    return [path.rstrip(b"/") for path in paths]


def _folders_above(paths: Collection[bytes]) -> set[bytes]:
    found = {path.rpartition(b"/")[0] for path in paths}
    pending = found
    while pending:
        pending = {path.rpartition(b"/")[0] for path in pending} - found
        found = found | pending
    return found - {b""}
