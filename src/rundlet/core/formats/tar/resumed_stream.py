"""A compressed tar read to its end, also where it is damaged in between."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from rundlet.core.errors import Corrupt, FormatError, LimitExceeded, MissingPart, RundletError, Truncated
from rundlet.core.formats.compressed_stream import Notes, Packing, Point, decoded
from rundlet.core.formats.resync import points_behind
from rundlet.core.formats.tar.headers import BLOCK, MAGIC_AT, USTAR, is_header
from rundlet.core.streams.exact import read_last
from rundlet.core.streams.feed import Feed

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_EMPTY_END = 8
"""Zeros at the end of a file that say it was not cut off but never filled; a decoder may take them for data."""


class ResumingFeed(Feed):
    """The decoded bytes of a compressed tar; behind damage it goes on at the next header that can be decoded.

    How much the damage hides is not known. The bytes behind it are given the next position that is free and has headers at
    whole blocks.

    Args:
        chunks: decodes from the beginning, and takes the notes.
        notes: of all that is decoded.
        memory: bytes that a decoder may take.
        workers: how many blocks are decoded side by side.
        tick: called now and then while the way on is looked for; may raise to end that.

    Attributes:
        faults: what went wrong and was gone on from, in order.
        resumed: the positions where it went on.
    """

    def __init__(
        self,
        source: ByteSource,
        packing: Packing,
        notes: Notes,
        chunks: Iterator[bytes],
        *,
        memory: int,
        workers: int,
        tick: Callable[[], None],
    ) -> None:
        super().__init__(self._counted(chunks))
        self._notes = notes
        self._source = source
        self._given = 0
        self._from = partial(decoded, source, packing, memory=memory, workers=workers)
        self._points = partial(points_behind, source, packing, notes, memory=memory, tick=tick)
        self._tick = tick
        self.faults: list[RundletError] = []
        self.resumed: list[int] = []

    def _counted(self, chunks: Iterator[bytes]) -> Iterator[bytes]:
        for data in chunks:
            self._given += len(data)
            yield data

    def to_what_is_there(self, step: int) -> bool:
        if self.fault is None:
            return True
        if isinstance(self.fault, LimitExceeded):
            return False
        at_the_end = isinstance(self.fault, Truncated)  # where noise may have been decoded as if it were data
        for point in self._points(to_the_end=at_the_end):
            notes = Notes()
            try:
                ahead = self._to_header(self._from(start=point, notes=notes))
            except (FormatError, MissingPart):
                self._notes.begun, self._notes.fed = notes.begun, notes.fed
                continue
            if ahead is not None:
                if at_the_end:
                    self.fault = self._damaged()
                self._go_on(point, ahead)
                return True
        if at_the_end and not any(read_last(self._source, _EMPTY_END)):
            self.fault = self._damaged()
        return False

    def _damaged(self) -> Corrupt:
        name = self._source.name
        return Corrupt("{archive:name} is damaged within its packed data.", archive=name)

    def first_header(self) -> bytes:
        """The first header that can be decoded, or nothing. Raises what decoding does."""
        try:
            return self.read(BLOCK)
        except (FormatError, MissingPart):
            return self.read(BLOCK) if self.to_what_is_there(BLOCK) else b""

    def _to_header(self, chunks: Iterator[bytes]) -> int | None:
        """How many bytes stand before the first header, or None when there is none."""
        passed, rest = 0, b""
        for data in chunks:
            self._tick()
            rest += data
            place = _header_in(rest)
            if place is not None:
                return passed + place
            passed += max(len(rest) - BLOCK + 1, 0)
            rest = rest[-BLOCK + 1 :]
        return None

    def _go_on(self, point: Point, ahead: int) -> None:
        assert self.fault is not None
        start = -(-max(self.position, self._given) // BLOCK) * BLOCK + -ahead % BLOCK
        point = replace(point, plain=start)
        if point.window is not None:
            self._notes.points.append(point)
        self.faults.append(self.fault)
        self.resumed.append(start)
        self.fault = None
        self._given = self.position = start
        self._buffer, self._at = b"", 0
        self._chunks = self._counted(self._from(start=point, notes=self._notes))
        self.skip(ahead)


def _header_in(data: bytes) -> int | None:
    """Where the first header begins that is there as a whole, at any byte; those of the oldest writers have no mark."""
    magic = USTAR[:5]
    found = data.find(magic)
    while found >= 0:
        begin = found - MAGIC_AT.start
        block = data[max(begin, 0) : begin + BLOCK]
        if begin >= 0 and is_header(block):
            return begin
        found = data.find(magic, found + 1)
    return None
