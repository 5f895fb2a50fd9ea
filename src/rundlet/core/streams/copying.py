"""Bytes of one file in another: copied by the system, which shares them on disks where files can share what they hold."""

from __future__ import annotations

import errno
from collections.abc import Callable
from typing import Protocol

from rundlet.core.limits import MIB
from rundlet.core.streams.exact import chunks
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.streams.sources import ByteSource, FileSource, SliceSource

_STEP = 8 * MIB
_CAN_NOT = (errno.EXDEV, errno.EINVAL, errno.EOPNOTSUPP, errno.ENOSYS, errno.EPERM, errno.EBADF, errno.ETXTBSY)


class Takes(Protocol):
    """What bytes are appended to."""

    def write(self, data: bytes | memoryview) -> None: ...


def copy_bytes(sink: Takes, source: ByteSource, offset: int, length: int, tick: Callable[[int], object]) -> None:
    """Append a stretch of a source to a sink.

    Args:
        sink: one that is a file takes the bytes without their passing through this process.
        tick: told of bytes that were copied; may raise to end the work.

    Raises:
        Truncated: when the source ends before.
        MissingPart, FileProblem: when it can't be read, or the sink not be written.
    """
    while isinstance(source, SliceSource):
        offset, source = offset + source.start, source.inner
    if isinstance(sink, ArchiveSink) and isinstance(source, FileSource):
        done = _by_the_system(sink, source, offset, length, tick)
        offset, length = offset + done, length - done
    for data in chunks(source, offset, length, chunk=MIB):
        sink.write(data)
        tick(len(data))


def _by_the_system(
    sink: ArchiveSink, source: FileSource, offset: int, length: int, tick: Callable[[int], object]
) -> int:
    """Copy as far as the system does it; how many bytes that were."""
    done, held = 0, source.hold()
    while done < length:
        try:
            count = sink.copy_from(held.fd, min(length - done, _STEP), offset + done)
        except OSError as error:
            if error.errno in _CAN_NOT:
                return done  # the rest goes the usual way, which says what is wrong if anything is
            raise sink.problem(error) from error
        if not count:
            return done  # at the end of the source, or on a disk that does not say that it can't
        done += count
        tick(count)
    return done
