"""What the columns list, without a word of Qt: nodes that are numbers, and records for the rows that are looked at."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol, TypeGuard

from rundlet.core.model.entry import NO_TIME, UNKNOWN

if TYPE_CHECKING:
    from rundlet.core.model.file_type import FileType
    from rundlet.desktop.locations.archive import ArchiveListing

TOP = 0
"""The node whose children are the listing's top rows."""

COLUMNS = ("name", "kind", "size", "share", "changed")


@dataclass(frozen=True, slots=True)
class Row:
    """What a row shows.

    Attributes:
        name: the name.
        file_type: the group of its type.
        word: what it is, in words.
        size: bytes, or :data:`UNKNOWN` while they are not counted.
        packed: bytes in the archive, or :data:`UNKNOWN` outside of archives.
        share: its part of the largest row beside it, 0 to 1.
        mtime_ns: when it was changed, or :data:`NO_TIME`.
        tone: the token its name is written in.
        note: words behind the name.
    """

    name: str
    file_type: FileType
    word: str = ""
    size: int = UNKNOWN
    packed: int = UNKNOWN
    share: float = 0.0
    mtime_ns: int = NO_TIME
    tone: str = "ink"
    note: str = ""


class Listing(Protocol):
    """A tree of rows."""

    def children(self, node: int) -> Sequence[int]:
        """The rows in a folder, sorted and narrowed."""

    def parent_of(self, node: int) -> int:
        """The row that a row stands below; :data:`TOP` for the top rows."""

    def is_folder(self, node: int) -> bool:
        """Whether one can go into a row."""

    def count(self, node: int) -> int:
        """How many rows a row shows right below, when it is opened."""

    def record(self, node: int) -> Row:
        """What a row shows."""

    def sort(self, key: str, *, descending: bool) -> None:
        """Put the rows in another order: one of :data:`COLUMNS`."""

    def order_ahead(self, key: str, *, descending: bool) -> None:
        """Find an order that will be asked for; may be called beside the interface."""

    def narrow(self, text: str, file_type: FileType | None) -> None:
        """Show only rows that fit ``text`` (see :class:`Wanted`) and this type, with the folders they sit in."""

    def narrow_ahead(self, text: str, file_type: FileType | None) -> None:
        """Find out beside the interface what will fit."""

    def counts(self) -> dict[FileType, int]:
        """How many rows of each type there are."""

    @property
    def found(self) -> int:
        """How many rows fit what the listing is narrowed to."""


def in_archive(listing: object) -> TypeGuard[ArchiveListing]:
    """Whether a listing is of an archive, told without loading what archives need."""
    return bool(getattr(listing, "is_archive", False))
