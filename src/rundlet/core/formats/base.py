"""What every format gives and takes: a catalog of entries, readers that stream units of work, and writers."""

from __future__ import annotations

import itertools
import stat
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from typing import TYPE_CHECKING, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from rundlet.core.codecs.side_by_side import Pool
from rundlet.core.errors import Corrupt, PasswordNeeded
from rundlet.core.formats.contents import ContentSource
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Issue, Report
from rundlet.core.limits import DEFAULT, MAX_LINK_TARGET, Limits
from rundlet.core.streams.sources import ByteSource
from rundlet.core.text import quoted

if TYPE_CHECKING:
    from rundlet.core.formats.edits import Edits

NO_TIME = int(np.iinfo(np.int64).min)
"""The time of an entry for which the archive keeps none."""

MOST_TIME = int(np.iinfo(np.int64).max)
"""Nanoseconds since 1970, and before, that are kept: from 1677 to 2262."""

UNKNOWN = -1
"""A size or checksum that the archive does not state."""


class Kind(IntEnum):
    """What an entry is; ``HARD`` is one more name of another entry's file."""

    FILE = 0
    DIR = 1
    LINK = 2
    OTHER = 3
    HARD = 4

    @property
    def word(self) -> str:
        """The name of the kind in machine-readable output."""
        return ("file", "dir", "link", "other", "link")[self]


@dataclass(frozen=True, slots=True)
class FormatInfo:
    """What a format is called and what it can do.

    Attributes:
        id: the short name, as typed on the command line.
        ending: the file name ending, with its dot.
        about: one sentence on who can open it.
        levels: the levels it can write, 0 being "as is"; empty when it can only be read.
        default_level: the level that serves most people.
        can_lock, can_hide_names: whether it can write with a password, and hide the names behind it.
        other_endings: shorter endings that stand for it too.
        methods: the codecs it can be written with, its usual one first; empty when there is no choice.
    """

    id: str
    ending: str
    about: str
    levels: tuple[int, ...]
    default_level: int
    can_lock: bool = False
    can_hide_names: bool = False
    methods: tuple[str, ...] = ()
    other_endings: tuple[str, ...] = ()

    @property
    def writes(self) -> bool:
        """Whether new archives can be made in it."""
        return bool(self.levels)

    def level_for(self, level: int) -> int:
        """The nearest level that the format has."""
        return min(max(level, self.levels[0]), self.levels[-1])


_GATHER_ROWS = 1 << 16
_ENTRIES_AT_ONCE = 1 << 10
_KINDS = {int(kind): kind for kind in Kind}
_TYPE_BITS = {Kind.FILE: stat.S_IFREG, Kind.DIR: stat.S_IFDIR, Kind.LINK: stat.S_IFLNK}


def spread(at: NDArray[np.int64], lengths: NDArray[np.int64]) -> NDArray[np.int64]:
    """The places of every byte of many stretches, one after the other."""
    begins = np.cumsum(lengths) - lengths
    return np.repeat(at - begins, lengths) + np.arange(int(lengths.sum()))


