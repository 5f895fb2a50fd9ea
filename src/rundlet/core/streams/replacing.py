"""Putting new files in the place of old ones in a folder: all of them or none, whatever fails in between.

Before the first name changes, every new file is on the disk under a hidden name, every old one has one more name in a hidden
folder beside it, and a list of what is to happen (``.rundlet-….swap``) is on the disk as well. Then the names change in one
short loop. What fails in it is undone at once; what a kill or a power cut interrupted is undone by :func:`recover`.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import re
import stat
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from rundlet.core.errors import FileProblem, OutOfDate, refused
from rundlet.core.sentences import Sentence
from rundlet.core.streams.renaming import is_there, rename_new

HIDDEN = ".rundlet-"
"""How all such names begin."""
_LEFTOVER = re.compile(r"\.rundlet-[0-9a-f]{16}(?P<kind>\.tmp|\.swap)?")
_PATIENCE = 20.0  # seconds that another process may take for its names to change
_NAP = 0.02
_YOUNG = 10.0  # seconds; a temporary file may be made and not be held yet
_LARGEST_LIST = 8 << 20  # bytes; ten thousand parts with long names need less
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC

Identity = tuple[int, int, int, int]
"""Device, file number, size in bytes, and time of change in nanoseconds of a file."""


def hidden_name(kind: str = "") -> str:
    """A name for something of ours that is there for a moment only; ``.tmp``, ``.swap``, or nothing for a folder."""
    return f"{HIDDEN}{os.urandom(8).hex()}{kind}"


def is_hidden_name(name: str) -> bool:
    """Whether a file or folder is there for a moment only, or was left over by a job that was killed."""
    return name.startswith(HIDDEN) and _LEFTOVER.fullmatch(name) is not None


def is_list_of_names(name: str) -> bool:
    """Whether a file says what was to happen to the names of a folder by a job that did not come to its end, or not yet."""
    return name.endswith(".swap") and is_hidden_name(name)


def hold(fd: int) -> bool:
    """Hold a file or folder for as long as it is open here, so that nobody takes it for a leftover; whether that could be."""
    try:
        fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:  # some network disks know no locks; leftovers are then told by their age alone
        return False
    return True


@contextmanager
def locked(folder: int, where: Path) -> Iterator[None]:
    """Be the only process that changes the names in a folder by way of this module.

    Raises:
        FileProblem: when another one does so for too long.
    """
    until = time.monotonic() + _PATIENCE
    fd = os.open(".", _FOLDER, dir_fd=folder)  # of its own, as a lock belongs to an opened file
    try:
        while True:
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                if time.monotonic() > until:
                    raise refused("write to", where, Sentence("another job is writing there"), errno.EAGAIN) from error
                time.sleep(_NAP)
            except OSError:
                break  # a disk without locks
            else:
                break
        yield
    finally:
        os.close(fd)


def identity(name: str, folder: int) -> Identity | None:
    """What stands under a name, links not followed; None for nothing."""
    try:
        status = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return None
    return status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns


class BackupFolder:
    """Old files in a hidden folder beside their places, each under its own name.

    Args:
        folder: a descriptor of the folder in which they stood.
        where: its path.

    Raises:
        OSError: when the hidden folder can't be made.
    """

    def __init__(self, folder: int, where: Path) -> None:
        self.name = hidden_name()
        self.path = where / self.name
        self._where = where
        self._folder = os.dup(folder)
        try:
            os.mkdir(self.name, 0o700, dir_fd=folder)
            self.fd = os.open(self.name, _FOLDER | os.O_NOFOLLOW, dir_fd=folder)
        except BaseException:
            os.close(self._folder)
            raise
        hold(self.fd)

    def take(self, name: str) -> bool:
        """Give a file one more name in here; False where its disk keeps no second names."""
        try:
            os.link(name, name, src_dir_fd=self._folder, dst_dir_fd=self.fd, follow_symlinks=False)
        except OSError as error:
            if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EXDEV):
                raise
            return False
        return True

    @property
    def files(self) -> list[Path]:
        """The files that are in it."""
        return [self.path / name for name in sorted(os.listdir(self.fd))]

    def place(self, file: Path) -> Path:
        """Where one of them stood."""
        return self._where / file.name

    def give_up(self, name: str) -> None:
        """Show the folder under a name that is free, so that a person finds what is in it. Raises ``OSError``."""
        rename_new(self.name, name, source_folder=self._folder, target_folder=self._folder)
        self.close()

    def withdraw(self) -> None:
        """Remove what stands in its place still, or again; all else stays here to be recovered, and so does the folder then."""
        for name in os.listdir(self.fd):
            if identity(name, self._folder) == identity(name, self.fd):
                os.unlink(name, dir_fd=self.fd)
        with contextlib.suppress(OSError):
            os.rmdir(self.name, dir_fd=self._folder)
        self.close()

    def discard(self) -> None:
        """Remove the folder with what is in it."""
        if self.fd < 0:
            return
        for name in os.listdir(self.fd):
            with contextlib.suppress(FileNotFoundError):
                os.unlink(name, dir_fd=self.fd)
        with contextlib.suppress(OSError):
            os.rmdir(self.name, dir_fd=self._folder)
        self.close()

    def close(self) -> None:
        """Let go of the folder and leave it."""
        if self.fd >= 0:
            os.close(self.fd)
            os.close(self._folder)
            self.fd = -1


def put_in_place(
    folder: int,
    where: Path,
    new: Mapping[str, tuple[str, int]],
    *,
    old: Sequence[str] = (),
    seen: Mapping[str, Identity | None] | None = None,
) -> BackupFolder | None:
    """Give new files their names and take those of the old ones away, all or none.

    Args:
        folder: a descriptor of the folder in which all of them are.
        where: its path.
        new: for each name the hidden name that its file has so far, and the file's number. They are written through already.
        old: the files that are replaced.
        seen: what stood under the names when the work was begun, where it must still be the same.

    Returns:
        The old files, which are the caller's to discard; None when there were none.

    Raises:
        OutOfDate: when something else stands there now.
        FileExistsError: when a name is taken that is none of the old ones.
        FileProblem: when another process is at it for too long.
        OSError: when the system refuses. In all these cases everything is as it was.
    """
    with locked(folder, where):
        for name, before in (seen or {}).items():
            if identity(name, folder) != before:
                raise OutOfDate(
                    "{name:name} was changed by another program meanwhile; nothing was replaced.", name=name
                )
        backup = BackupFolder(folder, where) if old else None
        try:
            _swap(folder, new, old, backup)
        except BaseException:
            if backup is not None:
                backup.withdraw()
            raise
    return backup


def _swap(folder: int, new: Mapping[str, tuple[str, int]], old: Sequence[str], backup: BackupFolder | None) -> None:
    twice = {name for name in old if backup is not None and backup.take(name)}
    plan = {
        "aside": backup.name if backup is not None else "",
        "old": list(old),
        "new": [[name, hidden, number] for name, (hidden, number) in new.items()],
    }
    alone = len(new) == 1 and set(old) <= set(new) and twice == set(old)  # one step, which is whole by itself
    listed = "" if alone else _write_list(folder, plan)
    try:
        for name in old:
            if name not in twice and backup is not None:
                os.rename(name, name, src_dir_fd=folder, dst_dir_fd=backup.fd)
            elif name not in new:
                os.unlink(name, dir_fd=folder)
        for name, (hidden, _) in new.items():
            if name in twice:
                os.rename(hidden, name, src_dir_fd=folder, dst_dir_fd=folder)
            else:
                rename_new(hidden, name, source_folder=folder, target_folder=folder)
        os.fsync(folder)
        if listed:
            os.unlink(listed, dir_fd=folder)
            os.fsync(folder)
    except BaseException:
        if _undo(folder, plan) and listed:
            with contextlib.suppress(OSError):
                os.unlink(listed, dir_fd=folder)
        raise


def _write_list(folder: int, plan: Mapping[str, object]) -> str:
    """Note on the disk what is to happen; the name of the list."""
    name = hidden_name(".swap")
    fd = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600, dir_fd=folder)
    try:
        with open(fd, "wb", closefd=False) as file:
            file.write(json.dumps(plan).encode("utf-8", "surrogateescape"))
        os.fsync(fd)
        os.fsync(folder)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(name, dir_fd=folder)
        raise
    finally:
        os.close(fd)
    return name


def _undo(folder: int, plan: Mapping[str, object]) -> bool:
    """Make everything as it was before a swap; whether that could be done."""
    backup, old = str(plan["aside"]), plan["old"]
    assert isinstance(old, list)
    assert isinstance(plan["new"], list)
    done = True
    for name, hidden, number in reversed(plan["new"]):
        try:
            now = identity(name, folder)
            if now is not None and now[1] == number:
                if name in old and is_there(f"{backup}/{name}", folder):
                    os.rename(f"{backup}/{name}", name, src_dir_fd=folder, dst_dir_fd=folder)
                else:
                    os.unlink(name, dir_fd=folder)
            if is_there(hidden, folder):
                os.unlink(hidden, dir_fd=folder)
        except OSError:
            done = False
    for name in old:
        kept = f"{backup}/{name}"
        try:
            if (before := identity(kept, folder)) is None:
                continue
            if identity(name, folder) is None:
                rename_new(kept, name, source_folder=folder, target_folder=folder)
            elif identity(name, folder) == before:
                os.unlink(kept, dir_fd=folder)  # it never went
            else:
                done = False
        except OSError:
            done = False
    if done and backup:
        with contextlib.suppress(OSError):
            os.rmdir(backup, dir_fd=folder)
    return done


def recover(where: Path) -> None:
    """Undo what was interrupted in a folder, and remove temporary files there that no job holds any more.

    Nothing is raised: what can't be undone now stays for the next time.
    """
    try:
        names = [name for name in os.listdir(where) if is_hidden_name(name)]
        if names:
            folder = os.open(where, _FOLDER)
            try:
                _recover(folder, where, names)
            finally:
                os.close(folder)
    except (OSError, FileProblem):
        return


def _recover(folder: int, where: Path, names: Sequence[str]) -> None:
    lists = [name for name in names if is_list_of_names(name)]
    if lists:
        with locked(folder, where):  # whoever wrote one holds this, as long as it lives
            for name in lists:
                plan = _read_list(folder, name)
                if plan is not None and (not plan or _undo(folder, plan)):
                    os.unlink(name, dir_fd=folder)
            os.fsync(folder)
    for name in names:
        if name.endswith(".tmp") and is_there(name, folder):
            _remove_stale(folder, name)


def _read_list(folder: int, name: str) -> dict[str, object] | None:
    """What a list says; {} where it was never written to its end, so that no name has changed; None where it can't be told."""
    try:
        fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    except OSError:
        return None
    try:
        if os.fstat(fd).st_uid not in (os.getuid(), 0):
            return None  # what others put there is no order to us
        data = os.pread(fd, _LARGEST_LIST, 0)
        if not data.endswith(b"}"):
            return {}
        plan = json.loads(data.decode("utf-8", "surrogateescape"))
        names = [*plan["old"], *(row[0] for row in plan["new"])]
        hidden = [plan["aside"] or hidden_name(), *(row[1] for row in plan["new"])]
        if all("/" not in n and n not in (".", "..") for n in names) and all(map(is_hidden_name, hidden)):
            return dict(plan)
    except (OSError, ValueError, TypeError, KeyError, IndexError, AttributeError):
        pass
    finally:
        os.close(fd)
    return None


def _remove_stale(folder: int, name: str) -> None:
    """Remove a temporary file, unless a job holds it or has only just made it."""
    try:
        fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    except OSError as error:
        if error.errno == errno.ELOOP:  # a link of ours
            _remove_old_link(folder, name)
        return
    try:
        status = os.fstat(fd)
        if time.time() - status.st_ctime < _YOUNG or status.st_uid not in (os.getuid(), 0):
            return
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if stat.S_ISREG(status.st_mode):
            os.unlink(name, dir_fd=folder)
        elif stat.S_ISDIR(status.st_mode):
            import shutil  # seldom needed, and much to load

            shutil.rmtree(name, dir_fd=folder)
    except OSError:
        return
    finally:
        os.close(fd)


def _remove_old_link(folder: int, name: str) -> None:
    with contextlib.suppress(OSError):
        if time.time() - os.stat(name, dir_fd=folder, follow_symlinks=False).st_ctime >= _YOUNG:
            os.unlink(name, dir_fd=folder)
