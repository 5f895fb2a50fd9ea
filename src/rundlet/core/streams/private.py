"""What is for nobody's eyes but the user's: folders of our own, and a process that leaves no dump with passwords in it."""

from __future__ import annotations

import contextlib
import os
import resource
import stat
from pathlib import Path
from typing import BinaryIO

_OTHERS = 0o077


def base_folder(variable: str, usual: str) -> Path:
    """One of the folders of the XDG Base Directory Specification.

    Args:
        variable: what may name it; what is no whole path counts as nothing, as the description says.
        usual: where it is otherwise, below the home folder.
    """
    named = os.environ.get(variable, "")
    return Path(named) if named.startswith("/") else Path.home() / usual


def cache_root() -> Path:
    """The folder of everything that can be made anew."""
    return base_folder("XDG_CACHE_HOME", ".cache") / "rundlet"


def private_folder(path: Path) -> Path:
    """Make a folder, or see to it that one that is there is its owner's alone.

    Raises:
        OSError: when the system refuses.
    """
    root = cache_root()
    if path != root and path.is_relative_to(root):
        private_folder(root)
    path.mkdir(parents=True, exist_ok=True, mode=0o700)
    status = path.stat()
    if status.st_mode & _OTHERS and status.st_uid == os.getuid():
        path.chmod(stat.S_IMODE(status.st_mode) & ~_OTHERS)
    return path


def private_file(path: Path) -> BinaryIO:
    """A new file that nobody else can look into, opened for writing. Raises ``OSError``."""
    return open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600), "wb")  # noqa: PTH123


def no_core_dumps() -> None:
    """Let no dump of this process be written from now on, as a password is in its memory."""
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
