"""A helper process that reads small files and deflates them.

This module is what the process runs::

    python -P -m rundlet.core.formats.deflate_process

It reads orders from its standard input, one pickle each: a level and a list of paths with their sizes. It answers each with
a pickled list of what came of the files, None for one that could not be read: why is for its master to find out.
"""

from __future__ import annotations

import pickle
import sys
from typing import BinaryIO

from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.whole import deflated
from rundlet.core.streams.files import read_file

Order = tuple[int, list[tuple[str, int]]]
Content = tuple[int, int, bool, bytes]
"""A file's CRC-32, its size in bytes, whether deflating made it smaller, and the smaller of both."""


def packed(data: bytes, level: int) -> Content:
    """Content as it goes into an archive; ``level`` 1 to 9."""
    smaller = deflated(data, level) if data else data
    shrinks = len(smaller) < len(data)
    return crc32(data), len(data), shrinks, smaller if shrinks else data


def serve(orders: BinaryIO, answers: BinaryIO) -> None:
    """Fill orders until there are no more."""
    while True:
        try:
            order: Order = pickle.load(orders)
        except EOFError:
            return
        level, files = order
        pickle.dump([_file(path, size, level) for path, size in files], answers, pickle.HIGHEST_PROTOCOL)
        answers.flush()


def _file(path: str, size: int, level: int) -> Content | None:
    try:
        return packed(read_file(path, size), level)
    except OSError:
        return None


if __name__ == "__main__":
    serve(sys.stdin.buffer, sys.stdout.buffer)
