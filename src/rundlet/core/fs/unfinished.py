"""Notes of folders in which names are being changed, kept in the user's state folder for as long as that takes.

A note that is still there at the next start was left by a job that was killed, and leads to what is to be put in order.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from rundlet.core.fs.base_folders import state_folder

_MOST_FOLDERS = 10_000
_LONGEST = 64 << 20  # bytes of a note


def _notes() -> Path:
    return state_folder() / "unfinished"


@contextmanager
def noted(folders: Iterable[Path]) -> Iterator[None]:
    """Keep a note of folders for as long as names change in them. Where none can be kept, the work goes on without."""
    fd, note = -1, _notes() / os.urandom(8).hex()
    try:
        try:
            note.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            fd = os.open(note, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
            left = b"\0".join(os.fsencode(folder) for folder, _ in zip(folders, range(_MOST_FOLDERS), strict=False))
            while left:
                left = left[os.write(fd, left) :]
            os.fsync(fd)
        except OSError:
            pass
        yield
    finally:
        if fd >= 0:
            with contextlib.suppress(OSError):
                note.unlink()
            os.close(fd)


def may_be_left() -> bool:
    """Whether there are notes at all, of jobs that are under way or were killed."""
    try:
        return any(True for _ in _notes().iterdir())
    except OSError:
        return False


def left_over() -> Iterator[tuple[list[Path], Path]]:
    """The folders of each note that a killed job has left, and the note, which is the caller's to remove.

    No other process is given a note while this one looks at it.
    """
    try:
        notes = sorted(_notes().iterdir())
    except OSError:
        return
    for note in notes:
        try:
            fd = os.open(note, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)  # else its job is still at it
            paths = [Path(os.fsdecode(raw)) for raw in os.pread(fd, _LONGEST, 0).split(b"\0") if raw.startswith(b"/")]
            yield paths, note
        except OSError:
            continue
        finally:
            os.close(fd)
