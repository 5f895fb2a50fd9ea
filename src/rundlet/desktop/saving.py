"""Saving changes: in an archive on the disk, or in one that lies within others, all of which are written anew then."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import OutOfDate
from rundlet.core.formats.detect import open_unlocked
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.limits import CHUNK
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.model.opening import Opening
from rundlet.core.plans.change_plan import AddClash, Changes, plan_change
from rundlet.core.plans.staging import Staged, as_they_are_now
from rundlet.core.streams.replacing import hidden_name
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from collections.abc import Mapping

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Changed
    from rundlet.core.plans.change_plan import ChangePlan
    from rundlet.desktop.locations.place import Place

_USUAL_MODE = 0o644


@dataclass(frozen=True, slots=True)
class Level:
    """One archive of several within each other.

    Attributes:
        path: the archive on the disk, or the private copy of one that lies in another.
        entry: its path in the archive that it lies in, "" on the disk.
        password: what opens it, or "".
    """

    path: Path
    entry: str
    password: str


def levels_of(place: Place, password_of: Callable[[Path], str]) -> list[Level]:
    """The archive of a place, and those that it lies in, the innermost first."""
    levels = []
    at: Place | None = place
    while at is not None and at.archive is not None:
        levels.append(Level(at.archive, at.entry if at.outer is not None else "", password_of(at.archive)))
        at = at.outer
    return levels


def save_changes(
    levels: Sequence[Level],
    staged: Staged,
    on_clash: AddClash,
    seen: tuple[int, ...],
    new_folder: Callable[[int], Path],
    job: Job,
) -> Changed:
    """Save what is staged in the innermost archive. On the disk it is one step: the outermost archive is replaced.

    Args:
        levels: see :func:`levels_of`.
        seen: what an archive on the disk was when the changes were made; one within another is compared with its copy.
        new_folder: gives a private folder for so many bytes.

    Raises:
        OutOfDate: when it was changed since, or what it lies in.
        RundletError: when it can't be saved; then all is as it was.
    """
    from rundlet.core.work.changer import change

    changes = replace(staged.changes, items=as_they_are_now(staged.changes.items))
    rules: Mapping[str, AddClash] = staged.rules
    saved: list[tuple[Path, Path]] = []  # in the place of which private copies
    for level, outer in pairwise(levels):
        job.begin("Saving")
        mode = _mode_of(level, outer, job)
        folder = new_folder(2 * level.path.stat().st_size) / "changed"  # the folder above is held by this window
        folder.mkdir()
        copy = folder / level.path.name
        shutil.copy2(level.path, copy)
        change(_plan(copy, level, changes, on_clash, rules, job), job)
        beside = level.path.with_name(hidden_name(".tmp"))  # which may be on another disk
        shutil.copy2(copy, beside)
        saved.append((beside, level.path))
        status = copy.stat()
        item = PackItem(level.entry, Kind.FILE, str(copy), status.st_size, status.st_mtime_ns, mode)
        changes, on_clash, rules = Changes(items=[item]), AddClash.REPLACE, {}
    plan = _plan(levels[-1].path, levels[-1], changes, on_clash, rules, job)
    if len(levels) == 1 and plan.fingerprint != seen:
        raise _changed_meanwhile(levels[0].path.name)
    outcome = change(replace(plan, keep_replaced=True), job)
    for beside, path in saved:  # what the window stands in is what was saved
        beside.replace(path)
    return outcome


def _plan(
    path: Path, level: Level, changes: Changes, on_clash: AddClash, rules: Mapping[str, AddClash], job: Job
) -> ChangePlan:
    return plan_change(
        path,
        changes,
        options=WriteOptions(-1, password=level.password),
        on_clash=on_clash,
        rules=rules,
        read_back=True,
        job=job,
    )


def _mode_of(level: Level, outer: Level, job: Job) -> int:
    """The permission bits that an archive has in the one that it lies in, where it is as its private copy.

    Raises:
        OutOfDate: when that one holds another by now, or none.
    """
    reader, _ = open_unlocked(outer.path, [outer.password] if outer.password else [], Opening(job=job))
    with closing(reader):
        catalog = reader.catalog
        row = next((row for row in range(len(catalog)) if plain_path(catalog.path(row)) == level.entry), None)
        if row is None or not _holds(reader, row, level.path, job):
            raise _changed_meanwhile(outer.path.name)
        return int(catalog.mode[row]) or _USUAL_MODE


def _holds(reader: ArchiveReader, row: int, path: Path, job: Job) -> bool:
    """Whether an entry is, byte for byte, a file on the disk."""
    with (
        closing(ArchiveContents(reader, [row])) as contents,
        closing(contents.open(row)) as entry,
        path.open("rb") as file,
    ):
        at = 0
        while data := file.read(CHUNK):
            job.checkpoint()
            if entry.read(len(data), at) != data:
                return False
            at += len(data)
        return at == entry.size


def _changed_meanwhile(name: str) -> OutOfDate:
    return OutOfDate("{archive:name} was changed by another program, so nothing was saved.", archive=name)
