"""Checksums of files: all that are asked for in one read, several files side by side, and held against a list of them."""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import numpy as np

from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import FileProblem, RundletError, file_problem
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.jobs.job import Job
from rundlet.core.limits import KIB
from rundlet.core.model.checksum_list import Algorithm, ChecksumLine
from rundlet.core.model.entry import Kind
from rundlet.core.streams.files import Stamp, stamp_of
from rundlet.core.streams.parts import JoinedSource, files_of, listed_sums
from rundlet.core.work.scheduler import run_side_by_side

if TYPE_CHECKING:
    from collections.abc import Iterator

    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader, Unit
    from rundlet.core.streams.sources import ByteSource
    from rundlet.core.userdata.sum_cache import SumCache

_PIECE = 512 * KIB


class _Digest(Protocol):
    def update(self, data: bytes | memoryview, /) -> None: ...
    def hexdigest(self) -> str: ...


class _Crc:
    def __init__(self) -> None:
        self._value = 0

    def update(self, data: bytes | memoryview, /) -> None:
        self._value = crc32(data, self._value)

    def hexdigest(self) -> str:
        return f"{self._value:08x}"


_DIGESTS: dict[Algorithm, Callable[[], _Digest]] = {
    Algorithm.SHA256: hashlib.sha256,
    Algorithm.SHA512: hashlib.sha512,
    Algorithm.SHA1: lambda: hashlib.sha1(usedforsecurity=False),
    Algorithm.MD5: lambda: hashlib.md5(usedforsecurity=False),
    Algorithm.BLAKE2B: hashlib.blake2b,
    Algorithm.CRC32: _Crc,
}


@dataclass(frozen=True, slots=True)
class FileSums:
    """What was found out of one file.

    Attributes:
        path: the file.
        sums: by algorithm, in lower case hexadecimal digits; empty where it could not be read.
        problem: why it could not be read, or None.
        stamp: what the file was when it was read; None where it changed meanwhile.
    """

    path: Path
    sums: dict[Algorithm, str] = field(default_factory=dict)
    problem: FileProblem | None = None
    stamp: Stamp | None = None


@dataclass(frozen=True, slots=True)
class EntrySums:
    """What was found out of one file in an archive; as :class:`FileSums`, by its row and its path there."""

    row: int
    path: str
    sums: dict[Algorithm, str] = field(default_factory=dict)
    problem: RundletError | None = None


class Match(StrEnum):
    """What became of a line of a list."""

    SAME = "matches"
    DIFFERS = "differs"
    MISSING = "missing"
    UNREADABLE = "unreadable"
    OUTSIDE = "outside"
    """Its name leads out of the folder of the list, so it was not looked at."""


@dataclass(frozen=True, slots=True)
class Verified:
    """A line of a list, and what became of it.

    Attributes:
        found: the checksum that the file has, "" where it was not read.
        problem: why it could not be read, or None.
    """

    line: ChecksumLine
    match: Match
    found: str = ""
    problem: FileProblem | None = None


def sums_of(
    paths: Sequence[Path],
    algorithms: Sequence[Algorithm],
    job: Job | None = None,
    *,
    begins: bool = True,
    workers: int | None = None,
    cache: SumCache | None = None,
) -> list[FileSums]:
    """The checksums of files, in their order. Links are followed; what is no ordinary file is a problem of it.

    Args:
        job: told of the bytes that were read; may pause and cancel.
        begins: whether this is a phase of the job by itself, and not part of one that has begun.
        workers: how many files are read side by side; as many as there are cores by default.
        cache: what is known already, and keeps what is found out.
    """
    job = job or Job()
    known = cache.known(list(paths)) if cache is not None else {}
    missing = {path: [] if known.get(path, {}).keys() >= set(algorithms) else list(algorithms) for path in paths}
    if begins:
        size = sum(_size(path) for path in paths if missing[path])
        job.begin("Reading", total_bytes=size, total_entries=len(paths))
    with ThreadPoolExecutor(workers or cores(), thread_name_prefix="checksum") as pool:
        futures = [pool.submit(_sums, path, missing[path], job) for path in paths]
        try:
            found = [future.result() for future in futures]
        except BaseException:
            for future in futures:
                future.cancel()
            raise
    if cache is not None:
        cache.keep({each.stamp: each.sums for each in found if each.stamp is not None and each.sums})
    return [
        each
        if each.problem is not None
        else replace(each, sums={one: (each.sums or known[each.path])[one] for one in algorithms})
        for each in found
    ]


