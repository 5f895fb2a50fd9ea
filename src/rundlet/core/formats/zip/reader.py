"""Reading zip archives."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from rundlet.core.codecs import deflate_codec
from rundlet.core.codecs.base import Decoder, expand
from rundlet.core.codecs.checksums import crc32
from rundlet.core.errors import ChecksumMismatch, Corrupt, Truncated, Unsupported
from rundlet.core.formats.base import ArchiveReader, FormatInfo, Unit
from rundlet.core.formats.zip.directory import Directory, End, read_directory
from rundlet.core.formats.zip.records import Flag, LocalHeader, Method
from rundlet.core.limits import SMALL, Limits
from rundlet.core.streams.exact import chunks, read_exactly
from rundlet.core.streams.sources import ByteSource

_DECODERS: dict[int, Callable[[], Decoder]] = {Method.DEFLATED: deflate_codec.decoder}
_UNSEEN = int(Flag.PATCH_DATA | Flag.STRONG_ENCRYPTION | Flag.MASKED_HEADERS)
_ENCRYPTED = int(Flag.ENCRYPTED)
_STORED, _DEFLATED = int(Method.STORED), int(Method.DEFLATED)
_BATCH = 64


class ZipReader(ArchiveReader):
    """An open zip archive.

    What the central directory says is what the person saw, so that is what is read: the local header only tells
    where the data begins, and an entry whose local header names another method is refused.
    """

    def __init__(self, source: ByteSource, end: End, info: FormatInfo, limits: Limits) -> None:
        self.info = info
        self.source = source
        self.directory: Directory = read_directory(source, end, limits)
        self.catalog = self.directory.catalog
        self.notices = self.directory.notices

    def unlock(self, password: str) -> None:
        """Nothing yet: locked entries are named as such when they are asked for."""

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        ordered = rows[np.argsort(self.directory.offset[rows], kind="stable")]
        packed = np.maximum(self.catalog.packed, 0)
        small = ((packed[ordered] <= SMALL) & (self.catalog.size[ordered] <= SMALL)).tolist()
        batch: list[int] = []
        cost = 0
        for row, is_small in zip(ordered.tolist(), small, strict=True):
            if batch and (not is_small or len(batch) == _BATCH or cost > SMALL):
                yield ZipUnit(self, batch, cost)
                batch, cost = [], 0
            batch.append(row)
            cost += int(packed[row])
            if not is_small:
                yield ZipUnit(self, batch, cost)
                batch, cost = [], 0
        if batch:
            yield ZipUnit(self, batch, cost)

    def content(self, row: int) -> Iterator[bytes]:
        """The content of one entry in chunks, with its size and checksum compared at the end.

        Raises:
            RundletError: see :meth:`rundlet.core.formats.base.Unit.stream`.
        """
        data_at = self._data_start(row)
        size, packed = int(self.catalog.size[row]), int(self.catalog.packed[row])
        method = int(self.directory.method[row])
        plain: Iterable[bytes]
        if method == _STORED:
            if size != packed:
                raise Corrupt("It is stored as it is, and yet its two sizes differ.")
            plain = chunks(self.source, data_at, packed)
        elif method == _DEFLATED and size <= SMALL and packed <= SMALL:
            plain = [deflate_codec.decompress(read_exactly(self.source, data_at, packed), size)]
        else:
            plain = expand(_DECODERS[method](), chunks(self.source, data_at, packed))
        return checked(plain, size, int(self.catalog.crc[row]))

    def _data_start(self, row: int) -> int:
        """Where the packed data begins, after comparing the local header with the directory (section 4.3.7)."""
        flags, method = int(self.directory.flags[row]), int(self.directory.method[row])
        if self.directory.overlapping[row]:
            raise Corrupt("It shares its place in the archive with another entry.")
        if flags & _UNSEEN:
            raise Unsupported("It is locked or patched in a way that has no open description.")
        if flags & _ENCRYPTED:
            raise Unsupported("It is locked with a password; this version of Rundlet can't unlock zip entries yet.")
        if method != _STORED and method not in _DECODERS:
            raise Unsupported(f"It is packed with method {method}, which Rundlet does not have.")
        offset = int(self.directory.offset[row])
        data = read_exactly(self.source, offset, LocalHeader.LAYOUT.size)
        if data[:4] != LocalHeader.SIGNATURE:
            raise Corrupt("Its own header is not where the table of contents says.")
        local = LocalHeader.unpack(data)
        if local.method != method or (local.flags ^ flags) & _ENCRYPTED:
            raise Corrupt("Its own header and the table of contents contradict each other.")
        return offset + len(data) + local.name_length + local.extra_length


class ZipUnit:
    """One entry, or a few small neighbours."""

    def __init__(self, reader: ZipReader, rows: Sequence[int], cost: int) -> None:
        self._reader = reader
        self.rows = rows
        self.cost = cost

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        for row in self.rows:
            yield row, self._late(row)

    def _late(self, row: int) -> Iterator[bytes]:
        yield from self._reader.content(row)


def checked(plain: Iterable[bytes], size: int, crc: int) -> Iterator[bytes]:
    """Pass content on and compare its length and CRC-32 with what the archive states.

    Raises:
        Corrupt: as soon as there is more than stated; ``Truncated`` when there is less at the end.
        ChecksumMismatch: at the end.
    """
    seen, total = 0, 0
    for data in plain:
        total += len(data)
        if total > size:
            raise Corrupt("It unpacks to more than its stated size.")
        seen = crc32(data, seen)
        yield data
    if total < size:
        raise Truncated("It unpacks to less than its stated size.")
    if seen != crc:
        raise ChecksumMismatch("Its content fails its checksum.")
