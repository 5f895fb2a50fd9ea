"""What unpacking will do: where each selected item lands, and what is in its way."""

from __future__ import annotations

import os
import stat
import zlib
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.fs.disk_space import disk_rules, free_bytes
from rundlet.core.fs.safe_names import SafeName, doubted, first_free, numbered, safe_name, without
from rundlet.core.jobs.findings import Finding, Issue, Reason, issue
from rundlet.core.jobs.interface_priority import let_go, step_aside
from rundlet.core.jobs.job import Job
from rundlet.core.limits import CHUNK
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Entry, Kind
from rundlet.core.plans.unpack_plan import Action, Step, Steps, UnpackClash, UnpackPlan
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader

_MARKS = stat.S_ISUID | stat.S_ISGID | stat.S_ISVTX


def needs_own_folder(reader: ArchiveReader) -> bool:
    """Whether the content would lie loose: there is more than one thing at its top, or that one is not a folder."""
    tops: set[bytes] = set()
    catalog = reader.catalog
    for row, name in enumerate(catalog.names.all_raw()):
        head, slash, _ = name.partition(b"/")
        tops.add(head)
        if len(tops) > 1 or (not slash and catalog.kind[row] != Kind.DIR):
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
    rules: Mapping[Steps, UnpackClash] | None = None,
    leave_same: bool = False,
    keep_replaced: bool = False,
    job: Job | None = None,
) -> UnpackPlan:
    """Work out where the selected items land. Nothing is written.

    Args:
        rows: the selected items; None for all.
        into: the chosen folder; it and its parents may still be missing.
        own_folder: the name of a folder below it that everything goes into, or "".
        keep_folders: whether entries keep the folders they sit in, or land side by side.
        on_clash: the rule for names that are taken.
        rules: other rules for single names, by where those would land.
        leave_same: whether a file that is already there with the same size and CRC-32 is left alone, whatever the rule.
        keep_replaced: whether what is replaced goes to the trash, so that it can come back.
    """
    planner = Planner(
        into=into,
        own_folder=own_folder,
        keep_folders=keep_folders,
        on_clash=on_clash,
        rules=rules,
        leave_same=leave_same,
        keep_replaced=keep_replaced,
        job=job,
    )
    try:
        return planner.plan(reader, rows)
    finally:
        planner.close()


class Planner:
    """Plans one archive after the other, or one piece of an archive after the other, into the same folder. What those before
    it put there is taken, as if they were one; see :func:`plan_unpack` for the arguments.

    Args:
        in_pieces: whether what is planned are the pieces of one archive, so that a hard link may name a file of an earlier one.
    """

    def __init__(
        self,
        *,
        into: Path,
        own_folder: str = "",
        keep_folders: bool = True,
        on_clash: UnpackClash = UnpackClash.RENAME,
        rules: Mapping[Steps, UnpackClash] | None = None,
        leave_same: bool = False,
        keep_replaced: bool = False,
        job: Job | None = None,
        in_pieces: bool = False,
    ) -> None:
        root = Path(os.path.abspath(into))
        self.root = _own_root(root, own_folder) if own_folder else root
        self._keep_folders, self._on_clash, self._keep_replaced = keep_folders, on_clash, keep_replaced
        self._job = job or Job()
        self._place = _Place(self.root, rules or {}, self._job if leave_same else None)
        self.landed: dict[str, Steps] | None = {} if in_pieces else None
        """Where the files of earlier pieces land, by their paths in the archive; those that don't are to be taken out."""

    def close(self) -> None:
        """Forget what was planned."""
        self._place.let_go()

    def plan(self, reader: ArchiveReader, rows: NDArray[np.int64] | None = None) -> UnpackPlan:
        """Work out where the selected items of an archive land; None for all of them."""
        if rows is None:
            rows = np.arange(len(reader.catalog))
        place, landed = self._place, self.landed
        steps: list[Step] = []
        try:
            for number, entry in enumerate(reader.catalog.entries(rows)):
                if not number % 64:
                    self._job.checkpoint()
                    step_aside()
                step = _step(
                    reader, entry, place, keep_folders=self._keep_folders, on_clash=self._on_clash, landed=landed
                )
                if step is not None:
                    steps.append(step)
        except BaseException:
            let_go(steps)
            raise
        if landed is not None:
            written_files = (step for step in steps if step.kind == Kind.FILE and step.action.writes)
            landed.update((plain_path(reader.catalog.path(step.row)), step.target) for step in written_files)
        writing = [step for step in steps if step.action.writes]
        written = np.array([step.row for step in writing], np.int64)
        losses = tuple(_not_kept(place, reader, written))
        return UnpackPlan(
            archive=reader.source.name,
            root=self.root,
            root_is_new=not os.path.exists(self.root),
            steps=tuple(steps),
            size=sum(step.size for step in writing),
            free=free_bytes(self.root),
            counts=Counter(step.action for step in steps),
            files=sum(step.kind != Kind.DIR for step in writing),
            issues=(*reader.notices, *losses, *_issues(reader, steps)),
            fingerprint=reader.source.fingerprint(),
            read_through=reader.read_through(written),
            unlock_seconds=reader.unlock_seconds(written),
            keep_replaced=self._keep_replaced,
            needed=reader.disk_bytes(written[reader.catalog.kind[written] == Kind.FILE]),
            lacking=_lacking(reader, rows, steps, keep_folders=self._keep_folders),
            losses=losses,
            unreadable=reader.in_gaps(written[reader.catalog.kind[written] == Kind.FILE]),
        )


