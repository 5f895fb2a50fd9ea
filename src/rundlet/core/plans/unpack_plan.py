"""The plan of unpacking: where entries land, by which rules, and what becomes of the archive."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, StrEnum
from typing import TYPE_CHECKING, NamedTuple

from rundlet.core.fs.safe_names import split_ending
from rundlet.core.streams.parts import CHECKSUMS

if TYPE_CHECKING:
    from collections import Counter
    from pathlib import Path

    from rundlet.core.jobs.findings import Finding, Issue
    from rundlet.core.model.entry import Kind

Steps = tuple[str, ...]


class UnpackClash(StrEnum):
    """What becomes of an entry whose name is taken."""

    RENAME = "rename"
    REPLACE = "replace"
    NEWER = "newer"
    SKIP = "skip"


class Afterwards(StrEnum):
    """What becomes of an archive that was unpacked."""

    STAYS = "stays"
    TRASH = "trash"
    INTO = "into"


class Action(Enum):
    """What is done with an entry."""

    MAKE = "new"
    JOIN = "already there"
    NUMBER = "taken, both kept"
    REPLACE = "taken, replaced"
    SKIP = "taken, left alone"
    SAME = "the same is there"
    REFUSE = "refused"

    def __init__(self, _: str) -> None:
        self.writes = self.name in ("MAKE", "NUMBER", "REPLACE")
        """Whether something is written."""
        self.taken = self.name in ("NUMBER", "REPLACE", "SKIP")
        """Whether the name was already taken by something else."""


class Step(NamedTuple):
    """One entry's way. A tuple, as there may be a million of them.

    Attributes:
        row: its row in the catalog.
        kind: what it is.
        size: bytes of its content.
        target: where it lands below the root, as steps; for a refused entry its own name as far as it is known.
        action: what is done.
        notes: what a person should know of it.
        content: the row whose content it gets: its own, or for a hard link that of the file it is a name of.
        asked: where it would land if its name were free; what a rule of its own goes by.
        first: for a hard link to a file of an earlier piece of the archive: where that landed.
    """

    row: int
    kind: Kind
    size: int
    target: Steps
    action: Action
    notes: tuple[Finding, ...] = ()
    content: int = -1
    asked: Steps = ()
    first: Steps = ()


@dataclass(frozen=True, slots=True)
class UnpackPlan:
    """Where everything lands.

    Attributes:
        archive: the name of the archive.
        root: the folder that all targets are below.
        root_is_new: whether that folder has yet to be made.
        steps: one for each selected item, in the archive's order.
        size: bytes that will be written.
        free: bytes free there.
        counts: how many entries have each action.
        files: how many files will be written.
        issues: what is refused or altered.
        fingerprint: what the archive looked like when the plan was made.
        read_through: bytes beside the selected items that must be decoded to get at them.
        unlock_seconds: how long undoing an old, slow lock takes, about.
        keep_replaced: whether what is replaced goes to the trash, so that it can come back.
        needed: bytes that it takes on the disk, which is less where files have holes.
        lacking: why not everything in the archive comes out, or None when all of it does.
        losses: what is not kept of the entries, each thing once; it is among the issues, too.
        unreadable: how many of the files can't be read for certain, as a part with their content is missing.
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
    read_through: int = 0
    unlock_seconds: float = 0.0
    keep_replaced: bool = False
    needed: int = 0
    lacking: Finding | None = None
    losses: tuple[Issue, ...] = ()
    unreadable: int = 0

    @property
    def taken(self) -> int:
        """How many names were already taken."""
        return sum(count for action, count in self.counts.items() if action.taken)


def own_folder_name(archive: Path) -> str:
    """What a folder for the archive's content is called."""
    stem, ending = split_ending(archive.name)
    if (ending[1:].isdigit() and len(ending) >= len(".001")) or ending == CHECKSUMS:
        stem = split_ending(stem)[0]  # one of several parts, or what lists them
    return stem if stem not in ("", ".", "..") else "archive"
