"""Sources of bytes that are read by position: files, memory and stretches of either.

A reader of a format gets a source and never a path, so that parts, stubs in front and archives inside
archives are all the same to it. Sources are safe to read from several threads.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path
from typing import Protocol

from rundlet.core.errors import FileProblem, Truncated, file_problem
from rundlet.core.sentences import Sentence


class ByteSource(Protocol):
    """Bytes at positions 0 to ``size``."""

    name: str
    size: int

    def read_at(self, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes from ``offset``; fewer only at the end."""

    def fingerprint(self) -> tuple[int, ...]:
        """Numbers that change when the content is changed or replaced, and that no other content of this name has.

        None at all where there are no such: then nothing that is learned of it is kept for later.
        """

    def close(self) -> None:
        """Give back what the source holds. Closing twice does no harm."""


class Held:
    """An open descriptor, closed when nobody holds on to it any more."""

    __slots__ = ("fd",)

    def __init__(self, fd: int) -> None:
        self.fd = fd

    def __del__(self) -> None:
        os.close(self.fd)


class FileSource:
    """A file on the disk.

    Closing it while other threads read does no harm: each holds on to the descriptor until it is done, so that none of
    them ever gets the bytes of another file that was opened meanwhile.

    Raises:
        FileProblem: when it can't be opened or read, or is not an ordinary file.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.name = path.name
        try:
            held = Held(os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK))
        except OSError as error:
            raise file_problem(error, "open", path) from error
        status = os.fstat(held.fd)
        if not (stat.S_ISREG(status.st_mode) or stat.S_ISBLK(status.st_mode)):
            if stat.S_ISDIR(status.st_mode):
                said, cause = "{path:name} is a folder, not an archive.", Sentence("it is a folder")
            else:
                said, cause = (
                    "{path:name} is not an ordinary file, not an archive.",
                    Sentence("it is not an ordinary file"),
                )
            raise FileProblem(said, errno=0, cause=cause, path=path.name)
        self._held: Held | None = held
        self._opened = fingerprint_of(status)
        self.size = os.lseek(held.fd, 0, os.SEEK_END)

    def hold(self) -> Held:
        """The open descriptor, which stays open as long as it is held.

        Raises:
            FileProblem: when the source was closed.
        """
        held = self._held
        if held is None:
            raise file_problem(OSError(errno.EBADF, ""), "read", self.path)
        return held

    def read_at(self, offset: int, length: int) -> bytes:
        held = self.hold()
        try:
            data = os.pread(held.fd, length, offset)
            if len(data) == length or offset + len(data) >= self.size:
                return data
            pieces = [data]  # the system may give less than was asked for, 2 GiB at a time at most
            got = len(data)
            while got < length:
                piece = os.pread(held.fd, length - got, offset + got)
                if not piece:
                    break
                pieces.append(piece)
                got += len(piece)
            return b"".join(pieces)
        except OSError as error:
            raise file_problem(error, "read", self.path) from error

    def fingerprint(self) -> tuple[int, ...]:
        """Device, file number, size and time of change of what now stands under the path."""
        try:
            return fingerprint_of(os.stat(self.path))
        except OSError:
            return ()

    @property
    def is_outdated(self) -> bool:
        """Whether the path has another file by now, or the file was changed since it was opened."""
        return self.fingerprint() != self._opened

    def close(self) -> None:
        self._held = None


class MemorySource:
    """Bytes in memory."""

    def __init__(self, data: bytes, name: str = "") -> None:
        self._data = data
        self.name = name
        self.size = len(data)

    def read_at(self, offset: int, length: int) -> bytes:
        return self._data[offset : offset + length]

    def fingerprint(self) -> tuple[int, ...]:
        return ()

    def close(self) -> None:
        self._data = b""


class SliceSource:
    """A stretch of another source, e.g. an archive behind a stub.

    Raises:
        Truncated: when the stretch is not wholly inside the other source.
    """

    def __init__(self, source: ByteSource, start: int, size: int) -> None:
        if start < 0 or size < 0 or start + size > source.size:
            raise Truncated(
                "{archive:name} ends before a stretch that it should hold.", archive=source.name, offset=start
            )
        self.inner = source
        self.start = start
        self.name = source.name
        self.size = size

    def read_at(self, offset: int, length: int) -> bytes:
        length = max(min(length, self.size - offset), 0)
        return self.inner.read_at(self.start + offset, length)

    def fingerprint(self) -> tuple[int, ...]:
        whole = self.inner.fingerprint()
        return (*whole, self.start, self.size) if whole else ()

    def close(self) -> None:
        self.inner.close()


class WindowSource:
    """Another source with one stretch of it in memory, for many small reads there.

    Args:
        start, length: the stretch, in bytes; it may reach over the end.

    Attributes:
        start: where the stretch begins.
        data: its bytes.
    """

    def __init__(self, source: ByteSource, start: int, length: int) -> None:
        self._source = source
        self.start = start
        self.data = source.read_at(start, length)
        self.name = source.name
        self.size = source.size

    def read_at(self, offset: int, length: int) -> bytes:
        begin = offset - self.start
        if begin >= 0 and begin + length <= len(self.data):
            return self.data[begin : begin + length]
        return self._source.read_at(offset, length)

    def fingerprint(self) -> tuple[int, ...]:
        return self._source.fingerprint()

    def close(self) -> None:
        """The other source stays open: it is its owner's."""


def fingerprint_of(status: os.stat_result) -> tuple[int, ...]:
    """Device, file number, size in bytes and time of change in nanoseconds of a file."""
    return (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)
