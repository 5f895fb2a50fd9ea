"""Files that are nowhere to be seen until they are whole."""

from __future__ import annotations

import contextlib
import errno
import os
import resource
import stat
from collections.abc import Mapping
from pathlib import Path
from typing import BinaryIO

from rundlet.core.errors import Clash, FileProblem, file_problem
from rundlet.core.streams.renaming import rename_new
from rundlet.core.streams.replacing import BackupFolder, Identity, hidden_name, hold, identity, put_in_place, recover

# File systems (by device number) that were seen not to keep files without a name.
_need_names: set[int] = set()

_FILES_HELD = "/proc/self/fd"
"""Where a file without a name can be found to be given one. Not there in every container."""
_names_can_come_later = Path(_FILES_HELD).is_dir()

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
        if _names_can_come_later and (not _need_names or os.fstat(self._folder).st_dev not in _need_names):
            try:
                return os.open(".", _NAMELESS, mode, dir_fd=self._folder)
            except OSError as error:
                if error.errno not in (errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT):
                    raise
                _need_names.add(os.fstat(self._folder).st_dev)
        self._temporary = hidden_name(".tmp")
        fd = os.open(self._temporary, _NAMED, mode, dir_fd=self._folder)
        hold(fd)
        return fd

    def write(self, data: bytes | memoryview) -> None:
        """Append all of ``data``."""
        size = len(data)
        done = os.write(self.fd, data)
        while done < size:
            done += os.write(self.fd, memoryview(data)[done:])

    def skip(self, count: int) -> None:
        """Leave ``count`` bytes of zeros unwritten: a hole, where the file system has them."""
        os.ftruncate(self.fd, os.lseek(self.fd, count, os.SEEK_CUR))

    def finish(self, *, mode: int, times: tuple[int, int] | None) -> bool:
        """Give it its permission bits (0: as they are) and its times (in nanoseconds since 1970; None: as they are).

        Returns:
            Whether its disk keeps them.
        """
        return mark(self.fd, mode=mode, times=times)

    @property
    def number(self) -> int:
        """Its file number, which tells it from all others of its disk."""
        return os.fstat(self.fd).st_ino

    def take_hidden_name(self) -> str:
        """Give it a hidden name where it has none yet, from which it can be renamed.

        Raises:
            OSError: when the system refuses.
        """
        if self._temporary is None:
            name = hidden_name(".tmp")
            hold(self.fd)
            os.link(f"{_FILES_HELD}/{self.fd}", name, dst_dir_fd=self._folder)
            self._temporary = name
        return self._temporary

    def has_its_name(self) -> None:
        """It was renamed to its own name, and closes."""
        self._temporary = None
        self.discard()

    def commit(self, *, replace: bool = False) -> None:
        """Give the file its name, in one step, and close it.

        Raises:
            FileExistsError: when the name is taken and ``replace`` is not set; the file is then discarded.
        """
        try:
            if replace:
                os.rename(self.take_hidden_name(), self._name, src_dir_fd=self._folder, dst_dir_fd=self._folder)
            elif self._temporary is None:
                os.link(f"{_FILES_HELD}/{self.fd}", self._name, dst_dir_fd=self._folder)
            else:
                rename_new(self._temporary, self._name, source_folder=self._folder, target_folder=self._folder)
            self._temporary = None
        finally:
            self.discard()

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


_UMASK = os.umask(0o077)
os.umask(_UMASK)  # there is no other way to ask for it, and no other thread yet


def allowed(mode: int) -> int:
    """Permission bits that a file of this process gets of those that an archive has for it; 0 for none stays 0."""
    return mode & 0o777 & ~_UMASK


def mark(fd: int, *, mode: int, times: tuple[int, int] | None) -> bool:
    """Give a file or folder its permission bits (0: as they are) and times; whether its disk keeps them.

    Args:
        times: when it was last read and changed, in nanoseconds since 1970; None for as they are.
    """
    kept = True
    try:
        if mode:
            os.fchmod(fd, mode)
    except OSError:
        kept = False
    try:
        if times is not None:
            os.utime(fd, ns=times)
    except (OSError, OverflowError):
        kept = False
    return kept


def put_file(folder: int, name: str, data: bytes, *, mode: int, times: tuple[int, int] | None) -> bool:
    """A whole new file at once: what :class:`NewFile` does for a small one, in as few steps as there can be.

    Args:
        folder: a descriptor of the folder.
        mode: its permission bits; 0 for those that any new file gets.
        times: when it was last read and changed, in nanoseconds since 1970; None for now.

    Returns:
        Whether its disk keeps these.

    Raises:
        OSError: when the system refuses, ``FileExistsError`` when the name is taken. Nothing of it stays then.
    """
    fd = -1
    if not _need_names and _names_can_come_later:
        with contextlib.suppress(OSError):  # what it was is said below, or it goes another way there
            fd = os.open(".", _NAMELESS, 0o666, dir_fd=folder)
    if fd < 0:
        return _put_slowly(folder, name, data, mode, times)
    try:
        done = os.write(fd, data)
        while done < len(data):
            done += os.write(fd, data[done:])
        kept = mark(fd, mode=mode, times=times)
        os.link(f"{_FILES_HELD}/{fd}", name, dst_dir_fd=folder)
        return kept
    finally:
        os.close(fd)