class NameTable:
    """The paths of all entries, as UTF-8 in one stretch of bytes.

    Args:
        blob: all paths end to end.
        starts: where each begins, and at last where the last one ends; shape (n + 1,).
    """

    def __init__(self, blob: bytes, starts: NDArray[np.int64]) -> None:
        self.blob = blob
        self.starts = starts

    @classmethod
    def of(cls, names: Sequence[bytes]) -> NameTable:
        """A table of these names, each UTF-8."""
        lengths = np.fromiter(map(len, names), np.int64, len(names))
        return cls(b"".join(names), np.concatenate(([0], np.cumsum(lengths))))

    @classmethod
    def end_to_end(cls, tables: Sequence[NameTable]) -> NameTable:
        """Tables one after the other as one."""
        lengths = np.concatenate([np.array([], np.int64), *(np.diff(table.starts) for table in tables)])
        return cls(b"".join([table.blob for table in tables]), np.concatenate(([0], np.cumsum(lengths))))

    @classmethod
    def gathered(cls, blob: bytes, at: NDArray[np.int64], lengths: NDArray[np.int64]) -> NameTable:
        """A table of names that stand at places in a larger stretch of bytes."""
        octets = np.frombuffer(blob, np.uint8)
        starts = np.concatenate(([0], np.cumsum(lengths)))
        out = np.empty(int(starts[-1]), np.uint8)
        for first in range(0, len(at), _GATHER_ROWS):
            last = min(first + _GATHER_ROWS, len(at))
            out[starts[first] : starts[last]] = octets[spread(at[first:last], lengths[first:last])]
        return cls(out.tobytes(), starts)

    def rows_with(self, marked: NDArray[np.bool_]) -> list[int]:
        """The rows that have a marked byte; ``marked`` has one place for each byte of the table."""
        places = np.flatnonzero(marked)
        rows: list[int] = np.unique(np.searchsorted(self.starts, places, side="right") - 1).tolist()
        return rows

    def __len__(self) -> int:
        return len(self.starts) - 1

    def raw(self, row: int) -> bytes:
        """The bytes of one path."""
        return self.blob[self.starts[row] : self.starts[row + 1]]

    def all_raw(self) -> list[bytes]:
        """The bytes of every path."""
        blob, starts = self.blob, self.starts.tolist()
        return [blob[a:b] for a, b in itertools.pairwise(starts)]


class Entry(NamedTuple):
    """One row of a catalog. A tuple, as making other objects takes several times as long.

    Attributes:
        row: its place in the catalog.
        path: its path in the archive, as the archive gives it, with ``/`` between folders.
        kind: what it is.
        size: bytes of its content, or :data:`UNKNOWN`.
        packed: bytes it takes in the archive, or :data:`UNKNOWN` where entries share them.
        mtime_ns: nanoseconds since 1970, or :data:`NO_TIME`.
        mode: Unix permission bits with the set-id bits, or 0 where the archive keeps none.
        crc: CRC-32 of the content, or :data:`UNKNOWN`.
        encrypted: whether a password is needed.
    """

    row: int
    path: str
    kind: Kind
    size: int
    packed: int
    mtime_ns: int
    mode: int
    crc: int
    encrypted: bool


@dataclass(slots=True)
class Catalog:
    """All entries of an archive in columns; the names say what :class:`Entry` says of each."""

    names: NameTable
    kind: NDArray[np.uint8]
    size: NDArray[np.int64]
    packed: NDArray[np.int64]
    mtime_ns: NDArray[np.int64]
    mode: NDArray[np.uint32]
    crc: NDArray[np.int64]
    encrypted: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.kind)

    def path(self, row: int) -> str:
        """The path of one entry."""
        return self.names.raw(row).decode("utf-8", "surrogateescape")

    def entry(self, row: int) -> Entry:
        """One row as an object."""
        return next(self.entries(np.array([row], np.int64)))

    def entries(self, rows: NDArray[np.int64]) -> Iterator[Entry]:
        """Rows as objects, in the order given."""
        blob, starts = self.names.blob, self.names.starts
        for first in range(0, len(rows), _ENTRIES_AT_ONCE):
            some = rows[first : first + _ENTRIES_AT_ONCE]
            begins, ends = starts[some].tolist(), starts[some + 1].tolist()
            yield from map(
                Entry,
                some.tolist(),
                [blob[a:b].decode("utf-8", "surrogateescape") for a, b in zip(begins, ends, strict=True)],
                [_KINDS[kind] for kind in self.kind[some].tolist()],
                self.size[some].tolist(),
                self.packed[some].tolist(),
                self.mtime_ns[some].tolist(),
                self.mode[some].tolist(),
                self.crc[some].tolist(),
                self.encrypted[some].tolist(),
            )

    def __iter__(self) -> Iterator[Entry]:
        return self.entries(np.arange(len(self)))


