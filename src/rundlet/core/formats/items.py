"""Reading what is to be packed, and trying whether packing makes it smaller."""

from __future__ import annotations

import os
from collections.abc import Callable

from rundlet.core.codecs.whole import deflated
from rundlet.core.errors import FileProblem
from rundlet.core.formats.base import PackItem
from rundlet.core.jobs.turns import step_aside
from rundlet.core.limits import KIB
from rundlet.core.streams.files import open_file, read_file

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
    return open_file(item.source)


def read_whole(item: PackItem, tick: Callable[[], None] = step_aside) -> bytes:
    """A file that is held in memory, also when it has grown since it was planned.

    Args:
        tick: called now and then; may raise to end the reading.

    Raises:
        OSError: when it can't be read, or has grown so much that it should not be held in memory.
    """
    tick()
    return read_file(item.source, item.size, tick)


def with_size(item: PackItem) -> PackItem:
    """A file that states no size with the size that it has: those of the process file system hold something all the same."""
    try:
        return item._replace(size=len(read_file(item.source, 0)))
    except OSError:
        return item  # which is said when it is packed


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
    packed = sum(len(deflated(data, _TRIAL_LEVEL)) for data in sample if data)
    return packed < _WORTH_IT * sum(map(len, sample))
