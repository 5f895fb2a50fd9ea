"""Solid blocks ("folders" of the description) decoded: a chain or net of coders between packed streams and plain bytes."""

from __future__ import annotations

import bz2
import itertools
import lzma
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.codecs import lzma2, ppmd
from rundlet.core.codecs.aes import BLOCK, cbc_decrypted, stretched_key
from rundlet.core.codecs.base import Decoder, expand
from rundlet.core.codecs.branch import BRANCHES, unfiltered
from rundlet.core.codecs.four_stream import joined_streams
from rundlet.core.codecs.parallel import cores, in_order
from rundlet.core.codecs.registry import DECODERS, check_memory, lzma_filter
from rundlet.core.errors import Corrupt, FormatError, MissingPart, PasswordNeeded, Truncated, Unsupported
from rundlet.core.limits import CHUNK, MIB
from rundlet.core.streams.exact import chunks, read_there

if TYPE_CHECKING:
    from rundlet.core.formats.sevenz.records import Coder, Folder
    from rundlet.core.streams.sources import ByteSource

_DAMAGED = "Its packed data is damaged."
_LARGEST_AT_ONCE = 128 * MIB  # a segment up to this size is decoded in memory, beside the one before it
_WORTH_A_CORE = 4 * MIB


class Keys:
    """The password of an archive, and the keys made of it, as each takes its time to make.

    Attributes:
        password: in UTF-16, the low byte first; None while there is none.
    """

    def __init__(self) -> None:
        self.password: bytes | None = None
        self._made: dict[tuple[bytes, bytes, int], bytes] = {}

    def take(self, password: str) -> None:
        """Take the password for all that is read from now on."""
        self.password = password.encode("utf-16-le", "surrogatepass")

    def drop(self) -> None:
        """Forget the password again."""
        self.password = None

    def lock(self, properties: bytes) -> tuple[bytes, bytes]:
        """The key and the initialisation vector for a coder's properties.

        Raises:
            PasswordNeeded: when there is no password.
            Corrupt: when the properties are none.
            LimitExceeded: when making the key takes too much work.
        """
        if self.password is None:
            raise PasswordNeeded("It is locked with a password.")
        salt, iv, power = _lock_properties(properties)
        where = (self.password, salt, power)
        if where not in self._made:
            self._made[where] = stretched_key(self.password, salt, power)
        return self._made[where], iv.ljust(BLOCK, b"\0")


def _lock_properties(properties: bytes) -> tuple[bytes, bytes, int]:
    """Salt, initialisation vector and the power of rounds: two bytes with all lengths, then both."""
    if not properties:
        raise Corrupt(_DAMAGED)
    first = properties[0]
    second = properties[1] if len(properties) > 1 and first & 0xC0 else 0
    salt_size = (first >> 7) + (second >> 4) if first & 0xC0 else 0
    iv_size = (first >> 6 & 1) + (second & 15) if first & 0xC0 else 0
    rest = properties[2:]
    if len(rest) < salt_size + iv_size or salt_size > BLOCK or iv_size > BLOCK:
        raise Corrupt(_DAMAGED)
    return rest[:salt_size], rest[salt_size : salt_size + iv_size], first & 0x3F


