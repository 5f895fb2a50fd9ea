"""What a job that was killed left unfinished, found again at the next start.

While names change in a folder, that folder is noted in the user's state folder; a note that is still there at the next start
leads to what is to be put in order.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import platformdirs

from rundlet.core.files.aside import recover_folder
from rundlet.core.files.private_copies import sweep_private_copies
from rundlet.core.streams.private import cache_root


def _notes() -> Path:
    return Path(platformdirs.user_state_dir("rundlet")) / "unfinished"


@contextmanager
def noted(folder: Path) -> Iterator[None]:
    """Keep a note of a folder for as long as names change in it. Where none can be kept, the work goes on without."""
    fd, note = -1, _notes() / secrets.token_hex(8)
    try:
        try:
            note.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            fd = os.open(note, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
            os.write(fd, os.fsencode(folder))
            os.fsync(fd)
        except OSError:
            pass
        yield
    finally:
        if fd >= 0:
            with contextlib.suppress(OSError):
                note.unlink()
            os.close(fd)


def clear_up() -> None:
    """Put in order what killed jobs left: unfinished changes of names, our own half-written files, and private copies."""
    recover_unfinished()
    data = Path(platformdirs.user_data_dir("rundlet"))
    for folder in (data, data / "journal", cache_root(), cache_root() / "indexes"):
        recover_folder(folder)
    sweep_private_copies()


def recover_unfinished() -> list[Path]:
    """Put every folder in order that a killed job has left a note of; those folders."""
    found = []
    try:
        notes = sorted(_notes().iterdir())
    except OSError:
        return []
    for note in notes:
        try:
            fd = os.open(note, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)  # else its job is still at it
            folder = Path(os.fsdecode(os.pread(fd, 1 << 16, 0)))
            if folder.is_absolute():
                recover_folder(folder)
                found.append(folder)
            note.unlink()
        except OSError:
            continue
        finally:
            os.close(fd)
    return found