def _lacking(
    reader: ArchiveReader, rows: NDArray[np.int64], steps: list[Step], *, keep_folders: bool
) -> Finding | None:
    """Why not everything in an archive comes out; see :class:`UnpackPlan`."""
    if len(np.unique(rows)) < len(reader.catalog):
        return Finding(Reason.ONLY_SOME)
    counts = Counter(step.action for step in steps)
    if counts[Action.SKIP]:
        return Finding.of(Reason.SOME_SKIPPED, count=counts[Action.SKIP])
    if counts[Action.REFUSE]:
        return Finding.of(Reason.SOME_REFUSED, count=counts[Action.REFUSE])
    if reader.doubtful or any(notice.problem for notice in reader.notices):
        return Finding(Reason.ARCHIVE_DAMAGED)
    if not keep_folders and bool((reader.catalog.kind == Kind.DIR).any()):
        return Finding(Reason.FOLDERS_LEFT)
    return None


def _own_root(root: Path, name: str) -> Path:
    """The own folder; numbered when something that is not a folder has its name, such as the archive itself."""
    return root / first_free(name, lambda n: os.path.lexists(root / n) and not os.path.isdir(root / n))


def _not_kept(place: _Place, reader: ArchiveReader, rows: NDArray[np.int64]) -> Iterator[Issue]:
    """What is not kept of anything, each thing once: what the disk can't, and what would give a program more rights."""
    marked = rows[(reader.catalog.mode[rows] & _MARKS) != 0]
    if len(marked):
        yield issue(reader.source.name, Reason.LOST_MARKS, count=len(marked))
    if place.disk.forbidden and bool((reader.catalog.mode[rows] & 0o111).any()):
        yield issue(place.name, Reason.DISK_KEEPS_NO_PERMISSIONS)


def _issues(reader: ArchiveReader, steps: list[Step]) -> Iterator[Issue]:
    for step in steps:
        path = reader.catalog.path(step.row) if step.notes else ""
        if step.action == Action.REFUSE:
            yield issue(path, Reason.LEFT_OUT, cause=step.notes)
        elif step.notes and step.action not in (Action.SKIP, Action.SAME):
            yield issue(path, Reason.ALTERED, changes=step.notes)


def _step(
    reader: ArchiveReader,
    entry: Entry,
    place: _Place,
    *,
    keep_folders: bool,
    on_clash: UnpackClash,
    landed: Mapping[str, Steps] | None,
) -> Step | None:
    row = entry.row
    if entry.kind == Kind.FILE and keep_folders and row not in reader.doubtful:
        step = place.settle_free(row, max(entry.size, 0), entry.path)
        if step is not None:
            return step
    content: int | None = row
    first: Steps = ()
    if entry.kind == Kind.HARD:
        content = reader.hard_target(row)
        if landed is not None and (content is None or content > row):
            first = landed.get(plain_path(reader.link_target(row)), ())
            content = row if first else content
    size = max(entry.size, 0) if entry.kind == Kind.FILE else 0
    if entry.kind == Kind.DIR and not keep_folders:
        return None
    safe = safe_name(entry.path)
    if entry.kind == Kind.DIR and entry.path in (".", "./"):
        return None  # the archive lists its own top
    if safe.steps and not keep_folders:
        safe = SafeName(safe.steps[-1:], notes=safe.notes)
    refused = safe.refused
    if content is None:
        refused = Finding(Reason.HARD_LINK_NOWHERE)
        content = row
    if entry.kind == Kind.OTHER:
        refused = Finding(Reason.SPECIAL_NOT_MADE)
    if refused is not None:
        return Step(row, entry.kind, size, safe.steps or (entry.path,), Action.REFUSE, (refused,))
    notes = list(safe.notes)
    if content in reader.doubtful:
        safe = SafeName((*safe.steps[:-1], doubted(safe.steps[-1])))
        notes.append(Finding(Reason.MAY_BE_DAMAGED))
    kept = without(safe.steps, place.disk.forbidden)
    if kept != safe.steps:
        notes.append(Finding(Reason.NAME_NOT_FOR_DISK))
    if entry.kind == Kind.LINK and place.disk.forbidden:
        return Step(row, entry.kind, size, kept, Action.REFUSE, (Finding(Reason.DISK_KEEPS_NO_LINKS),))
    if place.disk.largest and size > place.disk.largest:
        too_large = Finding.of(Reason.DISK_KEEPS_NO_LARGE, size=place.disk.largest)
        return Step(row, entry.kind, size, kept, Action.REFUSE, (too_large,))
    step = place.settle(row, entry.kind, size, kept, notes, mtime_ns=entry.mtime_ns, crc=entry.crc, on_clash=on_clash)
    return step._replace(content=content if content != row else -1, first=first) if entry.kind == Kind.HARD else step


