"""Keeping what is replaced: it is set aside before, and goes to the trash once the new one stands in its place."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import FileProblem, file_problem
from rundlet.core.fs.safe_names import first_free
from rundlet.core.fs.trash import trash_one
from rundlet.core.jobs.findings import Reason
from rundlet.core.streams.renaming import is_there, rename_new
from rundlet.core.streams.replacing import BackupFolder, identity, is_hidden_name, recover
from rundlet.core.streams.sinks import allow_many_files

if TYPE_CHECKING:
    from rundlet.core.jobs.outcomes import Outcome


def settle_backup(backup: BackupFolder | None, outcome: Outcome, *, keep: bool) -> None:
    """Move what an archive replaced to the trash, from where it comes back to its old place, or remove it.

    Where the disk has no trash, it stays in the folder: one file under a numbered name, the parts of an archive in a folder
    of their own, so that they can't be taken for parts of the new one. The new files are in place by now, so nothing is raised:
    what can't be tidied is an issue in the outcome.

    Args:
        keep: whether it is to be kept at all.
    """
    if backup is not None:
        outcome.replaced += _settled(backup, outcome, keep=keep)


def _settled(backup: BackupFolder, outcome: Outcome, *, keep: bool) -> list[str]:
    places: list[str] = []
    try:
        for file in backup.files if keep else ():
            place = backup.place(file)
            try:
                outcome.bins[str(place)] = trash_one(file, place=place)
            except FileProblem as error:
                _keep_beside(backup, outcome, error)
                return places
            places.append(str(place))
    except OSError as error:
        _not_tidied(backup, outcome, error)
        return places
    _discard(backup, outcome)
    return places


def _discard(backup: BackupFolder, outcome: Outcome) -> None:
    try:
        backup.discard()
    except OSError as error:
        _not_tidied(backup, outcome, error)


def _not_tidied(backup: BackupFolder, outcome: Outcome, error: OSError) -> None:
    """Note that what was replaced could not be removed; the next start tries again."""
    backup.close()
    outcome.add_error(backup.place(backup.path).name, file_problem(error, "remove", backup.path), Reason.NOT_TIDIED)


class Replaced:
    """What stood in the places of files that a job replaces, until that has come to its end; safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._backups: dict[Path, BackupFolder] = {}

    def take(self, folder: int, where: Path, name: str) -> bool:
        """Set aside what stands in a place; whether it stands there still, to be replaced in one step.

        Args:
            folder: a descriptor of the folder.
            where: its path.

        Raises:
            IsADirectoryError: when a folder stands there.
            OSError: when the system refuses; it stands where it stood then.
        """
        before = identity(name, folder)
        if before is None:
            return False
        if stat.S_ISDIR(os.stat(name, dir_fd=folder, follow_symlinks=False).st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), name)
        with self._lock:
            if not self._backups:
                allow_many_files()
            if where not in self._backups:
                self._backups[where] = BackupFolder(folder, where)
            backup = self._backups[where]
        if backup.take(name):
            return True
        os.rename(name, name, src_dir_fd=folder, dst_dir_fd=backup.fd)
        return False

    def give_back(self, where: Path, name: str) -> None:
        """Put one thing back where it stood, over what stands there now. Raises ``OSError``."""
        backup = self._backups.get(where)
        if backup is not None and is_there(name, backup.fd):
            (backup.path / name).replace(where / name)

    def give_all_back(self) -> list[Path]:
        """Put everything back where it stood; what could not be, which stays in a folder that is named here."""
        left = []
        for where, backup in self._backups.items():
            try:
                for file in backup.files:
                    self.give_back(where, file.name)
            except OSError:
                left.append(backup.path)
                backup.close()
            else:
                backup.discard()
        self._backups.clear()
        return left

    def settle(self, outcome: Outcome, *, keep: bool) -> None:
        """The job has come to its end: move everything to the trash, or remove it; see :func:`settle_backup`."""
        for backup in self._backups.values():
            outcome.trashed += _settled(backup, outcome, keep=keep)
        self._backups.clear()


def _keep_beside(backup: BackupFolder, outcome: Outcome, why: FileProblem) -> None:
    left = backup.files
    place = backup.place(left[0])
    folder = place.parent
    try:
        if len(left) == 1:
            name = first_free(place.name, lambda name: os.path.lexists(folder / name))
            rename_new(left[0], folder / name)
            _discard(backup, outcome)
        else:
            name = first_free(f"{place.stem} (before)", lambda name: os.path.lexists(folder / name))
            backup.give_up(name)
    except OSError:
        name = backup.name
        backup.close()
    outcome.add_error(place.name, why, Reason.KEPT_BESIDE, name=name)


def recover_folder(folder: Path) -> None:
    """Put in order what a job that was killed left in a folder.

    What was interrupted while names changed is undone. What had been replaced, and was on its way to the trash, gets a
    visible name, unless it still stands in its place.
    """
    recover(folder)
    with contextlib.suppress(OSError):
        for name in os.listdir(folder):
            if is_hidden_name(name) and os.path.isdir(folder / name) and not os.path.islink(folder / name):
                _recover_backup(folder, folder / name)


def _recover_backup(folder: Path, backup: Path) -> None:
    fd = os.open(backup, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)  # else a job is at it
        for name in os.listdir(fd):
            if is_there(folder / name) and os.path.samestat(os.lstat(folder / name), os.lstat(backup / name)):
                os.unlink(backup / name)  # noqa: PTH108
        left = os.listdir(fd)
        if len(left) == 1:
            name = first_free(left[0], lambda name: os.path.lexists(folder / name))
            rename_new(backup / left[0], folder / name)
            left = []
        if left:
            name = first_free(f"{Path(min(left)).stem} (before)", lambda name: os.path.lexists(folder / name))
            rename_new(backup, folder / name)
        else:
            backup.rmdir()
    finally:
        os.close(fd)


@contextlib.contextmanager
def claimed(path: Path) -> Iterator[bool]:
    """Claim a file for a job that changes it; whether no other job has."""
    try:
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        yield True  # which is told by whoever opens it
        return
    try:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield False
            return
        except OSError:  # a disk without locks
            pass
        yield True
    finally:
        os.close(fd)