class CbcSource:
    """A source of bytes locked with AES in CBC mode, decrypted wherever it is read.

    Args:
        size: bytes of the plain content; what follows up to the end of the last block is padding.
        iv: 16 bytes.
    """

    def __init__(self, source: ByteSource, key: bytes, iv: bytes, size: int) -> None:
        self._source = source
        self._key = key
        self._iv = iv
        self.name = source.name
        self.size = size

    def read_at(self, offset: int, length: int) -> bytes:
        length = max(min(length, self.size - offset), 0)
        begin = offset // BLOCK * BLOCK
        end = -(-(offset + length) // BLOCK) * BLOCK
        before = self._source.read_at(begin - BLOCK, BLOCK) if begin else self._iv
        locked = self._source.read_at(begin, end - begin) if length else b""
        locked = locked[: len(locked) // BLOCK * BLOCK]
        if not locked or len(before) < BLOCK:
            return b""
        return cbc_decrypted(self._key, before, locked)[offset - begin : offset - begin + length]

    def fingerprint(self) -> tuple[int, ...]:
        return self._source.fingerprint()

    def close(self) -> None:
        """The locked source stays open: it is its owner's."""


class Block:
    """One block, ready to be decoded.

    Args:
        folder: its coders.
        sizes: bytes that come out of each coder.
        packed: its packed streams, in the folder's order.
        keys: for the locked ones.
        memory: bytes that each decoder may take.
    """

    def __init__(
        self, folder: Folder, sizes: Sequence[int], packed: Sequence[ByteSource], keys: Keys, memory: int
    ) -> None:
        self._folder = folder
        self._sizes = sizes
        self._packed = packed
        self._keys = keys
        self._memory = memory
        self._coder_of: dict[int, tuple[Coder, int]] = {}
        first_in = 0
        for out, coder in enumerate(folder.coders):  # each coder has one output
            self._coder_of[out] = (coder, first_in)
            first_in += coder.num_in_streams
        self._bound = {pair.in_index: pair.out_index for pair in folder.bind_pairs}
        self.size = sizes[folder.main_output]
        self._segments: list[lzma2.Segment] | None = None

    @property
    def locked(self) -> bool:
        """Whether it needs a password."""
        return any(coder.name == "aes" for coder in self._folder.coders)

    def as_source(self) -> ByteSource | None:
        """The plain bytes as a source, when they are only copied or locked; else None."""
        return self._source(self._folder.main_output)

    def segments(self) -> list[lzma2.Segment]:
        """The stretches that can be decoded each on its own; none when there is no telling.

        Raises:
            RundletError: when a lock is not open or the packed bytes can't be read.
        """
        if self._segments is None:
            coder, first_in = self._coder_of[self._folder.main_output]
            source = self._input_source(first_in) if coder.name == "lzma2" else None
            self._segments = lzma2.segments(partial(read_there, source), source.size) if source is not None else []
            if self._segments and (self._segments[0].at or self._segments[-1].at + self._segments[-1].size < self.size):
                self._segments = []  # damaged: the decoder will say how
        return self._segments

    def plain(self, segment: int = 0, until: int | None = None) -> Iterator[bytes]:
        """The plain bytes, from the beginning or from a segment on, decoded ahead on other cores where that can be done.

        Args:
            until: the place behind which nothing is wanted; segments that begin there or later are not decoded.

        Raises:
            Corrupt, Truncated: when the packed bytes are damaged.
            Unsupported: when a method is not known.
            PasswordNeeded, LimitExceeded: see :class:`Keys` and the limits.
        """
        found = self.segments()
        if len(found) > 1:
            return self._ahead([s for s in found[segment:] if until is None or s.at < until])
        return self._stream(self._folder.main_output, frozenset())

    def _ahead(self, wanted: Sequence[lzma2.Segment]) -> Iterator[bytes]:
        coder, first_in = self._coder_of[self._folder.main_output]
        source = self._input_source(first_in)
        assert source is not None

        def step_by_step(segment: lzma2.Segment) -> Iterator[bytes]:
            packed = itertools.chain(chunks(source, segment.packed_at, segment.packed_size), (lzma2.END,))
            return expand(lzma2.decoder(coder.properties, self._memory), packed, until=segment.size)

        def at_once(segment: lzma2.Segment) -> tuple[lzma2.Segment, bytes | None]:
            try:
                packed = source.read_at(segment.packed_at, segment.packed_size)
                return segment, lzma2.whole(packed, coder.properties, segment, self._memory)
            except (FormatError, MissingPart):
                return segment, None  # step by step it gives what comes before the fault

        large = max(segment.size for segment in wanted)
        if cores() == 1 or not _WORTH_A_CORE <= large <= _LARGEST_AT_ONCE or len(wanted) == 1:
            for segment in wanted:
                yield from step_by_step(segment)
            return
        with ThreadPoolExecutor(cores(), thread_name_prefix="segments") as pool:
            for segment, data in in_order(pool, (partial(at_once, segment) for segment in wanted), ahead=cores() + 1):
                if data is None:
                    yield from step_by_step(segment)
                else:
                    yield from (data[at : at + CHUNK] for at in range(0, len(data), CHUNK))

    def _source(self, out: int) -> ByteSource | None:
        coder, first_in = self._coder_of[out]
        if coder.name not in ("copy", "aes") or coder.num_in_streams != 1:
            return None
        source = self._input_source(first_in)
        if source is None or coder.name == "copy":
            return source
        key, iv = self._keys.lock(coder.properties)
        return CbcSource(source, key, iv, self._sizes[out])

    def _input_source(self, index: int) -> ByteSource | None:
        if index not in self._bound:
            return self._packed[self._folder.packed.index(index)]
        return self._source(self._bound[index])

    def _input(self, index: int, path: frozenset[int]) -> Iterator[bytes]:
        source = self._input_source(index)
        if source is not None:
            return chunks(source, 0, source.size)
        return self._stream(self._bound[index], path)

    def _stream(self, out: int, path: frozenset[int]) -> Iterator[bytes]:
        if out in path:
            raise Corrupt("Its coders feed each other in a circle.")
        coder, first_in = self._coder_of[out]
        name, size = coder.name, self._sizes[out]
        expected = 4 if name == "four-stream x86" else 1
        if coder.num_in_streams != expected:
            raise Corrupt("Its coders do not fit together.")
        source = self._source(out)
        if source is not None:
            return chunks(source, 0, size)
        inputs = [self._input(first_in + i, path | {out}) for i in range(expected)]
        if name == "four-stream x86":
            return joined_streams(inputs[0], inputs[1], inputs[2], inputs[3], size)
        if name in BRANCHES:
            _check_offset(coder.properties)
            return unfiltered(name, inputs[0], size)
        if name in _DECODERS:
            return expand(_DECODERS[name](coder.properties, self._memory), inputs[0], until=size)
        if name == "delta":
            return _without_delta(coder.properties, inputs[0])
        if name == "ppmd":
            return _ppmd(coder.properties, inputs[0], size, self._memory)
        if name == "aes":
            raise Unsupported("Its lock lies in a place where Rundlet does not look for one.")
        raise Unsupported("It is packed with method {name}, which Rundlet does not have.", name=name)


def _check_offset(properties: bytes) -> None:
    """Some filters may count places from elsewhere than the beginning; nobody writes that, so it is not read."""
    if any(properties):
        raise Unsupported("It is packed with a filter that begins midway, which Rundlet does not read.")


def _lzma(properties: bytes, memory: int) -> Decoder:
    if len(properties) != 5:
        raise Corrupt(_DAMAGED)
    settings = lzma_filter(properties, memory)
    if settings["lc"] + settings["lp"] > 4:
        raise Unsupported("It is packed with settings of LZMA (lc and lp over 4) that the codec does not have.")
    return lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[settings])


_DECODERS: dict[str, Callable[[bytes, int], Decoder]] = {
    "lzma": _lzma,
    "lzma2": lzma2.decoder,
    "bzip2": lambda _, memory: _Members(),
    "deflate": lambda _, memory: DECODERS["deflate"](memory),
    "deflate64": lambda _, memory: DECODERS["deflate64"](memory),
    "zstd": lambda _, memory: DECODERS["zstd"](memory),
}


class _Members:
    """bzip2 streams one after the other, as several cores write them."""

    eof = False

    def __init__(self) -> None:
        self._inner = bz2.BZ2Decompressor()

    @property
    def needs_input(self) -> bool:
        return self._inner.needs_input and not (self._inner.eof and self._inner.unused_data)

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        if self._inner.eof:
            data = self._inner.unused_data + data
            if not data:
                return b""
            self._inner = bz2.BZ2Decompressor()
        return self._inner.decompress(data, max_length)


def _without_delta(properties: bytes, data: Iterable[bytes]) -> Iterator[bytes]:
    """Delta taken back: each byte was stored as its difference to the one ``distance`` bytes before."""
    if len(properties) != 1:
        raise Corrupt(_DAMAGED)
    distance = properties[0] + 1
    state = np.zeros(distance, np.uint8)
    rest = b""
    for piece in itertools.chain(data, (b"",)):
        piece = rest + piece
        rows = len(piece) // distance
        table = np.frombuffer(piece, np.uint8, rows * distance).reshape(rows, distance)
        sums = np.add.accumulate(np.vstack((state, table)), axis=0, dtype=np.uint8)[1:]
        if rows:
            state = sums[-1]
            yield sums.tobytes()
        rest = piece[rows * distance :]
    if rest:
        yield (np.frombuffer(rest, np.uint8) + state[: len(rest)]).astype(np.uint8).tobytes()


def _ppmd(properties: bytes, packed: Iterable[bytes], size: int, memory: int) -> Iterator[bytes]:
    """PPMd, variant H: one byte of order and four of the model's memory."""
    if len(properties) != 5:
        raise Corrupt(_DAMAGED)
    order, needed = properties[0], int.from_bytes(properties[1:], "little")
    check_memory(needed, memory)
    if not 2 <= order <= 64 or not 1 << 11 <= needed <= 0xFFFFFFFF - 12 * 3:
        raise Corrupt(_DAMAGED)
    return ppmd.decode(ppmd.VARIANT_H, packed, order=order, memory=needed, restore=0, size=size, allowed=memory)


def exactly(plain: Iterable[bytes], size: int) -> Iterator[bytes]:
    """The bytes of a block and not one more.

    Raises:
        Truncated: when there are fewer.
    """
    left = size
    for data in plain:
        yield data[:left]
        left -= min(len(data), left)
        if not left:
            return
    if left:
        raise Truncated("Its packed data ends too early.")
