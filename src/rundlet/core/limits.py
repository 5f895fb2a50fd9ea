"""Bounds on memory and work, each with its reason. Code takes them as arguments; only a person raises them."""

from __future__ import annotations

from dataclasses import dataclass

KIB = 1024
MIB = 1024 * KIB
GIB = 1024 * MIB

CHUNK = 256 * KIB
"""Bytes handled between two looks at the job: small enough to cancel at once, large enough for full codec speed."""

SMALL = 1 * MIB
"""Entries up to this size are handled whole in memory: one codec call is twice as fast as a stream."""

INDEX_FROM = 8 * MIB
"""Compressed archives from this size on keep an index in the cache; smaller ones are read again as quickly."""

KEPT_PLAIN = 64 * MIB
"""Decoded bytes of a compressed tar that are kept while it is open, so that it need not be decoded again to be unpacked."""

KEPT_ON_DISK = 8 * GIB
"""The same for those that decode slowly, in a file without a name on the disk, as far as that has room."""

INDEX_TOTAL = 256 * MIB
"""Bytes of indexes that are kept; the ones used longest ago go first."""

MAX_COMPONENT = 255
"""Bytes in one name on the file systems of Linux."""

MAX_PATH = 4000
"""Bytes in a path that programs can still open (the system's bound is 4096 with its end mark)."""

MAX_LINK_TARGET = 4095
"""Bytes in the target of a symbolic link: the system's own bound."""

MAX_FILE = (1 << 62) - 1
"""Bytes of a file that an archive may state: more than there is anywhere, and still a number that columns hold."""

MAX_PASSWORD = 1000
"""Characters of a password: making the key of a 7z archive takes half a million rounds over all of them."""

MAX_PASSWORD_LINE = 16 * KIB
"""Bytes of the line that a password is read from; what is longer is too long for a password, too."""


@dataclass(frozen=True, slots=True)
class Limits:
    """What reading an archive may take.

    Attributes:
        directory_bytes: the largest file list that is read into memory; a million entries take about 100 MB.
        memory_bytes: the most that one decoder may ask for (dictionaries, models).
        index_bytes: the most that indexes of compressed archives may take in the cache.
    """

    directory_bytes: int = 2 * GIB
    memory_bytes: int = 1 * GIB
    index_bytes: int = INDEX_TOTAL


DEFAULT = Limits()
