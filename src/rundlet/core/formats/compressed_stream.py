"""Compressed streams read front to back: several members, frames or streams in one file are one stretch of bytes."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING

from rundlet.core.codecs import bzip2_blocks, xz_blocks
from rundlet.core.codecs.base import CODEC_ERRORS, Decoder
from rundlet.core.codecs.gzip_codec import GzipDecoder
from rundlet.core.codecs.lzw import MAGIC as LZW_MAGIC
from rundlet.core.codecs.lzw import LzwDecoder
from rundlet.core.codecs.registry import DECODERS
from rundlet.core.codecs.system_inflate import SystemInflate, system_inflate_is_there
from rundlet.core.errors import ChecksumMismatch, Corrupt, LimitExceeded, MissingPart, Truncated
from rundlet.core.formats.stream_blocks import BlockMember, Bzip2Member, XzMember
from rundlet.core.limits import CHUNK, DEFAULT, KIB, MIB
from rundlet.core.streams.exact import read_there

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_WINDOW = 32 * KIB
_SMALL_STEP = 64  # bytes that are lost before damage, at the most
_SPACING = 8 * MIB  # decoding this much takes some 10 ms; a place takes up to 32 KiB of the index
# Blocks take next to nothing in the index, and bzip2 takes as long for one as others do for ten times as much.
_BLOCK_SPACING = 1 * MIB


@dataclass(frozen=True, slots=True)
class Packing:
    """A way in which a single stream is compressed.

    Attributes:
        id: its short name, as in ``tar.gz``.
        magic: how each of its members begins.
        decoder: makes a decoder for one member, for the bytes of memory that it may take.
        padding: bytes of zeros that may stand between members count in multiples of this; 0 for none.
        endless: whether members have no end mark.
    """

    id: str
    magic: bytes
    decoder: Callable[[int], Decoder]
    padding: int = 0
    endless: bool = False

    def fits(self, head: bytes) -> bool:
        """Whether a member begins like this."""
        if self.id == "lzma":
            return _is_lzma(head)
        return head.startswith(self.magic)


PACKINGS = (
    Packing("gz", b"\x1f\x8b\x08", lambda memory: GzipDecoder(), padding=1),
    Packing("bz2", b"BZh", DECODERS["bzip2"]),
    Packing("xz", b"\xfd7zXZ\x00", DECODERS["xz"], padding=4),
    Packing("zst", b"\x28\xb5\x2f\xfd", DECODERS["zstd"]),
    Packing("Z", LZW_MAGIC, lambda memory: LzwDecoder(), endless=True),
    Packing("lzma", b"\x5d\x00\x00", DECODERS["lzma"]),
)
"""Every packing that is told by its content. The last has no real magic and is looked for last."""

_WITHOUT_CHECKSUM = ("Z", "lzma")
_MOST_SKIPPED = 16

_SKIPPABLE = tuple(bytes([0x50 + i, 0x2A, 0x4D, 0x18]) for i in range(16))


def vouches(source: ByteSource, packing: Packing) -> bool:
    """Whether a stream has checksums of what is in it, as its first member says.

    Some packings have none. In zstd and xz they can be left out (RFC 8878, section 3.1.1.1.1; the .xz file format, section 2.1.1.2).
    """
    if packing.id in _WITHOUT_CHECKSUM:
        return False
    try:
        if packing.id == "xz":
            return bool(source.read_at(7, 1)[:1] not in (b"", b"\0"))
        if packing.id == "zst":
            at = 0
            for _ in range(_MOST_SKIPPED):
                head = source.read_at(at, 8)
                if not is_skippable(head):
                    break
                at += 8 + int.from_bytes(head[4:8], "little")
            return bool(source.read_at(at + 4, 1)[:1] and source.read_at(at + 4, 1)[0] & 4)
    except MissingPart:
        return True  # which is not told; whatever is in a part that is not there is said anyway
    return True


def _is_lzma(head: bytes) -> bool:
    """LZMA alone has no magic: usual properties, a dictionary of a power of two, and a size that is sane or not stated."""
    if len(head) < 14 or head[0] >= 225:
        return False
    dictionary = int.from_bytes(head[1:5], "little")
    stated = int.from_bytes(head[5:13], "little")
    usual = dictionary >= 4096 and (
        dictionary & (dictionary - 1) == 0 or dictionary & (dictionary - 1) == dictionary >> 1 << 1
    )
    return head[0] == 0x5D and usual and (stated == (1 << 64) - 1 or stated < 1 << 48) and head[13] == 0


def packing_of(head: bytes) -> Packing | None:
    """The packing that a file begins with, or None."""
    return next((packing for packing in PACKINGS if packing.fits(head)), None)


@dataclass(frozen=True, slots=True)
class Point:
    """A place where decoding can begin.

    Attributes:
        packed: where in the file, in bytes.
        plain: what place of the decoded bytes that is.
        bits: how many bits of the byte before it still belong to it, within a member.
        window: the bytes decoded before it, deflated, within a gzip member, and nothing where a block of another one
            begins; None where a member begins.
    """

    packed: int
    plain: int
    bits: int = 0
    window: bytes | None = None


@dataclass(slots=True)
class Notes:
    """What is learned while a stream is read.

    Attributes:
        points: where decoding can begin, in order.
        trailing: bytes behind the last member that belong to none.
        within: whether places within gzip members are to be found too, which makes reading half as fast.
        sound: stretches of decoded bytes whose checksums were right, each from one place to another, in order.
        begun: where in the file the member or block that was decoded last begins, in bits.
        fed: where in the file the bytes begin that a decoder took last.
    """

    points: list[Point] = field(default_factory=list)
    trailing: int = 0
    within: bool = False
    sound: list[tuple[int, int]] = field(default_factory=list)
    begun: int = 0
    fed: int = 0

    def vouch(self, begin: int, end: int) -> None:
        """Note that a checksum was right."""
        if self.sound and self.sound[-1][1] == begin:
            begin = self.sound.pop()[0]
        self.sound.append((begin, end))


def decoded(
    source: ByteSource,
    packing: Packing,
    *,
    start: Point = Point(0, 0),
    notes: Notes | None = None,
    memory: int = DEFAULT.memory_bytes,
    workers: int = 1,
) -> Iterator[bytes]:
    """The decoded bytes from a point to the end, in chunks.

    Args:
        memory: bytes that a decoder may take.
        workers: how many blocks are decoded side by side, where the packing has such.

    Raises:
        Corrupt: when the packed bytes are damaged.
        Truncated: when the file ends within a member.
        LimitExceeded: when decoding asks for more memory than allowed.
    """
    notes = notes if notes is not None else Notes()
    at, plain = start.packed, start.plain
    point: Point | None = start if start.window is not None else None
    table = xz_table(source, damaged=point is not None) if packing.id == "xz" else []
    while at < source.size:
        if point is None:
            notes.points.append(Point(at, plain))
        notes.begun, notes.fed = at * 8 - (point.bits if point else 0), at
        member: _Member | BlockMember
        blocks = _block_member(source, packing, point or Point(at, plain), table, memory=memory, workers=workers)
        if blocks is not None:
            member = blocks
            chunks = _block_chunks(blocks, plain, notes)
        else:
            member = _Member(source, packing, at, notes)
            careful = partial(_careful, source, packing, point, memory)
            if point is not None:
                chunks = member.chunks(_resumed(source, point), careful)
            elif notes.within and packing.id == "gz" and system_inflate_is_there():
                chunks = _with_points(member, plain, notes, careful)
            else:
                chunks = member.chunks(packing.decoder(memory), careful)
        point, begin = None, plain
        for data in chunks:
            plain += len(data)
            yield data
        if blocks is None:
            notes.vouch(begin, plain)
        at = _next_member(source, packing, member.end, notes)


def member_starts(source: ByteSource, packing: Packing, points: Sequence[Point]) -> Iterator[Point]:
    """Where members, streams or frames begin, so that what stands before is whole by itself; not all of them are found.

    Args:
        points: where decoding can begin, as was learned when all of it was read.
    """
    yield Point(0, 0)
    if packing.id == "xz":
        plain = 0
        for stream in xz_table(source):
            yield Point(stream.start, plain)
            plain += sum(block.plain for block in stream.blocks)
        return
    for point in points:
        if point.window is None:
            yield point
        elif packing.id == "bz2" and not point.bits and bzip2_blocks.begins_stream(source.read_at, point.packed):
            yield Point(point.packed - bzip2_blocks.HEAD_SIZE, point.plain)


def xz_table(source: ByteSource, *, damaged: bool = False) -> list[xz_blocks.Stream]:
    """What the indexes of xz streams say of their blocks; nothing where they are not all whole.

    Args:
        damaged: whether the beginning may be damaged.
    """
    try:
        return xz_blocks.streams(source.read_at, source.size, damaged=damaged)
    except MissingPart:
        return []  # it is read from the front, as far as it is there


def _block_member(
    source: ByteSource, packing: Packing, start: Point, table: list[xz_blocks.Stream], *, memory: int, workers: int
) -> Bzip2Member | XzMember | None:
    """What begins at a point as blocks up to its end, or None where it is read in one go."""
    midway = start.window is not None
    if packing.id == "bz2":
        return Bzip2Member(source, start.packed * 8 - start.bits, midway=midway, workers=workers)
    if packing.id != "xz":
        return None
    member = XzMember(source, table, start.packed, memory=memory, workers=workers) if table else None
    if midway and (member is None or not member.wanted or member.wanted[0][1].start != start.packed):
        raise Corrupt("{archive:name} is not what it was when it was listed.", archive=source.name)
    return member


def _block_chunks(member: Bzip2Member | XzMember, plain: int, notes: Notes) -> Iterator[bytes]:
    """A member's chunks block by block, noting those to go on from: about a megabyte apart, and rather at a stream's beginning."""
    last = plain
    for block in member.blocks():
        behind = plain - last
        if behind >= _BLOCK_SPACING or (behind >= _BLOCK_SPACING // 2 and member.begins_stream(block)):
            packed = -(-block.bit // 8)
            notes.points.append(Point(packed, plain, packed * 8 - block.bit, b""))
            last = plain
        notes.begun, begin = block.bit, plain
        for data in block.content:
            plain += len(data)
            yield data
        notes.vouch(begin, plain)


def _resumed(source: ByteSource, point: Point) -> Decoder:
    """A decoder that goes on from a place within a gzip member."""
    value = source.read_at(point.packed - 1, 1)[0] >> (8 - point.bits) if point.bits else 0
    inner = SystemInflate(bits=point.bits, value=value, window=zlib.decompress(point.window or b""))
    return GzipDecoder(inner, midway=True)


def _careful(source: ByteSource, packing: Packing, point: Point | None, memory: int) -> Decoder:
    """A decoder that does not decode much further than it is asked to, so that little is lost when it fails."""
    if point is not None:
        return _resumed(source, point)
    if packing.id == "gz" and system_inflate_is_there():
        return GzipDecoder(SystemInflate())
    return packing.decoder(memory)


def _with_points(member: _Member, plain: int, notes: Notes, careful: Callable[[], Decoder]) -> Iterator[bytes]:
    """A gzip member's chunks, noting a place to go on from every few megabytes."""
    inner = SystemInflate()
    recent, last = b"", plain
    for data in member.chunks(GzipDecoder(inner), careful):
        plain += len(data)
        recent = (recent + data)[-_WINDOW:] if len(data) < _WINDOW else data[-_WINDOW:]
        if inner.stop_at_blocks and inner.at_block and not inner.in_last_block and not inner.eof:
            notes.points.append(Point(member.end - inner.left, plain, inner.unused_bits, zlib.compress(recent, 1)))
            last, inner.stop_at_blocks = plain, False
        elif plain - last >= _SPACING:
            inner.stop_at_blocks = True
        yield data


