"""The stream cipher of early zip archives (the application note, section 6.1). For reading only: it is weak."""

from __future__ import annotations

import bisect
from collections.abc import Generator, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.jobs.interface_priority import step_aside

if TYPE_CHECKING:
    from numpy.typing import NDArray

HEADER_SIZE = 12
BYTES_A_SECOND = 1_300_000  # on a usual machine: each byte depends on all before it, and is a round of Python
TOGETHER = 24
"""Streams from which on it is quicker to decrypt them in step than one after the other."""

_MASK = 0xFFFFFFFF


def _table() -> tuple[int, ...]:
    entries = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (0xEDB88320 if value & 1 else 0)
        entries.append(value)
    return tuple(entries)


_CRC = _table()
_CRCS = np.array(_CRC, np.uint32)
_ROUNDS = 256  # between two chances to stop
_STEP_SECONDS, _BYTE_SECONDS = 17e-6, 22e-9  # where many streams go in step, a byte of each at a time


class LegacyCipher:
    """The three running keys. Each byte depends on all before it, so this goes at 1 to 2 MB a second."""

    def __init__(self, password: bytes) -> None:
        self._keys = (0x12345678, 0x23456789, 0x34567890)
        first, second, third = self._keys
        for byte in password:
            first = _CRC[(first ^ byte) & 0xFF] ^ first >> 8
            second = ((second + (first & 0xFF)) * 134775813 + 1) & _MASK
            third = _CRC[(third ^ second >> 24) & 0xFF] ^ third >> 8
        self._keys = first, second, third

    @property
    def keys(self) -> tuple[int, int, int]:
        """As they are after what was decrypted so far."""
        return self._keys

    @classmethod
    def with_keys(cls, first: int, second: int, third: int) -> LegacyCipher:
        """A cipher in the midst of a stream."""
        cipher = cls(b"")
        cipher._keys = first, second, third
        return cipher

    def decrypt(self, data: bytes) -> bytes:
        """Decrypt the next bytes."""
        first, second, third = self._keys
        table, out = _CRC, bytearray(len(data))
        for i, byte in enumerate(data):
            mix = third & 0xFFFF | 2
            byte ^= mix * (mix ^ 1) >> 8 & 0xFF
            out[i] = byte
            first = table[(first ^ byte) & 0xFF] ^ first >> 8
            second = ((second + (first & 0xFF)) * 134775813 + 1) & _MASK
            third = table[(third ^ second >> 24) & 0xFF] ^ third >> 8
        self._keys = first, second, third
        return bytes(out)


def decrypted(cipher: LegacyCipher, packed: Iterable[bytes], *, step: int = 16 * 1024) -> Iterator[bytes]:
    """Decrypt a stream in steps small enough to be cancelled between."""
    for data in packed:
        for begin in range(0, len(data), step):
            yield cipher.decrypt(data[begin : begin + step])


def decrypt_together(ciphers: Sequence[LegacyCipher], datas: Sequence[bytes]) -> Generator[bytes, None, list[bytes]]:
    """Decrypt many streams in step: each byte depends on those before it in its own stream alone.

    Args:
        ciphers: one for each stream, behind its header.
        datas: the streams, the longest first.

    Yields:
        nothing (no bytes), now and then, so that the work can be stopped.

    Returns:
        the streams in the clear.
    """
    keys = np.array([cipher.keys for cipher in ciphers], np.uint32).T.copy()
    out = [bytearray() for _ in datas]
    done = 0
    while len(datas) >= TOGETHER and done < len(datas[TOGETHER - 1]):
        step_aside()
        active = bisect.bisect_left(datas, -done, key=lambda data: -len(data))
        # What is behind the end of a stream is decrypted as well, and cut off again.
        pieces = [data[done : done + _ROUNDS].ljust(_ROUNDS, b"\0") for data in datas[:active]]
        columns = np.frombuffer(b"".join(pieces), np.uint8).reshape(active, _ROUNDS).T.copy()
        _round_by_round(keys[:, :active], columns)
        for plain, row in zip(out, columns.T.copy(), strict=False):
            plain += row.tobytes()
        done += _ROUNDS
        yield b""
    for i, data in enumerate(datas):
        if len(data) > done:  # too few to go on in step
            cipher = LegacyCipher.with_keys(*keys[:, i].tolist())
            for piece in decrypted(cipher, [data[done:]]):
                out[i] += piece
                yield b""
    return [bytes(plain[: len(data)]) for plain, data in zip(out, datas, strict=True)]


def seconds_together(sizes: Sequence[int]) -> float:
    """How long :func:`decrypt_together` takes, about, for streams of so many bytes, the longest first."""
    if len(sizes) < TOGETHER:
        return sum(sizes) / BYTES_A_SECOND
    in_step = sizes[TOGETHER - 1]
    rest = sum(size - in_step for size in sizes[: TOGETHER - 1])
    together = sum(min(size, in_step) for size in sizes)
    return in_step * _STEP_SECONDS + together * _BYTE_SECONDS + rest / BYTES_A_SECOND


def _round_by_round(keys: NDArray[np.uint32], columns: NDArray[np.uint8]) -> None:
    """Decrypt in place.

    Args:
        keys: shape (3, streams); changed as well.
        columns: shape (rounds, streams).
    """
    first, second, third = keys
    low = np.uint8
    for column in columns:
        mix = third & 0xFFFF | 2
        column ^= (mix * (mix ^ 1) >> 8).astype(low)
        first[:] = _CRCS.take(first.astype(low) ^ column) ^ first >> 8
        second += first & 0xFF
        second *= 134775813
        second += 1
        third[:] = _CRCS.take((third ^ second >> 24).astype(low)) ^ third >> 8
