"""Private copies of items of archives, and what becomes of them when their window is killed.

Each window keeps its copies in folders that it holds; a list in each says which of them another program may have changed. What
nobody holds any more is removed at the next start, but a copy that was changed is kept where its archive lies.
"""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from rundlet.core.fs.atomic_files import keep_text
from rundlet.core.fs.moving import copy_as
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Copied
from rundlet.core.limits import MIB
from rundlet.core.streams.private import cache_root, private_folder
from rundlet.core.streams.replacing import hold

IN_MEMORY = 64 * MIB
"""Copies up to so many bytes lie in the user's folder in memory, where there is one."""

_PREFIX = "rundlet-"
_LIST = ".watched.json"


@dataclass(slots=True)
class PrivateFolder:
    """A folder with private copies, which is held as long as it is open.

    Attributes:
        path: where it is.
        fd: what it is held by.
    """

    path: Path
    fd: int

    def note(self, copy: Path, home: Path, state: tuple[int, int]) -> None:
        """Note that another program has a copy, and what the copy was then: its size and time of change. Raises ``OSError``."""
        watched = {name: row for name, row in _watched(self.path).items() if name != copy.name}
        watched[copy.name] = (str(home), *state)
        keep_text(self.path / _LIST, json.dumps(watched))

    def remove(self) -> None:
        """Remove it with all copies in it."""
        shutil.rmtree(self.path, ignore_errors=True)
        self.close()

    def close(self) -> None:
        """Let go of it, and leave it where it is."""
        if self.fd >= 0:
            os.close(self.fd)
            self.fd = -1


def new_private_folder(size: int) -> PrivateFolder:
    """A private folder for so many bytes, in memory when these are few.

    Raises:
        OSError: when there is no place for it.
    """
    runtime = os.environ.get("XDG_RUNTIME_DIR", "")
    in_memory = size <= IN_MEMORY and runtime and os.access(runtime, os.W_OK | os.X_OK)
    place = Path(runtime) if in_memory else private_folder(cache_root())
    path = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=place))
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    hold(fd)
    return PrivateFolder(path, fd)


def sweep_private_copies() -> list[str]:
    """Remove the copies of windows that were killed; the paths under which changed ones were kept."""
    kept: list[str] = []
    for folder in _folders():
        try:
            fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            if os.fstat(fd).st_uid != os.getuid():
                continue
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if _keep_changed(folder, kept):
                shutil.rmtree(folder, ignore_errors=True)
        except OSError:
            continue
        finally:
            os.close(fd)
    return kept


def _folders() -> Iterator[Path]:
    for place in (os.environ.get("XDG_RUNTIME_DIR", ""), str(cache_root())):
        if place:
            yield from Path(place).glob(f"{_PREFIX}*")


def _keep_changed(folder: Path, kept: list[str]) -> bool:
    """Keep copies that were changed where their archives lie; whether all of them are somewhere else now."""
    for name, (home, *state) in _watched(folder).items():
        copy = folder / name
        try:
            status = copy.stat()
        except OSError:
            continue
        if [status.st_size, status.st_mtime_ns] == state:
            continue
        outcome = Copied(Path(home))
        copy_as(copy, Path(home) / name, outcome, Job())
        kept += outcome.created
        if not outcome.created:
            return False
    return True


def _watched(folder: Path) -> dict[str, tuple[str, int, int]]:
    try:
        rows = json.loads((folder / _LIST).read_text("utf-8", "surrogateescape"))
        return {
            str(name): (str(home), int(size), int(time))
            for name, (home, size, time) in rows.items()
            if "/" not in name and Path(home).is_absolute()
        }
    except (OSError, ValueError, TypeError, AttributeError):
        return {}
