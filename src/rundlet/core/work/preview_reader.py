"""Reading the beginning of entries and files, for a look at them; nothing is written to the disk."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import RundletError, file_problem
from rundlet.core.jobs.job import Job

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader


@dataclass(frozen=True, slots=True)
class Head:
    """The beginning of a file.

    Attributes:
        data: its first bytes.
        whole: whether there are no more.
    """

    data: bytes
    whole: bool


def head_of_file(path: Path, most: int) -> Head:
    """The first ``most`` bytes of a file.

    Raises:
        FileProblem: when it can't be read.
    """
    try:
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        with os.fdopen(fd, "rb") as file:
            data = file.read(most + 1) or b""
    except OSError as error:
        raise file_problem(error, "read", path) from error
    return Head(data[:most], len(data) <= most)


def heads_of_entries(
    reader: ArchiveReader, rows: Sequence[int], most: Callable[[int], int], job: Job | None = None
) -> Iterator[tuple[int, Head | RundletError]]:
    """The beginnings of entries, in the archive's own order, or what is wrong with one.

    Args:
        most: how many bytes are wanted of the entry in a row.
        job: asked between the chunks; may cancel.
    """
    import numpy as np  # files on the disk are looked at without

    job = job or Job()
    for unit in reader.units(np.array(sorted(rows), np.int64)):
        for row, chunks in unit.stream():
            try:
                yield row, _head(chunks, most(row), job)
            except RundletError as error:
                yield row, error


def _head(chunks: Iterable[bytes], most: int, job: Job) -> Head:
    pieces, got = [], 0
    for chunk in chunks:
        job.checkpoint()
        pieces.append(chunk)
        got += len(chunk)
        if got > most:
            return Head(b"".join(pieces)[:most], whole=False)
    return Head(b"".join(pieces), whole=True)


def head_of_entry(reader: ArchiveReader, row: int, most: int, job: Job | None = None) -> Head:
    """The beginning of one entry.

    Raises:
        RundletError: when it is locked, damaged or of an unknown method.
    """
    for _, head in heads_of_entries(reader, [row], lambda _: most, job):
        if isinstance(head, RundletError):
            raise head
        return head
    return Head(b"", whole=True)
