"""Where things are kept, after the desktop's description of base directories: each kind in the folder that is meant for it."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs

_NAME = "rundlet"


def config_folder() -> Path:
    """What a person has set."""
    return Path(platformdirs.user_config_dir(_NAME))


def state_folder() -> Path:
    """What was done, and where."""
    return Path(platformdirs.user_state_dir(_NAME))


def former_folder() -> Path:
    """Where all of this was kept before."""
    return Path(platformdirs.user_data_dir(_NAME))


def moved_from(old: Path, new: Path) -> Path:
    """The new place of a file or folder, to which it is moved where it is only in its old one.

    Where it can't be moved, the old place goes on being used.
    """
    if os.path.lexists(new) or not os.path.lexists(old):
        return new
    try:
        new.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        old.rename(new)
    except OSError:
        return new if os.path.lexists(new) else old  # another window may have moved it just now
    return new
