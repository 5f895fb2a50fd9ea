"""CRC-32 (the polynomial of ISO 3309, reflected), by the quickest library at hand."""

from __future__ import annotations

from isal import isal_zlib


def crc32(data: bytes | memoryview, start: int = 0) -> int:
    """The CRC-32 of ``data``, going on from ``start``."""
    return isal_zlib.crc32(data, start)


def crc32_combine(first: int, second: int, second_length: int) -> int:
    """The CRC-32 of two stretches put together, from those of each; ``second_length`` in bytes."""
    return isal_zlib.crc32_combine(first, second, second_length)
