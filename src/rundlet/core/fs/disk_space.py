"""Free space, places that exist, and what the disks that they are on can keep."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

MOUNTS = Path("/proc/self/mounts")
"""Where the system lists its disks."""

_ESCAPED = re.compile(r"\\([0-7]{3})")


def existing_parent(path: Path) -> Path:
    """The nearest folder above ``path``, itself included, that is there."""
    for place in (path, *path.parents):
        if os.path.isdir(place):  # where a Path would raise for names that are too long
            return place
    return Path("/")


def can_be_written(folder: Path) -> bool:
    """Whether things can be put into a folder, or into the nearest one above it that is there."""
    return os.access(existing_parent(folder), os.W_OK | os.X_OK)


def free_bytes(path: Path) -> int:
    """Bytes that can still be written at ``path`` or, where it is not there yet, at its nearest parent."""
    try:
        status = os.statvfs(existing_parent(path))
    except OSError:
        return 0
    return status.f_bavail * status.f_frsize


@dataclass(frozen=True, slots=True)
class DiskRules:
    """What a disk can keep.

    Attributes:
        largest: the most bytes of one file; 0 for no bound worth speaking of.
        folds_case: whether names that differ only in upper and lower case are one.
        forbidden: characters that no name may have.
    """

    largest: int = 0
    folds_case: bool = False
    forbidden: str = ""


_DOS_FORBIDDEN = '\\:*?"<>|'
_RULES = {
    "msdos": DiskRules((1 << 31) - 1, folds_case=True, forbidden=_DOS_FORBIDDEN),
    "vfat": DiskRules((1 << 32) - 1, folds_case=True, forbidden=_DOS_FORBIDDEN),
    "exfat": DiskRules(folds_case=True, forbidden=_DOS_FORBIDDEN),
    "ntfs3": DiskRules(folds_case=True, forbidden=_DOS_FORBIDDEN),
    "hfsplus": DiskRules(folds_case=True),
}


def mounts(table: Path = MOUNTS) -> list[tuple[str, str]]:
    """Where each disk stands, and the kind of its file system."""
    try:
        lines = table.read_text("utf-8", "surrogateescape").splitlines()
    except OSError:
        return []
    words = [line.split(" ") for line in lines]
    return [(_ESCAPED.sub(lambda match: chr(int(match[1], 8)), w[1]), w[2]) for w in words if len(w) >= 3]


def disk_rules(folder: Path, table: Path | None = None) -> DiskRules:
    """What the disk that a folder is on, or will be on, can keep."""
    where = f"{os.path.realpath(folder)}/"
    best, kind = "", ""
    for place, found in mounts(table or MOUNTS):
        top = place.rstrip("/") + "/"
        if where.startswith(top) and len(top) >= len(best):
            best, kind = top, found
    return _RULES.get(kind, DiskRules())