def _put_slowly(folder: int, name: str, data: bytes, mode: int, times: tuple[int, int] | None) -> bool:
    new = NewFile(folder, name)
    try:
        new.write(data)
        kept = new.finish(mode=mode, times=times)
        new.commit()
        return kept
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

    forward = False

    def __init__(self, target: Path, *, replace: bool = False) -> None:
        self.target = target
        self._replace = replace
        self._position = 0
        self._folder = open_folder(target.parent)
        try:
            before = identity(target.name, self._folder) if replace else None
            self._seen = {target.name: before} if before is not None else {}
            self._file = NewFile(self._folder, target.name)
        except OSError as error:
            os.close(self._folder)
            raise file_problem(error, "write to the folder", target.parent) from error

    @property
    def paths(self) -> list[Path]:
        """What will be there."""
        return [self.target]

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

    def copy_from(self, fd: int, length: int, offset: int) -> int:
        """Append bytes of an open file without reading them; how many that were. Raises ``OSError``."""
        count = os.copy_file_range(fd, self._file.fd, length, offset)
        self._position += count
        return count

    def problem(self, error: OSError) -> FileProblem:
        """What an error that was met in writing means."""
        return file_problem(error, "write", self.target)

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
            raise file_problem(error, "check", self.target) from error

    def rewind(self, offset: int) -> None:
        """Take back everything behind ``offset``."""
        os.ftruncate(self._file.fd, offset)
        os.lseek(self._file.fd, offset, os.SEEK_SET)
        self._position = offset

    def commit(self) -> BackupFolder | None:
        """Write everything through to the disk, then give the archive its name.

        Returns:
            The file that it replaced, which is the caller's to discard; None when there was none.

        Raises:
            Clash: when the name was taken meanwhile.
            OutOfDate: when the file that is to be replaced was changed meanwhile.
            FileProblem: when the system refuses. In all these cases everything is as it was before.
        """
        try:
            return commit_files(
                self._folder, self.target.parent, {self.target.name: self._file}, old=self._seen, seen=self._seen
            )
        except FileExistsError as error:
            raise Clash("{name:name} was made by someone else meanwhile.", name=self.target.name) from error
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


class ForwardSink:
    """A stream that a new archive is written to, such as a pipe. Nothing in it can be corrected or taken back.

    Args:
        stream: where to; stays the caller's.
    """

    forward = True

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self._position = 0

    def tell(self) -> int:
        """How many bytes were written so far."""
        return self._position

    def write(self, data: bytes | memoryview) -> None:
        """Append ``data``.

        Raises:
            FileProblem: when the system refuses.
            BrokenPipeError: when nobody reads any more.
        """
        try:
            self._stream.write(data)
        except BrokenPipeError:
            raise
        except OSError as error:
            raise file_problem(error, "write to", "standard output") from error
        self._position += len(data)

    def flush(self) -> None:
        """Hand over all that was written; raises what :meth:`write` does."""
        try:
            self._stream.flush()
        except BrokenPipeError:
            raise
        except OSError as error:
            raise file_problem(error, "write to", "standard output") from error

    def patch(self, offset: int, data: bytes) -> None:
        """Not to be called."""
        raise AssertionError("a stream is not corrected")

    def rewind(self, offset: int) -> None:
        """Not to be called."""
        raise AssertionError("a stream does not go back")


def allow_many_files() -> None:
    """Where many files are open at once, let there be as many as the system grants without asking."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != hard:
        resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


def open_folder(path: Path) -> int:
    """A descriptor of a folder that is to be written to, in which what earlier jobs left over is cleared up.

    Raises:
        FileProblem: when the system refuses.
    """
    recover(path)
    try:
        return os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as error:
        raise file_problem(error, "write to the folder", path) from error


def commit_files(
    folder: int,
    where: Path,
    files: Mapping[str, NewFile],
    *,
    old: Mapping[str, Identity | None],
    seen: Mapping[str, Identity | None],
) -> BackupFolder | None:
    """Write new files through to the disk and give them their names, in place of old ones; all of them or none.

    The new ones get the owner and the permission bits of the first of the old ones.

    Args:
        folder: a descriptor of the folder in which they are.
        where: its path.
        files: the new files by their names.
        old, seen: as for :func:`rundlet.core.streams.replacing.put_in_place`.

    Returns:
        The old files, which are the caller's to discard; None when there were none.

    Raises:
        OSError, RundletError: as :func:`rundlet.core.streams.replacing.put_in_place`; everything is as it was then.
    """
    first = next(iter(old), None)
    for file in files.values():
        if first is not None:
            _keep_owner(file.fd, folder, first)
        os.fsync(file.fd)
    if len(files) == 1 and not old:
        ((name, file),) = files.items()
        number = file.number
        file.commit()
        try:
            os.fsync(folder)
        except OSError:
            now = identity(name, folder)
            if now is not None and now[1] == number:
                os.unlink(name, dir_fd=folder)
            raise
        return None
    new = {name: (file.take_hidden_name(), file.number) for name, file in files.items()}
    os.fsync(folder)
    backup = put_in_place(folder, where, new, old=list(old), seen=seen)
    for file in files.values():
        file.has_its_name()
    return backup


def _keep_owner(fd: int, folder: int, name: str) -> None:
    """Give a file the owner and the permission bits of another one; the owner as far as the system lets us."""
    try:
        before = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return
    mine = os.fstat(fd)
    if (before.st_uid, before.st_gid) != (mine.st_uid, mine.st_gid):
        with contextlib.suppress(OSError):
            os.fchown(fd, before.st_uid, before.st_gid)
    with contextlib.suppress(OSError):
        os.fchmod(fd, stat.S_IMODE(before.st_mode) & 0o777)
