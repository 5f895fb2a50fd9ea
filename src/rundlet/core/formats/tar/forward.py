"""Reading a tar as it comes, in pieces that are small tars of their own (POSIX.1-2024, "pax Interchange Format")."""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import Corrupt, FormatError, Truncated
from rundlet.core.formats.forward_reading import ForwardArchive, ForwardStream
from rundlet.core.formats.known import TAR
from rundlet.core.formats.tar.first_reading import list_plain
from rundlet.core.formats.tar.headers import BLOCK, SIZE, TYPE, Type, checksum_fits, is_header, number, pax_records
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.formats.tar.walk import MOST_EXTENDED, NO_DATA, damaged_header, whole_number
from rundlet.core.formats.tar.writer import extended
from rundlet.core.jobs.findings import Reason, issue
from rundlet.core.limits import CHUNK, MAX_FILE, MIB, SMALL
from rundlet.core.model.opening import Opening
from rundlet.core.streams.feed import WINDOW
from rundlet.core.streams.pipes import NAME, ForwardSource
from rundlet.core.streams.sources import MemorySource

if TYPE_CHECKING:
    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.sentences import Sentence
    from rundlet.core.streams.feed import Feed
    from rundlet.core.streams.sources import ByteSource

_PIECE = 4 * MIB  # bytes of small entries together
_LOOK = WINDOW + CHUNK  # bytes behind a header that listing may look at
_END = bytes(2 * BLOCK)
_EXTENSIONS = (Type.EXTENDED, Type.SOLARIS, Type.GLOBAL, Type.GNU_NAME, Type.GNU_LINK)
_MORE_AT = 482  # where a GNU header of a sparse file says whether its map goes on in blocks behind it
_MAP_MORE_AT = 504