class _Member:
    """One member; ``end`` is where it ended, once its chunks are all taken."""

    def __init__(self, source: ByteSource, packing: Packing, start: int, notes: Notes) -> None:
        self._source = source
        self._packing = packing
        self._notes = notes
        self._start = self.end = start

    def chunks(self, decoder: Decoder, careful: Callable[[], Decoder]) -> Iterator[bytes]:
        """Decode from where the decoder stands.

        Args:
            careful: makes one more decoder that stands there. The first one, when it fails, keeps what it decoded before the
                damage, so that is decoded once more in small steps.
        """
        total = 0
        try:
            for data in self._chunks(decoder, CHUNK):
                total += len(data)
                yield data
        except ChecksumMismatch:
            raise
        except Corrupt:
            self.end = self._start
            yield from self._chunks(careful(), _SMALL_STEP, behind=total)
            raise

    def _chunks(self, decoder: Decoder, step: int, *, behind: int = 0) -> Iterator[bytes]:
        """Decode, and give out what comes behind the first so many bytes, ``step`` of them at a time."""
        data, total = b"", 0
        while not decoder.eof:
            if decoder.needs_input:
                self._notes.fed = self.end
                data = read_there(self._source, self.end, CHUNK)
                self.end += len(data)
                if not data:
                    if self._packing.endless:
                        return
                    raise ends_too_early(self._source.name)
            most = min(CHUNK, behind - total) if total < behind else step
            out = decompressed(decoder, data, most, self._source.name)
            data = b""
            total += len(out)
            if out and total > behind:
                yield out
        self.end -= len(getattr(decoder, "unused_data", b""))


