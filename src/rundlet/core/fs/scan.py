"""Walking folders: what is there, how large it is, and what can't be packed."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from enum import Flag, auto
from pathlib import Path

from rundlet.core.errors import file_problem
from rundlet.core.fs.safe_names import as_text, first_free
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.model.entry import Kind
from rundlet.core.model.item import PackItem
from rundlet.core.model.patterns import Patterns

_PERMISSIONS = 0o7777


class LeaveOut(Flag):
    """What a walk leaves out beside patterns."""

    NOTHING = 0
    HIDDEN = auto()
    EMPTY_FOLDERS = auto()


@dataclass(slots=True)
class Found:
    """What a walk found below one item, and how many files and folders it left out as it was asked to."""

    items: list[PackItem]
    issues: list[Issue]
    left: int = 0


def walk(
    item: Path,
    name: str,
    *,
    exclude: Sequence[str] = (),
    leave_out: LeaveOut = LeaveOut.NOTHING,
    follow: bool = False,
    skip: Collection[str] = (),
    tick: Callable[[], None] | None = None,
) -> Found:
    """An item with everything below it, in the order of names.

    Args:
        item: a file, folder or link.
        name: what it is to be called in the archive.
        exclude: patterns; what matches by its name or by its path in the archive is left out with all below it.
        leave_out: hidden files and folders, but the item itself never; folders with nothing in them.
        follow: whether what a link leads to is taken in its place; one that leads nowhere, or to a folder that it is in,
            stays a link.
        skip: whole paths of files that are left out wherever they lie, and named, as the new archive takes their place.
        tick: called once a folder; may raise to end the walk.
    """
    found = Found([], [])
    try:
        status = os.lstat(item)
    except OSError as error:
        found.issues.append(issue_of(name, file_problem(error, "read", item), Reason.NOT_READ))
        return found
    excluded = Patterns(exclude)
    pending: list[tuple[str, str, os.stat_result]] = [(str(item), name, status)]
    led: _Led = {}
    while pending:
        path, inside, status = pending.pop()
        step_aside()
        if follow and stat.S_ISLNK(status.st_mode):
            path, status = _followed(path, inside, status, found.issues, led)
        if path in skip:
            found.issues.append(issue(inside, Reason.IS_THE_ARCHIVE))
            continue
        hidden = "/" in inside and inside.rpartition("/")[2].startswith(".")
        if excluded.fit(inside) or (hidden and LeaveOut.HIDDEN in leave_out):
            found.left += 1
            continue
        kind = _kind(status.st_mode)
        if kind == Kind.OTHER:
            found.issues.append(issue(inside, _special(status.st_mode)))
            continue
        try:
            found.items.append(_item(path, inside, kind, status))
            if kind == Kind.DIR:
                if tick is not None:
                    tick()
                pending.extend(_below(path, inside, found.issues))
        except OSError as error:
            found.issues.append(issue_of(inside, file_problem(error, "read", path), Reason.NOT_READ))
    if LeaveOut.EMPTY_FOLDERS in leave_out:
        return Found(_without_empty_folders(found.items), found.issues, found.left)
    return found


_Led = dict[str, tuple[Path, ...]]
"""For each folder that a link led to, by its path in the archive: the folders of all links on the way to it."""


def _followed(
    path: str, inside: str, status: os.stat_result, issues: list[Issue], led: _Led
) -> tuple[str, os.stat_result]:
    """What a link leads to, or the link itself where following it would lead nowhere or round and round."""
    target = Path(os.path.realpath(path))
    try:
        there = target.lstat()
    except OSError:
        issues.append(issue(inside, Reason.LINK_NOWHERE))
        return path, status
    if stat.S_ISDIR(there.st_mode):
        above = inside
        while above and above not in led:
            above = above.rpartition("/")[0]
        way = (*led.get(above, ()), Path(path).parent.resolve())
        if any(folder.is_relative_to(target) for folder in way):
            issues.append(issue(inside, Reason.LINK_CIRCLE))
            return path, status
        led[inside] = way
    return str(target), there


def _without_empty_folders(items: list[PackItem]) -> list[PackItem]:
    """The items without folders in which no file or link is, however deep."""
    filled: set[str] = set()
    for item in items:
        above = item.path.rpartition("/")[0] if item.kind != Kind.DIR else ""
        while above and above not in filled:
            filled.add(above)
            above = above.rpartition("/")[0]
    return [item for item in items if item.kind != Kind.DIR or item.path in filled]


def _below(folder: str, inside: str, issues: list[Issue]) -> Iterator[tuple[str, str, os.stat_result]]:
    """What lies in a folder, last name first, as a stack wants it."""
    with os.scandir(folder) as entries:
        listed = sorted(entries, key=lambda entry: entry.name, reverse=True)
    taken: set[str] = set()
    for entry in listed:
        path = f"{inside}/{entry.name}"
        if not entry.name.isascii() and (text := as_text(entry.name)) != entry.name:
            taken = taken or {other.name for other in listed}
            text = first_free(text, taken.__contains__)
            taken.add(text)
            issues.append(not_text(path, text))
            path = f"{inside}/{text}"
        try:
            yield entry.path, path, entry.stat(follow_symlinks=False)
        except OSError as error:
            issues.append(issue_of(path, file_problem(error, "read", entry.path), Reason.NOT_READ))


def not_text(about: str, name: str) -> Issue:
    """That a name can't be kept in an archive as it is on the disk, and what it is called there."""
    return issue(about, Reason.NAME_NOT_UTF8, name=name)


def _item(path: str, inside: str, kind: Kind, status: os.stat_result) -> PackItem:
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


def _special(mode: int) -> Reason:
    if stat.S_ISSOCK(mode):
        return Reason.IS_SOCKET
    return Reason.IS_PIPE if stat.S_ISFIFO(mode) else Reason.IS_DEVICE


@dataclass(frozen=True, slots=True)
class Part:
    """What one thing directly in a folder holds.

    Attributes:
        size, files: bytes, and number of files, of all below it.
    """

    name: str
    size: int
    files: int
    is_folder: bool


def folder_parts(folder: Path, *, tick: Callable[[], None]) -> list[Part]:
    """What lies in a folder and how large it is; what can't be read counts as nothing.

    Args:
        tick: called once a folder; may raise to end the count.
    """
    parts = []
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    size, files = _total(entry.path, tick)
                    parts.append(Part(entry.name, size, files, is_folder=True))
                else:
                    parts.append(Part(entry.name, entry.stat(follow_symlinks=False).st_size, 1, is_folder=False))
    except OSError:
        pass
    return parts


def folder_size(folder: Path, *, tick: Callable[[], None]) -> tuple[int, int]:
    """Bytes and number of files below a folder; as :func:`folder_parts`."""
    return _total(os.fspath(folder), tick)


def _total(folder: str, tick: Callable[[], None]) -> tuple[int, int]:
    size = files = 0
    pending = [folder]
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
