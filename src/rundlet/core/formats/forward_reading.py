"""Archives that are read as they come, front to back and once."""

from __future__ import annotations

import contextlib
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import FormatError
from rundlet.core.formats.base import ArchiveReader, Unit
from rundlet.core.formats.compressed_stream import Packing, decompressed, ends_too_early, is_skippable, vouches
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.limits import CHUNK, KIB
from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.streams.pipes import NAME, ForwardSource
from rundlet.core.streams.sources import MemorySource

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.streams.feed import Feed

_LOOK = 4 * KIB  # bytes in which a stream says whether it has checksums


class ForwardArchive(ABC):
    """An archive that is read as it comes: in pieces, which are small archives of the same format.

    Attributes:
        info: its format.
        raw: its bytes, as they come.
        notices: what is to be said of it as a whole; all of it when all pieces were taken.
        vouches: whether the stream around its entries has checksums, which come behind them.
        unvouched: how many of the files that came as a whole no such checksum was right for; known at the end.
        wrong: whether something in the stream contradicted itself, so that these files may be damaged.
        list_comes_last: whether the archive has a file list of its own, at its end.
        listed: that list, when it has come.
    """

    vouches = False
    unvouched = 0
    wrong = False
    list_comes_last = False
    listed: ArchiveReader | None = None
    info: FormatInfo

    def __init__(self, raw: Feed) -> None:
        self.raw = raw
        self.notices: list[Issue] = []

    @abstractmethod
    def pieces(self) -> Iterator[ArchiveReader]:
        """The pieces, in order. Each is there until the next one is asked for; what was not read of it is then gone.

        Raises:
            RundletError: when nothing more can be read, which is no fault of the archive.
        """

    def places(self, reader: ArchiveReader) -> NDArray[np.int64] | None:
        """By what the archive's own file list knows the entries of the piece that was given last; None where it has none."""
        return None

    def close(self) -> None:  # noqa: B027 - most keep nothing
        """Give back what is kept."""


class ForwardStream:
    """A compressed stream that is decoded as it comes.

    Attributes:
        sound: how many decoded bytes stand before the end of the last member whose checksum was right.
        vouches: whether its members have checksums.
        trailing: bytes behind the last member that belong to none.
    """

    def __init__(self, feed: Feed, packing: Packing, memory: int) -> None:
        self._feed, self._packing, self._memory = feed, packing, memory
        self.sound = self.trailing = 0
        self.vouches = vouches(MemorySource(self._head(_LOOK)), packing)

    def chunks(self) -> Iterator[bytes]:
        """The decoded bytes to the end.

        Raises:
            FormatError: when the stream is damaged or cut off.
            LimitExceeded: when decoding asks for more memory than allowed.
        """
        plain = 0
        while self._goes_on():
            for data in self._member():
                plain += len(data)
                yield data
            self.sound = plain

    def _member(self) -> Iterator[bytes]:
        feed, data = self._feed, b""
        decoder = self._packing.decoder(self._memory)
        while not decoder.eof:
            if decoder.needs_input:
                data = self._head(CHUNK, least=1)
                if not data:
                    if self._packing.endless:
                        return
                    raise ends_too_early(NAME)
                feed.skip(len(data))
            out = decompressed(decoder, data, CHUNK, NAME)
            data = b""
            if out:
                yield out
        feed.step_back(len(getattr(decoder, "unused_data", b"")))

    def _goes_on(self) -> bool:
        """Whether one more member follows; the feed then stands at its beginning."""
        feed, packing = self._feed, self._packing
        while packing.padding and (data := self._head(CHUNK, least=1)):
            rest = data.lstrip(b"\0")
            feed.skip(len(data) - len(rest))
            if rest:
                break
        head = self._head(16)
        while packing.id == "zst" and is_skippable(head):
            feed.skip(8 + int.from_bytes(head[4:8], "little"))
            head = self._head(16)
        if packing.fits(head):
            return True
        while data := feed.read(CHUNK):
            self.trailing += len(data)
        return False

    def _head(self, count: int, *, least: int = 0) -> bytes:
        """The next bytes, which stay there to be taken."""
        buffer, at = self._feed.window(least or count)
        return buffer[at : at + count]


class ForwardFile(ForwardArchive):
    """A single compressed file.

    Args:
        plain: its decoded bytes.
    """

    def __init__(self, raw: Feed, info: FormatInfo, stream: ForwardStream, plain: Feed, mtime_ns: int) -> None:
        super().__init__(raw)
        self.info = info
        self._stream, self._plain, self._mtime_ns = stream, plain, mtime_ns

    def pieces(self) -> Iterator[ArchiveReader]:
        yield _FileReader(self.info, self._plain, self._mtime_ns, has_checksum=self._stream.vouches)
        with contextlib.suppress(FormatError):  # which was said of the file
            for _ in self._plain.rest():
                pass
        if self._stream.trailing:
            self.notices.append(issue(NAME, Reason.JUNK_BEHIND, count=self._stream.trailing))


class _FileReader(ArchiveReader):
    """The file of such a stream, as an archive of one entry; how large it is, is not known before it has been read."""

    def __init__(self, info: FormatInfo, plain: Feed, mtime_ns: int, *, has_checksum: bool) -> None:
        self.info = info
        self.source = ForwardSource(b"", lambda _: b"", 0, b"")
        self.notices = []
        self._plain, self._has_checksum = plain, has_checksum
        self.catalog = Catalog(
            names=NameTable.of([NAME.encode()]),
            kind=np.array([Kind.FILE], np.uint8),
            size=np.array([UNKNOWN], np.int64),
            packed=np.array([UNKNOWN], np.int64),
            mtime_ns=np.array([mtime_ns], np.int64),
            mode=np.zeros(1, np.uint32),
            crc=np.full(1, UNKNOWN, np.int64),
            encrypted=np.zeros(1, np.bool_),
        )

    def unlock(self, password: str) -> None:
        """These files have no locks."""

    def lacks_checksum(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        return np.full(len(rows), not self._has_checksum)

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        if len(rows):
            yield _FileUnit(self._plain)


class _FileUnit:
    rows: Sequence[int] = (0,)
    cost = 0

    def __init__(self, plain: Feed) -> None:
        self._plain = plain

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        yield 0, self._plain.rest()
