"""Reading files that are to be packed. Imports little, as helper processes start with it."""

from __future__ import annotations

import errno
import os

from rundlet.core.limits import SMALL

_MOST_PIECES = 64  # of up to a mebibyte each


def open_file(path: str) -> int:
    """A descriptor of a file, links not followed. Raises ``OSError``."""
    return os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK)


def read_file(path: str, size: int) -> bytes:
    """A small file of about so many bytes: all of it, also when it has grown a little meanwhile.

    Raises:
        OSError: when it can't be read, or has grown so much that it should not be held in memory.
    """
    fd = open_file(path)
    try:
        data = os.read(fd, size + 1)
        if len(data) == size:
            return data
        pieces = [data]
        while piece := os.read(fd, SMALL):
            pieces.append(piece)
            if len(pieces) > _MOST_PIECES:
                raise OSError(errno.EOVERFLOW, os.strerror(errno.EOVERFLOW))
        return b"".join(pieces)
    finally:
        os.close(fd)
