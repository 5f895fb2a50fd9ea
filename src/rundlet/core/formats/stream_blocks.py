"""Compressed streams that are made of blocks: several are decoded side by side, and each is a place to go on from."""

from __future__ import annotations

import bz2
import itertools
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from rundlet.core.codecs import bzip2_blocks, xz_blocks
from rundlet.core.codecs.base import CODEC_ERRORS, expand
from rundlet.core.codecs.parallel import in_order
from rundlet.core.codecs.registry import DECODERS
from rundlet.core.errors import Corrupt, LimitExceeded, MissingPart, RundletError, Truncated
from rundlet.core.limits import CHUNK, MIB
from rundlet.core.streams.exact import chunks, read_there

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource

_WHOLE = 16 * MIB
"""Bytes that a block may unpack to and still be decoded ahead of its turn; larger ones are decoded as they are taken."""

_FIRST = 2 * MIB  # of a bzip2 block, whose 900 kB can stand for fifty times as many


@dataclass(frozen=True, slots=True)
class Decoded:
    """A block with its content in chunks.

    Attributes:
        bit: where it begins in the file, in bits.
    """

    bit: int
    content: Iterator[bytes]


class BlockMember:
    """One member of a compressed file.

    Attributes:
        end: where it ends in the file, in bytes, once all its blocks were taken.
    """

    end: int = 0

    def __init__(self, source: ByteSource, *, workers: int) -> None:
        self._source = source
        self._workers = workers

    def begins_stream(self, block: Decoded) -> bool:
        """Whether what stands before a block is whole by itself, as far as that can be told from the block alone."""
        return False

    def _side_by_side(self, tasks: Iterator[Callable[[], Decoded | None]]) -> Iterator[Decoded | None]:
        if self._workers == 1:
            for task in tasks:
                yield task()
            return
        with ThreadPoolExecutor(self._workers, thread_name_prefix="blocks") as pool:
            yield from in_order(pool, tasks, ahead=self._workers + 1)

    def _damaged(self) -> Corrupt:
        return Corrupt("{archive:name} is damaged within its packed data.", archive=self._source.name)