def joined(catalogs: Sequence[Catalog]) -> Catalog:
    """Catalogs one after the other as one."""
    columns = ("kind", "size", "packed", "mtime_ns", "mode", "crc", "encrypted")
    names = NameTable.end_to_end([c.names for c in catalogs])
    return Catalog(
        names=names, **{column: np.concatenate([getattr(c, column) for c in catalogs]) for column in columns}
    )


class Unit(Protocol):
    """A stretch of an archive that can be decoded on its own.

    Attributes:
        rows: the wanted entries it holds, in the archive's order.
        cost: bytes that must be gone through to get them.
    """

    rows: Sequence[int]
    cost: int

    def stream(self) -> Iterator[tuple[int, Iterable[bytes]]]:
        """Each wanted row with its content in chunks; small content may come as a :class:`~rundlet.core.codecs.whole.Whole`.

        The chunks of one row are taken or left before the next row is asked for. A chunk may be empty: a chance to
        stop where the first bytes take long. They raise a
        :class:`~rundlet.core.errors.RundletError` when the content is damaged, locked or of an unknown method,
        the last time at their end when the checksum fails; the rows behind can still be asked for.
        """


class ArchiveReader(ABC):
    """An open archive.

    Attributes:
        info: its format.
        source: its bytes.
        catalog: its entries.
        notices: what is to be said of the archive as a whole.
        unlocked: whether a password was taken.
        names_hidden: whether the list itself was locked.
        code_page: how names are read that do not say how they are written; "" when all say so.
        unkept: why the archive can't be written anew without losing something that it says, as a clause, or "".
        uncounted: the same, where it can't be written with more or fewer entries than it has.
        doubtful: rows of files that may be damaged, as a stretch is in which they lie; which of them is can't be told.
    """

    doubtful: frozenset[int] = frozenset()
    unkept = ""
    uncounted = ""
    unlocked = False
    names_hidden = False
    code_page = ""
    info: FormatInfo
    source: ByteSource
    catalog: Catalog
    notices: list[Issue]

    @abstractmethod
    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        """The chosen entries as units, in the archive's own order."""

    def require_password(self, rows: NDArray[np.int64]) -> None:
        """See to it that not everything that is wanted is locked.

        Raises:
            PasswordNeeded: when it is, and no password was taken.
        """
        filled = rows[(self.catalog.size[rows] != 0) & (self.catalog.kind[rows] != Kind.DIR)]
        if len(filled) and not self.unlocked and bool(self.catalog.encrypted[filled].all()):
            name = quoted(self.source.name)
            raise PasswordNeeded(
                f"{name} is locked with a password.", archive=self.source.name, hint="Give its password."
            )

    @abstractmethod
    def unlock(self, password: str) -> None:
        """Take the password for everything read from now on.

        Raises:
            WrongPassword: when it is told at once that the password does not open the archive.
        """

    def disk_bytes(self, rows: NDArray[np.int64]) -> int:
        """About how many bytes the content of these files takes on a disk, holes not counted."""
        return int(np.maximum(self.catalog.size[rows], 0).sum())

    def without_checksum(self, rows: NDArray[np.int64]) -> int:
        """How many of these files have content that no checksum of the archive vouches for."""
        return int(((self.catalog.crc[rows] == UNKNOWN) & (self.catalog.size[rows] != 0)).sum())

    def read_through(self, rows: NDArray[np.int64]) -> int:
        """Bytes beside the chosen entries that must be decoded to get at them; 0 where that is nothing to speak of."""
        return 0

    def unlock_seconds(self, rows: NDArray[np.int64]) -> float:
        """Seconds that undoing the lock of the chosen entries takes, about; 0 where that is nothing to speak of."""
        return 0.0

    def hard_target(self, row: int) -> int | None:
        """The row whose file a hard link is one more name of; None when the archive does not hold it."""
        return None

    def link_target(self, row: int) -> str:
        """Where a link points: the target of a symbolic one, the path in the archive of a hard one.

        Raises:
            Corrupt: when it is longer than the system lets it be.
        """
        if int(self.catalog.size[row]) > MAX_LINK_TARGET:
            raise Corrupt("It is a link without a usable target.")
        target = b""
        for unit in self.units(np.array([row], np.int64)):
            for _, chunks in unit.stream():
                for data in chunks:
                    target += data
                    if len(target) > MAX_LINK_TARGET:
                        raise Corrupt("It is a link without a usable target.")
        return target.decode("utf-8", "surrogateescape")

    def close(self) -> None:
        """Give back the source."""
        self.source.close()


