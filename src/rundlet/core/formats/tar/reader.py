"""Reading tar archives, plain or within a compressed stream."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import Corrupt, FormatError, Truncated
from rundlet.core.formats.base import ArchiveReader, Unit
from rundlet.core.formats.compressed_stream import Packing, Point, decoded, member_starts, vouches
from rundlet.core.formats.tar.headers import BLOCK
from rundlet.core.limits import CHUNK, MIB, SMALL, Limits
from rundlet.core.model.entry import Kind
from rundlet.core.streams.feed import Feed, SourceFeed
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.edits import Edits
    from rundlet.core.formats.tar.index import Index
    from rundlet.core.formats.tar.members import Stretches
    from rundlet.core.jobs.findings import Issue
    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.streams.sources import ByteSource

_ZEROS = bytes(CHUNK)
_BATCH = 64
_WORTH_A_WORKER = 8 * MIB
_MOST_MAP = 16 * MIB


class TarReader(ArchiveReader):
    """An open tar archive.

    A plain one is read where its entries are. A compressed one is read from the nearest place where decoding can begin,
    and places far enough apart are units that can be decoded side by side.

    Args:
        plain: the tar itself, where it is not compressed or was kept in memory.

    Attributes:
        unchecked: rows of files that have no checksum behind them, as that is missing, and no sign of damage either.
    """

    def __init__(
        self,
        source: ByteSource,
        info: FormatInfo,
        packing: Packing | None,
        index: Index,
        notices: list[Issue],
        limits: Limits,
        plain: ByteSource | None,
    ) -> None:
        self.info = info
        self._plain = plain
        self.source = source
        self.catalog = index.catalog
        self.index = index
        self.notices = notices
        self._packing = packing
        self._memory = limits.memory_bytes
        self._starts = [point.plain for point in index.points]
        self._by_path: dict[bytes, list[int]] | None = None
        self.unchecked: frozenset[int] = frozenset()
        if index.sound is not None:
            unsound = ~_within(index.data_at, index.stored, index.sound) & (index.stored > 0)
            rows = frozenset(np.flatnonzero(unsound & (self.catalog.kind == Kind.FILE)).tolist())
            # A stream that is only cut off gives no reason to doubt what stands before the cut.
            self.doubtful, self.unchecked = (rows, frozenset()) if index.wrong else (frozenset(), rows)

    def unlock(self, password: str) -> None:
        """tar has no locks; the password is not needed."""

    def extents(self, rows: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
        if self._packing is not None:
            return None
        return self.index.data_at[rows], self.index.data_at[rows] + self.index.stored[rows]

    def raw_range(self, row: int) -> tuple[int, int] | None:
        if self._packing is not None:
            return None
        start = int(self.index.data_at[row])
        return start, start + int(self.index.stored[row])

    def plain_range(self, row: int) -> tuple[int, int] | None:
        is_plain = int(self.index.stored[row]) == int(self.catalog.size[row])  # which it is not where it has holes
        return self.raw_range(row) if is_plain else None

    def packed_again(self, edits: Edits) -> int:
        if self._packing is None or not edits:
            return 0
        begin = int(self.index.data_at[min(edits.removed | edits.altered)])
        return max(self.end - self.member_before(begin).plain, 0)

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        ordered = rows[np.argsort(self.index.data_at[rows], kind="stable")].tolist()
        if self._plain is not None:
            yield from self._plain_units(ordered, partial(SourceFeed, self._plain))
        else:
            yield from self._stream_units(ordered)

    def _plain_units(self, rows: list[int], feed: Callable[[], Feed]) -> Iterator[Unit]:
        batch: list[int] = []
        cost = 0
        for row in rows:
            stored = int(self.index.stored[row])
            if batch and (len(batch) == _BATCH or cost + stored > SMALL):
                yield TarUnit(self, batch, cost, feed)
                batch, cost = [], 0
            batch.append(row)
            cost += stored
        if batch:
            yield TarUnit(self, batch, cost, feed)

    def _stream_units(self, rows: list[int]) -> Iterator[Unit]:
        """Rows in stretches that begin at a place where decoding can begin and are worth a worker of their own."""
        begin = 0
        while begin < len(rows):
            first = self._point_before(rows[begin])
            end = begin + 1
            while end < len(rows):
                here = self._point_before(rows[end])
                if here > first and (
                    self._starts[here] - self._starts[first] >= _WORTH_A_WORKER or self._is_gap_between(first, here)
                ):
                    break
                end += 1
            chosen = rows[begin:end]
            last = chosen[-1]
            cost = int(self.index.data_at[last] + self.index.stored[last]) - self._starts[first]
            yield TarUnit(self, chosen, cost, lambda point=first: self._feed_from(point))  # type: ignore[misc]
            begin = end

    def _is_gap_between(self, first: int, second: int) -> bool:
        """Whether the one point can't be reached by decoding from the other."""
        resumed = self.index.resumed
        return bisect.bisect_right(resumed, self._starts[first]) < bisect.bisect_right(resumed, self._starts[second])

    def _point_before(self, row: int) -> int:
        return max(bisect.bisect_right(self._starts, int(self.index.data_at[row])) - 1, 0)

    def _feed_from(self, point: int) -> Feed:
        assert self._packing is not None
        start = self.index.points[point] if self.index.points else Point(0, 0)
        return Feed(decoded(self.source, self._packing, start=start, memory=self._memory), start.plain)

    def feed(self, start: Point) -> Feed:
        """The plain bytes from a place on where decoding can begin."""
        if self._plain is not None:
            feed: Feed = SourceFeed(self._plain)
            feed.skip(start.plain)
            return feed
        assert self._packing is not None
        return Feed(decoded(self.source, self._packing, start=start, memory=self._memory), start.plain)

    def member_before(self, plain: int) -> Point:
        """The last place up to one in the plain bytes at which a member, stream or frame of the packing begins."""
        assert self._packing is not None
        starts = member_starts(self.source, self._packing, self.index.points)
        return max((point for point in starts if point.plain <= plain), key=lambda point: point.plain)

    @property
    def end(self) -> int:
        """Where the last entry ends in the plain bytes."""
        return int((self.index.data_at + -(-self.index.stored // BLOCK) * BLOCK).max(initial=0))

    def content(self, row: int, feed: Feed) -> Iterator[bytes]:
        """The content of one entry, taken from a feed that stands before its data or at its beginning."""
        kind, stored = int(self.catalog.kind[row]), int(self.index.stored[row])
        if kind == Kind.LINK:
            yield self.index.links[row]
            return
        feed.skip(int(self.index.data_at[row]) - feed.position)
        if row not in self.index.sparse:
            yield from feed.chunks(stored)
            if stored < int(self.catalog.size[row]):
                raise Corrupt("Bytes are missing within it.")
            return
        stretches = self.index.sparse[row]
        left = stored
        if stretches is None:
            stretches, used = _map_before_data(feed, stored)
            left -= used
        yield from _with_holes(stretches, feed.chunks(left), int(self.catalog.size[row]))

    def disk_bytes(self, rows: NDArray[np.int64]) -> int:
        return int(np.minimum(np.maximum(self.catalog.size[rows], 0), self.index.stored[rows]).sum())

    def lacks_checksum(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        if self._packing is not None and vouches(self.source, self._packing):
            unchecked = np.fromiter(self.unchecked, np.int64, len(self.unchecked))
            return np.isin(rows, unchecked)  # of all others the stream around them has one
        return super().lacks_checksum(rows)

    def hard_target(self, row: int) -> int | None:
        """The row of the path that a hard link names, as it was when the link was packed: the last one before it."""
        if self._by_path is None:
            self._by_path = {}
            linked = set(map(_plain, self.index.links.values()))
            for other, name in enumerate(self.catalog.names.all_raw()):
                if self.catalog.kind[other] == Kind.FILE and (plain := _plain(name)) in linked:
                    self._by_path.setdefault(plain, []).append(other)
        found = self._by_path.get(_plain(self.index.links.get(row, b"")), [])
        return max((other for other in found if other < row), default=found[0] if found else None)

    def link_target(self, row: int) -> str:
        return self.index.links.get(row, b"").decode("utf-8", "surrogateescape")


def _plain(path: bytes) -> bytes:
    """A path as it is compared with others; see :func:`rundlet.core.text.plain_path`."""
    return plain_path(path.decode("latin-1")).encode("latin-1")


def _within(
    begins: NDArray[np.int64], lengths: NDArray[np.int64], stretches: list[tuple[int, int]]
) -> NDArray[np.bool_]:
    """Which stretches of bytes lie as a whole within one of some others, which are in order."""
    table = np.array(stretches or [(0, 0)], np.int64)
    last = np.searchsorted(table[:, 0], begins, "right") - 1
    return np.asarray((last >= 0) & (begins + lengths <= table[np.maximum(last, 0), 1]), np.bool_)


class TarUnit:
    """Some entries that are read from one feed."""

    def __init__(self, reader: TarReader, rows: Sequence[int], cost: int, feed: Callable[[], Feed]) -> None:
        self._reader = reader
        self._feed = feed
        self.rows = rows
        self.cost = cost

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        feed = self._feed()
        for row in self.rows:
            yield row, self._named(row, feed)

    def _named(self, row: int, feed: Feed) -> Iterator[bytes]:
        """The content, with errors of the stream said as errors of the entry."""
        try:
            yield from self._reader.content(row, feed)
        except Truncated as error:
            raise Truncated("The archive is cut off before its end.") from error
        except FormatError as error:
            raise Corrupt("The archive is damaged within it or before it.") from error


def _map_before_data(feed: Feed, stored: int) -> tuple[Stretches, int]:
    """The map of a sparse file in pax format 1.0: numbers in lines before the data, filled up to a whole block."""
    text, used = b"", 0
    while True:
        block = feed.read(BLOCK)
        used += BLOCK
        if len(block) < BLOCK or used > min(stored, _MOST_MAP):
            raise Corrupt("The map of a sparse file is damaged.")
        text += block
        lines = text.split(b"\n")[:-1]
        if lines and len(lines) > 2 * _digits(lines[0]):
            numbers = [_digits(line) for line in lines[: 1 + 2 * _digits(lines[0])]]
            return list(zip(numbers[1::2], numbers[2::2], strict=True)), used


def _digits(line: bytes) -> int:
    if not line.isdigit() or len(line) > 18:
        raise Corrupt("The map of a sparse file is damaged.")
    return int(line)


def _with_holes(stretches: Stretches, data: Iterator[bytes], size: int) -> Iterator[bytes]:
    """Put the stretches with data where they belong, with zeros between."""
    at = 0
    buffer = b""
    for offset, length in stretches:
        if offset < at or offset + length > size:
            raise Corrupt("The map of a sparse file is damaged.")
        yield from _zeros(offset - at)
        at = offset + length
        while length > 0:
            buffer = buffer or next(data, b"")
            if not buffer:
                raise Truncated("A sparse file has less data than its map says.")
            yield buffer[:length]
            length, buffer = length - len(buffer[:length]), buffer[length:]
    yield from _zeros(size - at)


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield _ZEROS[:count]
        count -= len(_ZEROS[:count])
