"""Bringing an archive up to date with a folder: what is new there, what is another, and what is gone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.fs.safe_names import as_text
from rundlet.core.fs.scan import LeaveOut, walk
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.jobs.job import Job
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.plans.change_plan import Changes, folders_above
from rundlet.core.plans.changeable import is_same
from rundlet.core.streams.parts import files_of
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.findings import Issue, Reason, issue
    from rundlet.core.model.item import PackItem

_COARSE_NS = 2_000_000_000  # the least step of time that some archives keep


@dataclass(frozen=True, slots=True)
class Differences:
    """How a folder differs from what an archive holds of it, by paths in the archive.

    Attributes:
        new, newer, gone: what only the folder has, what is another there, and what only the archive has.
        same: how many files are the same.
        changes: what brings the archive up to date.
        issues: what could not be looked at.
    """

    new: tuple[str, ...]
    newer: tuple[str, ...]
    gone: tuple[str, ...]
    same: int
    changes: Changes
    issues: tuple[Issue, ...]


def differences(
    reader: ArchiveReader,
    folder: Path,
    *,
    into: str | None = None,
    delete_gone: bool = False,
    compare_content: bool = False,
    exclude: Sequence[str] = (),
    leave_out: LeaveOut = LeaveOut.NOTHING,
    job: Job | None = None,
) -> Differences:
    """Compare a folder with what an archive holds of it. Nothing is written.

    The archive itself, where it lies in the folder, is none of its items. A file is the same when its size is and its time is, as far
    as archives keep it; else when its CRC-32 is.

    Args:
        into: the folder in the archive that it stands for; None for the folder's own name, or the archive's top where it
            holds no folder of that name.
        delete_gone: whether what is gone from the folder goes from the archive, too.
        compare_content: whether files of the same size and time are compared by their CRC-32 all the same.
        exclude, leave_out: what is not looked at in the folder; such items are not gone.

    Raises:
        PlanError: when there is no such folder.
    """
    job = job or Job()
    if not folder.is_dir():
        raise PlanError("There is no folder {folder:name}.", folder=str(folder))
    there = {plain_path(reader.catalog.path(row)): row for row in range(len(reader.catalog))}
    folder = folder.resolve()  # a walk would take a link for one item
    own = as_text(folder.name)
    if into is None:
        into = own if any(path == own or path.startswith(f"{own}/") for path in there) else ""
    top = plain_path(into)
    skip = [str(file.resolve()) for file in files_of(reader.source)]
    walked = walk(folder, top or own, exclude=exclude, leave_out=leave_out, skip=skip, tick=job.checkpoint)
    everything = walk(folder, top or own, skip=skip, tick=job.checkpoint) if delete_gone else walked
    cut = 0 if top else len(own) + 1
    folders = {above for path in there for above in folders_above(path)}
    issues = [found for found in walked.issues if found.reason is not Reason.IS_THE_ARCHIVE]
    new: list[str] = []
    newer: list[str] = []
    items: list[PackItem] = []
    removed: set[int] = set()
    same = 0
    for item in walked.items:
        job.checkpoint()
        path = item.path[cut:]
        row = there.get(path)
        is_folder = row is not None and reader.catalog.kind[row] == Kind.DIR
        if not path or (item.kind == Kind.DIR and (is_folder or path in folders)):
            continue
        if path in folders and not delete_gone:  # what is in it would have to go, which nobody asked for
            issues.append(issue(path, Reason.FOLDER_IN_THE_WAY))
        elif row is not None and _is_unchanged(item, reader, row, job, compare_content=compare_content):
            same += 1
        else:
            (newer if row is not None else new).append(path)
            removed.update([row] if row is not None else [])
            items.append(item._replace(path=path))
    present = {item.path[cut:] for item in everything.items}
    unseen = [found.item[cut:] for found in everything.issues]  # what could not be looked at may be there still
    within = f"{top}/" if top else ""
    gone = [
        path
        for path in there
        if path.startswith(within)
        and path not in present
        and not any(path == other or path.startswith(f"{other}/") for other in unseen)
    ]
    if delete_gone:
        removed.update(there[path] for path in gone)
    changes = Changes(items=items, removed=removed)
    return Differences(tuple(new), tuple(newer), tuple(gone), same, changes, tuple(issues))


def _is_unchanged(item: PackItem, reader: ArchiveReader, row: int, job: Job, *, compare_content: bool) -> bool:
    """Whether a file or link is what the archive holds."""
    catalog = reader.catalog
    at = row
    if catalog.kind[row] == Kind.HARD:  # one more name of a file that the archive holds
        target = reader.hard_target(row)
        if target is None:
            return False
        at = target
    if item.kind != catalog.kind[at]:
        return False
    if item.kind == Kind.FILE:
        if item.size != int(catalog.size[at]):
            return False
        before = int(catalog.mtime_ns[row])
        if not compare_content and before != NO_TIME and abs(before - item.mtime_ns) < _COARSE_NS:
            return True
    return is_same(item, reader, at, job)