class PackItem(NamedTuple):
    """One entry to be written.

    Attributes:
        path: its path in the archive.
        kind: what it is; never ``OTHER``.
        source: the path on the disk; as text, as there may be very many.
        size: bytes expected of it.
        mtime_ns, mode: as in :class:`Entry`.
        target: where a link points.
        inode: the same for all names of one file; None for a file with one name.
        content: where the content of a file comes from when that is not the path on the disk.
    """

    path: str
    kind: Kind
    source: str
    size: int
    mtime_ns: int
    mode: int
    target: str = ""
    inode: tuple[int, int] | None = None
    content: ContentSource | None = None

    @property
    def unix_mode(self) -> int:
        """Permission bits together with the type bits that Unix keeps beside them."""
        return _TYPE_BITS[self.kind] | self.mode


@dataclass(frozen=True, slots=True)
class WriteOptions:
    """How an archive is written.

    Attributes:
        level: 0 (as is) to 9 (tightest).
        password: locks the entries, where the format can; "" for no lock.
        hide_names: whether the names are locked too, where the format can.
        method: the codec, one of the format's ``methods``; "" for its usual one.
        owners: whether the names and numbers of owners are kept, where the format can.
    """

    level: int
    password: str = field(default="", repr=False)
    hide_names: bool = False
    method: str = ""
    owners: bool = False


class Sink(Protocol):
    """Where a writer puts an archive; see :class:`rundlet.core.streams.sinks.ArchiveSink`."""

    def tell(self) -> int: ...
    def write(self, data: bytes | memoryview) -> None: ...
    def patch(self, offset: int, data: bytes) -> None: ...
    def rewind(self, offset: int) -> None: ...


class ArchiveWriter(Protocol):
    """Writes a new archive; the same items and options give the same bytes on any number of cores."""

    def keep(self, reader: ArchiveReader, edits: Edits, *, pool: Pool, job: Job, report: Report) -> None:
        """Take over the entries of another archive of the format, before any items are added.

        They stay packed as they are there, with all that is said of them, known or not, but for what the edits change.

        Raises:
            RundletError: when something of the other archive that is needed can't be read.
        """

    def write(self, items: Sequence[PackItem], *, pool: Pool, job: Job, report: Report) -> None:
        """Add the items in their order, compressing side by side in ``pool``.

        A file that can't be read is left out and said in the report.
        """

    def finish(self) -> None:
        """Write what comes behind the last entry."""


@dataclass(frozen=True, slots=True)
class Opening:
    """How an archive is opened.

    Attributes:
        code_page: how names are written that do not say so themselves; None to guess.
        limits: what reading it may take.
        job: told of the progress where the whole archive must be read for its list; may cancel.
        found: called now and then with the entries found since the last call, where listing takes long.
        password: for archives whose very list is locked; None when there is none.
        keeps: whether the content is likely to be read as well, so that what must be decoded for the list is kept.
    """

    code_page: str | None = None
    limits: Limits = DEFAULT
    job: Job = field(default_factory=Job)
    found: Callable[[Catalog], None] | None = None
    password: str | None = field(default=None, repr=False)
    keeps: bool = True


class Format(Protocol):
    """A format as :mod:`rundlet.core.formats.detect` knows it: a module-level object in each subpackage."""

    info: FormatInfo

    def probe(self, source: ByteSource) -> bool:
        """Whether the bytes look like this format."""

    def open(self, source: ByteSource, opening: Opening) -> ArchiveReader:
        """Read the table of contents.

        Raises:
            FormatError: when it is damaged.
        """

    def create(self, sink: Sink, options: WriteOptions) -> ArchiveWriter:
        """Start a new archive."""
