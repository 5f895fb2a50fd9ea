"""Reading front to back: what decoders give out, or a source, taken and skipped by the byte."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rundlet.core.errors import MissingPart, RundletError, Truncated
from rundlet.core.limits import CHUNK, MIB
from rundlet.core.streams.exact import next_there, read_there

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

WINDOW = 4 * MIB
"""Bytes of a source that are looked at together."""


class Feed:
    """Exact reads from front to back over chunks; skipping reads and forgets.

    Attributes:
        position: of the next byte.
        fault: what went wrong while reading, or None.
    """

    def __init__(self, chunks: Iterator[bytes], start: int = 0) -> None:
        self._chunks = chunks
        self._buffer = b""
        self._at = 0
        self.fault: RundletError | None = None
        self.position = start

    def _next(self) -> bytes:
        """The next chunk, or nothing at the end. What once went wrong is said again to whoever asks later."""
        if self.fault is not None:
            raise self.fault
        try:
            return next(self._chunks, b"")
        except RundletError as error:
            self.fault = error
            raise

    def read(self, count: int) -> bytes:
        """The next ``count`` bytes, or fewer at the end."""
        end = self._at + count
        if end <= len(self._buffer):
            data = self._buffer[self._at : end]
            self._at = end
        else:
            pieces = [self._buffer[self._at :]]
            missing = count - len(pieces[0])
            self._buffer, self._at = b"", 0
            while missing > 0 and (chunk := self._next()):
                pieces.append(chunk[:missing])
                if len(chunk) > missing:
                    self._buffer, self._at = chunk, missing
                missing -= len(pieces[-1])
            data = b"".join(pieces)
        self.position += len(data)
        return data

    def window(self, least: int) -> tuple[bytes, int]:
        """What is in memory anyway, and where in it the next byte is: ``least`` bytes more, but at the end."""
        while len(self._buffer) - self._at < least and (chunk := self._next()):
            self._buffer, self._at = self._buffer[self._at :] + chunk, 0
        return self._buffer, self._at

    def peek(self, ahead: int, count: int) -> bytes | None:
        """The ``count`` bytes that stand a way ahead, or fewer at the end; None when that is too far ahead."""
        if ahead > WINDOW:
            return None
        buffer, at = self.window(ahead + count)
        return buffer[at + ahead : at + ahead + count]

    def back_to(self, position: int) -> bool:
        """Go back; whether that can be."""
        return False

    def ends_within(self, count: int) -> bool:
        """Whether no more is left than would fill what was read up to a multiple of so many bytes, as far as that is known."""
        return True

    def to_what_is_there(self, step: int) -> bool:
        """Over what is not there or can't be read to what follows on it, in steps; whether anything does."""
        return self.fault is None

    def skip(self, count: int) -> None:
        """Leave out ``count`` bytes, or as many as there are."""
        inside = min(count, len(self._buffer) - self._at)
        self._at += inside
        self.position += inside
        count -= inside
        while count > 0 and (data := self.read(min(count, CHUNK))):
            count -= len(data)

    def step_back(self, count: int) -> None:
        """Go back over bytes of the window that was looked at last, which was left for no other yet."""
        self._at -= count
        self.position -= count

    def rest(self) -> Iterator[bytes]:
        """What is left, in chunks, where there is something to be learned of it."""
        while data := self.read(CHUNK):
            yield data

    def chunks(self, count: int) -> Iterator[bytes]:
        """The next ``count`` bytes in chunks.

        Raises:
            Truncated: when they are not all there.
        """
        while count > 0:
            data = self.read(min(count, CHUNK))
            if not data:
                raise Truncated("The archive is cut off within it.")
            count -= len(data)
            yield data


class SourceFeed(Feed):
    """The same over a source, where skipping costs nothing."""

    def __init__(self, source: ByteSource, start: int = 0) -> None:
        super().__init__(iter(()), start)
        self._source = source

    def window(self, least: int) -> tuple[bytes, int]:
        if len(self._buffer) - self._at < least:
            self._buffer, self._at = read_there(self._source, self.position, WINDOW), 0
            if len(self._buffer) < least:
                self._source.read_at(self.position, least)  # to say so, should a missing part be what ends it here
        return self._buffer, self._at

    def read(self, count: int) -> bytes:
        end = self._at + count
        if end > len(self._buffer):
            self._buffer = read_there(self._source, self.position, max(count, CHUNK))
            self._at, end = 0, count
        data = self._buffer[self._at : end]
        self._at = end
        self.position += len(data)
        return data

    def skip(self, count: int) -> None:
        count = min(count, max(self._source.size - self.position, 0))
        self._at += count
        self.position += count
        if self._at > len(self._buffer):
            self._buffer, self._at = b"", 0

    def back_to(self, position: int) -> bool:
        self.position = position
        self._buffer, self._at = b"", 0
        return True

    def ends_within(self, count: int) -> bool:
        return self._source.size - self.position <= -self.position % count

    def rest(self) -> Iterator[bytes]:
        return iter(())

    def peek(self, ahead: int, count: int) -> bytes | None:
        try:
            return self._source.read_at(self.position + ahead, count)
        except MissingPart:
            return None

    def to_what_is_there(self, step: int) -> bool:
        there = next_there(self._source, self.position, step)
        if there is None:
            return False
        self.skip(there - self.position)
        return True
