"""Files that are nowhere to be seen until they are whole."""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
from pathlib import Path

from rundlet.core.errors import Clash, file_problem
from rundlet.core.text import quoted

# File systems (by device number) that were seen not to keep files without a name.
_need_names: set[int] = set()


_NAMED = os.O_RDWR | os.O_CLOEXEC | os.O_CREAT | os.O_EXCL
_NAMELESS = os.O_RDWR | os.O_CLOEXEC | os.O_TMPFILE


class NewFile:
    """A new file in a folder, shown under its name only by :meth:`commit`.

    Where the file system allows, it has no name at all before that, so that not even a killed process leaves
    anything behind; elsewhere it has a hidden temporary name that :meth:`discard` removes.

    Args:
        folder: a descriptor of the folder, which stays the caller's.
        name: the final name in that folder.
        mode: permission bits of a file created without others, narrowed by the process's mask.

    Raises:
        OSError: when the system does not let the file be made.
    """

    def __init__(self, folder: int, name: str, *, mode: int = 0o666) -> None:
        self._folder = folder
        self._name = name
        self._temporary: str | None = None
        self.fd = self._open(mode)

    def _open(self, mode: int) -> int:
        if not _need_names or os.fstat(self._folder).st_dev not in _need_names:
            try:
                return os.open(".", _NAMELESS, mode, dir_fd=self._folder)
            except OSError as error:
                if error.errno not in (errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT):
                    raise
                _need_names.add(os.fstat(self._folder).st_dev)
        self._temporary = _temporary_name()
        return os.open(self._temporary, _NAMED, mode, dir_fd=self._folder)

    def write(self, data: bytes | memoryview) -> None:
        """Append all of ``data``."""
        size = len(data)
        done = os.write(self.fd, data)
        while done < size:
            done += os.write(self.fd, memoryview(data)[done:])

    def skip(self, count: int) -> None:
        """Leave ``count`` bytes of zeros unwritten: a hole, where the file system has them."""
        os.ftruncate(self.fd, os.lseek(self.fd, count, os.SEEK_CUR))

    def finish(self, *, mode: int, times: tuple[int, int] | None) -> None:
        """Give it its permission bits (0: as they are) and its times (in nanoseconds since 1970; None: as they are)."""
        if mode:
            os.fchmod(self.fd, mode)
        if times is not None:
            os.utime(self.fd, ns=times)

    def commit(self, *, replace: bool = False) -> None:
        """Give the file its name, in one step, and close it.

        Raises:
            FileExistsError: when the name is taken and ``replace`` is not set; the file is then discarded.
        """
        try:
            if replace:
                if self._temporary is None:
                    self._link_as(temporary := _temporary_name())
                    self._temporary = temporary
                os.rename(self._temporary, self._name, src_dir_fd=self._folder, dst_dir_fd=self._folder)
            else:
                self._link_as(self._name)
                if self._temporary is not None:
                    os.unlink(self._temporary, dir_fd=self._folder)
            self._temporary = None
        finally:
            self.discard()

    def _link_as(self, name: str) -> None:
        if self._temporary is None:
            os.link(f"/proc/self/fd/{self.fd}", name, dst_dir_fd=self._folder)
            return
        try:
            os.link(self._temporary, name, src_dir_fd=self._folder, dst_dir_fd=self._folder)
        except OSError as error:
            # FAT and some network disks have no second names: keep the name with a placeholder, then move over it.
            if error.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK):
                raise
            os.close(os.open(name, os.O_CREAT | os.O_EXCL | os.O_WRONLY, dir_fd=self._folder))
            os.rename(self._temporary, name, src_dir_fd=self._folder, dst_dir_fd=self._folder)
            self._temporary = None

    def discard(self) -> None:
        """Let go of the file; without a commit nothing of it stays. Discarding twice does no harm."""
        if self.fd >= 0:
            os.close(self.fd)
            self.fd = -1
        if self._temporary is not None:
            try:
                os.unlink(self._temporary, dir_fd=self._folder)
            except FileNotFoundError:
                pass
            self._temporary = None


