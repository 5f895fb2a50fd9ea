"""Reading files that are to be packed. Imports little, as helper processes start with it."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable

from rundlet.core.limits import SMALL

_MOST_PIECES = 64  # of up to a mebibyte each
_AT_ONCE = 4 << 20  # bytes; more may take long from a slow disk


Stamp = tuple[int, int, int, int, int]
"""Device, file number, size in bytes, and times of change of the content and of the file itself, in nanoseconds."""


def stamp_of(status: os.stat_result) -> Stamp:
    """What a file is, so that it is noticed when it becomes another one or has other content."""
    return status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns, status.st_ctime_ns


def open_file(path: str) -> int:
    """A descriptor of a file, links not followed. Raises ``OSError``."""
    return os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK)


def read_file(path: str, size: int, tick: Callable[[], None] | None = None) -> bytes:
    """A file of about so many bytes: all of it, also when it has grown a little meanwhile.

    Args:
        tick: called now and then where it is not small; may raise to end the reading.

    Raises:
        OSError: when it can't be read, or has grown so much that it should not be held in memory.
    """
    fd = open_file(path)
    try:
        if size <= _AT_ONCE or tick is None:
            data = os.read(fd, size + 1)
            if len(data) == size:
                return data
            pieces = [data]
        else:
            pieces, left = [], size
            while left and (piece := os.read(fd, min(left, _AT_ONCE))):
                pieces.append(piece)
                left -= len(piece)
                tick()
        known = len(pieces)
        while piece := os.read(fd, SMALL):
            pieces.append(piece)
            if len(pieces) - known > _MOST_PIECES:
                raise OSError(errno.EOVERFLOW, os.strerror(errno.EOVERFLOW))
        return b"".join(pieces)
    finally:
        os.close(fd)
