"""What work has found, without words: a reason and the facts that belong to it. :mod:`rundlet.presentation` says it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, StrEnum
from types import MappingProxyType

from rundlet.core.errors import (
    ChecksumMismatch,
    Contradiction,
    FileProblem,
    FormatError,
    LimitExceeded,
    MissingPart,
    PasswordNeeded,
    RundletError,
    SharedBytes,
    Truncated,
    UnsafePath,
    Unsupported,
    WrongPassword,
)
from rundlet.core.sentences import Sentence


class Severity(Enum):
    """How much a person should mind."""

    NOTE = "note"
    PROBLEM = "problem"


class Reason(StrEnum):
    """What is so. The value is what the log and programs know it by; it never changes."""

    # What kept something from being read or written; each has the error's own words.
    CHECKSUM = "checksum"
    CONTRADICTS = "contradicts"
    SHARED_BYTES = "shared-bytes"
    CUT_OFF = "cut-off"
    DAMAGED = "damaged"
    UNSUPPORTED = "unsupported"
    LIMIT = "limit"
    UNSAFE = "unsafe"
    LOCKED = "locked"
    WRONG_PASSWORD = "wrong-password"  # noqa: S105
    MISSING_PART = "missing-part"
    SYSTEM = "system"
    FAILED = "failed"

    # Said in words only, by a log that an earlier version wrote.
    SAID = "said"

    # An archive as a whole.
    JUNK_BEHIND = "junk-behind"
    JUNK_BETWEEN = "junk-between"
    NAME_IN_FRONT = "name-in-front"
    ENTRIES_MISSING = "entries-missing"
    ENTRIES_MAY_BE_MISSING = "entries-may-be-missing"
    LIST_ENDS = "list-ends"
    FILES_DOUBTFUL = "files-doubtful"
    FILES_UNCHECKED = "files-unchecked"
    FILES_BEFORE_DAMAGE = "files-before-damage"
    NEXT_PART = "next-part"
    COUNT_DIFFERS = "count-differs"
    FOUND_WITHOUT_LIST = "found-without-list"
    NOTHING_WITHOUT_LIST = "nothing-without-list"
    LIST_DAMAGED_BEHIND = "list-damaged-behind"
    LIST_MISSING = "list-missing"
    LIST_AT_END = "list-at-end"
    GAPS = "gaps"
    NOT_LISTED = "not-listed"
    LISTED_ELSEWHERE = "listed-elsewhere"
    ENTRY_CUT = "entry-cut"
    ANTI_ITEMS = "anti-items"
    PART_TWICE = "part-twice"
    PARTS_ALIKE = "parts-alike"
    PART_DIFFERS = "part-differs"

    # Packing.
    NAME_TWICE = "name-twice"
    NAME_NOT_UTF8 = "name-not-utf8"
    NAME_IN_ARCHIVE = "name-in-archive"
    ALREADY_IN_ARCHIVE = "already-in-archive"
    NOT_READ = "not-read"
    IS_THE_ARCHIVE = "is-the-archive"
    IS_SOCKET = "is-socket"
    IS_PIPE = "is-pipe"
    IS_DEVICE = "is-device"
    LINK_NOWHERE = "link-nowhere"
    LINK_CIRCLE = "link-circle"
    CHANGED_WHILE_READ = "changed-while-read"
    CHANGED_WHILE_PACKED = "changed-while-packed"
    BECAME_SHORTER = "became-shorter"
    NOT_READ_TO_END = "not-read-to-end"
    LOST_HARD_LINKS = "lost-hard-links"
    LOST_OWNERS = "lost-owners"
    LOST_PERMISSIONS = "lost-permissions"
    LOST_DATES = "lost-dates"
    LOST_ATTRIBUTES = "lost-attributes"
    ORIGINAL_STAYS = "original-stays"
    ORIGINALS_STAY_CANCELLED = "originals-stay-cancelled"
    NOT_IN_ARCHIVE = "not-in-archive"
    LINK_NOT_IN_ARCHIVE = "link-not-in-archive"
    NOT_IN_ARCHIVE_AS_IT_IS = "not-in-archive-as-it-is"
    CHANGED_SINCE_PACKED = "changed-since-packed"
    NOT_LOOKED_AT = "not-looked-at"
    KEPT_BESIDE = "kept-beside"
    NOT_TIDIED = "not-tidied"

    # Comparing.
    CHANGED_WHILE_COMPARED = "changed-while-compared"

    # Saving what is intact.
    ONLY_IN_PART = "only-in-part"

    # Changing an archive: what the change breaks for programs that look for more than an archive.
    SIGNATURE_BREAKS = "signature-breaks"
    MUST_BE_FIRST = "must-be-first"

    # A name that was typed.
    NAME_HAS_HIDDEN_MARKS = "name-has-hidden-marks"
    NAME_HAS_TWIN = "name-has-twin"
    NAME_NOT_EVERYWHERE = "name-not-everywhere"
    NAME_TOO_LONG_FOR_DISKS = "name-too-long-for-disks"

    # Unpacking: what is altered, what can't be unpacked, and why an archive stays.
    LEFT_OUT = "left-out"
    ALTERED = "altered"
    LOST_MARKS = "lost-marks"
    DISK_KEEPS_NO_PERMISSIONS = "disk-keeps-no-permissions"
    DISK_KEEPS_NO_MARKS = "disk-keeps-no-marks"
    OUTSIDE_BY_SLASH = "outside-by-slash"
    OUTSIDE_BY_DRIVE = "outside-by-drive"
    OUTSIDE_BY_DOTS = "outside-by-dots"
    NO_NAME = "no-name"
    PATH_TOO_LONG = "path-too-long"
    CONTROL_CHARACTERS = "control-characters"
    RESERVED_NAME = "reserved-name"
    NAME_SHORTENED = "name-shortened"
    LINK_UNUSABLE = "link-unusable"
    LINK_OUTSIDE = "link-outside"
    HARD_LINK_NOWHERE = "hard-link-nowhere"
    SPECIAL_NOT_MADE = "special-not-made"
    MAY_BE_DAMAGED = "may-be-damaged"
    NAME_NOT_FOR_DISK = "name-not-for-disk"
    DISK_KEEPS_NO_LINKS = "disk-keeps-no-links"
    DISK_KEEPS_NO_LARGE = "disk-keeps-no-large"
    FOLDER_RENAMED = "folder-renamed"
    NAME_DIFFERS_IN_CASE = "name-differs-in-case"
    NAME_MORE_THAN_ONCE = "name-more-than-once"
    FOLDER_IN_THE_WAY = "folder-in-the-way"
    FILE_FOR_FOLDER = "file-for-folder"
    LINK_FOR_FOLDER = "link-for-folder"
    ARCHIVE_STAYS = "archive-stays"
    ARCHIVE_THERE_ALREADY = "archive-there-already"
    ARCHIVE_STAYS_CANCELLED = "archive-stays-cancelled"
    BATCH_CANCELLED = "batch-cancelled"
    ONLY_SOME = "only-some"
    SOME_SKIPPED = "some-skipped"
    SOME_REFUSED = "some-refused"
    ARCHIVE_DAMAGED = "archive-damaged"
    FOLDERS_LEFT = "folders-left"
    NOT_ALL_UNPACKED = "not-all-unpacked"
    CHANGED_MEANWHILE = "changed-meanwhile"
    LIES_IN_DAMAGE = "lies-in-damage"

    # Moving, copying and the trash.
    STAYS = "stays"
    REST_STAYED = "rest-stayed"
    MOVED_THOUGH_CANCELLED = "moved-though-cancelled"
    NOT_THERE = "not-there"
    INTO_ITSELF = "into-itself"
    COPIED_AND_STAYS = "copied-and-stays"
    SOURCE_CHANGED = "source-changed"
    SOURCE_NOT_REMOVED = "source-not-removed"
    SOURCE_HOLDS_MORE = "source-holds-more"
    NOT_ALL_COPIED = "not-all-copied"
    NOT_COPIED = "not-copied"
    SPECIAL_NOT_COPIED = "special-not-copied"
    CHANGED_WHILE_COPIED = "changed-while-copied"

    # Undoing.
    ORIGINALS_NOT_BACK = "originals-not-back"
    GONE_SINCE = "gone-since"
    PLACE_TAKEN = "place-taken"
    NOT_MOVED_BACK = "not-moved-back"
    NOT_BACK = "not-back"
    CHANGED_SINCE = "changed-since"
    ANOTHER_FOLDER = "another-folder"
    BEFORE_NOT_BACK = "before-not-back"
    STAYS_AS_IT_IS = "stays-as-it-is"
    NOT_REMOVED = "not-removed"
    STILL_IN_TRASH = "still-in-trash"
    FOLDER_NOT_EMPTY = "folder-not-empty"

    @property
    def severity(self) -> Severity:
        """How much a person should mind."""
        return Severity.NOTE if self in _NOTES else Severity.PROBLEM


LOSSES = frozenset(
    {Reason.LOST_HARD_LINKS, Reason.LOST_OWNERS, Reason.LOST_PERMISSIONS, Reason.LOST_DATES, Reason.LOST_ATTRIBUTES}
)
"""What a format can't keep of what is packed; the item of such an issue is the format's id."""

_NOTES = LOSSES | {
    Reason.NAME_IN_FRONT,
    Reason.JUNK_BEHIND,
    Reason.JUNK_BETWEEN,
    Reason.ANTI_ITEMS,
    Reason.NAME_IN_ARCHIVE,
    Reason.ALREADY_IN_ARCHIVE,
    Reason.CHANGED_WHILE_READ,
    Reason.SIGNATURE_BREAKS,
    Reason.MUST_BE_FIRST,
    Reason.NAME_HAS_HIDDEN_MARKS,
    Reason.NAME_HAS_TWIN,
    Reason.NAME_NOT_EVERYWHERE,
    Reason.NAME_TOO_LONG_FOR_DISKS,
    Reason.LOST_MARKS,
    Reason.DISK_KEEPS_NO_PERMISSIONS,
    Reason.DISK_KEEPS_NO_MARKS,
    Reason.ARCHIVE_STAYS,
    Reason.ARCHIVE_THERE_ALREADY,
    Reason.ARCHIVE_STAYS_CANCELLED,
}

_REASONS: tuple[tuple[type[RundletError], Reason], ...] = (
    (ChecksumMismatch, Reason.CHECKSUM),
    (Contradiction, Reason.CONTRADICTS),
    (SharedBytes, Reason.SHARED_BYTES),
    (Truncated, Reason.CUT_OFF),
    (Unsupported, Reason.UNSUPPORTED),
    (FormatError, Reason.DAMAGED),
    (LimitExceeded, Reason.LIMIT),
    (UnsafePath, Reason.UNSAFE),
    (WrongPassword, Reason.WRONG_PASSWORD),
    (PasswordNeeded, Reason.LOCKED),
    (MissingPart, Reason.MISSING_PART),
    (FileProblem, Reason.SYSTEM),
)


_FORMER = {"words": "problem"}
"""Names of facts in logs that an earlier version wrote."""


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that is so.

    Attributes:
        reason: what.
        facts: the names, counts and sizes in bytes that its sentence needs; another finding or a sentence where that is its cause.
    """

    reason: Reason
    facts: Mapping[str, Fact] = field(default_factory=lambda: MappingProxyType({}))

    @classmethod
    def of(cls, reason: Reason, **facts: Fact) -> Finding:
        """A finding with its facts by name."""
        return cls(reason, facts)

    def as_values(self) -> list[object]:
        """What JSON can hold of it; see :meth:`from_values`."""
        return [self.reason.value, {name: _value(fact) for name, fact in self.facts.items()}]

    @classmethod
    def from_values(cls, values: object) -> Finding:
        """A finding as :meth:`as_values` gave it.

        Raises:
            AssertionError, ValueError, TypeError, AttributeError: when it is none.
        """
        assert isinstance(values, list)
        reason, facts = values
        return cls(Reason(reason), {_FORMER.get(name, name): _fact(value) for name, value in facts.items()})


