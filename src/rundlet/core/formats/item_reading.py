"""Reading what is to be packed, and trying whether packing makes it smaller."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from rundlet.core.codecs.whole import deflated
from rundlet.core.errors import FileProblem, RundletError, content_problem, file_problem
from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.limits import KIB
from rundlet.core.model.contents import OpenContent, OpenFile
from rundlet.core.streams.files import read_file

if TYPE_CHECKING:
    from rundlet.core.model.item import PackItem

_SAMPLE = 64 * KIB
_SAMPLES = 4
_TRIAL_LEVEL = 3
_WORTH_IT = 0.98


class ReadFailed(Exception):
    """A source could not be read to its end."""

    def __init__(self, problem: FileProblem) -> None:
        super().__init__(problem.message)
        self.problem = problem


READ_ERRORS = (OSError, RundletError)
"""What reading an item may raise."""


def read_problem(error: Exception, item: PackItem) -> FileProblem:
    """One of :data:`READ_ERRORS` as what is said of an item that can't be read."""
    if isinstance(error, OSError):
        return file_problem(error, "read", item.source or item.path)
    assert isinstance(error, RundletError)
    return content_problem(error, item.path)


def open_item(item: PackItem) -> OpenContent:
    """The item's content, links on the disk not followed. Raises what is in :data:`READ_ERRORS`."""
    return OpenFile(item.source) if item.content is None else item.content.open()


def read_whole(item: PackItem, tick: Callable[[], None] = step_aside) -> bytes:
    """Content that is held in memory, also of a file that has grown since it was planned.

    Args:
        tick: called now and then; may raise to end the reading.

    Raises:
        OSError: when it can't be read, or has grown so much that it should not be held in memory.
        RundletError: when the archive that it comes from can't be read.
    """
    tick()
    if item.content is None:
        return read_file(item.source, item.size, tick)
    content = item.content.open()
    try:
        return content.read(content.size, 0)
    finally:
        content.close()


def with_size(item: PackItem) -> PackItem:
    """A file that states no size with the size that it has: those of the process file system hold something all the same."""
    if item.content is not None:
        return item
    try:
        return item._replace(size=len(read_file(item.source, 0)))
    except OSError:
        return item  # which is said when it is packed


def shrinks(content: OpenContent, size: int) -> bool:
    """Whether compressing much content is worth it, tried quickly on a few stretches of it; may raise as reading does."""
    step = max(size // _SAMPLES, 1)
    sample = [content.read(_SAMPLE, i * step) for i in range(_SAMPLES)]
    packed = sum(len(deflated(data, _TRIAL_LEVEL)) for data in sample if data)
    return packed < _WORTH_IT * sum(map(len, sample))
