"""What changing an archive will do: one plan for adding, replacing, removing, renaming, new folders, times and permissions."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.formats.edits import Edits
from rundlet.core.fs.disk_space import free_bytes
from rundlet.core.fs.name_notes import name_notes
from rundlet.core.fs.safe_names import as_text, first_free
from rundlet.core.fs.scan import LeaveOut, not_text, walk
from rundlet.core.jobs.findings import Issue, Reason, issue, said_of
from rundlet.core.jobs.job import Job
from rundlet.core.limits import MAX_PATH
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import FormatInfo, WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.plans.changeable import is_same, open_changeable, see_that_it_can_be_changed
from rundlet.core.plans.pack_plan import absolute, can_do, kept_by, originals_of
from rundlet.core.text import path_in, plain_path

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

_NEW = -1  # stands for the row of an item that is yet to be written
_MOST_TYPED = 100  # names; nobody types as many
_NEW_FOLDER_MODE = 0o755


class AddClash(StrEnum):
    """What becomes of a name that the archive holds already."""

    RENAME = "rename"
    REPLACE = "replace"
    SKIP = "skip"


@dataclass(frozen=True, slots=True)
class Addition:
    """A file or folder on the disk that goes into an archive, a folder with everything in it.

    Attributes:
        into: the folder in the archive, "" for its top.
        name: what it is called there; "" for its own name.
    """

    path: Path
    into: str = ""
    name: str = ""


@dataclass(frozen=True, slots=True)
class Changes:
    """What is to be changed; rows are those of the archive's catalog, paths have no slash at their end.

    Attributes:
        added: files and folders on the disk.
        items: more to be added, under their own paths, such as items of other archives.
        removed: rows that go. What lies in a folder goes only if it is named, too; see :func:`rows_below`.
        renamed: new paths of rows; see :func:`moved_below`.
        may_clash: rows of these whose new path may be taken: then the same rules hold as for what is added.
        folders: new folders.
        times: new times of change, in nanoseconds since 1970.
        modes: new permission bits.
    """

    added: Sequence[Addition] = ()
    items: Sequence[PackItem] = ()
    removed: Collection[int] = ()
    renamed: Mapping[int, str] = field(default_factory=dict)
    may_clash: Collection[int] = ()
    folders: Sequence[str] = ()
    times: Mapping[int, int] = field(default_factory=dict)
    modes: Mapping[int, int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class TakenName:
    """A name that was taken when something was to be added or moved there.

    Attributes:
        path: the path in the archive.
        rule: what becomes of it.
        result: the path that what is added or moved gets; "" when it is skipped.
    """

    path: str
    rule: AddClash
    result: str


@dataclass(frozen=True, slots=True)
class ChangePlan:
    """What becomes of an archive.

    Attributes:
        archive: its path.
        info, options: its format, and how what is added is written.
        edits: what becomes of what it holds.
        added: what is added, in order; what replaces something is here, and the replaced rows are removed.
        replaced: the paths in the archive that get new content.
        taken: names that were taken, each with its rule.
        size_before: bytes of the archive.
        packed_anew: bytes of content that is packed: of what is added, and of what must be packed again.
        needed: bytes that it takes on the disk at most, until the old archive is gone.
        free: bytes free there.
        issues: what is left out, named otherwise, not kept, or broken by the change.
        fingerprint: what the archive looked like when the plan was made.
        read_back: whether the new archive is read and compared before it takes the place of the old one.
        keep_replaced: whether the old archive goes to the trash, so that it can come back.
        originals: what goes to the trash as far as the archive was seen to hold it; empty when nothing does.
        counts: how many items are ``added``, ``new``, ``removed`` and ``renamed``, where a folder with everything in it is one,
            and the files in them (``added_files``, ``removed_files``).
        came_from: for each of ``added`` its place in :attr:`Changes.items`; -1 for what is not from there.
    """

    archive: Path
    info: FormatInfo
    options: WriteOptions
    edits: Edits
    added: tuple[PackItem, ...]
    replaced: frozenset[str]
    taken: tuple[TakenName, ...]
    size_before: int
    packed_anew: int
    needed: int
    free: int
    issues: tuple[Issue, ...]
    fingerprint: tuple[int, ...]
    read_back: bool = False
    keep_replaced: bool = False
    originals: tuple[Path, ...] = ()
    came_from: tuple[int, ...] = ()
    counts: Mapping[str, int] = field(default_factory=dict)

    @property
    def target(self) -> Path:
        """Where the archive stands, before and after."""
        return self.archive

    @property
    def items(self) -> tuple[PackItem, ...]:
        """What is added."""
        return self.added

    @property
    def removed(self) -> int:
        """How many items go without being replaced."""
        return len(self.edits.removed) - len(self.replaced)

    @property
    def count(self) -> int:
        """How many items are another than before, where a folder with everything in it is one."""
        altered = {*self.edits.times, *self.edits.modes} - self.edits.removed - self.edits.renamed.keys()
        return sum(self.counts[name] for name in ("added", "new", "removed", "renamed")) + len(altered)


def rows_below(reader: ArchiveReader, path: str) -> list[int]:
    """The rows of an item and, where it is a folder, of everything in it; none when the archive does not hold it."""
    wanted = plain_path(path)
    return [
        row
        for row in range(len(reader.catalog))
        if (there := plain_path(reader.catalog.path(row))) == wanted or there.startswith(f"{wanted}/")
    ]


def moved_below(reader: ArchiveReader, old: str, new: str) -> dict[int, str]:
    """New paths for an item and everything in it."""
    old, new = plain_path(old), plain_path(new)
    return {row: new + plain_path(reader.catalog.path(row))[len(old) :] for row in rows_below(reader, old)}


def plan_change(
    archive: Path,
    changes: Changes,
    *,
    options: WriteOptions | None = None,
    on_clash: AddClash = AddClash.RENAME,
    rules: Mapping[str, AddClash] | None = None,
    exclude: Sequence[str] = (),
    leave_out: LeaveOut = LeaveOut.NOTHING,
    follow: bool = False,
    read_back: bool = False,
    trash: bool = False,
    keep_replaced: bool = False,
    reader: ArchiveReader | None = None,
    job: Job | None = None,
) -> ChangePlan:
    """Work out what becomes of an archive. Nothing is written.

    Args:
        options: how what is added is written, with the password where the archive is locked; None, or a level below 0, for
            the usual level.
        on_clash: what becomes of names that are taken. A folder joins one of its name, and a file with the same content is
            not added again, whatever the rule.
        rules: other rules for single paths in the archive.
        exclude, leave_out, follow: as in :func:`~rundlet.core.plans.pack_plan.plan_pack`, for what is added.
        read_back: whether the new archive is read and compared before it takes the place of the old one.
        trash: whether what is added goes to the trash once the archive was checked; it is checked then in any case.
        keep_replaced: whether the old archive goes to the trash, so that it can come back.
        reader: of the archive, open already, unlocked where it is locked, and left open; None to open it here.

    Raises:
        PlanError: when the archive can't be changed, nothing would be changed, or a new name is taken or no name.
        RundletError: when it can't be opened, or not with the password.
    """
    job = job or Job()
    archive = Path(os.path.abspath(archive)).resolve()
    paths = [absolute(addition.path) for addition in changes.added]
    originals = originals_of(paths, archive, [archive]) if trash else ()
    asked = options or WriteOptions(-1)
    if reader is not None:
        see_that_it_can_be_changed(archive, reader, asked.password)
    with contextlib.nullcontext(reader) if reader else closing(open_changeable(archive, asked.password, job)) as reader:
        info = reader.info
        level = info.default_level if asked.level < 0 else asked.level
        options = replace(asked, level=info.level_for(level), hide_names=asked.hide_names or reader.names_hidden)
        can_do(info, options)
        names = _Names(reader, changes, on_clash, rules or {}, job)
        names.rename(changes.renamed, changes.may_clash)
        for new in changes.folders:
            names.add_folder(new)
        issues = list[Issue]()
        for addition, path in zip(changes.added, paths, strict=True):
            name = addition.name or as_text(path.name)
            if not addition.name and name != path.name:
                issues.append(not_text(path.name, name))
            found = walk(
                path,
                path_in(addition.into, name),
                exclude=exclude,
                leave_out=leave_out,
                follow=follow,
                skip=(str(archive),),
                tick=job.checkpoint,
            )
            issues += found.issues
            names.add(found.items)
        names.add(changes.items, origin=0)
        edits = Edits(frozenset(names.removed), names.renamed, dict(changes.times), dict(changes.modes))
        if not (edits or names.added) and any(found.reason is Reason.ALREADY_IN_ARCHIVE for found in names.issues):
            raise PlanError("{archive:name} already holds all of it.", archive=archive.name)
        first = next(filter(said_of, issues), None)
        if not (edits or names.added) and first is not None:
            raise PlanError(
                "Nothing would be added. {item:name}: {cause:clause}.", item=first.item, cause=said_of(first)
            )
        if not (edits or names.added):
            raise PlanError("Nothing in {archive:name} would change.", archive=archive.name)
        added, lost = kept_by(names.added, info, options)
        issues += [*names.issues, *lost, *_broken(reader, edits), *names.notes(changes.folders)]
        gone = {plain_path(reader.catalog.path(row)) for row in edits.removed}
        size = sum(item.size for item in added)
        again = reader.packed_again(edits)
        return ChangePlan(
            archive=archive,
            info=info,
            options=options,
            edits=edits,
            added=tuple(added),
            replaced=frozenset(item.path for item in added if item.path in gone),
            taken=tuple(names.taken),
            size_before=reader.source.size,
            packed_anew=size + again,
            needed=reader.source.size + size,
            free=free_bytes(archive.parent),
            issues=tuple(issues),
            fingerprint=reader.source.fingerprint(),
            read_back=read_back or trash,
            keep_replaced=keep_replaced,
            originals=originals,
            came_from=tuple(names.origins),
            counts=_counts(reader, edits, added),
        )


def _counts(reader: ArchiveReader, edits: Edits, added: Sequence[PackItem]) -> dict[str, int]:
    catalog = reader.catalog
    gone = {plain_path(catalog.path(row)): row for row in edits.removed}
    put_in = {item.path: item for item in added}
    new = gone.keys() & put_in.keys()
    removed, fresh = gone.keys() - new, put_in.keys() - new
    moved = {plain_path(catalog.path(row)) for row in edits.renamed}
    return {
        "added": _tops(fresh),
        "added_files": sum(put_in[path].kind != Kind.DIR for path in fresh),
        "new": len(new),
        "removed": _tops(removed),
        "removed_files": sum(int(catalog.kind[gone[path]]) != Kind.DIR for path in removed),
        "renamed": _tops(moved),
    }


def _tops(paths: Collection[str]) -> int:
    """How many of some items lie in no folder that is among them."""
    known = set(paths)
    return sum(path.rpartition("/")[0] not in known for path in known)


class _Names:
    """The names in an archive as they will be, and what is added under names that are free by then."""

    def __init__(
        self,
        reader: ArchiveReader,
        changes: Changes,
        on_clash: AddClash,
        rules: Mapping[str, AddClash],
        job: Job,
    ) -> None:
        self._reader = reader
        self._on_clash = on_clash
        self._rules = rules
        self._job = job
        self.removed = set(changes.removed)
        self.renamed: dict[int, str] = {}
        self.added: list[PackItem] = []
        self.origins: list[int] = []  # for each of them its place among what was given, or -1
        self.taken: list[TakenName] = []
        self.issues: list[Issue] = []
        self._there: dict[str, int] = {}
        for row in range(len(reader.catalog)):
            if row not in self.removed and row not in changes.renamed:
                self._there[plain_path(reader.catalog.path(row))] = row
        self._files = {path for path, row in self._there.items() if not self._is_folder(row)}
        self._folders = {above for path in self._there for above in folders_above(path)}

    def _is_folder(self, row: int) -> bool:
        return row != _NEW and self._reader.catalog.kind[row] == Kind.DIR

    def rename(self, renamed: Mapping[int, str], may_clash: Collection[int] = ()) -> None:
        """Give rows new paths.

        Args:
            may_clash: rows whose new path may be taken, for which the rules hold then; all others must be free.
        """
        shifted: dict[str, str] = {}
        renamed = {row: path for row, path in renamed.items() if row not in self.removed}
        staying = {
            row for row, path in renamed.items() if plain_path(self._reader.catalog.path(row)) == plain_path(path)
        }
        for row in staying:
            self._note(plain_path(renamed[row]), row, is_folder=self._is_folder(row))
        for row, path in sorted(renamed.items(), key=lambda each: each[1]):  # folders before what lies in them
            if row in staying:
                continue
            if row in may_clash:
                self._move(row, plain_path(path), shifted)
                continue
            self._take(path, row, is_folder=self._is_folder(row))
            self.renamed[row] = plain_path(path)

    def _move(self, row: int, path: str, shifted: dict[str, str]) -> None:
        """Move a row, as its rule says where the name is taken; a folder joins one of its name.

        Args:
            shifted: folders that got another path than asked for, with it.
        """
        above = next((each for each in reversed(folders_above(path)) if each in shifted), "")
        asked = shifted[above] + path[len(above) :] if above else path
        is_folder, own = self._is_folder(row), plain_path(self._reader.catalog.path(row))
        self._see_that_it_lies_in_folders(asked)
        there = self._there.get(asked)
        found: str | None = asked
        if is_folder and asked not in self._files:
            if there is not None:  # which is kept, and what lies in this one goes into it
                self.removed.add(row)
                return
        elif there is not None or asked in self._folders:
            found = self._settled_move(asked, there, is_folder=is_folder)
        if found != path and is_folder:
            shifted[path] = found or own
        self._note(found or own, row, is_folder=is_folder)
        if found:
            self.renamed[row] = found

    def _settled_move(self, asked: str, there: int | None, *, is_folder: bool) -> str | None:
        """The path that a row gets whose name is taken; None where it stays where it is."""
        rule = self._rules.get(asked, self._on_clash)
        replaceable = there is not None and there != _NEW and not is_folder and not self._is_folder(there)
        if rule is AddClash.SKIP:
            self.taken.append(TakenName(asked, rule, ""))
            return None
        if rule is AddClash.REPLACE and replaceable and there is not None:
            self.removed.add(there)
            self.renamed.pop(there, None)
            self.taken.append(TakenName(asked, rule, asked))
            return asked
        folder, slash, name = asked.rpartition("/")
        free = folder + slash + first_free(name, lambda other: self._is_taken(folder + slash + other))
        self.taken.append(TakenName(asked, AddClash.RENAME, free))
        return free

    def add_folder(self, path: str) -> None:
        """A new folder, whose name must be free."""
        self._take(path, _NEW, is_folder=True)
        self._append(PackItem(plain_path(path), Kind.DIR, "", 0, time.time_ns(), _NEW_FOLDER_MODE), -1)

    def _append(self, item: PackItem, origin: int) -> None:
        self.added.append(item)
        self.origins.append(origin)

    def _take(self, path: str, row: int, *, is_folder: bool) -> None:
        plain = plain_path(path)
        _see_that_it_is_a_path(plain)
        if plain in self._there or (plain in self._folders and not is_folder):
            raise PlanError("{path:name} is in the archive already.", hint="Choose another name.", path=plain)
        self._see_that_it_lies_in_folders(plain)
        self._note(plain, row, is_folder=is_folder)

    def _see_that_it_lies_in_folders(self, path: str) -> None:
        above = next((above for above in folders_above(path) if above in self._files), None)
        if above is not None:
            raise PlanError("{path:name} is a file, so nothing can be put into it.", path=above)

    def _note(self, path: str, row: int, *, is_folder: bool) -> None:
        self._there[path] = row
        self._folders.update(folders_above(path))
        if not is_folder:
            self._files.add(path)

    def add(self, items: Iterable[PackItem], *, origin: int | None = None) -> None:
        """Add items, each as its rule says where its name is taken.

        Args:
            origin: the place that the first of them has among what was given; None where that is not asked for.
        """
        moved: dict[str, str] = {}  # folders that get another name, or "" for one that is left out
        for count, item in enumerate(items):
            self._job.checkpoint()
            folder, slash, name = item.path.rpartition("/")
            above = moved.get(folder, folder)
            if folder and not above:
                moved[item.path] = ""
                continue
            _see_that_it_is_a_path(item.path)
            path = self._settle(item, above + slash + name if above else name)
            if item.kind == Kind.DIR:
                moved[item.path] = path
            if path and not (item.kind == Kind.DIR and path in self._there):
                self._note(path, _NEW, is_folder=item.kind == Kind.DIR)
                place = -1 if origin is None else origin + count
                self._append(item if path == item.path else item._replace(path=path), place)

    def _settle(self, item: PackItem, asked: str) -> str:
        """The path that an item gets; "" when it is left out."""
        self._see_that_it_lies_in_folders(asked)
        row, is_folder = self._there.get(asked), item.kind == Kind.DIR
        if row is None and asked not in self._folders:
            return asked
        if is_folder and asked not in self._files:
            return asked  # it joins the folder that is there
        if row is not None and row != _NEW and not is_folder and is_same(item, self._reader, row, self._job):
            self.issues.append(issue(item.path, Reason.ALREADY_IN_ARCHIVE))
            return ""
        rule = self._rules.get(asked, self._on_clash)
        replaceable = row is not None and row != _NEW and not is_folder and not self._is_folder(row)
        if rule is AddClash.SKIP:
            self.taken.append(TakenName(asked, rule, ""))
            return ""
        if rule is AddClash.REPLACE and replaceable and row is not None:
            self.removed.add(row)
            self.renamed.pop(row, None)
            del self._there[asked]
            self._files.discard(asked)
            self.taken.append(TakenName(asked, rule, asked))
            return asked
        folder, slash, name = asked.rpartition("/")
        free = folder + slash + first_free(name, lambda other: self._is_taken(folder + slash + other))
        self.taken.append(TakenName(asked, AddClash.RENAME, free))
        self.issues.append(issue(item.path, Reason.NAME_IN_ARCHIVE, name=free.rpartition("/")[2]))
        return free

    def notes(self, folders: Iterable[str]) -> Iterator[Issue]:
        """What should be known of the names that were typed: of items that have another one now, and of new folders."""
        before = {row: plain_path(self._reader.catalog.path(row)).rpartition("/")[2] for row in self.renamed}
        typed = [path for row, path in self.renamed.items() if path.rpartition("/")[2] != before[row]]
        typed = [*typed, *map(plain_path, folders)][:_MOST_TYPED]
        if not typed:
            return
        within: dict[str, list[str]] = {}
        for path in {*self._there, *self._folders}:
            folder, _, name = path.rpartition("/")
            within.setdefault(folder, []).append(name)
        for path in typed:
            folder, _, name = path.rpartition("/")
            yield from (Issue(path, found) for found in name_notes(name, within.get(folder, ())))

    def _is_taken(self, path: str) -> bool:
        return path in self._there or path in self._folders


def _broken(reader: ArchiveReader, edits: Edits) -> Iterable[Issue]:
    """What the change breaks for programs that look for more than an archive."""
    gone = {plain_path(reader.catalog.path(row)) for row in edits.removed | frozenset(edits.renamed)}
    signatures = (".sf", ".rsa", ".dsa", ".ec")
    for row in range(len(reader.catalog)):
        path = plain_path(reader.catalog.path(row)).casefold()
        if path.startswith("meta-inf/") and path.endswith(signatures) and row not in edits.removed:
            yield issue(reader.source.name, Reason.SIGNATURE_BREAKS)
            break
    if "mimetype" in gone and plain_path(reader.catalog.path(0)) == "mimetype":
        yield issue("mimetype", Reason.MUST_BE_FIRST)


def folders_above(path: str) -> list[str]:
    """The folders that a path lies in."""
    steps = path.split("/")
    return ["/".join(steps[:count]) for count in range(1, len(steps))]


def _see_that_it_is_a_path(path: str) -> None:
    """See to it that a new path is one that every reader takes for what it says.

    Raises:
        PlanError: when it is not.
    """
    if not path or any(step in ("", ".", "..") for step in path.split("/")) or "\0" in path:
        raise PlanError("{path:name} can't be a name in an archive.", hint="Choose another name.", path=path)
    if len(path.encode("utf-8", "surrogateescape")) > MAX_PATH:
        raise PlanError("The name is too long.", hint="Choose a shorter one.")