def sums_within(
    reader: ArchiveReader,
    algorithms: Sequence[Algorithm],
    job: Job | None = None,
    *,
    rows: NDArray[np.int64] | None = None,
    begins: bool = True,
    workers: int | None = None,
) -> list[EntrySums]:
    """The checksums of the files in an archive, in its order, without unpacking it.

    Args:
        rows: of which items; all by default.
        job: told of the bytes that were read; may pause and cancel.
        begins: as in :func:`sums_of`.
    """
    job = job or Job()
    catalog = reader.catalog
    wanted: NDArray[np.int64] = np.arange(len(catalog)) if rows is None else rows
    wanted = wanted[catalog.kind[wanted] == Kind.FILE]
    if begins:
        size = int(np.maximum(catalog.size[wanted], 0).sum())
        job.begin("Reading", total_bytes=size, total_entries=len(wanted))
    found: dict[int, EntrySums] = {}

    def work(units: Iterator[Unit]) -> None:
        for unit in units:
            for row, chunks in unit.stream():
                digests = {algorithm: _DIGESTS[algorithm]() for algorithm in algorithms}
                path = catalog.path(row)
                try:
                    for data in chunks:
                        for digest in digests.values():
                            digest.update(data)
                        job.advance(len(data))
                except RundletError as error:
                    found[row] = EntrySums(row, path, problem=error)
                else:
                    found[row] = EntrySums(row, path, {one: digest.hexdigest() for one, digest in digests.items()})
                job.advance(entries=1)

    run_side_by_side(reader.units(wanted), work, workers or cores())
    return [found[row] for row in sorted(found)]


def parts_that_differ(source: ByteSource, job: Job) -> list[Issue]:
    """The parts of an archive or of a split file that are not what the checksum file beside them says.

    Args:
        source: the parts; all that the file lists are read.
        job: told of the progress; may pause and cancel.
    """
    paths = files_of(source) if isinstance(source, JoinedSource) else []
    sums = listed_sums(paths[0].with_name(source.name)) if paths else {}
    found = sums_of([path for path in paths if path.name in sums], [Algorithm.SHA256], job) if sums else []
    return [
        issue(each.path.name, Reason.PART_DIFFERS)
        for each in found
        if each.problem is None and each.sums[Algorithm.SHA256] != sums[each.path.name]
    ]


def verify(
    lines: Sequence[ChecksumLine], folder: Path, job: Job | None = None, *, cache: SumCache | None = None
) -> list[Verified]:
    """Hold files against a list of their checksums. No name leads outside the folder.

    Args:
        folder: where the list lies.
        cache: as in :func:`sums_of`.
    """
    inside = {line.name: path for line in lines if (path := _inside(folder, line.name)) is not None}
    wanted: dict[Path, set[Algorithm]] = {}
    for line in lines:
        if line.name in inside and os.path.lexists(inside[line.name]):
            wanted.setdefault(inside[line.name], set()).update(line.algorithms)
    paths = list(wanted)
    algorithms = sorted(set().union(*wanted.values())) if wanted else []
    found = {each.path: each for each in sums_of(paths, algorithms, job, cache=cache)}
    return [_verified(line, inside.get(line.name), found) for line in lines]


def _verified(line: ChecksumLine, path: Path | None, found: dict[Path, FileSums]) -> Verified:
    if path is None:
        return Verified(line, Match.OUTSIDE)
    sums = found.get(path)
    if sums is None:
        return Verified(line, Match.MISSING)
    if sums.problem is not None:
        return Verified(line, Match.UNREADABLE, problem=sums.problem)
    there = sums.sums[line.algorithm]
    same = any(sums.sums[one] == line.digest for one in line.algorithms)
    return Verified(line, Match.SAME if same else Match.DIFFERS, there)


def _inside(folder: Path, name: str) -> Path | None:
    """Where a name of a list leads to, or None where that is outside of its folder, also by way of links."""
    if not name or name.startswith("/") or "\0" in name or ".." in name.split("/"):
        return None
    path = folder / name
    return path if path.resolve().is_relative_to(folder.resolve()) else None


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _sums(path: Path, algorithms: Sequence[Algorithm], job: Job) -> FileSums:
    digests = {algorithm: _DIGESTS[algorithm]() for algorithm in algorithms}
    piece = bytearray(_PIECE)
    view = memoryview(piece)
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)  # else a pipe would be waited for
        try:
            before = os.fstat(fd)
            if not stat.S_ISREG(before.st_mode):
                raise OSError(errno.EISDIR if path.is_dir() else errno.ENXIO, "")
            while digests and (count := os.readv(fd, [piece])):  # of one whose checksums are known, nothing is read
                for digest in digests.values():
                    digest.update(view[:count])
                job.advance(count)
            stamp = stamp_of(os.fstat(fd))
        finally:
            os.close(fd)
    except OSError as error:
        job.advance(entries=1)
        return FileSums(path, problem=file_problem(error, "read", path))
    job.advance(entries=1)
    found = {algorithm: digest.hexdigest() for algorithm, digest in digests.items()}
    return FileSums(path, found, stamp=stamp if stamp == stamp_of(before) else None)
