"""What unpacking will do: where each chosen entry lands, and what is in its way."""

from __future__ import annotations

import os
import stat
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from enum import Enum, StrEnum
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from rundlet.core.files.names import SafeName, numbered, safe_name, split_ending
from rundlet.core.files.space import free_bytes
from rundlet.core.formats.base import NO_TIME, ArchiveReader, Kind
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Issue

Steps = tuple[str, ...]


class UnpackClash(StrEnum):
    """What becomes of an entry whose name is taken."""

    RENAME = "rename"
    REPLACE = "replace"
    NEWER = "newer"
    SKIP = "skip"


class Action(Enum):
    """What is done with an entry."""

    MAKE = "new"
    JOIN = "already there"
    NUMBER = "taken, both kept"
    REPLACE = "taken, replaced"
    SKIP = "taken, left alone"
    REFUSE = "refused"

    @property
    def writes(self) -> bool:
        """Whether something is written."""
        return self in (Action.MAKE, Action.NUMBER, Action.REPLACE)

    @property
    def taken(self) -> bool:
        """Whether the name was already taken by something else."""
        return self in (Action.NUMBER, Action.REPLACE, Action.SKIP)


@dataclass(frozen=True, slots=True)
class Step:
    """One entry's way.

    Attributes:
        row: its row in the catalog.
        kind: what it is.
        size: bytes of its content.
        target: where it lands below the root, as steps; for a refused entry its own name as far as it is known.
        action: what is done.
        note: what a person should know, as a clause, or "".
        content: the row whose content it gets: its own, or for a hard link that of the file it is a name of.
    """

    row: int
    kind: Kind
    size: int
    target: Steps
    action: Action
    note: str = ""
    content: int = -1


@dataclass(frozen=True, slots=True)
class UnpackPlan:
    """Where everything lands.

    Attributes:
        archive: the name of the archive.
        root: the folder that all targets are below.
        root_is_new: whether that folder has yet to be made.
        steps: one for each chosen entry, in the archive's order.
        size: bytes that will be written.
        free: bytes free there.
        counts: how many entries have each action.
        files: how many files will be written.
        issues: what is refused or altered, one line each.
        fingerprint: what the archive looked like when the plan was made.
    """

    archive: str
    root: Path
    root_is_new: bool
    steps: tuple[Step, ...]
    size: int
    free: int
    counts: Counter[Action]
    files: int
    issues: tuple[Issue, ...]
    fingerprint: tuple[int, ...]

    @property
    def taken(self) -> int:
        """How many names were already taken."""
        return sum(count for action, count in self.counts.items() if action.taken)


def own_folder_name(archive: Path) -> str:
    """What a folder for the archive's content is called."""
    stem = split_ending(archive.name)[0]
    return stem if stem not in ("", ".", "..") else "archive"


def needs_own_folder(reader: ArchiveReader) -> bool:
    """Whether the content would lie loose: there is more than one thing at its top, or that one is not a folder."""
    tops: set[bytes] = set()
    for name in reader.catalog.names.all_raw():
        head, slash, _ = name.partition(b"/")
        tops.add(head + slash)
        if len(tops) > 1 or not slash:
            return True
    return False


def plan_unpack(
    reader: ArchiveReader,
    rows: NDArray[np.int64] | None = None,
    *,
    into: Path,
    own_folder: str = "",
    keep_folders: bool = True,
    on_clash: UnpackClash = UnpackClash.RENAME,
    job: Job | None = None,
) -> UnpackPlan:
    """Work out where the chosen entries land. Nothing is written.

    Args:
        rows: the chosen entries; None for all.
        into: the chosen folder; it and its parents may still be missing.
        own_folder: the name of a folder below it that everything goes into, or "".
        keep_folders: whether entries keep the folders they sit in, or land side by side.
        on_clash: the rule for names that are taken.
    """
    root = Path(os.path.abspath(into))
    if own_folder:
        root = _own_root(root, own_folder)
    if rows is None:
        rows = np.arange(len(reader.catalog))
    place = _Place(root)
    steps: list[Step] = []
    job = job or Job()
    for number, row in enumerate(rows.tolist()):
        if not number % 512:
            job.checkpoint()
        step = _step(reader, row, place, keep_folders=keep_folders, on_clash=on_clash)
        if step is not None:
            steps.append(step)
    return UnpackPlan(
        archive=reader.source.name,
        root=root,
        root_is_new=not root.exists(),
        steps=tuple(steps),
        size=sum(step.size for step in steps if step.action.writes),
        free=free_bytes(root),
        counts=Counter(step.action for step in steps),
        files=sum(step.kind != Kind.DIR and step.action.writes for step in steps),
        issues=(*reader.notices, *_issues(reader, steps)),
        fingerprint=reader.source.fingerprint(),
    )


def _own_root(root: Path, name: str) -> Path:
    """The own folder; numbered when something that is not a folder has its name, such as the archive itself."""
    candidate, number = root / name, 2
    while os.path.lexists(candidate) and not candidate.is_dir():
        candidate = root / numbered(name, number)
        number += 1
    return candidate


def _issues(reader: ArchiveReader, steps: list[Step]) -> Iterator[Issue]:
    for step in steps:
        if step.action == Action.REFUSE or (step.note and step.action != Action.SKIP):
            prefix = "was left out: " if step.action == Action.REFUSE else ""
            yield Issue(reader.catalog.path(step.row), prefix + step.note)


