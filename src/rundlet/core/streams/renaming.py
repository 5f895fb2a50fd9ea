"""What the language has no call for: renaming that never replaces anything, and writing a disk through."""

from __future__ import annotations

import ctypes
import errno
import os
from functools import cache
from typing import Any

_NO_REPLACE = 1  # RENAME_NOREPLACE of renameat2(2)
_HERE = -100  # AT_FDCWD
_NOT_KNOWN = (errno.ENOSYS, errno.EINVAL, errno.ENOTSUP)
_NO_LINKS = (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK)


@cache
def _call(name: str) -> Any:
    """A call of the system that the language has no other way to, or None where the C library has none."""
    return getattr(ctypes.CDLL(None, use_errno=True), name, None)


def sync_disk(fd: int) -> None:
    """Write everything that is new on the disk of an opened file or folder through to it."""
    call = _call("syncfs")
    if call is None or call(fd):
        os.sync()


def rename_new(
    source: str | os.PathLike[str],
    target: str | os.PathLike[str],
    *,
    source_folder: int | None = None,
    target_folder: int | None = None,
) -> None:
    """Rename a file, folder or link to a name that is free.

    Args:
        source: what is renamed; links are not followed.
        target: the new name.
        source_folder, target_folder: descriptors of the folders that these are relative to; None for whole paths.

    Raises:
        FileExistsError: when the name is taken; nothing has changed.
        OSError: when the system refuses, such as with ``EXDEV`` between two disks.
    """
    call = _call("renameat2")
    if call is not None:
        before = _HERE if source_folder is None else source_folder
        after = _HERE if target_folder is None else target_folder
        if not call(before, os.fsencode(source), after, os.fsencode(target), _NO_REPLACE):
            return
        number = ctypes.get_errno()
        if number not in _NOT_KNOWN:
            raise OSError(number, os.strerror(number), os.fspath(source), None, os.fspath(target))
    _rename_carefully(source, target, source_folder, target_folder)


def _rename_carefully(
    source: str | os.PathLike[str], target: str | os.PathLike[str], before: int | None, after: int | None
) -> None:
    """The same for file systems that do not know the flag: a second name for files, a look beforehand for all else."""
    try:
        os.link(source, target, src_dir_fd=before, dst_dir_fd=after, follow_symlinks=False)
    except OSError as error:
        if error.errno not in _NO_LINKS:
            raise
        if is_there(target, after):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), os.fspath(target)) from error
        os.rename(source, target, src_dir_fd=before, dst_dir_fd=after)
    else:
        os.unlink(source, dir_fd=before)


def is_there(name: str | os.PathLike[str], folder: int | None = None) -> bool:
    """Whether a name is taken in a folder, by a link that leads nowhere too."""
    try:
        os.stat(name, dir_fd=folder, follow_symlinks=False)
    except OSError:
        return False
    return True