Fact = str | int | Sentence | Finding | tuple[Finding, ...]


def _value(fact: Fact) -> object:
    if isinstance(fact, Finding | Sentence):
        return fact.as_values()
    return [each.as_values() for each in fact] if isinstance(fact, tuple) else fact


def _fact(value: object) -> Fact:
    if isinstance(value, str | int):
        return value
    if isinstance(value, dict):
        return Sentence.from_values(value)
    assert isinstance(value, list)
    if value and isinstance(value[0], str):
        return Finding.from_values(value)
    return tuple(Finding.from_values(each) for each in value)


@dataclass(frozen=True, slots=True)
class Issue:
    """A finding about one item that a person should know.

    Attributes:
        item: the entry, file or archive, as it is named in the archive or on the disk.
        finding: what is so and what became of it.
        offset: where in the archive, in bytes from its start; -1 where that is not known.
        hint: what can be done, or ""; a plain string where it comes from a log of an earlier version.
    """

    item: str
    finding: Finding
    offset: int = -1
    hint: Sentence | str = ""

    @property
    def reason(self) -> Reason:
        """What is so."""
        return self.finding.reason

    @property
    def severity(self) -> Severity:
        """How much a person should mind."""
        return self.reason.severity

    @property
    def problem(self) -> bool:
        """Whether something was left out or altered, rather than only being worth knowing."""
        return self.severity is Severity.PROBLEM

    def as_values(self) -> dict[str, object]:
        """What JSON can hold of it."""
        return {
            "item": self.item,
            "finding": self.finding.as_values(),
            **({"offset": self.offset} if self.offset >= 0 else {}),
            **({"hint": _value(self.hint)} if self.hint else {}),
        }

    @classmethod
    def from_values(cls, values: Mapping[str, object]) -> Issue:
        """An issue as :meth:`as_values` gave it.

        Raises:
            ValueError, TypeError, KeyError, AttributeError: when it is none.
        """
        offset = values.get("offset", -1)
        hint = _fact(values.get("hint", ""))
        assert isinstance(offset, int) and isinstance(hint, str | Sentence)
        return cls(str(values["item"]), Finding.from_values(values["finding"]), offset, hint)


def issue(item: str, reason: Reason, **facts: Fact) -> Issue:
    """An issue with the facts of its finding by name."""
    return Issue(item, Finding(reason, facts))


def cause_of(error: RundletError) -> Finding:
    """An error as the cause of something else."""
    return Finding(_reason_of(error), {"problem": error.reason if isinstance(error, FileProblem) else error.sentence})


def issue_of(item: str, error: RundletError, reason: Reason | None = None, **facts: Fact) -> Issue:
    """An error about an item.

    Args:
        reason: what came of it, where that is more than the error itself, which is then its cause.
    """
    cause = cause_of(error)
    finding = cause if reason is None else Finding(reason, {"cause": cause, **facts})
    return Issue(item, finding, -1 if error.offset is None else error.offset, error.advice or "")


def said_of(issue: Issue) -> Fact:
    """What the error says that is at the bottom of an issue, or ""."""
    finding = issue.finding
    while isinstance(cause := finding.facts.get("cause"), Finding):
        finding = cause
    return finding.facts.get("problem", "")


def _reason_of(error: RundletError) -> Reason:
    return next((reason for kind, reason in _REASONS if isinstance(error, kind)), Reason.FAILED)
