"""Where things are kept, after the desktop's description of base directories: each kind in the folder that is meant for it."""

from __future__ import annotations

import os
from pathlib import Path

from rundlet.core.streams.private import base_folder

_NAME = "rundlet"


def config_home() -> Path:
    """What a person has set in all programs."""
    return base_folder("XDG_CONFIG_HOME", ".config")


def config_folder() -> Path:
    """What a person has set."""
    return config_home() / _NAME


def state_folder() -> Path:
    """What was done, and where."""
    return base_folder("XDG_STATE_HOME", ".local/state") / _NAME


def data_home() -> Path:
    """What all programs keep of a person's data in, the trash among it."""
    return base_folder("XDG_DATA_HOME", ".local/share")


def former_folder() -> Path:
    """Where all of this was kept before."""
    return data_home() / _NAME


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
