"""A single compressed file, such as ``table.csv.gz``: an archive of one entry."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Unsupported
from rundlet.core.formats.base import ArchiveReader, ArchiveWriter, Sink, Unit
from rundlet.core.formats.compressed_stream import PACKINGS, Notes, Packing, decoded, packing_of, vouches
from rundlet.core.formats.known import SINGLE
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Kind

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.jobs.job import Job
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.sources import ByteSource

_HAS_TIME = "gz"


class SingleReader(ArchiveReader):
    """A compressed file as an archive of one entry. How large that is, is known only when it has been read once."""

    def __init__(self, source: ByteSource, info: FormatInfo, packing: Packing, opening: Opening) -> None:
        self.info = info
        self.source = source
        self._packing = packing
        self._memory = opening.limits.memory_bytes
        self.notices: list[Issue] = []
        size = self._measure(opening.job)
        name = _name(source.name, packing).encode("utf-8", "surrogateescape")
        self.catalog = Catalog(
            names=NameTable.of([name]),
            kind=np.array([Kind.FILE], np.uint8),
            size=np.array([size], np.int64),
            packed=np.array([source.size], np.int64),
            mtime_ns=np.array([mtime_ns_of(source, packing)], np.int64),
            mode=np.zeros(1, np.uint32),
            crc=np.full(1, UNKNOWN, np.int64),
            encrypted=np.zeros(1, np.bool_),
        )

    def _measure(self, job: Job) -> int:
        """Read it through: its size, and whether junk stands behind it. Damage is left for whoever takes it out."""
        job.begin("Reading", total_bytes=0)
        notes, size = Notes(), 0
        try:
            for data in decoded(self.source, self._packing, notes=notes, memory=self._memory, workers=cores()):
                size += len(data)
                job.advance(len(data))
        except Exception:  # noqa: BLE001 - said again, of the entry, when it is read
            return UNKNOWN
        if notes.trailing:
            self.notices.append(issue(self.source.name, Reason.JUNK_BEHIND, count=notes.trailing))
        return size

    def unlock(self, password: str) -> None:
        """These files have no locks."""

    def lacks_checksum(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        return np.zeros(len(rows), np.bool_) if vouches(self.source, self._packing) else super().lacks_checksum(rows)

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        if len(rows):
            yield _SingleUnit(self)

    def content(self) -> Iterator[bytes]:
        """The decoded file."""
        return decoded(self.source, self._packing, memory=self._memory, workers=cores())


class _SingleUnit:
    rows: Sequence[int] = (0,)

    def __init__(self, reader: SingleReader) -> None:
        self._reader = reader
        self.cost = reader.source.size

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        yield 0, self._reader.content()


def _name(name: str, packing: Packing) -> str:
    """The file's name without the ending that stands for its packing."""
    stem, dot, ending = name.rpartition(".")
    if dot and stem and ending.lower() in (packing.id.lower(), "gzip", "bzip2", "zstd"):
        return stem
    return name if name else "content"


def mtime_ns_of(source: ByteSource, packing: Packing) -> int:
    """When the file in it was changed, as its first bytes say, in nanoseconds since 1970; ``NO_TIME`` where they don't."""
    if packing.id != _HAS_TIME:
        return NO_TIME
    seconds = int.from_bytes(source.read_at(4, 4), "little")  # RFC 1952, section 2.3.1; 0 for none
    return seconds * 1_000_000_000 if seconds else NO_TIME


class SingleFormat:
    """One packing; see :class:`rundlet.core.formats.base.Format`. For reading only."""

    def __init__(self, info: FormatInfo, packing: Packing) -> None:
        self._packing = packing
        self.info = info

    def probe(self, source: ByteSource) -> bool:
        """The packing's magic."""
        return packing_of(source.read_at(0, 16)) is self._packing

    def open(self, source: ByteSource, opening: Opening) -> SingleReader:
        return SingleReader(source, self.info, self._packing, opening)

    def create(self, sink: Sink, options: WriteOptions) -> ArchiveWriter:
        raise Unsupported(
            "Rundlet does not write single {extension} files; choose tar{extension} or zip.", extension=self.info.ending
        )


_BY_ID = {packing.id: packing for packing in PACKINGS}
FORMATS = tuple(SingleFormat(info, _BY_ID[info.id]) for info in SINGLE)
