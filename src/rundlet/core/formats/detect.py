"""Which formats there are, and which one a file is in: told by its content, never by its name."""

from __future__ import annotations

import importlib
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import FormatError, MissingPart, PasswordNeeded, PlanError, RundletError, UnknownFormat
from rundlet.core.formats import known
from rundlet.core.formats.known import HEAD, may_be
from rundlet.core.jobs.findings import Reason, issue
from rundlet.core.model.opening import Opening
from rundlet.core.sentences import Sentence, several
from rundlet.core.streams.parts import JoinedSource, open_parts
from rundlet.core.streams.sources import ByteSource, FileSource

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader, ArchiveWriter, Format, Sink
    from rundlet.core.model.format_info import FormatInfo, WriteOptions


class _Known:
    """A format whose code is loaded when it is first wanted. See :class:`rundlet.core.formats.base.Format`."""

    def __init__(self, info: FormatInfo, module: str) -> None:
        self.info = info
        self._module = module

    @cached_property
    def _format(self) -> Format:
        module = importlib.import_module(f"rundlet.core.formats.{self._module}")
        found: Format = next(one for one in module.FORMATS if one.info is self.info)
        return found

    def probe(self, source: ByteSource) -> bool:
        return may_be(self.info, source.read_at(0, HEAD)) and self._format.probe(source)

    def open(self, source: ByteSource, opening: Opening) -> ArchiveReader:
        return self._format.open(source, opening)

    def create(self, sink: Sink, options: WriteOptions) -> ArchiveWriter:
        return self._format.create(sink, options)


_ZIP, _SEVEN = _Known(known.ZIP, "zip"), _Known(known.SEVEN, "sevenz")

FORMATS: tuple[Format, ...] = (
    _Known(known.TAR, "tar"),
    _SEVEN,
    *(_Known(info, "tar") for info in known.PACKED_TARS),
    *(_Known(info, "single") for info in known.SINGLE),
    _ZIP,
)
"""In the order in which they are looked for. zip comes last: it is also told by its end, which may stand in any file."""

WRITABLE: tuple[Format, ...] = (
    _ZIP,
    _SEVEN,
    *(f for f in FORMATS if f.info.writes and f not in (_ZIP, _SEVEN)),
)
"""Those that new archives can be made in."""

_MOST_SAID = 3  # parts that are named one by one

_EMPTY = "{archive:name} is empty, so it is not an archive."
_UNKNOWN = "{archive:name} is not an archive that Rundlet can read."


def by_id(name: str) -> Format:
    """The format of this short name.

    Raises:
        PlanError: when there is none.
    """
    for one in WRITABLE:
        if one.info.id == name:
            return one
    raise PlanError(
        "Rundlet writes no format {name:name}. It writes: {formats}.",
        name=name,
        formats=", ".join(f.info.id for f in WRITABLE),
    )


def by_ending(path: Path) -> Format | None:
    """The format that the end of a file name stands for, or None. Only for naming new archives."""
    name = path.name.lower()
    fitting = (f for f in WRITABLE if name.endswith((f.info.ending, *f.info.other_endings)))
    return max(fitting, key=lambda f: len(f.info.ending), default=None)


def detect(source: ByteSource) -> Format | None:
    """The format of these bytes, or None."""
    return next((one for one in FORMATS if _fits(one, source)), None)


def _fits(one: Format, source: ByteSource) -> bool:
    try:
        return one.probe(source)
    except MissingPart:
        return False  # what tells this format is in a part that is not there


def is_archive(path: Path) -> bool:
    """Whether the content of a file is in one of our formats, whatever its name says; False when it can't be read."""
    try:
        with closing(FileSource(path)) as source:
            return detect(source) is not None
    except RundletError:
        return False


def open_archive(path: Path, opening: Opening | None = None) -> ArchiveReader:
    """Open an archive, whole or by any of its parts.

    Raises:
        FileProblem: when it can't be read.
        UnknownFormat: when it is none of ours.
        FormatError: when it is damaged.
        MissingPart: when the part with the file list is not there.
    """
    return open_source(open_parts(path) or FileSource(path), opening)


def open_source(source: ByteSource, opening: Opening | None = None) -> ArchiveReader:
    """Open an archive from any bytes; the source is closed when that fails."""
    try:
        found = detect(source)
        if found is None:
            raise UnknownFormat(_EMPTY if source.size == 0 else _UNKNOWN, archive=source.name)
        reader = found.open(source, opening or Opening())
    except (FormatError, MissingPart) as error:
        source.close()
        if isinstance(source, JoinedSource):
            raise _more_parts(source) from error
        raise
    except BaseException:
        source.close()
        raise
    if isinstance(source, JoinedSource):
        largest = max(part.size for part in source.parts)
        if source.parts[-1].there == largest and any(notice.problem for notice in reader.notices):
            reader.notices.insert(0, issue(source.name, Reason.NEXT_PART, number=len(source.parts) + 1))
        reader.notices[:0] = source.issues
    return reader


def _more_parts(source: JoinedSource) -> MissingPart:
    """What to say when all the parts that are there do not make up an archive."""
    last = source.parts[-1]
    if wanting := source.wanting():
        more = len(wanting) - _MOST_SAID
        said = wanting[:_MOST_SAID]
        if more > 0:
            said.append(Sentence("{more:number} more are not all here.", {"more": more}))
        return MissingPart(
            "{archive:name} can't be opened with the parts that are here.", archive=source.name, hint=several(said)
        )
    return MissingPart(
        "The parts of {archive:name} that are here, {count:number} of them, are not all of it.",
        archive=source.name,
        hint="Part {next} should come next; fetch it into the same folder.",
        count=last.number,
        next=last.number + 1,
    )


def open_unlocked(path: Path, passwords: Sequence[str], opening: Opening) -> tuple[ArchiveReader, str]:
    """Open an archive with the first password that fits, and say which one; with none where it needs none.

    Raises:
        PasswordNeeded: when it is locked and none of them fits.
    """
    for password in ("", *passwords):
        try:
            reader = open_archive(path, replace(opening, password=password or None))
        except PasswordNeeded:
            continue
        try:
            if reader.unlocked or not bool(reader.catalog.encrypted.any()):
                return reader, password
            if password:
                reader.unlock(password)
                return reader, password
        except PasswordNeeded:
            pass
        except BaseException:
            reader.close()
            raise
        reader.close()
    raise PasswordNeeded("It is locked with a password.")
