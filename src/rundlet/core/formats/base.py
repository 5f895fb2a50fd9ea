"""What every format gives and takes: a catalog of entries, readers that stream units of work, and writers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Protocol

import numpy as np

from rundlet.core.errors import Corrupt, PasswordNeeded
from rundlet.core.limits import MAX_LINK_TARGET
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.streams.parts import JoinedSource

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.codecs.parallel import Pool
    from rundlet.core.formats.edits import Edits
    from rundlet.core.jobs.findings import Finding, Issue
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.catalog import Catalog
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.item import PackItem
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.sources import ByteSource


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
        unkept: the sentence of why the archive can't be written anew without losing something that it says, or "".
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
        """The selected items as units, in the archive's own order."""

    def require_password(self, rows: NDArray[np.int64]) -> None:
        """See to it that not everything that is wanted is locked.

        Raises:
            PasswordNeeded: when it is, and no password was taken.
        """
        filled = rows[(self.catalog.size[rows] != 0) & (self.catalog.kind[rows] != Kind.DIR)]
        if len(filled) and not self.unlocked and bool(self.catalog.encrypted[filled].all()):
            raise PasswordNeeded(
                "{archive:name} is locked with a password.", archive=self.source.name, hint="Give its password."
            )

    def extents(self, rows: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
        """From where to where the packed content of these files lies in the source; None where that can't be told of each."""
        return None

    def raw_range(self, row: int) -> tuple[int, int] | None:
        """From where to where the packed content of a file lies in the source, perhaps with that of others; None where that
        is no stretch of its own. Raises ``RundletError`` when the archive contradicts itself."""
        return None

    def plain_range(self, row: int) -> tuple[int, int] | None:
        """From where to where the content of a file lies in the source as it is, neither packed nor locked; else None.

        Raises:
            RundletError: when the archive contradicts itself.
        """
        return None

    def readable(self, row: int) -> Iterator[bytes]:
        """The content of a file that is damaged, as far as it can be read, in steps that are small where it is damaged.

        Raises:
            RundletError: where it can't be read further.
        """
        for unit in self.units(np.array([row], np.int64)):
            for _, chunks in unit.stream():
                yield from chunks

    def packed_again(self, edits: Edits) -> int:
        """Bytes of content that stays and must be packed again all the same, once the edits are made."""
        return 0

    def in_gaps(self, rows: NDArray[np.int64]) -> int:
        """How many of these files can't be read for certain, as a part with their content is missing."""
        gaps = self.source.gaps() if isinstance(self.source, JoinedSource) else []
        extents = self.extents(rows) if gaps else None
        if extents is None:
            return 0
        starts, ends = extents
        lost = np.zeros(len(rows), np.bool_)
        for begin, end in gaps:
            lost |= (starts < end) & (ends > begin)
        return int(lost.sum())

    @abstractmethod
    def unlock(self, password: str) -> None:
        """Take the password for everything read from now on.

        Raises:
            WrongPassword: when it is told at once that the password does not open the archive.
        """

    def disk_bytes(self, rows: NDArray[np.int64]) -> int:
        """About how many bytes the content of these files takes on a disk, holes not counted."""
        return int(np.maximum(self.catalog.size[rows], 0).sum())

    def lacks_checksum(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which of these entries are files with content that no checksum of the archive vouches for."""
        catalog = self.catalog
        filled = (catalog.kind[rows] == Kind.FILE) & (catalog.size[rows] != 0)
        return np.asarray(filled & (catalog.crc[rows] == UNKNOWN), np.bool_)

    def contradiction(self, row: int) -> Finding | None:
        """What the archive says of an entry in one place and not in another, though it can be read; None for nothing."""
        return None

    def strays(self) -> int:
        """Bytes between the entries that belong to none of them, as far as that can be told. Raises ``RundletError``."""
        return 0

    def read_through(self, rows: NDArray[np.int64]) -> int:
        """Bytes beside the selected items that must be decoded to get at them; 0 where that is nothing to speak of."""
        return 0

    def unlock_seconds(self, rows: NDArray[np.int64]) -> float:
        """Seconds that undoing the lock of the selected items takes, about; 0 where that is nothing to speak of."""
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


class Sink(Protocol):
    """Where a writer puts an archive; see :class:`rundlet.core.streams.sinks.ArchiveSink`.

    Attributes:
        forward: whether what was written is gone, so that nothing of it can be corrected or taken back.
    """

    forward: bool

    def tell(self) -> int: ...
    def write(self, data: bytes | memoryview) -> None: ...
    def patch(self, offset: int, data: bytes) -> None: ...
    def rewind(self, offset: int) -> None: ...


class ArchiveWriter(Protocol):
    """Writes a new archive; the same items and options give the same bytes on any number of cores."""

    def keep(self, reader: ArchiveReader, edits: Edits, *, pool: Pool, job: Job, outcome: Outcome) -> None:
        """Take over the entries of another archive of the format, before any items are added.

        They stay packed as they are there, with all that is said of them, known or not, but for what the edits change.

        Raises:
            RundletError: when something of the other archive that is needed can't be read.
        """

    def take_over(self, reader: ArchiveReader, rows: Sequence[int], job: Job) -> frozenset[int]:
        """Take over entries of a damaged archive of the format as they are packed there, before any items are added.

        Args:
            rows: entries that are intact.

        Returns:
            Those that were; the others must be packed anew.

        Raises:
            RundletError: when something that is needed can't be read.
        """

    def write(self, items: Sequence[PackItem], *, pool: Pool, job: Job, outcome: Outcome) -> None:
        """Add the items in their order, compressing side by side in ``pool``.

        A file that can't be read is left out and said in the outcome.
        """

    def finish(self) -> None:
        """Write what comes behind the last entry."""


class Format(Protocol):
    """A format as :mod:`rundlet.core.formats.detect` knows it: a module-level object in each subpackage."""

    info: FormatInfo

    def probe(self, source: ByteSource) -> bool:
        """Whether the bytes look like this format."""

    def open(self, source: ByteSource, opening: Opening) -> ArchiveReader:
        """Read the file list.

        Raises:
            FormatError: when it is damaged.
        """

    def create(self, sink: Sink, options: WriteOptions) -> ArchiveWriter:
        """Start a new archive."""