class Bzip2Member(BlockMember):
    """A bzip2 stream from its beginning or from one of its blocks, with all others that follow it at once.

    Args:
        bit: where the stream or the block begins in the file, in bits.
        midway: whether it is a block; the checksum of its whole stream is not known then.
    """

    def __init__(self, source: ByteSource, bit: int, *, midway: bool, workers: int) -> None:
        super().__init__(source, workers=workers)
        self._bit = bit
        self._midway = midway
        self._fault: RundletError | None = None  # what the search for blocks ended with
        self._stated: dict[int, int] = {}  # the checksum of a whole stream by the place of its end mark, in bits

    def blocks(self) -> Iterator[Decoded]:
        """The blocks with their content.

        Raises:
            Corrupt: when one is damaged; ``Truncated`` when the file ends before a stream does.
        """
        total, known = 0, not self._midway
        broken = -1  # where a block begins that does not end at the mark behind it, as noise can look like a mark
        for (begin, end), decoded in self._with_places():
            if broken >= 0:
                decoded, broken = self._decode(broken, end), -1
                if decoded is None:
                    raise self._damaged()
            if decoded is None:
                broken = begin
                continue
            total = bzip2_blocks.together(total, self._checksum(decoded.bit))
            yield decoded
            if end in self._stated:
                if known and total != self._stated[end]:
                    raise self._damaged()
                total, known = 0, True
        if broken >= 0:
            raise self._damaged()
        if self._fault is not None:
            raise self._fault

    def begins_stream(self, block: Decoded) -> bool:
        return block.bit % 8 == 0 and bzip2_blocks.begins_stream(self._source.read_at, block.bit // 8)

    def _with_places(self) -> Iterator[tuple[tuple[int, int], Decoded | None]]:
        places: list[tuple[int, int]] = []

        def tasks() -> Iterator[Callable[[], Decoded | None]]:
            try:
                for place in self._places():
                    places.append(place)
                    yield lambda place=place: self._decode(*place)  # type: ignore[misc]
            except RundletError as error:
                self._fault = error  # said when all blocks before it were given out

        for number, decoded in enumerate(self._side_by_side(tasks())):
            yield places[number], decoded

    def _places(self) -> Iterator[tuple[int, int]]:
        """Where each block begins and ends, in bits."""
        begin, first = -1, self._bit if self._midway else self._first_of(self._bit // 8)
        if first is None:
            raise self._damaged()
        for mark, is_end in bzip2_blocks.marks(partial(read_there, self._source), first // 8):
            if begin < 0 and mark != first:
                raise self._damaged()
            if is_end:
                self._stated[mark] = self._checksum(mark)
            if begin >= 0:
                yield begin, mark
            begin = mark
            if is_end:
                stated = self._stated[mark]
                if stated < 0:
                    break
                if mark == first and not self._midway and stated:  # the checksum of nothing
                    raise self._damaged()
                self.end = -(-(mark + bzip2_blocks.END_BITS) // 8)
                begin, first = -1, self._first_of(self.end)
                if first is None:
                    return
        if begin < 0 and self._source.size - first // 8 >= bzip2_blocks.MARK_BITS // 8:
            raise self._damaged()
        raise Truncated("{archive:name} is cut off: its packed data ends too early.", archive=self._source.name)

    def _first_of(self, at: int) -> int | None:
        """Where the first mark of a stream must be, in bits, or None when no stream begins at that byte."""
        head = self._source.read_at(at, bzip2_blocks.HEAD_SIZE)
        return (at + bzip2_blocks.HEAD_SIZE) * 8 if head in bzip2_blocks.HEADS else None

    def _checksum(self, mark: int) -> int:
        return bzip2_blocks.checksum_at(self._source.read_at(mark // 8, 12), mark % 8)

    def _decode(self, begin: int, end: int) -> Decoded | None:
        """The block between two places, or None when nothing that can be decoded stands there."""
        if end - begin < bzip2_blocks.END_BITS:
            return None
        data = self._source.read_at(begin // 8, -(-end // 8) - begin // 8)
        decoder = bz2.BZ2Decompressor()
        try:
            first = decoder.decompress(bzip2_blocks.alone(data, begin % 8, end - begin), _FIRST)
        except CODEC_ERRORS:
            return None
        if not decoder.eof and decoder.needs_input:
            return None
        return Decoded(begin, itertools.chain(_slices(first), self._rest(decoder)))

    def _rest(self, decoder: bz2.BZ2Decompressor) -> Iterator[bytes]:
        try:
            while not decoder.eof:
                if decoder.needs_input:
                    raise self._damaged()
                yield decoder.decompress(b"", CHUNK)
        except CODEC_ERRORS as error:
            raise self._damaged() from error


class XzMember(BlockMember):
    """xz streams from the beginning of one of their blocks to the end of the last one.

    Args:
        streams: what their indexes say of them.
        start: where the first block that is wanted, or its stream, begins in the file, in bytes.
        memory: bytes that a decoder may take.
    """

    def __init__(
        self, source: ByteSource, streams: Sequence[xz_blocks.Stream], start: int, *, memory: int, workers: int
    ) -> None:
        super().__init__(source, workers=workers)
        self.wanted = [(s.flags, block) for s in streams for block in s.blocks if block.start >= start]
        self._memory = memory
        self.end = streams[-1].end

    def blocks(self) -> Iterator[Decoded]:
        """The blocks with their content.

        Raises:
            Corrupt: when one is damaged or not what the index says.
            LimitExceeded: when decoding asks for more memory than allowed.
        """
        tasks = ((lambda flags=flags, block=block: self._decode(flags, block)) for flags, block in self.wanted)
        for decoded in self._side_by_side(tasks):
            assert decoded is not None
            yield decoded

    def _decode(self, flags: bytes, block: xz_blocks.Block) -> Decoded:
        content = self._content(flags, block)
        if self._workers > 1 and block.plain <= _WHOLE and block.padded <= _WHOLE:
            content = _at_once(content)
        return Decoded(block.start * 8, content)

    def _content(self, flags: bytes, block: xz_blocks.Block) -> Iterator[bytes]:
        head, foot = xz_blocks.frame(flags, block)
        packed = itertools.chain((head,), chunks(self._source, block.start, block.padded), (foot,))
        try:
            yield from expand(DECODERS["xz"](self._memory), packed)
        except LimitExceeded as error:
            raise LimitExceeded(
                "Unpacking {archive:name} would take more memory than allowed.", archive=self._source.name
            ) from error
        except MissingPart:
            raise
        except RundletError as error:
            raise self._damaged() from error


def _at_once(content: Iterator[bytes]) -> Iterator[bytes]:
    """The same, decoded now; what goes wrong is said behind what came before it."""
    taken = []
    try:
        for data in content:
            taken.append(data)
    except RundletError as error:
        return itertools.chain(taken, _failing(error))
    return iter(taken)


def _failing(error: RundletError) -> Iterator[bytes]:
    raise error
    yield b""


def _slices(data: bytes) -> Iterator[bytes]:
    return (data[at : at + CHUNK] for at in range(0, len(data), CHUNK))
