"""The LZW of ``compress`` (.Z): codes of 9 to 16 bits, least significant bit first, in groups of eight."""

from __future__ import annotations

from rundlet.core.errors import Corrupt

MAGIC = b"\x1f\x9d"
_CLEAR = 256
_HEAD = 3


class LzwDecoder:
    """An incremental decoder in the shape of the standard library's. The stream has no end mark."""

    eof = False

    def __init__(self) -> None:
        self._head = b""
        self._bits = self._count = 0
        self._width, self._most = 9, 16
        self._clears = True
        self._table: list[bytes] = []
        self._before = b""
        self._codes = 0
        self._pending = b""
        self._skip = 0

    @property
    def needs_input(self) -> bool:
        return not self._pending

    def decompress(self, data: bytes, max_length: int = -1, /) -> bytes:
        if len(self._head) < _HEAD:
            take = _HEAD - len(self._head)
            self._head, data = self._head + data[:take], data[take:]
            if len(self._head) < _HEAD:
                return b""
            self._begin()
        self._pending += data
        step, self._pending = self._pending[:4096], self._pending[4096:]
        return self._decode(step)

    def _begin(self) -> None:
        flags = self._head[2]
        self._most, self._clears = flags & 0x1F, bool(flags & 0x80)
        if self._head[:2] != MAGIC or not 9 <= self._most <= 16:
            raise Corrupt("Its packed data is damaged.")
        self._reset()

    def _reset(self) -> None:
        self._table = [bytes([i]) for i in range(256)] + ([b""] if self._clears else [])
        self._width, self._codes, self._before = 9, 0, b""

    def _decode(self, data: bytes) -> bytes:
        out = []
        for byte in data:
            if self._skip:
                self._skip -= 1
                continue
            self._bits |= byte << self._count
            self._count += 8
            if self._count < self._width:
                continue
            code = self._bits & (1 << self._width) - 1
            self._bits >>= self._width
            self._count -= self._width
            self._codes += 1
            if code == _CLEAR and self._clears:
                self._align()
                self._reset()
                continue
            out.append(self._one(code))
            if len(self._table) == 1 << self._width and self._width < self._most:
                self._align()
                self._width += 1
                self._codes = 0
        return b"".join(out)

    def _align(self) -> None:
        """When the width changes, the rest of the group of eight codes is left unused."""
        left = -self._codes % 8 * self._width - self._count
        self._skip = max(left, 0) // 8
        self._bits = self._count = 0

    def _one(self, code: int) -> bytes:
        if code < len(self._table):
            text = self._table[code]
        elif code == len(self._table) and self._before:
            text = self._before + self._before[:1]
        else:
            raise Corrupt("Its packed data is damaged.")
        if self._before and len(self._table) < 1 << self._most:
            self._table.append(self._before + text[:1])
        self._before = text
        return text
