"""Bytes that come through a pipe: each of them once, in order. What must be looked at again is kept meanwhile."""

from __future__ import annotations

import os
import select
import tempfile
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, BinaryIO

from rundlet.core.errors import FormatError, MissingPart, Truncated, file_problem
from rundlet.core.limits import CHUNK, MIB

if TYPE_CHECKING:
    from rundlet.core.streams.feed import Feed

NAME = "standard input"
"""What an archive is called that comes this way."""

_PATIENCE = 0.2  # seconds that cancelling may take
_IN_MEMORY = 8 * MIB  # bytes that are kept; what is more goes into a file without a name
_FAR = 1 << 62  # the size of what has not come to its end


def piped(stream: BinaryIO, tick: Callable[[int], object]) -> Iterator[bytes]:
    """What comes through a pipe, in chunks as they come.

    Args:
        tick: told how many bytes have come, and of none now and then; may raise.

    Raises:
        FileProblem: when it can't be read.
    """
    descriptor = stream.fileno()
    while True:
        try:
            ready, _, _ = select.select([descriptor], [], [], _PATIENCE)
            data = os.read(descriptor, CHUNK) if ready else None
        except OSError as error:
            raise file_problem(error, "read", NAME) from error
        tick(len(data or b""))
        if data == b"":
            return
        if data is not None:
            yield data


class ForwardSource:
    """A stretch of bytes of which the first and the last are in memory, and those between come once, in order.

    Args:
        first: bytes that can be read again and again.
        take: gives the next bytes between, up to so many; fewer at the end, or where they end too early.
        length: bytes between.
        last: bytes behind them, which can be read at any time.
        says_cut: whether an error says that those between end too early, and not fewer bytes than were asked for.
    """

    def __init__(
        self, first: bytes, take: Callable[[int], bytes], length: int, last: bytes, *, says_cut: bool = False
    ) -> None:
        self.name = NAME
        self._says_cut = says_cut
        self._first, self._take, self._last = first, take, last
        self._at, self._end = len(first), len(first) + length
        self.size = self._end + len(last)

    def read_at(self, offset: int, length: int) -> bytes:
        """See :class:`~rundlet.core.streams.sources.ByteSource`; fewer bytes also where they end too early.

        Raises:
            MissingPart: of what has gone by.
            Truncated: when they end too early, where that is wanted.
        """
        data = self._first[offset : offset + length]
        offset, length = offset + len(data), length - len(data)
        if length and offset < self._end:
            try:
                between = self._between(offset, min(length, self._end - offset))
            except FormatError:
                if not data:
                    raise
                return data  # it is said again when nothing stands before it
            data += between
            if self._says_cut and len(between) < min(length, self._end - offset):
                raise Truncated("The archive is cut off before its end.")
            offset, length = offset + len(between), length - len(between)
        if length and offset >= self._end:
            begin = offset - self._end
            data += self._last[begin : begin + length]
        return data

    def _between(self, offset: int, length: int) -> bytes:
        if offset < self._at:
            raise MissingPart("What has gone by can't be read again.")
        self._skip(offset - self._at)
        found = b""
        while len(found) < length and (data := self._take(length - len(found))):
            found = found + data if found else data
        self._at += len(found)
        return found

    def _skip(self, count: int) -> None:
        while count > 0 and (data := self._take(min(count, CHUNK))):
            count -= len(data)
            self._at += len(data)

    def skip_rest(self) -> bool:
        """Go over what was not read; whether all of it came. Raises ``RundletError`` where it can't be read."""
        self._skip(self._end - self._at)
        return self._at == self._end

    def fingerprint(self) -> tuple[int, ...]:
        return ()

    def close(self) -> None:
        self._first = b""


class KeptSource:
    """A feed that is read by position as far as it has not been left behind: what was read stays until it is forgotten.

    Attributes:
        size: of all of it; very much while its end has not come.
    """

    def __init__(self, feed: Feed) -> None:
        self.name = NAME
        self.size = _FAR
        self._feed = feed
        self._begin = self._end = 0  # of what is kept
        self._base = 0  # what stands at the file's beginning
        folder = os.environ.get("TMPDIR") or "/var/tmp"  # noqa: S108 - the file has no name there
        self._folder = folder if os.path.isdir(folder) else None
        self._file = tempfile.SpooledTemporaryFile(_IN_MEMORY, dir=self._folder)  # noqa: SIM115 - closed with the source

    def read_at(self, offset: int, length: int) -> bytes:
        """See :class:`~rundlet.core.streams.sources.ByteSource`.

        Raises:
            MissingPart: of what has been forgotten.
            FileProblem: when the disk is full.
        """
        if offset < self._begin:
            raise MissingPart("What has gone by can't be read again.")
        try:
            self._keep_up_to(offset + length)
            self._file.seek(offset - self._base)
            return self._file.read(max(min(length, self._end - offset), 0))
        except OSError as error:
            raise file_problem(error, "write to", self._folder or NAME) from error

    def _keep_up_to(self, end: int) -> None:
        self._file.seek(self._end - self._base)
        while self._end < end and self.size == _FAR:
            data = self._feed.read(CHUNK)
            self._file.write(data)
            self._end += len(data)
            if not data:
                self.size = self._end

    def keep_all(self) -> None:
        """Read to the end. Raises ``RundletError``."""
        while self.size == _FAR:
            self.read_at(self._end, CHUNK)

    def take(self, count: int) -> bytes:
        """The next bytes that were not forgotten, which then are; fewer than asked for are no sign of the end."""
        if self._begin == self._end:
            data = self._feed.read(count)
            self._begin = self._end = self._end + len(data)
            return data
        data = self.read_at(self._begin, min(count, self._end - self._begin))
        self._begin += len(data)
        if self._begin == self._end:
            self._start_over(b"")
        return data

    def forget(self, offset: int) -> None:
        """Leave behind what stands before a place that was read already. Raises ``RundletError``."""
        rest = self.read_at(offset, max(self._end - offset, 0))
        self._begin = offset
        self._start_over(rest)

    def _start_over(self, rest: bytes) -> None:
        self._base = self._begin
        self._file.seek(0)
        self._file.truncate()
        self._file.write(rest)

    def fingerprint(self) -> tuple[int, ...]:
        return ()

    def close(self) -> None:
        self._file.close()