class _Place:
    """What is and what will be in the chosen folder: the disk, looked at once a folder, and the plan so far.

    Where the disk does not tell upper from lower case, neither does this.

    Args:
        compare: asked while files are compared with entries; None when they are not.
    """

    def __init__(self, root: Path, rules: Mapping[Steps, UnpackClash], compare: Job | None) -> None:
        self._root = root
        self._rules = rules
        self._compare = compare
        self.disk = disk_rules(root)
        self._any_name = not self.disk.forbidden and not self.disk.folds_case
        self._there: dict[Steps, dict[str, os.stat_result]] = {}
        self._planned: dict[Steps, Kind] = {}
        self._moved: dict[Steps, Steps] = {}  # folders that got another name, as a file of the archive has theirs
        self._placed: dict[Steps, Steps] = {}  # where folders are that lie in such
        self._clear: set[Steps] = set()  # folders in whose way nothing stands, nor in that of one above
        self._numbered: dict[
            Steps, int
        ] = {}  # how often a name was numbered, as a hostile archive may hold one 100,000 times

    @property
    def name(self) -> str:
        """The name of the chosen folder."""
        return self._root.name

    def let_go(self) -> None:
        """Forget all of it; in small steps, as it may be very much."""
        let_go(self._planned)

    def _key(self, steps: Steps) -> Steps:
        return tuple("/".join(steps).casefold().split("/")) if self.disk.folds_case and steps else steps

    def settle_free(self, row: int, size: int, path: str) -> Step | None:
        """The step of a file with an ordinary name that is free, in a folder that is planned: nearly every one.

        It takes a third of the time of :meth:`settle`, which all others are left to: None is returned for them.
        """
        safe = safe_name(path)
        target = safe.steps
        if not target or safe.notes or not self._any_name or 0 < self.disk.largest < size:
            return None
        folder = target[:-1]
        planned = self._planned
        if target in planned or planned.get(folder) is not Kind.DIR or target[-1] in self._listing(folder):
            return None
        planned[target] = Kind.FILE
        return Step(row, Kind.FILE, size, target, Action.MAKE, (), -1, target)

    def settle(
        self,
        row: int,
        kind: Kind,
        size: int,
        target: Steps,
        notes: list[Finding],
        *,
        mtime_ns: int,
        crc: int,
        on_clash: UnpackClash,
    ) -> Step:
        """Find what stands in the way of an entry and apply the rule."""
        before_moved = len(self._moved)
        folder = self._beside_files(target if kind == Kind.DIR else target[:-1])
        target = folder if kind == Kind.DIR else (*folder, target[-1])
        if len(self._moved) > before_moved:
            notes.append(Finding.of(Reason.FOLDER_RENAMED, name=folder[-1]))
        asked = target
        blocked = self._blocked(target[:-1])
        if blocked is not None:
            return Step(row, kind, size, target, Action.REFUSE, (blocked,))
        if kind == Kind.DIR:
            return self._settle_folder(row, target, notes)
        before = self._existing(target)
        if self._key(target) in self._planned:
            folded = target not in self._planned
            notes.append(Finding(Reason.NAME_DIFFERS_IN_CASE if folded else Reason.NAME_MORE_THAN_ONCE))
            action = Action.NUMBER
        elif before is None:
            action = Action.MAKE
        elif target in self._rules:
            action = _rule(before, mtime_ns, self._rules[target])
        elif kind == Kind.FILE and self._is_same(target, before, size, crc):
            action = Action.SAME
        else:
            action = _rule(before, mtime_ns, on_clash)
        if action == Action.REFUSE:
            return Step(row, kind, size, target, action, (Finding(Reason.FOLDER_IN_THE_WAY),))
        if action == Action.NUMBER:
            target = self._free(target)
        if action.writes:
            self._planned[self._key(target)] = kind
        return Step(row, kind, size, target, action, tuple(notes), asked=asked)

    def _beside_files(self, folder: Steps) -> Steps:
        """A folder under the name that it gets where files of the archive have its own or that of one above it."""
        if self._planned.get(self._key(folder)) == Kind.DIR:
            return folder
        known: int = 0
        result: Steps = ()
        for length in range(
            len(folder), 0, -1
        ):  # from the deepest one that is known, so that deep trees take no longer
            key = self._key(folder[:length])
            if key in self._placed or key in self._clear:
                known, result = length, self._placed.get(key, folder[:length])
                break
        for step in folder[known:]:
            asked = (*result, step)
            key = self._key(asked)
            if key not in self._moved and self._planned.get(key) in (Kind.FILE, Kind.HARD):
                self._moved[key] = self._free(asked)
                self._planned[self._key(self._moved[key])] = Kind.DIR
            result = self._moved.get(key, asked)
        if result != folder:
            self._placed[self._key(folder)] = result
        return result

    def _is_same(self, target: Steps, before: os.stat_result, size: int, crc: int) -> bool:
        """Whether the file that is there has the content of the entry, as far as size and CRC-32 tell."""
        if self._compare is None or crc == UNKNOWN or before.st_size != size or not stat.S_ISREG(before.st_mode):
            return False
        found = 0
        try:
            with self._root.joinpath(*target).open("rb") as file:
                while data := file.read(CHUNK):
                    self._compare.checkpoint()
                    found = zlib.crc32(data, found)
        except OSError:
            return False
        return found == crc

    def _settle_folder(self, row: int, target: Steps, notes: list[Finding]) -> Step:
        blocked = self._blocked(target)
        if blocked is not None:
            return Step(row, Kind.DIR, 0, target, Action.REFUSE, (blocked,))
        there = self._existing(target) is not None
        return Step(row, Kind.DIR, 0, target, Action.JOIN if there else Action.MAKE, tuple(notes))

    def _blocked(self, folder: Steps) -> Finding | None:
        """Why this can't be a folder, or None; planned as one otherwise."""
        if self._key(folder) in self._clear:
            return None
        known = next((n for n in range(len(folder) - 1, 0, -1) if self._key(folder[:n]) in self._clear), 0)
        for length in range(known + 1, len(folder) + 1):
            part = folder[:length]
            planned = self._planned.get(self._key(part))
            if planned == Kind.DIR:
                continue
            status = self._existing(part)
            if planned is not None or (status is not None and not stat.S_ISDIR(status.st_mode)):
                is_link = planned == Kind.LINK or (status is not None and stat.S_ISLNK(status.st_mode))
                reason = Reason.LINK_FOR_FOLDER if is_link else Reason.FILE_FOR_FOLDER
                return Finding.of(reason, name="/".join(part))
        for length in range(known + 1, len(folder) + 1):
            key = self._key(folder[:length])
            self._planned[key] = Kind.DIR
            self._clear.add(key)
        return None

    def _existing(self, target: Steps) -> os.stat_result | None:
        """What is on the disk at this place, links not followed."""
        return self._listing(target[:-1]).get(self._key(target)[-1]) if target else None

    def _listing(self, folder: Steps) -> dict[str, os.stat_result]:
        known = self._there.get(self._key(folder))
        if known is not None:
            return known
        listing: dict[str, os.stat_result] = {}
        above = self._existing(folder) if folder else None
        if not folder or (above is not None and stat.S_ISDIR(above.st_mode)):
            try:
                with os.scandir(self._root.joinpath(*folder)) as entries:
                    listing = {self._key((e.name,))[0]: e.stat(follow_symlinks=False) for e in entries}
            except OSError:
                pass  # not there yet, or closed to us: then the work itself will say so
        self._there[self._key(folder)] = listing
        return listing

    def _free(self, target: Steps) -> Steps:
        def is_taken(steps: Steps) -> bool:
            return self._existing(steps) is not None or self._key(steps) in self._planned

        number = self._numbered.get(target, 1)
        while True:
            number += 1
            found = (*target[:-1], numbered(target[-1], number))
            if not is_taken(found):
                self._numbered[target] = number
                return found


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
