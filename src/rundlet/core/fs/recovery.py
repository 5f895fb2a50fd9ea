"""Putting in order, at the next start, what a job that was killed left unfinished."""

from __future__ import annotations

import contextlib
from pathlib import Path

from rundlet.core.fs.base_folders import config_folder, state_folder
from rundlet.core.fs.private_folders import sweep_private_copies
from rundlet.core.fs.replaced import recover_folder
from rundlet.core.fs.unfinished import has_leftovers, left_over
from rundlet.core.streams.private import cache_root


def clear_up() -> None:
    """Put in order what killed jobs left: unfinished changes of names, our own half-written files, and private copies."""
    recover_unfinished()
    for folder in (state_folder(), state_folder() / "journal", config_folder(), cache_root(), cache_root() / "indexes"):
        recover_folder(folder)
    sweep_private_copies()


def recover_unfinished() -> list[Path]:
    """Put every folder in order that a killed job has left a note of; those folders."""
    found: list[Path] = []
    for folders, note in left_over():
        for folder in folders:
            recover_folder(folder)
        found += folders
        if not any(map(has_leftovers, folders)):  # else, as they are too young to be told from others, the next time
            with contextlib.suppress(OSError):
                note.unlink()
    return found
