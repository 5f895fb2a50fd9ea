"""Notes of folders in which names are being changed, kept in the user's state folder for as long as that takes.

A note that is still there at the next start was left by a job that was killed, and leads to what is to be put in order.
"""

from __future__ import annotations

import contextlib
import fcntl
import logging
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from rundlet.core.fs.base_folders import state_folder
from rundlet.core.streams.replacing import is_hidden_name

_log = logging.getLogger(__name__)

_MOST_FOLDERS = 10_000
_LONGEST = 64 << 20  # bytes of a note
_UNREADABLE = "A note of unfinished work can't be read, so that folder is not tidied: %s (%s)"


def _notes() -> Path:
    return state_folder() / "unfinished"


@contextmanager
def noted(folders: Iterable[Path]) -> Iterator[None]:
    """Keep a note of folders for as long as names change in them, and longer where something of ours is left there.

    Where no note can be kept, the work goes on without.

    Args:
        folders: these; relative paths count from the folder in which the process is.
    """
    fd, note = -1, _notes() / os.urandom(8).hex()
    paths = [os.path.abspath(folder) for folder, _ in zip(folders, range(_MOST_FOLDERS), strict=False)]
    try:
        try:
            note.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            fd = os.open(note, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
            left = b"\0".join(map(os.fsencode, paths))
            while left:
                left = left[os.write(fd, left) :]
            os.fsync(fd)
        except OSError:
            pass
        yield
    finally:
        if fd >= 0:
            if not any(map(has_leftovers, paths)):
                with contextlib.suppress(OSError):
                    note.unlink()
            os.close(fd)


def has_leftovers(folder: str | os.PathLike[str]) -> bool:
    """Whether something in a folder has a name that is there for a moment only."""
    try:
        return any(map(is_hidden_name, os.listdir(folder)))
    except OSError:
        return False


def may_be_left() -> bool:
    """Whether there are notes at all, of jobs that are under way or were killed."""
    try:
        return any(True for _ in _notes().iterdir())
    except OSError:
        return False


def left_over() -> Iterator[tuple[list[Path], Path]]:
    """The folders of each note that a killed job has left, and the note, which is the caller's to remove.

    No other process is given a note while this one looks at it. A note that can't be read, or names no folder, is logged.
    """
    try:
        notes = sorted(_notes().iterdir())
    except OSError:
        return
    for note in notes:
        try:
            fd = os.open(note, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except FileNotFoundError:
            continue  # its job has ended
        except OSError as error:
            _log.warning(_UNREADABLE, note, error)
            continue
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            data = os.pread(fd, _LONGEST, 0)
        except BlockingIOError:  # its job is still at it
            os.close(fd)
            continue
        except OSError as error:
            _log.warning(_UNREADABLE, note, error)
            os.close(fd)
            continue
        try:
            named = data.split(b"\0") if data else []
            if any(not raw.startswith(b"/") for raw in named):
                _log.warning(_UNREADABLE, note, "it does not name a folder")
            yield [Path(os.fsdecode(raw)) for raw in named if raw.startswith(b"/")], note
        finally:
            os.close(fd)
