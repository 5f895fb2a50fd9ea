"""Which formats there are, and which one a file is in: told by its content, never by its name."""

from __future__ import annotations

from pathlib import Path

from rundlet.core.errors import PlanError, UnknownFormat
from rundlet.core.formats import zip as zip_format
from rundlet.core.formats.base import ArchiveReader, Format
from rundlet.core.streams.sources import ByteSource, FileSource
from rundlet.core.text import quoted

FORMATS: tuple[Format, ...] = (zip_format.FORMAT,)


def by_id(name: str) -> Format:
    """The format of this short name.

    Raises:
        PlanError: when there is none.
    """
    for known in FORMATS:
        if known.info.id == name:
            return known
    raise PlanError(f"Rundlet has no format {quoted(name)}. It has: {', '.join(f.info.id for f in FORMATS)}.")


def by_ending(path: Path) -> Format | None:
    """The format that the end of a file name stands for, or None. Only for naming new archives."""
    return next((known for known in FORMATS if path.name.lower().endswith(known.info.ending)), None)


def detect(source: ByteSource) -> Format | None:
    """The format of these bytes, or None."""
    return next((known for known in FORMATS if known.probe(source)), None)


def open_archive(path: Path) -> ArchiveReader:
    """Open an archive.

    Raises:
        FileProblem: when it can't be read.
        UnknownFormat: when it is none of ours.
        FormatError: when it is damaged.
    """
    return open_source(FileSource(path))


def open_source(source: ByteSource) -> ArchiveReader:
    """Open an archive from any bytes; the source is closed when that fails."""
    try:
        found = detect(source)
        if found is None:
            raise UnknownFormat(_unknown(source), archive=source.name)
        return found.open(source)
    except BaseException:
        source.close()
        raise


def _unknown(source: ByteSource) -> str:
    if source.size == 0:
        return f"{quoted(source.name)} is empty, so it is not an archive."
    return f"{quoted(source.name)} is not an archive that Rundlet can read."
