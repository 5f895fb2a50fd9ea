"""Branch filters: they turn the relative targets of jumps and calls into absolute ones, which repeat and so pack better.

A filter changes bytes in place and keeps their number. Most come from a library; ARM64 and RISC-V are our own, after
the public description of the xz format's filters.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

BRANCHES = ("x86", "powerpc", "ia-64", "arm", "arm thumb", "sparc", "arm64", "risc-v")
"""The names of all filters."""

_MASK = 0xFFFFFFFF


class _Filter(Protocol):
    """Takes bytes and gives out what is settled of them; the rest is given out by ``flush``."""

    def update(self, data: bytes) -> bytes: ...
    def flush(self) -> bytes: ...


class _LibraryDecoder:
    """A filter of the library. What it keeps back at the very end is less than an instruction, so it stays as it is."""

    def __init__(self, inner: Any) -> None:
        self._inner = inner
        self._recent = b""
        self._behind = 0

    def update(self, data: bytes) -> bytes:
        out = bytes(self._inner.decode(data))
        self._behind += len(data) - len(out)
        self._recent = (self._recent + data)[-64:]
        return out

    def flush(self) -> bytes:
        return self._recent[len(self._recent) - self._behind :] if self._behind else b""


class _LibraryEncoder:
    """The same in the other direction."""

    def __init__(self, inner: Any) -> None:
        self._inner = inner

    def update(self, data: bytes) -> bytes:
        return bytes(self._inner.encode(data))

    def flush(self) -> bytes:
        return bytes(self._inner.flush())


class _Arm64:
    """BL and ADRP of ARM64: instructions of four bytes, each judged on its own."""

    def __init__(self, sign: int) -> None:
        self._sign = sign
        self._at = 0
        self._rest = b""

    def update(self, data: bytes) -> bytes:
        data = self._rest + data
        whole = len(data) & ~3
        self._rest = data[whole:]
        words = np.frombuffer(data, "<u4", whole // 4).astype(np.int64)
        places = np.arange(self._at, self._at + whole, 4, dtype=np.int64)
        self._at += whole
        return _arm64(words, places, self._sign).astype("<u4").tobytes()

    def flush(self) -> bytes:
        return self._rest


def _arm64(words: NDArray[np.int64], places: NDArray[np.int64], sign: int) -> NDArray[np.int64]:
    """Instructions at places (in bytes) with their targets moved: ``sign`` is 1 to encode and -1 to decode."""
    calls = words & 0xFC000000 == 0x94000000
    called = 0x94000000 | (words + sign * (places >> 2)) & 0x03FFFFFF
    pages = words & 0x9F000000 == 0x90000000
    source = words >> 29 & 3 | words >> 3 & 0x1FFFFC
    pages &= source + 0x20000 & 0x1C0000 == 0  # only targets within 512 MiB, so that data is rarely taken for code
    target = source + sign * (places >> 12)
    paged = words & 0x9000001F | (target & 3) << 29 | (target & 0x3FFFC) << 3 | -(target & 0x20000) & 0xE00000
    return np.where(calls, called, np.where(pages, paged, words))


class _RiscV:
    """JAL and AUIPC with its pair of RISC-V: instructions of two or more bytes, so they are followed one by one."""

    _AHEAD = 8

    def __init__(self, step: Callable[[bytearray, int, int], int]) -> None:
        self._step = step
        self._at = 0
        self._rest = b""

    def update(self, data: bytes) -> bytes:
        buffer = bytearray(self._rest + data)
        end = len(buffer) - self._AHEAD
        done = 0
        octets = np.frombuffer(bytes(buffer), np.uint8)
        candidates = np.flatnonzero((octets[::2] == 0xEF) | (octets[::2] & 0x7F == 0x17)) * 2
        for at in candidates.tolist():
            if at > end:
                break
            if at >= done:
                done = at + self._step(buffer, at, self._at + at & _MASK)
        settled = max(done, end + 2 & ~1, 0)
        settled = min(settled, len(buffer))
        self._at += settled
        self._rest = bytes(buffer[settled:])
        return bytes(buffer[:settled])

    def flush(self) -> bytes:
        return self._rest


def _u32(buffer: bytearray, at: int) -> int:
    return int.from_bytes(buffer[at : at + 4], "little")


def _put(buffer: bytearray, at: int, first: int, second: bytes) -> None:
    buffer[at : at + 8] = (first & _MASK).to_bytes(4, "little") + second


def _is_no_pair(upper: int, following: int) -> bool:
    """Whether the instruction behind an AUIPC does not use its register in the way of a load, store or jump."""
    return bool((upper << 8 ^ following - 3) & 0xF8003)


def _is_no_special(upper: int, register: int) -> bool:
    """Whether an AUIPC of x0 or x2 is not one that the encoder put there."""
    return (upper - 0x3117 << 18) & _MASK >= register & 0x1D


def _riscv_decode(b: bytearray, at: int, place: int) -> int:
    """Decode one instruction; gives back how many bytes it took."""
    if b[at] == 0xEF:
        if b[at + 1] & 0x0D:
            return 2
        address = ((b[at + 1] & 0xF0) << 13 | b[at + 2] << 9 | b[at + 3] << 1) - place & _MASK
        b[at + 1] = b[at + 1] & 0x0F | address >> 8 & 0xF0
        b[at + 2] = address >> 16 & 0x0F | address >> 7 & 0x10 | address << 4 & 0xE0
        b[at + 3] = address >> 4 & 0x7F | address >> 13 & 0x80
        return 4
    upper = _u32(b, at)
    if upper & 0xE80:
        following = _u32(b, at + 4)
        if _is_no_pair(upper, following):
            return 6
        address = (upper & 0xFFFFF000) + (following >> 20) & _MASK
        _put(b, at, 0x17 | 2 << 7 | following << 12, address.to_bytes(4, "little"))
        return 8
    register = upper >> 27
    if _is_no_special(upper, register):
        return 4
    address = int.from_bytes(b[at + 4 : at + 8], "big") - place & _MASK
    following = (upper >> 12 | address << 20) & _MASK
    _put(b, at, 0x17 | register << 7 | address + 0x800 & 0xFFFFF000, following.to_bytes(4, "little"))
    return 8


def _riscv_encode(b: bytearray, at: int, place: int) -> int:
    """Encode one instruction; gives back how many bytes it took."""
    if b[at] == 0xEF:
        if b[at + 1] & 0x0D:
            return 2
        one, two, three = b[at + 1 : at + 4]
        address = (one & 0xF0) << 8 | (two & 0x0F) << 16 | (two & 0x10) << 7 | (two & 0xE0) >> 4
        address = (address | (three & 0x7F) << 4 | (three & 0x80) << 13) + place & _MASK
        b[at + 1] = one & 0x0F | address >> 13 & 0xF0
        b[at + 2] = address >> 9 & 0xFF
        b[at + 3] = address >> 1 & 0xFF
        return 4
    upper = _u32(b, at)
    following = _u32(b, at + 4)
    if upper & 0xE80:
        if _is_no_pair(upper, following):
            return 6
        low = following >> 20
        address = (upper & 0xFFFFF000) + low - (low >> 11 << 12) + place & _MASK
        _put(b, at, 0x17 | 2 << 7 | following << 12, address.to_bytes(4, "big"))
        return 8
    register = upper >> 27
    if _is_no_special(upper, register):
        return 4
    _put(
        b,
        at,
        0x17 | register << 7 | following & 0xFFFFF000,
        ((upper >> 12 | following << 20) & _MASK).to_bytes(4, "little"),
    )
    return 8


_LIBRARY = {"x86": "BCJ", "powerpc": "PPC", "ia-64": "IA64", "arm": "ARM", "arm thumb": "ARMT", "sparc": "Sparc"}


def _library(name: str, side: str) -> Any:
    """The library's decoder or encoder of a filter; it is slow to import and rarely needed."""
    import bcj

    return getattr(bcj, _LIBRARY[name] + side)


def unfiltered(name: str, data: Iterable[bytes], size: int) -> Iterator[bytes]:
    """Take a filter back.

    Args:
        name: one of :data:`BRANCHES`.
        data: the filtered bytes in chunks.
        size: how many there are.
    """
    inner: _Filter
    if name == "arm64":
        inner = _Arm64(-1)
    elif name == "risc-v":
        inner = _RiscV(_riscv_decode)
    else:
        inner = _LibraryDecoder(_library(name, "Decoder")(size))
    return _through(inner, data)


def filtered(name: str, data: Iterable[bytes]) -> Iterator[bytes]:
    """Apply a filter; see :func:`unfiltered`."""
    inner: _Filter
    if name == "arm64":
        inner = _Arm64(1)
    elif name == "risc-v":
        inner = _RiscV(_riscv_encode)
    else:
        inner = _LibraryEncoder(_library(name, "Encoder")())
    return _through(inner, data)


def _through(inner: _Filter, data: Iterable[bytes]) -> Iterator[bytes]:
    for piece in data:
        if out := inner.update(piece):
            yield out
    if out := inner.flush():
        yield out