class TarForward(ForwardArchive):
    """A tar that is read as it comes.

    Args:
        plain: its decoded bytes.
        stream: where they come from; None where the tar is not compressed.
    """

    def __init__(
        self, raw: Feed, plain: Feed, info: FormatInfo, stream: ForwardStream | None, opening: Opening
    ) -> None:
        super().__init__(raw)
        self.info = info
        self.vouches = stream is not None and stream.vouches
        self._feed, self._stream = plain, stream
        self._opening = Opening(limits=opening.limits)
        self._global: dict[bytes, bytes] = {}
        self._global_header = b""
        self._ends = array("q")  # of the files that came as a whole, in the decoded bytes
        self._count = 0
        self._lost: Sentence | None = None

    def pieces(self) -> Iterator[TarReader]:
        batch: list[bytes] = []
        size, after = 0, b""
        for head, stored in self._heads():
            before, after = after, self._global_header  # the attributes that hold for all that follows
            data, is_whole = self._small(stored)
            if is_whole:
                batch += (head, data) if batch else (before, head, data)
                size += len(head) + len(data)
                if size < _PIECE:
                    continue
            if batch:
                yield self._opened(MemorySource(b"".join((*batch, _END)), NAME))
                batch, size = [], 0
            if not is_whole:
                yield from self._alone(before + head, data, stored)
        if batch:
            yield self._opened(MemorySource(b"".join((*batch, _END)), NAME))
        self._finish()

    def _small(self, stored: int) -> tuple[bytes, bool]:
        """The data of an entry that is small, filled up to whole blocks; nothing of one that is not, and what there is of one that
        is cut off. And whether that is all of it."""
        whole = _rounded(stored)
        if whole > SMALL:
            return b"", False
        try:
            data = self._feed.read(whole)
        except FormatError:
            return b"", False  # which is said again to whoever reads the entry
        if len(data) < stored:
            return data, False
        self._came(stored)
        return data.ljust(whole, b"\0"), True

    def _alone(self, head: bytes, data: bytes, stored: int) -> Iterator[TarReader]:
        """A piece of one entry, whose data comes while it is read."""
        feed, whole = self._feed, _rounded(stored)
        try:
            data = data or feed.read(min(whole, _LOOK))
        except FormatError:
            pass
        source = ForwardSource(head + data, feed.read, whole - len(data), _END)
        yield self._opened(source)
        try:
            if source.skip_rest():
                self._came(stored)
        except FormatError:
            pass  # which ends the list of what follows

    def _came(self, stored: int) -> None:
        """Note a file that came as a whole, of which only the stream around it may have a checksum."""
        if stored and self.vouches:
            self._ends.append(self._feed.position)

    def _finish(self) -> None:
        stream, notices = self._stream, self.notices
        if self._lost is not None:
            notices.insert(0, issue(NAME, Reason.ENTRIES_MISSING, cause=self._lost))
        if stream is None:
            return
        if stream.trailing:
            notices.append(issue(NAME, Reason.JUNK_BEHIND, count=stream.trailing))
        if self.vouches:
            self.unvouched = int(np.count_nonzero(np.frombuffer(self._ends, np.int64) > stream.sound))
        if self.unvouched:
            reason = Reason.FILES_BEFORE_DAMAGE if self.wrong else Reason.FILES_UNCHECKED
            notices.insert(0, issue(NAME, reason, count=self.unvouched))

    def _opened(self, source: ByteSource) -> TarReader:
        index = list_plain(source, self._opening)
        notices = []
        if (cause := index.damaged or index.lost) is not None:
            notices.append(issue(NAME, Reason.ENTRIES_MISSING, cause=cause))
        return TarReader(source, TAR, None, index, notices, self._opening.limits, source)

    def _heads(self) -> Iterator[tuple[bytes, int]]:
        """All that stands before the data of each entry, and how many bytes of data there are; the feed stands before them."""
        found: bytes | None = None
        while True:
            try:
                head = self._head(found)
                found = None
                if head is None:
                    self._rest()
                    return
                self._count += 1
                yield head
            except FormatError as error:
                self.wrong |= isinstance(error, Corrupt)
                found = self._next_header() if self._feed.fault is None else None
                if found is None:
                    cause = error.sentence
                    self.notices.append(issue(NAME, Reason.LIST_ENDS, count=self._count, cause=cause))
                    return
                self._lost = self._lost or error.sentence

    def _next_header(self) -> bytes | None:
        """The next block that is a header, or None when none comes."""
        try:
            while block := self._feed.read(BLOCK):
                if is_header(block):
                    return block
        except FormatError:
            pass
        return None

    def _head(self, block: bytes | None) -> tuple[bytes, int] | None:
        """The headers of the next entry, and how long its data is; None at the end.

        Args:
            block: its first header, where that was read already.
        """
        feed, head, own = self._feed, b"", dict[bytes, bytes]()
        while True:
            block = block or feed.read(BLOCK)
            if len(block) < BLOCK:
                if block.strip(b"\0"):
                    raise Truncated("It is cut off within a header.")
                return None
            if not any(block):
                if any(feed.read(BLOCK)):
                    raise Corrupt("Something stands behind an empty header.")
                return None
            if not checksum_fits(block):
                raise damaged_header(feed, block)
            kind = block[TYPE]
            if kind == Type.GNU_VOLUME:
                feed.skip(_rounded(number(block[SIZE])))
            elif kind in _EXTENSIONS:
                head += self._extension(block, kind, own)
            else:
                return self._entry(block, kind, head, self._global | own)
            block = None

    def _extension(self, block: bytes, kind: int, own: dict[bytes, bytes]) -> bytes:
        size = number(block[SIZE])
        if not 0 <= size <= MOST_EXTENDED:
            raise Corrupt("A header says that it has more attributes than any has.")
        data = self._feed.read(_rounded(size))
        if len(data) < size:
            raise Truncated("It is cut off within a header.")
        if kind == Type.GLOBAL:
            self._global.update(pax_records(data[:size]))
            if sum(map(len, self._global.values())) > MOST_EXTENDED:
                raise Corrupt("A header says that it has more attributes than any has.")
            self._global_header = extended(b"global", self._global, Type.GLOBAL)
        elif kind in (Type.EXTENDED, Type.SOLARIS):
            own.update(pax_records(data[:size]))
        return block + data.ljust(_rounded(size), b"\0")

    def _entry(self, block: bytes, kind: int, head: bytes, records: dict[bytes, bytes]) -> tuple[bytes, int]:
        stated = records.get(b"size")
        stored = 0 if kind in NO_DATA else whole_number(stated) if stated else number(block[SIZE])
        if not 0 <= stored <= MAX_FILE:
            raise Corrupt("A header has a size that no file has.")
        head += block
        more = block[_MORE_AT] if kind == Type.GNU_SPARSE else 0
        while more:
            block = self._feed.read(BLOCK)
            head += block
            if len(block) < BLOCK or len(head) > MOST_EXTENDED:
                raise Corrupt("The map of a sparse file is damaged.")
            more = block[_MAP_MORE_AT]
        return head, stored

    def _rest(self) -> None:
        """What stands behind the end, which is to be nothing but zeros; a stream is read to its end, for its checksum."""
        count = 0
        for data in iter(partial(self._feed.read, CHUNK), b""):
            count += len(data) if count or data.strip(b"\0") else 0
        if count:
            self.notices.append(issue(NAME, Reason.JUNK_BEHIND, count=count))


def _rounded(size: int) -> int:
    """Up to whole blocks."""
    return size + -size % BLOCK