def _step(reader: ArchiveReader, row: int, place: _Place, *, keep_folders: bool, on_clash: UnpackClash) -> Step | None:
    entry = reader.catalog.entry(row)
    content: int | None = row
    if entry.kind == Kind.HARD:
        content = reader.hard_target(row)
    size = max(entry.size, 0) if entry.kind == Kind.FILE else 0
    if entry.kind == Kind.DIR and not keep_folders:
        return None
    safe = safe_name(entry.path)
    if entry.kind == Kind.DIR and entry.path in (".", "./"):
        return None  # the archive lists its own top
    if safe.steps and not keep_folders:
        safe = SafeName(safe.steps[-1:], note=safe.note)
    refused = safe.refused
    if content is None:
        refused = "it is a link to a file that the archive does not hold"
        content = row
    if entry.kind == Kind.OTHER:
        refused = "it is a device or a pipe, which Rundlet does not make"
    if refused:
        return Step(row, entry.kind, size, safe.steps or (entry.path,), Action.REFUSE, refused)
    notes = [safe.note] if safe.note else []
    if entry.mode & (stat.S_ISUID | stat.S_ISGID):
        notes.append("its set-user-id or set-group-id mark was left out")
    step = place.settle(row, entry.kind, size, safe.steps, notes, mtime_ns=entry.mtime_ns, on_clash=on_clash)
    return replace(step, content=content) if content != row else step


class _Place:
    """What is and what will be in the chosen folder: the disk, looked at once a folder, and the plan so far."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._there: dict[Steps, dict[str, os.stat_result]] = {}
        self._planned: dict[Steps, Kind] = {}

    def settle(
        self, row: int, kind: Kind, size: int, target: Steps, notes: list[str], *, mtime_ns: int, on_clash: UnpackClash
    ) -> Step:
        """Find what stands in the way of an entry and apply the rule."""
        blocked = self._blocked(target[:-1])
        if blocked:
            return Step(row, kind, size, target, Action.REFUSE, blocked)
        if kind == Kind.DIR:
            return self._settle_folder(row, target, notes)
        before = self._existing(target)
        if target in self._planned:
            notes.append("the archive holds more than one entry of this name")
            action = Action.NUMBER
        elif before is None:
            action = Action.MAKE
        else:
            action = _rule(before, mtime_ns, on_clash)
        if action == Action.REFUSE:
            return Step(row, kind, size, target, action, "a folder of this name is already there")
        if action == Action.NUMBER:
            target = self._free(target)
        if action.writes:
            self._planned[target] = kind
        return Step(row, kind, size, target, action, "; ".join(notes))

    def _settle_folder(self, row: int, target: Steps, notes: list[str]) -> Step:
        blocked = self._blocked(target)
        if blocked:
            return Step(row, Kind.DIR, 0, target, Action.REFUSE, blocked)
        there = self._existing(target) is not None
        return Step(row, Kind.DIR, 0, target, Action.JOIN if there else Action.MAKE, "; ".join(notes))

    def _blocked(self, folder: Steps) -> str:
        """Why this can't be a folder, or ""; planned as one otherwise."""
        if self._planned.get(folder) == Kind.DIR:
            return ""
        for length in range(1, len(folder) + 1):
            part = folder[:length]
            planned = self._planned.get(part)
            if planned == Kind.DIR:
                continue
            status = self._existing(part)
            if planned is not None or (status is not None and not stat.S_ISDIR(status.st_mode)):
                is_link = planned == Kind.LINK or (status is not None and stat.S_ISLNK(status.st_mode))
                what = "link" if is_link else "file"
                return f"a {what} named “{'/'.join(part)}” is in the place of its folder"
        self._plan_folders(folder)
        return ""

    def _plan_folders(self, folder: Steps) -> None:
        for length in range(len(folder), 0, -1):
            if self._planned.get(folder[:length]) == Kind.DIR:
                break
            self._planned[folder[:length]] = Kind.DIR

    def _existing(self, target: Steps) -> os.stat_result | None:
        """What is on the disk at this place, links not followed."""
        return self._listing(target[:-1]).get(target[-1]) if target else None

    def _listing(self, folder: Steps) -> dict[str, os.stat_result]:
        known = self._there.get(folder)
        if known is not None:
            return known
        listing: dict[str, os.stat_result] = {}
        above = self._existing(folder) if folder else None
        if not folder or (above is not None and stat.S_ISDIR(above.st_mode)):
            try:
                with os.scandir(self._root.joinpath(*folder)) as entries:
                    listing = {e.name: e.stat(follow_symlinks=False) for e in entries}
            except OSError:
                pass  # not there yet, or closed to us: then the work itself will say so
        self._there[folder] = listing
        return listing

    def _free(self, target: Steps) -> Steps:
        number = 2
        while True:
            candidate = (*target[:-1], numbered(target[-1], number))
            if self._existing(candidate) is None and candidate not in self._planned:
                return candidate
            number += 1


def _rule(before: os.stat_result, mtime_ns: int, on_clash: UnpackClash) -> Action:
    if on_clash == UnpackClash.RENAME:
        return Action.NUMBER
    if on_clash == UnpackClash.SKIP:
        return Action.SKIP
    if stat.S_ISDIR(before.st_mode):
        return Action.REFUSE
    if on_clash == UnpackClash.REPLACE:
        return Action.REPLACE
    return Action.REPLACE if mtime_ns != NO_TIME and mtime_ns > before.st_mtime_ns else Action.SKIP
