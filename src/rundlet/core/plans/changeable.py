"""Archives that can be changed, and whether what is to go in is in them already."""

from __future__ import annotations

import zlib
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import OutOfDate, PlanError
from rundlet.core.formats.detect import WRITABLE, open_archive
from rundlet.core.formats.item_reading import READ_ERRORS, open_item
from rundlet.core.limits import CHUNK
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.opening import Opening
from rundlet.core.streams.parts import files_of, is_outdated

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.item import PackItem


def open_changeable(path: Path, password: str, job: Job) -> ArchiveReader:
    """Open an archive that is to be changed, unlocked where it is locked.

    Raises:
        PlanError: when it can't be changed; the message says why.
        RundletError: when it can't be opened, or not with the password.
    """
    reader = open_archive(path, Opening(job=job, password=password or None))
    try:
        see_that_it_can_be_changed(path, reader, password)
        if reader.catalog.encrypted.any() and not reader.unlocked:
            reader.unlock(password)
    except BaseException:
        reader.close()
        raise
    return reader


def see_that_it_can_be_changed(path: Path, reader: ArchiveReader, password: str) -> None:
    """See to it that an open archive can be changed.

    Args:
        password: what opens it, or "".

    Raises:
        PlanError: when it can't be; the message says why.
        OutOfDate: when it was changed since it was opened.
    """
    name = path.name
    if is_outdated(reader.source):
        raise OutOfDate("Another job has changed {archive:name} meanwhile.", archive=name)
    if files_of(reader.source) != [path] or reader.source.size != path.stat().st_size:
        raise PlanError(
            "{archive:name} comes in parts or behind a program, so it can't be changed.",
            hint="Convert it to a new archive.",
            archive=name,
        )
    if reader.info.id not in {known.info.id for known in WRITABLE}:
        raise PlanError(
            "An archive in the format {format} can't be changed.",
            hint="Convert it to another format.",
            format=reader.info.id,
        )
    if any(notice.problem for notice in reader.notices):
        raise PlanError(
            "{archive:name} is damaged, so it can't be changed.", hint="Unpack what is intact instead.", archive=name
        )
    if reader.unkept:
        raise PlanError(reader.unkept, archive=name)
    if reader.catalog.encrypted.any() and not password:
        raise PlanError(
            "{archive:name} is locked, and what is added would not be.", hint="Type its password first.", archive=name
        )


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
