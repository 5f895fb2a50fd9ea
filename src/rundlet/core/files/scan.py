"""Walking folders: what is there, how large it is, and what can't be packed."""

from __future__ import annotations

import fnmatch
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from rundlet.core.errors import file_problem, left_out
from rundlet.core.formats.base import Kind, PackItem
from rundlet.core.jobs.report import Issue

_PERMISSIONS = 0o7777


@dataclass(frozen=True, slots=True)
class Found:
    """What a walk found below one item."""

    items: list[PackItem]
    issues: list[Issue]


def walk(
    item: Path,
    name: str,
    *,
    exclude: Sequence[str] = (),
    skip: Path | None = None,
    tick: Callable[[], None] | None = None,
) -> Found:
    """An item with everything below it, in the order of names; links are kept as links.

    Args:
        item: a file, folder or link.
        name: what it is to be called in the archive.
        exclude: patterns; what matches by its name or by its path in the archive is left out with all below it.
        skip: a file that is left out wherever it lies, such as the archive that is being made.
        tick: called once a folder; may raise to end the walk.
    """
    found = Found([], [])
    try:
        status = os.lstat(item)
    except OSError as error:
        found.issues.append(Issue(name, left_out(file_problem(error, "read", item))))
        return found
    pending: list[tuple[Path, str, os.stat_result]] = [(item, name, status)]
    while pending:
        path, inside, status = pending.pop()
        if path == skip or _excluded(inside, exclude):
            continue
        kind = _kind(status.st_mode)
        if kind == Kind.OTHER:
            found.issues.append(Issue(inside, f"is {_special(status.st_mode)} and was left out"))
            continue
        try:
            found.items.append(_item(path, inside, kind, status))
            if kind == Kind.DIR:
                if tick is not None:
                    tick()
                pending.extend(_below(path, inside, found.issues))
        except OSError as error:
            found.issues.append(Issue(inside, left_out(file_problem(error, "read", path))))
    return found


def _below(folder: Path, inside: str, issues: list[Issue]) -> Iterator[tuple[Path, str, os.stat_result]]:
    """What lies in a folder, last name first, as a stack wants it."""
    with os.scandir(folder) as entries:
        listed = sorted(entries, key=lambda entry: entry.name, reverse=True)
    for entry in listed:
        path = f"{inside}/{entry.name}"
        try:
            yield Path(entry.path), path, entry.stat(follow_symlinks=False)
        except OSError as error:
            issues.append(Issue(path, left_out(file_problem(error, "read", entry.path))))


def _item(path: Path, inside: str, kind: Kind, status: os.stat_result) -> PackItem:
    return PackItem(
        path=inside,
        kind=kind,
        source=path,
        size=status.st_size if kind == Kind.FILE else 0,
        mtime_ns=status.st_mtime_ns,
        mode=stat.S_IMODE(status.st_mode) & _PERMISSIONS,
        inode=(status.st_dev, status.st_ino) if kind == Kind.FILE and status.st_nlink > 1 else None,
        target=os.readlink(path) if kind == Kind.LINK else "",  # noqa: PTH115 - a Path would tidy it
    )


def _kind(mode: int) -> Kind:
    if stat.S_ISREG(mode):
        return Kind.FILE
    if stat.S_ISDIR(mode):
        return Kind.DIR
    return Kind.LINK if stat.S_ISLNK(mode) else Kind.OTHER


def _special(mode: int) -> str:
    if stat.S_ISSOCK(mode):
        return "a socket"
    return "a pipe" if stat.S_ISFIFO(mode) else "a device"


def _excluded(inside: str, patterns: Sequence[str]) -> bool:
    name = inside.rpartition("/")[2]
    return any(fnmatch.fnmatchcase(name, p) or fnmatch.fnmatchcase(inside, p.rstrip("/")) for p in patterns)


def folder_size(folder: Path, *, tick: Callable[[], None]) -> tuple[int, int]:
    """Bytes and number of files below a folder; what can't be read counts as nothing.

    Args:
        tick: called once a folder; may raise to end the count.
    """
    size = files = 0
    pending = [os.fspath(folder)]
    while pending:
        tick()
        try:
            with os.scandir(pending.pop()) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        pending.append(entry.path)
                    else:
                        files += 1
                        size += entry.stat(follow_symlinks=False).st_size
        except OSError:
            continue
    return size, files
