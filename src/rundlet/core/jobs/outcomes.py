"""What came of a job: a record of its own for each kind of job, without words."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from rundlet.core.jobs.findings import Fact, Issue, Reason, issue, issue_of

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError

_LEFT_OUT_OF_VALUES = ("target", "issues", "created")


@dataclass(slots=True)
class Outcome:
    """What every kind of job leaves behind. A kind with no fields of its own need not be a dataclass once more.

    Attributes:
        kind: what the log and programs know this kind by; it never changes.
        is_noted: whether the log tells of it.
        target: the archive made, the folder that things were put into or taken from, or the item that was renamed.
        files: how many files were handled.
        bytes_in, bytes_out: bytes read and written.
        seconds: how long the work took.
        issues: what went wrong or was done otherwise.
        created: the paths of what was put on the disk, so that it can be shown and undone; strings, as they may be very many.
        trashed: the paths of what was moved to the trash.
        replaced: the places of which what stood there before is in the trash now.
        bins: for each of these places, and of those in ``trashed``, what tells the thing from all else in the trash.
        moved: from where to where other things were moved.
    """

    kind: ClassVar[str] = ""
    is_noted: ClassVar[bool] = True

    target: Path
    files: int = 0
    bytes_in: int = 0
    bytes_out: int = 0
    seconds: float = 0.0
    issues: list[Issue] = field(default_factory=list)
    created: list[str] = field(default_factory=list)
    trashed: list[str] = field(default_factory=list)
    replaced: list[str] = field(default_factory=list)
    bins: dict[str, str] = field(default_factory=dict)
    moved: list[tuple[str, str]] = field(default_factory=list)

    @property
    def shown(self) -> Path | None:
        """What a person wants to see of it: the target, or None where that is nothing to look at."""
        return self.target

    @property
    def first_created(self) -> Path | None:
        """The first of what was put on the disk."""
        return Path(self.created[0]) if self.created else None

    @property
    def problems(self) -> list[Issue]:
        """The issues that left something out or altered it."""
        return [issue for issue in self.issues if issue.problem]

    def add(self, item: str, reason: Reason, **facts: Fact) -> None:
        """Note one more issue."""
        self.issues.append(issue(item, reason, **facts))

    def add_error(self, item: str, error: RundletError, reason: Reason | None = None, **facts: Fact) -> None:
        """Note an error about an item; see :func:`~rundlet.core.jobs.findings.issue_of`."""
        self.issues.append(issue_of(item, error, reason, **facts))

    def as_values(self) -> dict[str, object]:
        """What JSON can hold of it, without its issues and what it created, which may be very many."""
        values: dict[str, object] = {"kind": self.kind, "target": str(self.target)}
        for each in fields(self):
            value = getattr(self, each.name)
            if each.name not in _LEFT_OUT_OF_VALUES and value:
                values[each.name] = round(value, 3) if isinstance(value, float) else value
        return values


@dataclass(slots=True)
class Packed(Outcome):
    """An archive was made.

    Attributes:
        limit: bytes that it was to fit into, or 0.
        part_size: bytes of each of its parts, or 0.
    """

    kind: ClassVar[str] = "pack"

    limit: int = 0
    part_size: int = 0


@dataclass(slots=True)
class Changed(Outcome):
    """An archive was changed.

    Attributes:
        added, new, removed, renamed: how many items were added, got new content, went, and have another name.
        counts: the same where a folder with everything in it is one item, and the files in it apart.
    """

    kind: ClassVar[str] = "change"

    added: int = 0
    new: int = 0
    removed: int = 0
    renamed: int = 0
    counts: dict[str, int] = field(default_factory=dict)


@dataclass(slots=True)
class Unpacked(Outcome):
    """Entries of an archive, or of several, were unpacked.

    Attributes:
        same: files that were there already with the same content.
        skipped: files whose name was taken.
        renamed: files that got another name.
        left_out: entries that could not be unpacked.
    """

    kind: ClassVar[str] = "unpack"

    same: int = 0
    skipped: int = 0
    renamed: int = 0
    left_out: int = 0

    @property
    def shown(self) -> Path | None:
        return self.first_created or self.target

    def include(self, other: Unpacked) -> None:
        """Add what came of one more archive."""
        for name in ("files", "bytes_in", "bytes_out", "seconds", "same", "skipped", "renamed", "left_out"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.issues += other.issues
        self.created += other.created
        self.trashed += other.trashed
        self.moved += other.moved
        self.bins.update(other.bins)


@dataclass(slots=True)
class Checked(Outcome):
    """An archive was read through.

    Attributes:
        unverified: files that were read, but have no checksum that would tell whether they are as they were packed.
        damaged, missing, unreadable: items that are damaged, that lie in a part that is not there, and that can't be read
            for another reason, such as a lock.
        doubtful: items that could be read, and may be damaged, as the checksum of the stretch that they lie in is wrong.
        whole: whether everything in it was to be read.
    """

    kind: ClassVar[str] = "check"

    unverified: int = 0
    damaged: int = 0
    missing: int = 0
    unreadable: int = 0
    doubtful: int = 0
    whole: bool = True

    @property
    def intact(self) -> int:
        """Items that were seen to be as they were packed."""
        return self.files - self.unverified

    @property
    def bad(self) -> int:
        """Items that can't be had as they were packed."""
        return self.damaged + self.missing + self.unreadable

    def include(self, other: Checked) -> None:
        """Add what came of one more piece of the archive."""
        for name in ("files", "bytes_in", "bytes_out", "unverified", "damaged", "missing", "unreadable", "doubtful"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.issues += other.issues


class Joined(Outcome):
    """The parts of a file were joined; ``files`` are the parts."""

    __slots__ = ()

    kind: ClassVar[str] = "join"


@dataclass(slots=True)
class Compared(Outcome):
    """An archive was compared with a folder or another archive; ``files`` are those that are the same.

    Attributes:
        differing, only_here, only_there, moved_items: how many items differ, are only in the archive, are only in what it was
            compared with, and are there under another path.
        certain: whether all content was read.
        all_there: whether all of what it was compared with was seen to be in the archive, byte for byte.
    """

    kind: ClassVar[str] = "compare"

    differing: int = 0
    only_here: int = 0
    only_there: int = 0
    moved_items: int = 0
    certain: bool = False
    all_there: bool = False


@dataclass(slots=True)
class Salvaged(Outcome):
    """What is intact in a damaged archive was put into a new one.

    Attributes:
        taken_over: files that were taken over as they were packed.
        parts: damaged files of which what can still be read was put into it, under names that say so.
        doubtful: files in it that may be damaged.
        damaged, missing, unreadable: as in :class:`Checked`, of the damaged archive.
    """

    kind: ClassVar[str] = "salvage"

    taken_over: int = 0
    parts: int = 0
    doubtful: int = 0
    damaged: int = 0
    missing: int = 0
    unreadable: int = 0


class Trashed(Outcome):
    """Things were moved to the trash."""

    __slots__ = ()

    kind: ClassVar[str] = "trash"

    @property
    def shown(self) -> Path | None:
        return None


class Copied(Outcome):
    """Things were copied into a folder."""

    __slots__ = ()

    kind: ClassVar[str] = "copy"

    @property
    def shown(self) -> Path | None:
        return self.first_created


class Moved(Outcome):
    """Things were moved into a folder."""

    __slots__ = ()

    kind: ClassVar[str] = "move"


class Renamed(Outcome):
    """A file or folder got another name."""

    __slots__ = ()

    kind: ClassVar[str] = "rename"


class FolderMade(Outcome):
    """A folder was made."""

    __slots__ = ()

    kind: ClassVar[str] = "folder"


class CopiedOut(Outcome):
    """Private copies of entries were made, for other programs; the log does not tell of it."""

    __slots__ = ()

    kind: ClassVar[str] = "lend"
    is_noted: ClassVar[bool] = False

    @property
    def shown(self) -> Path | None:
        return None


class Summed(Outcome):
    """Checksums of files were computed; the log does not tell of it."""

    __slots__ = ()

    kind: ClassVar[str] = "sum"
    is_noted: ClassVar[bool] = False

    @property
    def shown(self) -> Path | None:
        return None


class Undone(Outcome):
    """An earlier job was undone."""

    __slots__ = ()

    kind: ClassVar[str] = "undo"
    is_noted: ClassVar[bool] = False

    @property
    def shown(self) -> Path | None:
        return self.first_created


KINDS: dict[str, type[Outcome]] = {
    kind.kind: kind
    for kind in (
        Packed,
        Changed,
        Unpacked,
        Checked,
        Compared,
        Joined,
        Salvaged,
        Trashed,
        Copied,
        Moved,
        Renamed,
        FolderMade,
        CopiedOut,
        Summed,
        Undone,
    )
}


_FORMER = {"add": "change"}
"""What former logs call a kind."""


def outcome_from(values: dict[str, object]) -> Outcome:
    """An outcome as :meth:`Outcome.as_values` gave it.

    Raises:
        ValueError, TypeError, KeyError: when it is none.
    """
    kind = KINDS[_FORMER.get(str(values["kind"]), str(values["kind"]))]
    known = {each.name for each in fields(kind)} - set(_LEFT_OUT_OF_VALUES)
    given = {name: value for name, value in values.items() if name in known}
    for name in ("trashed", "replaced"):
        given[name] = [str(path) for path in given.get(name, ())]  # type: ignore[attr-defined]
    given["moved"] = [(str(before), str(after)) for before, after in given.get("moved", ())]  # type: ignore[attr-defined]
    return kind(target=Path(str(values["target"])), **given)  # type: ignore[arg-type]
