"""The stream cipher of early zip archives (the application note, section 6.1). For reading only: it is weak."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

HEADER_SIZE = 12
BYTES_A_SECOND = 1_300_000  # on a usual machine: each byte depends on all before it, and is a round of Python
_MASK = 0xFFFFFFFF


def _table() -> tuple[int, ...]:
    entries = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (0xEDB88320 if value & 1 else 0)
        entries.append(value)
    return tuple(entries)


_CRC = _table()


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
