"""Reading what is to be packed, and trying whether packing makes it smaller."""

from __future__ import annotations

import os

from rundlet.core.codecs import deflate_codec
from rundlet.core.errors import FileProblem
from rundlet.core.formats.base import PackItem
from rundlet.core.jobs.turns import step_aside
from rundlet.core.limits import KIB, SMALL

CHANGED = "it changed while it was read; it was packed as it was then"
"""What is said of a file that has another size than when the plan was made."""

_SAMPLE = 64 * KIB
_SAMPLES = 4
_TRIAL_LEVEL = 3
_WORTH_IT = 0.98


class ReadFailed(Exception):
    """A source could not be read to its end."""

    def __init__(self, problem: FileProblem) -> None:
        super().__init__(problem.message)
        self.problem = problem


def open_item(item: PackItem) -> int:
    """A descriptor of the item's file, links not followed. Raises ``OSError``."""
    return os.open(item.source, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK)


def read_whole(item: PackItem) -> bytes:
    """A small file, also when it has grown since it was planned. Raises ``OSError``."""
    step_aside()
    fd = open_item(item)
    try:
        data = os.read(fd, item.size + 1)
        if len(data) == item.size:
            return data
        pieces = [data]
        while piece := os.read(fd, SMALL):
            pieces.append(piece)
        return b"".join(pieces)
    finally:
        os.close(fd)


def read_piece(fd: int, step: int, offset: int) -> bytes:
    """``step`` bytes of a file at a place; fewer only at its end. Raises ``OSError``."""
    data = os.pread(fd, step, offset)
    while data and len(data) < step and (more := os.pread(fd, step - len(data), offset + len(data))):
        data += more
    return data


def shrinks(fd: int, size: int) -> bool:
    """Whether compressing a large file is worth it, tried quickly on a few stretches of it. Raises ``OSError``."""
    step = max(size // _SAMPLES, 1)
    sample = [os.pread(fd, _SAMPLE, i * step) for i in range(_SAMPLES)]
    packed = sum(len(deflate_codec.compress(data, _TRIAL_LEVEL)) for data in sample if data)
    return packed < _WORTH_IT * sum(map(len, sample))