def decompressed(decoder: Decoder, data: bytes, most: int, archive: str) -> bytes:
    """What a decoder gives for some more packed bytes, up to ``most`` bytes.

    Raises:
        Corrupt: when they are damaged.
        LimitExceeded: when decoding asks for more memory than allowed.
    """
    try:
        return decoder.decompress(data, most)
    except Corrupt as error:
        raise type(error)(
            "{archive:name} is damaged: {cause:clause}.", archive=archive, cause=error.sentence
        ) from error
    except CODEC_ERRORS as error:
        if "emory" in str(error) or "too much" in str(error):
            raise LimitExceeded(
                "Unpacking {archive:name} would take more memory than allowed.", archive=archive
            ) from error
        raise Corrupt("{archive:name} is damaged within its packed data.", archive=archive) from error


def ends_too_early(archive: str) -> Truncated:
    """That a stream is cut off."""
    return Truncated("{archive:name} is cut off: its packed data ends too early.", archive=archive)


def is_skippable(head: bytes) -> bool:
    """Whether a frame begins that holds nothing to be decoded (RFC 8878, section 3.1.2)."""
    return head[:4] in _SKIPPABLE


def _next_member(source: ByteSource, packing: Packing, at: int, notes: Notes) -> int:
    """Where the next member begins, or the end of the source; junk behind the last one is noted."""
    while packing.padding and at < source.size:
        zeros = source.read_at(at, CHUNK)
        rest = zeros.lstrip(b"\0")
        at += len(zeros) - len(rest)
        if rest:
            break
    head = source.read_at(at, 16)
    while packing.id == "zst" and is_skippable(head):
        at += 8 + int.from_bytes(head[4:8], "little")
        head = source.read_at(at, 16)
    if not head or packing.fits(head):
        return min(at, source.size)
    notes.trailing = source.size - at
    return source.size
