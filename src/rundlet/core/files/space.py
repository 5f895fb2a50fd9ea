"""Free space and places that exist."""

from __future__ import annotations

import os
from pathlib import Path


def existing_parent(path: Path) -> Path:
    """The nearest folder above ``path``, itself included, that is there."""
    for place in (path, *path.parents):
        if place.is_dir():
            return place
    return Path("/")


def free_bytes(path: Path) -> int:
    """Bytes that can still be written at ``path`` or, where it is not there yet, at its nearest parent."""
    try:
        status = os.statvfs(existing_parent(path))
    except OSError:
        return 0
    return status.f_bavail * status.f_frsize
