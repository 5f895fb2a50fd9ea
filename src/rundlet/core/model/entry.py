"""An entry of an archive, and what is said of one."""

from __future__ import annotations

import stat
from enum import IntEnum
from typing import NamedTuple

NO_TIME = -(1 << 63)
"""The time of an entry for which the archive keeps none."""

MOST_TIME = (1 << 63) - 1
"""Nanoseconds since 1970, and before, that are kept: from 1677 to 2262."""

UNKNOWN = -1
"""A size or checksum that the archive does not state."""

ROOT = 0
"""The node of a folder tree that stands for the archive itself."""


class Kind(IntEnum):
    """What an entry is; ``HARD`` is one more name of another entry's file."""

    FILE = 0
    DIR = 1
    LINK = 2
    OTHER = 3
    HARD = 4

    @property
    def word(self) -> str:
        """The name of the kind in machine-readable output."""
        return ("file", "dir", "link", "other", "link")[self]

    @property
    def type_bits(self) -> int:
        """The bits that Unix keeps beside the permissions; those of a file for whatever has none of its own."""
        return {Kind.DIR: stat.S_IFDIR, Kind.LINK: stat.S_IFLNK}.get(self, stat.S_IFREG)


class Entry(NamedTuple):
    """One row of a catalog. A tuple, as making other objects takes several times as long.

    Attributes:
        row: its place in the catalog.
        path: its path in the archive, as the archive gives it, with ``/`` between folders.
        kind: what it is.
        size: bytes of its content, or :data:`UNKNOWN`.
        packed: bytes it takes in the archive, or :data:`UNKNOWN` where entries share them.
        mtime_ns: nanoseconds since 1970, or :data:`NO_TIME`.
        mode: Unix permission bits with the set-id bits, or 0 where the archive keeps none.
        crc: CRC-32 of the content, or :data:`UNKNOWN`.
        encrypted: whether a password is needed.
    """

    row: int
    path: str
    kind: Kind
    size: int
    packed: int
    mtime_ns: int
    mode: int
    crc: int
    encrypted: bool
