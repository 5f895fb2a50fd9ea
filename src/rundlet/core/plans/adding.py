"""What becomes of new entries beside those that an archive holds already."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.formats.detect import WRITABLE, open_archive
from rundlet.core.formats.item_reading import READ_ERRORS, open_item
from rundlet.core.fs.safe_names import first_free
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.limits import CHUNK
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.opening import Opening
from rundlet.core.streams.parts import files_of
from rundlet.core.text import plain_path, quoted

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.item import PackItem

_NEW = -1  # stands for the row of an entry that is yet to be written


@dataclass(frozen=True, slots=True)
class Base:
    """An archive that is added to.

    Attributes:
        fingerprint: what it looked like when the plan was made.
        size: its bytes.
        names_hidden: whether its list is locked, which it then stays.
        same: how many of the items are in it already, as far as size and CRC-32 tell.
    """

    fingerprint: tuple[int, ...]
    size: int
    names_hidden: bool
    same: int


def open_changeable(path: Path, password: str, job: Job) -> ArchiveReader:
    """Open an archive that is to be changed, unlocked where it is locked.

    Raises:
        PlanError: when it can't be changed; the message says why.
        RundletError: when it can't be opened, or not with the password.
    """
    name = quoted(path.name)
    reader = open_archive(path, Opening(job=job, password=password or None))
    try:
        if files_of(reader.source) != [path] or reader.source.size != path.stat().st_size:
            raise PlanError(
                f"{name} comes in parts or behind a program, so it can't be changed.",
                hint="Convert it to a new archive.",
            )
        if reader.info.id not in {known.info.id for known in WRITABLE}:
            raise PlanError(
                f"An archive in the format {reader.info.id} can't be changed.", hint="Convert it to another format."
            )
        if any(notice.problem for notice in reader.notices):
            raise PlanError(f"{name} is damaged, so it can't be changed.", hint="Unpack what is intact instead.")
        if reader.unkept:
            raise PlanError(f"{name} can't be changed, as {reader.unkept}.")
        if reader.catalog.encrypted.any() and not password:
            raise PlanError(f"{name} is locked, and what is added would not be.", hint="Type its password first.")
        if reader.catalog.encrypted.any() and not reader.unlocked:
            reader.unlock(password)
    except BaseException:
        reader.close()
        raise
    return reader


def open_base(path: Path, info: FormatInfo, options: WriteOptions, job: Job) -> ArchiveReader:
    """Open an archive that is to be added to.

    Raises:
        PlanError: when nothing can be added to it; the message says why.
        RundletError: when it can't be opened, or not with the password.
    """
    reader = open_changeable(path, options.password, job)
    try:
        name = quoted(path.name)
        if reader.info.id != info.id:
            raise PlanError(
                f"{name} is in the format {reader.info.id}, so nothing in the format {info.id} can be added to it."
            )
        if reader.uncounted:
            raise PlanError(f"Nothing can be added to {name}, as {reader.uncounted}.")
    except BaseException:
        reader.close()
        raise
    return reader


def beside(items: Sequence[PackItem], reader: ArchiveReader, job: Job) -> tuple[list[PackItem], list[Issue], Base]:
    """The items under names that the archive does not hold yet, what is to be said of them, and the archive as it is.

    A folder that is there already is gone on with, a file with the same content is left out, and any other is numbered.

    Raises:
        PlanError: when the archive holds all of it already.
    """
    there = {plain_path(reader.catalog.path(row)): row for row in range(len(reader.catalog))}
    renamed: dict[str, str] = {}
    kept: list[PackItem] = []
    issues: list[Issue] = []
    same = 0
    for item in items:
        job.checkpoint()
        folder, slash, name = item.path.rpartition("/")
        above = renamed.get(folder, folder) + slash
        asked = above + name
        row = there.get(asked, _NEW)
        if row != _NEW and item.kind == Kind.DIR and reader.catalog.kind[row] == Kind.DIR:
            continue
        if row != _NEW and is_same(item, reader, row, job):
            issues.append(issue(item.path, Reason.ALREADY_IN_ARCHIVE))
            same += 1
            continue
        path = above + first_free(name, lambda other, above=above: above + other in there)  # type: ignore[misc]
        if item.kind == Kind.DIR:
            renamed[item.path] = path
        if path != asked:
            issues.append(issue(item.path, Reason.NAME_IN_ARCHIVE, name=path.rpartition("/")[2]))
        there[path] = _NEW
        kept.append(item if path == item.path else item._replace(path=path))
    if not kept:
        raise PlanError(f"{quoted(reader.source.name)} holds all of it already.")
    return kept, issues, Base(reader.source.fingerprint(), reader.source.size, reader.names_hidden, same)


def is_same(item: PackItem, reader: ArchiveReader, row: int, job: Job) -> bool:
    """Whether an item has the content of an entry, for a file as far as size and CRC-32 tell."""
    before = reader.catalog.entry(row)
    if item.kind != before.kind:
        return False
    if item.kind == Kind.LINK:
        return reader.link_target(row) == item.target
    if item.kind == Kind.DIR or item.size != before.size or (before.crc == UNKNOWN and item.size):
        return False
    found = at = 0
    try:
        content = open_item(item)
        try:
            while data := content.read(CHUNK, at):
                job.checkpoint()
                found = zlib.crc32(data, found)
                at += len(data)
        finally:
            content.close()
    except READ_ERRORS:
        return False
    return at == before.size and (not at or found == before.crc)
