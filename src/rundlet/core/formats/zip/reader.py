"""Reading zip archives."""

from __future__ import annotations

import hmac
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs import ppmd
from rundlet.core.codecs.aes import CODE_SIZE, SALT_SIZES, VERIFIER_SIZE, ZipKeys
from rundlet.core.codecs.base import checked, expand
from rundlet.core.codecs.legacy_cipher import BYTES_A_SECOND, HEADER_SIZE, LegacyCipher, decrypted, seconds_together
from rundlet.core.codecs.registry import DECODERS
from rundlet.core.codecs.whole import SIZES_DIFFER, Whole
from rundlet.core.errors import (
    ChecksumMismatch,
    Contradiction,
    Corrupt,
    PasswordNeeded,
    RundletError,
    SharedBytes,
    Truncated,
    Unsupported,
    WrongPassword,
)
from rundlet.core.formats.base import ArchiveReader, Unit
from rundlet.core.formats.passwords import byte_spellings
from rundlet.core.formats.zip.legacy_entries import LegacyUnit, in_step
from rundlet.core.formats.zip.records import LOCAL, Flag, LocalHeader, Method
from rundlet.core.jobs.findings import Finding, Reason
from rundlet.core.limits import SMALL, Limits
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.streams.exact import chunks, read_exactly
from rundlet.core.streams.sources import ByteSource, WindowSource

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.zip.directory import Directory
    from rundlet.core.formats.zip.end_record import End
    from rundlet.core.model.format_info import FormatInfo

_NAMES = {
    Method.DEFLATED: "deflate",
    Method.DEFLATE64: "deflate64",
    Method.BZIP2: "bzip2",
    Method.LZMA: "headed lzma",
    Method.ZSTD: "zstd",
    Method.XZ: "xz",
}
_KNOWN = {int(method) for method in Method}
_UNSEEN = int(Flag.PATCH_DATA | Flag.STRONG_ENCRYPTION | Flag.MASKED_HEADERS)
_ENCRYPTED = int(Flag.ENCRYPTED)
_STORED, _DEFLATED, _PPMD, _AES = int(Method.STORED), int(Method.DEFLATED), int(Method.PPMD), int(Method.AES)
_BATCH = 64
_MOST_LOOKED_AT = 200_000  # entries; each is a read of its own
_DESCRIPTOR, _LONGEST_DESCRIPTOR = 12, 24  # bytes of a data descriptor (section 4.3.9)
_FINE = 512  # packed bytes that are lost before damage, at the most
_HEAD_ROOM = 1024  # for the header before an entry's data, which is 30 bytes and two names as a rule