def put_file(folder: int, name: str, data: bytes, *, mode: int, times: tuple[int, int] | None) -> None:
    """A whole new file at once: what :class:`NewFile` does for a small one, in as few steps as there can be.

    Args:
        folder: a descriptor of the folder.
        mode: its permission bits; 0 for those that any new file gets.
        times: when it was last read and changed, in nanoseconds since 1970; None for now.

    Raises:
        OSError: when the system refuses, ``FileExistsError`` when the name is taken. Nothing of it stays then.
    """
    fd = -1
    if not _need_names:
        with contextlib.suppress(OSError):  # what it was is said below, or it goes another way there
            fd = os.open(".", _NAMELESS, 0o666, dir_fd=folder)
    if fd < 0:
        _put_slowly(folder, name, data, mode, times)
        return
    try:
        done = os.write(fd, data)
        while done < len(data):
            done += os.write(fd, data[done:])
        if mode:
            os.fchmod(fd, mode)
        if times is not None:
            os.utime(fd, ns=times)
        os.link(f"/proc/self/fd/{fd}", name, dst_dir_fd=folder)
    finally:
        os.close(fd)


def _put_slowly(folder: int, name: str, data: bytes, mode: int, times: tuple[int, int] | None) -> None:
    new = NewFile(folder, name)
    try:
        new.write(data)
        new.finish(mode=mode, times=times)
        new.commit()
    finally:
        new.discard()


class ArchiveSink:
    """The file that a new archive is written to: appended, corrected in place, and named when it is whole.

    Args:
        target: the final path. Its folder must exist.
        replace: whether a file of that name is replaced in one step.

    Raises:
        FileProblem: when the system refuses; ``Clash`` when the name was taken meanwhile.
    """

    def __init__(self, target: Path, *, replace: bool = False) -> None:
        self.target = target
        self._replace = replace
        self._position = 0
        try:
            self._folder = os.open(target.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError as error:
            raise file_problem(error, "write to the folder", target.parent) from error
        try:
            self._file = NewFile(self._folder, target.name)
        except OSError as error:
            os.close(self._folder)
            raise file_problem(error, "write to the folder", target.parent) from error

    @property
    def paths(self) -> list[Path]:
        """What will be there."""
        return [self.target]

    @property
    def replaced(self) -> list[Path]:
        """What stands there now and will not any more."""
        return [self.target] if self._replace else []

    def tell(self) -> int:
        """How many bytes were written so far."""
        return self._position

    def write(self, data: bytes | memoryview) -> None:
        """Append ``data``."""
        try:
            self._file.write(data)
        except OSError as error:
            raise file_problem(error, "write", self.target) from error
        self._position += len(data)

    def patch(self, offset: int, data: bytes) -> None:
        """Write over bytes that were written before."""
        try:
            os.pwrite(self._file.fd, data, offset)
        except OSError as error:
            raise file_problem(error, "write", self.target) from error

    def read_at(self, offset: int, length: int) -> bytes:
        """Bytes that were written before."""
        try:
            return os.pread(self._file.fd, length, offset)
        except OSError as error:
            raise file_problem(error, "read back", self.target) from error

    def rewind(self, offset: int) -> None:
        """Take back everything behind ``offset``."""
        os.ftruncate(self._file.fd, offset)
        os.lseek(self._file.fd, offset, os.SEEK_SET)
        self._position = offset

    def commit(self) -> None:
        """Write everything through to the disk, then give the archive its name."""
        try:
            os.fsync(self._file.fd)
            self._file.commit(replace=self._replace)
            os.fsync(self._folder)
        except FileExistsError as error:
            raise Clash(f"{quoted(self.target.name)} was made by someone else meanwhile.") from error
        except OSError as error:
            raise file_problem(error, "write", self.target) from error
        finally:
            self.close()

    def close(self) -> None:
        """Let go; without a commit nothing of the archive stays."""
        self._file.discard()
        if self._folder >= 0:
            os.close(self._folder)
            self._folder = -1


def _temporary_name() -> str:
    return f".rundlet-{secrets.token_hex(8)}.tmp"
