"""What the columns list, without a word of Qt: nodes that are numbers, and records for the rows that are looked at."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol, TypeGuard

from rundlet.core.model.entry import NO_TIME, UNKNOWN

if TYPE_CHECKING:
    from pathlib import Path

    from rundlet.core.model.file_type import FileType
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.areas import Area
    from rundlet.desktop.locations.disk import DiskItem
    from rundlet.desktop.locations.place import Place, Selection

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
        struck: whether the name is struck through, as the item goes.
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
    struck: bool = False


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

    def narrow(self, words: str, file_type: FileType | None) -> None:
        """Show only rows that fit ``words`` (see :class:`Wanted`) and this type, with the folders they sit in."""

    def narrow_ahead(self, words: str, file_type: FileType | None) -> None:
        """Find out beside the interface what will fit."""

    def counts(self) -> dict[FileType, int]:
        """How many rows of each type there are."""

    @property
    def found(self) -> int:
        """How many rows fit what the listing is narrowed to."""


@dataclass(frozen=True, slots=True)
class Spot:
    """A file to look at: on the disk, or in the archive that the window is in.

    Attributes:
        node: its row in the listing.
        path: where it lies on the disk, or None.
        row: its place in the catalog, or None.
        size: its bytes, or :data:`UNKNOWN`.
    """

    node: int
    name: str
    size: int
    path: Path | None = None
    row: int | None = None


class Location(Listing, Protocol):
    """What the window can stand in, and what can be done there.

    Attributes:
        is_editable: whether files can be made, renamed, moved and deleted in it.
        opens_in_place: whether folders are opened below their own row.
        is_large: whether looking through it is too much for the interface's thread.
        share_heading: what the column with the share bar is called.
    """

    is_editable: bool
    opens_in_place: bool
    share_heading: str

    @property
    def top(self) -> int:
        """The node of the place itself."""

    @property
    def is_large(self) -> bool: ...

    def looks_like(self, other: object) -> bool:
        """Whether another listing is of the same folder on the disk and shows the same."""

    def entered(self, node: int, place: Place) -> Place | None:
        """Where going into a row leads from a place here; None when it is no folder."""

    def path_of(self, node: int) -> Path | None:
        """Where a row lies on the disk, or None."""

    def spot(self, node: int) -> Spot | None:
        """The file in a row, to be looked at; None for folders, links and devices."""

    def meant(self, nodes: list[int]) -> list[int]:
        """What selecting rows means, where a folder is shown only as the way to what was found in it."""

    def disk_items(self, nodes: Iterable[int]) -> Sequence[DiskItem]:
        """What rows stand for on the disk; nothing in an archive."""

    def counted(self, nodes: tuple[int, ...], others: Sequence[DiskItem]) -> Selection:
        """How much these rows are, together with what is selected in other folders."""

    def whole(self) -> Selection:
        """How much all that lies in it is; with no rows and no items."""

    def summary(self, selection: Selection) -> str:
        """What lies here, or how much of it is selected, in a line."""

    def areas(self) -> tuple[Area, ...]:
        """What lies here as areas of the space map, the largest first."""


def in_archive(listing: object) -> TypeGuard[ArchiveListing]:
    """Whether a listing is of an archive, told without loading what archives need."""
    return bool(getattr(listing, "is_archive", False))