class ZipReader(ArchiveReader):
    """An open zip archive.

    What the central directory says is what the person saw, so that is what is read: the local header only tells
    where the data begins, and an entry whose local header names another method is refused.
    """

    def __init__(
        self, source: ByteSource, end: End | None, directory: Directory, info: FormatInfo, limits: Limits
    ) -> None:
        self.info = info
        self.source = source
        self.end = end
        self.directory = directory
        self.catalog = directory.catalog
        self.notices = directory.notices
        self.code_page = directory.code_page
        self._memory = limits.memory_bytes
        self._passwords: list[bytes] = []

    def unlock(self, password: str) -> None:
        candidates = byte_spellings(password)
        for row in np.flatnonzero(self.catalog.encrypted).tolist():
            try:
                data_at = self._data_start(row, self.source)
                fitting = [p for p in candidates if self._fits(row, data_at, p)]
            except (Corrupt, Truncated, Unsupported):
                continue
            if not fitting:
                raise WrongPassword("The password does not open {archive:name}.", archive=self.source.name)
            self._passwords = fitting
            break
        else:
            self._passwords = candidates[:1]
        self.unlocked = True

    def extents(self, rows: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        starts = self.directory.offset[rows]
        return starts, starts + LOCAL.itemsize + np.maximum(self.catalog.packed[rows], 0)

    def raw_range(self, row: int) -> tuple[int, int] | None:
        offset = self.directory.offset.item(row)
        data = read_exactly(self.source, offset, LocalHeader.LAYOUT.size)
        if data[:4] != LocalHeader.SIGNATURE:
            return None
        *_, name_length, extra_length = LocalHeader.LAYOUT.unpack(data)
        start = offset + len(data) + name_length + extra_length
        return start, start + max(self.catalog.packed.item(row), 0)

    def plain_range(self, row: int) -> tuple[int, int] | None:
        is_plain = self.directory.method.item(row) == _STORED and not self.catalog.encrypted.item(row)
        return self.raw_range(row) if is_plain else None

    def strays(self) -> int:
        directory, catalog = self.directory, self.catalog
        if directory.recovered is not None or directory.overlapping.any() or not 0 < len(catalog) <= _MOST_LOOKED_AT:
            return 0
        assert self.end is not None, "a list that was not recovered was read"
        order = np.argsort(directory.offset, kind="stable").tolist()
        behind = [*directory.offset[order[1:]].tolist(), self.end.start]
        total = 0
        for row, stop in zip(order, behind, strict=True):
            place = self.raw_range(row)
            if place is None:
                continue
            begin, is_streamed = place[1], directory.flags.item(row) & Flag.DESCRIPTOR
            if is_streamed and stop - begin <= _LONGEST_DESCRIPTOR:
                continue
            begin += _DESCRIPTOR if is_streamed else 0
            # Zeros may stand there so that what follows begins at a round place.
            if begin < stop and any(self.source.read_at(begin, min(stop - begin, SMALL)).strip(b"\0")):
                total += stop - begin
        return total

    def readable(self, row: int) -> Iterator[bytes]:
        data_at = self._data_start(row, self.source)
        size, packed, method = (
            self.catalog.size.item(row),
            self.catalog.packed.item(row),
            self.directory.method.item(row),
        )
        raw: Iterable[bytes] = chunks(self.source, data_at, packed, chunk=_FINE)
        if self.catalog.encrypted.item(row):
            raw = self._decrypted(row, data_at)
            method = self.directory.aes[row][2] if method == _AES else method
        yield from _decoded(method, raw, size, self._memory)

    def contradiction(self, row: int) -> Finding | None:
        """That the header in front of an entry has another name than the file list (section 4.4.17)."""
        header = LocalHeader.LAYOUT
        offset = self.directory.offset.item(row)
        listed = self.catalog.names.raw(row)
        data = read_exactly(self.source, offset, min(header.size + len(listed), self.source.size - offset))
        fields = header.unpack(data[: header.size])
        flags, length = fields[2], fields[-2]
        name = data[header.size :]
        if length != len(name):
            name = read_exactly(self.source, offset + header.size, length)
        is_utf8 = bool(flags & self.directory.flags.item(row) & Flag.UTF8)
        return name_in_front(name, listed, is_utf8=is_utf8)

    def units(self, rows: NDArray[np.int64]) -> Iterator[Unit]:
        rows, batches = in_step(rows, self.catalog.packed[rows], self._is_legacy(rows))
        for together in batches:
            yield LegacyUnit(self, together, int(self.catalog.packed[together].sum()))
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

    def _is_legacy(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        legacy: NDArray[np.bool_] = self.catalog.encrypted[rows] & (self.directory.method[rows] != _AES)
        return legacy

    def lacks_checksum(self, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        # AES has an authentication code in any case.
        is_aes = self.catalog.encrypted[rows] & (self.directory.method[rows] == _AES)
        return np.asarray(super().lacks_checksum(rows) & ~is_aes, np.bool_)

    def unlock_seconds(self, rows: NDArray[np.int64]) -> float:
        others, batches = in_step(rows, self.catalog.packed[rows], self._is_legacy(rows))
        alone = np.maximum(self.catalog.packed[others], 0)[self._is_legacy(others)].sum() / BYTES_A_SECOND
        return float(alone + sum(seconds_together(self.catalog.packed[batch].tolist()) for batch in batches))

    def content(self, row: int, source: ByteSource) -> Iterable[bytes]:
        """The content of one entry in chunks, with its size and checksum compared at the end.

        Args:
            source: the archive, or a window on it.

        Raises:
            RundletError: see :meth:`rundlet.core.formats.base.Unit.stream`.
        """
        data_at = self._data_start(row, source)
        catalog = self.catalog
        size, packed = catalog.size.item(row), catalog.packed.item(row)
        method, crc = self.directory.method.item(row), catalog.crc.item(row)
        raw: Iterable[bytes]
        if catalog.encrypted.item(row):
            raw = self._decrypted(row, data_at)
            if method == _AES:
                method = self.directory.aes[row][2]
        elif size <= SMALL and packed <= SMALL and method in (_STORED, _DEFLATED):
            return Whole(read_exactly(source, data_at, packed), method == _DEFLATED, size, crc)
        else:
            raw = chunks(self.source, data_at, packed)
            if method == _STORED and size != packed:
                raise Corrupt(SIZES_DIFFER)
        return checked(_decoded(method, raw, size, self._memory), size, None if crc == UNKNOWN else crc)

    def _data_start(self, row: int, source: ByteSource) -> int:
        """Where the packed data begins, after comparing the local header with the directory (section 4.3.7)."""
        directory = self.directory
        flags, method = directory.flags.item(row), directory.method.item(row)
        if directory.overlapping.item(row):
            raise SharedBytes("It shares its place in the archive with another item.")
        if flags & _UNSEEN:
            raise Unsupported("It is locked or patched in a way that has no open description.")
        below = self.directory.aes.get(row, (0, 0, -1))[2] if method == _AES else method
        if below not in _KNOWN or below == _AES:
            raise Unsupported("It is packed with method {method}, which Rundlet does not have.", method=method)
        offset = directory.offset.item(row)
        data = read_exactly(source, offset, LocalHeader.LAYOUT.size)
        if data[:4] != LocalHeader.SIGNATURE:
            raise Corrupt("Its own header is not where the file list says.")
        _, _, local_flags, local_method, *_, name_length, extra_length = LocalHeader.LAYOUT.unpack(data)
        if local_method != method or (local_flags ^ flags) & _ENCRYPTED:
            raise Contradiction("Its own header and the file list contradict each other.")
        return int(offset + len(data) + name_length + extra_length)

    # Locked entries

    def _fits(self, row: int, data_at: int, password: bytes) -> bool:
        """Whether a password opens an entry, as far as that can be told before it is read."""
        if int(self.directory.method[row]) == _AES:
            keys, verifier, _ = self._aes_keys(row, data_at, password)
            return hmac.compare_digest(keys.verifier, verifier)
        return self._legacy(row, data_at, password) is not None

    def _decrypted(self, row: int, data_at: int) -> Iterator[bytes]:
        """The packed bytes of a locked entry; its authentication code, where it has one, is compared at the end."""
        if not self._passwords:
            raise PasswordNeeded("It is locked with a password.")
        end = data_at + int(self.catalog.packed[row])
        if int(self.directory.method[row]) != _AES:
            for password in self._passwords:
                cipher = self._legacy(row, data_at, password)
                if cipher is not None:
                    start = data_at + HEADER_SIZE
                    return decrypted(cipher, chunks(self.source, start, end - start))
            raise WrongPassword("The password does not open it.")
        for password in self._passwords:
            keys, verifier, head = self._aes_keys(row, data_at, password)
            if hmac.compare_digest(keys.verifier, verifier):
                return self._authenticated(keys, data_at + head, end - CODE_SIZE)
        raise WrongPassword("The password does not open it.")

    def _aes_keys(self, row: int, data_at: int, password: bytes) -> tuple[ZipKeys, bytes, int]:
        strength = self.directory.aes[row][1]
        if strength not in SALT_SIZES:
            raise Unsupported(
                "It is locked with AES of strength {strength}, which is not described.", strength=strength
            )
        salt_size = SALT_SIZES[strength]
        head = salt_size + VERIFIER_SIZE
        if head + CODE_SIZE > int(self.catalog.packed[row]):
            raise Corrupt("It is too short for a locked file.")
        data = read_exactly(self.source, data_at, head)
        return ZipKeys(password, data[:salt_size], strength), data[salt_size:], head

    def _authenticated(self, keys: ZipKeys, start: int, end: int) -> Iterator[bytes]:
        counter, code = keys.counter(), keys.code()
        for data in chunks(self.source, start, end - start):
            code.update(data)
            yield counter.apply(data)
        if not hmac.compare_digest(code.digest()[:CODE_SIZE], read_exactly(self.source, end, CODE_SIZE)):
            raise ChecksumMismatch("Its content fails its authentication code.")

    def legacy_stream(self, row: int) -> tuple[LegacyCipher, bytes]:
        """The cipher of an entry and what it is to decrypt.

        Raises:
            RundletError: as :meth:`content` does.
        """
        data_at = self._data_start(row, self.source)
        if not self._passwords:
            raise PasswordNeeded("It is locked with a password.")
        for password in self._passwords:
            cipher = self._legacy(row, data_at, password)
            if cipher is not None:
                length = self.catalog.packed.item(row) - HEADER_SIZE
                return cipher, read_exactly(self.source, data_at + HEADER_SIZE, length)
        raise WrongPassword("The password does not open it.")

    def decoded(self, row: int, packed: bytes) -> Iterator[bytes]:
        """The content of an entry whose packed bytes were decrypted; checked as :meth:`content` does."""
        size, method, crc = (
            column.item(row) for column in (self.catalog.size, self.directory.method, self.catalog.crc)
        )
        return checked(_decoded(method, [packed], size, self._memory), size, None if crc == UNKNOWN else crc)

    def _legacy(self, row: int, data_at: int, password: bytes) -> LegacyCipher | None:
        """The cipher behind its header, or None when the header's last byte tells the password is wrong."""
        if int(self.catalog.packed[row]) < HEADER_SIZE:
            raise Corrupt("It is too short for a locked file.")
        cipher = LegacyCipher(password)
        head = cipher.decrypt(read_exactly(self.source, data_at, HEADER_SIZE))
        by_time = int(self.directory.flags[row]) & Flag.DESCRIPTOR
        expected = int(self.directory.time[row]) >> 8 if by_time else int(self.catalog.crc[row]) >> 24
        return cipher if head[-1] == expected else None


def name_in_front(name: bytes, listed: bytes, *, is_utf8: bool) -> Finding | None:
    """That the header in front of an entry has another name than the file list, or None.

    Args:
        is_utf8: whether both say that they are UTF-8; otherwise only ASCII can be compared.
    """
    if name == listed or name.replace(b"\\", b"/") == listed.replace(b"\\", b"/"):
        return None
    comparable = (name.isascii() and listed.isascii()) or is_utf8
    return Finding.of(Reason.NAME_IN_FRONT, name=name.decode("utf-8", "replace")) if comparable else None


def _local_headers(source: WindowSource, offsets: NDArray[np.int64]) -> NDArray[np.void]:
    """Local headers (section 4.3.7) that begin at places in a window; zeros for those that do not lie in it."""
    octets = np.frombuffer(source.data, np.uint8)
    begins = offsets - source.start
    inside = (begins >= 0) & (begins + LOCAL.itemsize <= len(octets))
    heads = np.zeros((len(offsets), LOCAL.itemsize), np.uint8)
    heads[inside] = octets[begins[inside, None] + np.arange(LOCAL.itemsize)]
    return heads.view(LOCAL)[:, 0]


class ZipUnit:
    """One entry, or a few small neighbours."""

    def __init__(self, reader: ZipReader, rows: Sequence[int], cost: int) -> None:
        self._reader = reader
        self.rows = rows
        self.cost = cost

    def stream(self) -> Iterator[tuple[int, Iterable[bytes]]]:
        source = self._window()
        if not isinstance(source, WindowSource):
            for row in self.rows:
                yield row, self._late(row, source)
            return
        window, begin = source.data, source.start
        for row, is_plain, at, packed, *numbers in zip(self.rows, *self._plain(source), strict=True):
            if is_plain:
                yield row, Whole(window[at - begin : at - begin + packed], *numbers)
            else:
                yield row, self._late(row, source)

    def _plain(self, source: WindowSource) -> list[list[int]]:
        """For each row whether :meth:`ZipReader.content` would find nothing special about it, and if so where its
        packed data is, how much that is, whether it is deflated, and its size and CRC-32."""
        directory, catalog = self._reader.directory, self._reader.catalog
        rows = np.array(self.rows, np.int64)
        offset, packed, method = directory.offset[rows], catalog.packed[rows], directory.method[rows]
        local = _local_headers(source, offset)
        flags = directory.flags[rows] | local["flags"]
        start = offset + LOCAL.itemsize + local["name_length"] + local["extra_length"]
        plain = ~(directory.overlapping[rows] | catalog.encrypted[rows]) & (flags & (_UNSEEN | _ENCRYPTED) == 0)
        plain &= ((method == _STORED) | (method == _DEFLATED)) & (local["method"] == method)
        plain &= (local["signature"] == LocalHeader.SIGNATURE) & (start + packed <= source.start + len(source.data))
        columns = plain, start, packed, method == _DEFLATED, catalog.size[rows], catalog.crc[rows]
        return [column.tolist() for column in columns]

    def _window(self) -> ByteSource:
        """Small neighbours are read from the disk at once, when little else lies between them."""
        source, rows = self._reader.source, self.rows
        if len(rows) == 1:
            return source
        begin, last = (self._reader.directory.offset.item(row) for row in (rows[0], rows[-1]))
        length = last - begin + self._reader.catalog.packed.item(rows[-1]) + _HEAD_ROOM
        if not 0 < length <= 2 * self.cost + len(rows) * _HEAD_ROOM:
            return source
        try:
            return WindowSource(source, begin, length)
        except RundletError:
            return source  # an unreadable place is then said of the entries that it hits

    def _late(self, row: int, source: ByteSource) -> Iterator[bytes]:
        yield from self._reader.content(row, source)


def _decoded(method: int, raw: Iterable[bytes], size: int, memory: int) -> Iterable[bytes]:
    """Packed bytes decoded by a method of the format."""
    if method == _STORED:
        return raw
    if method == _PPMD:
        return _ppmd(raw, size, memory)
    return expand(DECODERS[_NAMES[Method(method)]](memory), raw, until=size if method == Method.LZMA else None)


def _ppmd(raw: Iterable[bytes], size: int, allowed: int) -> Iterator[bytes]:
    """PPMd version I, revision 1 (section 5.10): two bytes of parameters before the stream."""
    inputs = iter(raw)
    head = b""
    while len(head) < 2:
        piece = next(inputs, None)
        if piece is None:
            raise Truncated("Its packed data ends too early.")
        head += piece
    numbers = int.from_bytes(head[:2], "little")
    order, memory, restore = (numbers & 15) + 1, ((numbers >> 4 & 255) + 1) << 20, numbers >> 12
    if order < 2 or restore > 1:
        raise Corrupt("Its packed data is damaged.")

    def rest() -> Iterator[bytes]:
        yield head[2:]
        yield from inputs

    yield from ppmd.decode(
        ppmd.VARIANT_I, rest(), order=order, memory=memory, restore=restore, size=size, allowed=allowed
    )
    for _ in inputs:
        pass
