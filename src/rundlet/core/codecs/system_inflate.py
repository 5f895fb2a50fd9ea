"""The system's inflate, the only one that tells where blocks begin and that can go on from the middle of a stream."""

from __future__ import annotations

import ctypes
import ctypes.util
import functools
import zlib
from typing import Any


class _Stream(ctypes.Structure):
    """The stream record of the system's deflate library."""

    _fields_ = (
        ("next_in", ctypes.c_void_p),
        ("avail_in", ctypes.c_uint),
        ("total_in", ctypes.c_ulong),
        ("next_out", ctypes.c_void_p),
        ("avail_out", ctypes.c_uint),
        ("total_out", ctypes.c_ulong),
        ("msg", ctypes.c_char_p),
        ("state", ctypes.c_void_p),
        ("zalloc", ctypes.c_void_p),
        ("zfree", ctypes.c_void_p),
        ("opaque", ctypes.c_void_p),
        ("data_type", ctypes.c_int),
        ("adler", ctypes.c_ulong),
        ("reserved", ctypes.c_ulong),
    )


_RAW = -15
_RUN, _STOP_AT_BLOCKS = 0, 5
_END, _NO_PROGRESS = 1, -5
_AT_BLOCK, _IN_LAST_BLOCK, _UNUSED = 128, 64, 7


@functools.cache
def _library() -> Any:
    name = ctypes.util.find_library("z")
    if name is None:
        return None
    library = ctypes.CDLL(name)
    library.zlibVersion.restype = ctypes.c_char_p
    return library


def system_inflate_is_there() -> bool:
    """Whether the system has it."""
    return _library() is not None


class SystemInflate:
    """A decoder of a raw deflate stream, in the shape of the standard library's, that can be asked about blocks.

    Args:
        bits, value: how many bits of the byte before the input belong to the stream, and those bits.
        window: the bytes decoded before the input, up to 32 KiB.

    Attributes:
        stop_at_blocks: whether a call ends where the next block begins.
        consumed: bytes of input used so far.
    """

    def __init__(self, *, bits: int = 0, value: int = 0, window: bytes = b"") -> None:
        library = _library()
        self._stream = _Stream()
        self._reference = ctypes.byref(self._stream)
        self._input = b""
        self._out: ctypes.Array[ctypes.c_char] = ctypes.create_string_buffer(1)
        self._open = False
        self.stop_at_blocks = False
        self.consumed = 0
        self.eof = False
        if library.inflateInit2_(self._reference, _RAW, library.zlibVersion(), ctypes.sizeof(_Stream)) != 0:
            raise MemoryError
        self._open = True
        if bits:
            library.inflatePrime(self._reference, bits, value)
        if window:
            library.inflateSetDictionary(self._reference, window, len(window))

    @property
    def needs_input(self) -> bool:
        return not self._stream.avail_in and not self.eof

    @property
    def unused_data(self) -> bytes:
        """What stands behind the stream in the input."""
        return self._input[len(self._input) - self._stream.avail_in :] if self.eof else b""

    @property
    def left(self) -> int:
        """Bytes of the input that are not used yet."""
        return int(self._stream.avail_in)

    @property
    def at_block(self) -> bool:
        """Whether the last call ended where a block begins or the last one ends."""
        return bool(self._stream.data_type & _AT_BLOCK)

    @property
    def in_last_block(self) -> bool:
        """Whether the block just read is the last."""
        return bool(self._stream.data_type & _IN_LAST_BLOCK)

    @property
    def unused_bits(self) -> int:
        """How many bits of the last used byte are not used yet."""
        return int(self._stream.data_type & _UNUSED)

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        """Take ``data`` and give out up to ``max_length`` bytes, which must be given.

        Raises:
            zlib.error: when the stream is damaged.
        """
        stream = self._stream
        if data:
            self._input = self._input[len(self._input) - stream.avail_in :] + data
            stream.next_in = ctypes.cast(ctypes.c_char_p(self._input), ctypes.c_void_p)
            stream.avail_in = len(self._input)
        if len(self._out) < max_length:
            self._out = ctypes.create_string_buffer(max_length)
        place = ctypes.addressof(self._out)
        stream.next_out, stream.avail_out = place, max_length
        before = stream.avail_in
        status = _library().inflate(self._reference, _STOP_AT_BLOCKS if self.stop_at_blocks else _RUN)
        self.consumed += before - stream.avail_in
        if status == _END:
            self.eof = True
        elif status not in (0, _NO_PROGRESS):
            raise zlib.error(f"inflate ended with {status}")
        return ctypes.string_at(place, max_length - stream.avail_out)

    def close(self) -> None:
        """Give back its memory. Closing twice does no harm."""
        if self._open:
            _library().inflateEnd(self._reference)
            self._open = False

    def __del__(self) -> None:
        self.close()
