"""A folder on the disk as a listing."""

from __future__ import annotations

import os
import stat
from array import array
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import file_problem
from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.file_type import FileType, file_type_of, word_for
from rundlet.core.model.find import Wanted
from rundlet.core.model.natural import natural_key
from rundlet.desktop.locations.listing import TOP, Row

if TYPE_CHECKING:
    from rundlet.core.fs.scan import Part


@dataclass(slots=True)
class DiskItem:
    """One thing in a folder on the disk.

    Attributes:
        size: its bytes; those of a folder are :data:`UNKNOWN` until they are counted.
        files: how many files are in it, itself included.
        file_type: the group of its type.
        parts: what lies directly in a folder, once that is counted.
    """

    path: Path
    kind: Kind
    size: int
    files: int
    mtime_ns: int
    file_type: FileType
    parts: tuple[Part, ...] = ()

    @classmethod
    def of(cls, path: Path) -> DiskItem | None:
        """What stands under a path; None when nothing does."""
        return _disk_item(path, path.lstat)

    def take_parts(self, parts: Sequence[Part]) -> None:
        """Fill in what a folder holds."""
        self.size, self.files = sum(part.size for part in parts), sum(part.files for part in parts)
        self.parts = tuple(parts)


class DiskListing:
    """A folder on the disk, one level of it. Node ``n`` is ``items[n - 1]``.

    What takes a step for each item is done when it is made, which is in the background.

    Attributes:
        folders: the nodes of the folders in it.
        seen: what was seen of it: names, kinds, times, and the sizes of files.
        sizes, files: of all items, as in :class:`DiskItem`; in columns, so that a choice of very many is counted at once.
    """

    def __init__(self, folder: Path, items: list[DiskItem]) -> None:
        self.folder = folder
        self.items = items
        self.folders = [node for node, item in enumerate(items, 1) if item.kind == Kind.DIR]
        self.sizes = array("q", [item.size for item in items])
        self.files = array("q", [item.files for item in items])
        self._node_of = {str(item.path): node for node, item in enumerate(items, 1)}
        self.seen = {
            (name, item.kind, item.mtime_ns, 0 if item.kind == Kind.DIR else item.size)
            for name, item in zip(self._node_of, items, strict=True)
        }
        self._shown: list[int] = []
        self._key, self._descending = "name", False
        self._wanted = Wanted()
        self._file_type: FileType | None = None
        self._largest = 1
        self._ahead: tuple[tuple[str, bool], list[int]] | None = None
        names = []
        for item in items:
            step_aside()
            names.append(natural_key(item.path.name))
        self._by_name = sorted(range(1, len(items) + 1), key=lambda i: names[i - 1])
        self._counts: dict[FileType, int] = {}
        for item in items:
            self._counts[item.file_type] = self._counts.get(item.file_type, 0) + 1
        self._arrange()

    @classmethod
    def read(cls, folder: Path, *, hidden: bool = False) -> DiskListing:
        """List a folder. Folders come without a size; see :meth:`set_parts`.

        Raises:
            FileProblem: when it can't be read.
        """
        items = []
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if hidden or not entry.name.startswith("."):
                        step_aside()
                        found = partial(entry.stat, follow_symlinks=False)
                        item = _disk_item(Path(entry.path), found)
                        items += [item] if item is not None else []  # it vanished while the folder was read
        except OSError as error:
            raise file_problem(error, "open the folder", folder) from error
        return cls(folder, items)

    def children(self, node: int) -> Sequence[int]:
        return self._shown if node == TOP else ()

    def parent_of(self, node: int) -> int:
        return TOP

    def is_folder(self, node: int) -> bool:
        return node == TOP or self.items[node - 1].kind == Kind.DIR

    def count(self, node: int) -> int:
        return len(self._shown) if node == TOP else 0

    def record(self, node: int) -> Row:
        item = self.items[node - 1]
        word = {Kind.DIR: "Folder", Kind.LINK: "Link"}.get(item.kind) or word_for(item.path.name)
        return Row(
            name=item.path.name,
            file_type=item.file_type,
            word=word,
            size=item.size,
            share=max(item.size, 0) / self._largest,
            mtime_ns=item.mtime_ns,
        )

    def sort(self, key: str, *, descending: bool) -> None:
        by_size = key in ("size", "share")  # folders may have been counted since
        if (key, descending) != (self._key, self._descending) or by_size:
            self._key, self._descending = key, descending
            self._arrange()

    def order_ahead(self, key: str, *, descending: bool) -> None:
        self._ahead = (key, descending), self._ordered(key, descending=descending)

    def narrow(self, text: str, file_type: FileType | None) -> None:
        wanted = Wanted.of(text)
        if (wanted, file_type) != (self._wanted, self._file_type):
            self._wanted, self._file_type = wanted, file_type
            self._arrange()

    def narrow_ahead(self, text: str, file_type: FileType | None) -> None:
        """One folder is looked through at once."""

    def counts(self) -> dict[FileType, int]:
        return self._counts

    @property
    def found(self) -> int:
        return len(self._shown)

    def set_parts(self, node: int, parts: Sequence[Part]) -> None:
        """Fill in what a folder holds, once it is counted; the order of the rows stays."""
        item = self.items[node - 1]
        item.take_parts(parts)
        self._largest = max(self._largest, item.size)
        self.sizes[node - 1], self.files[node - 1] = item.size, item.files

    def node_of(self, path: Path) -> int | None:
        """The row of a path, or None."""
        return self._node_of.get(str(path))

    def nodes_of(self, paths: Iterable[Path]) -> list[int]:
        """The rows of paths, as far as they are here."""
        return [node for path in paths if (node := self.node_of(path)) is not None]

    def _arrange(self) -> None:
        self._largest = max((item.size for item in self.items), default=1)
        self._largest = max(self._largest, 1)  # folders that are not counted yet have -1
        narrowed = bool(self._wanted) or self._file_type is not None
        ahead, self._ahead = self._ahead, None
        if ahead is None or ahead[0] != (self._key, self._descending):
            ordered = self._ordered(self._key, descending=self._descending)
        else:
            ordered = ahead[1]
        self._shown = [i for i in ordered if self._fits(self.items[i - 1])] if narrowed else ordered

    def _ordered(self, key: str, *, descending: bool) -> list[int]:
        nodes = list(self._by_name)
        if key == "kind":
            nodes.sort(key=lambda i: self.items[i - 1].path.suffix.casefold())
        elif key in ("size", "share"):
            nodes.sort(key=lambda i: self.items[i - 1].size)
        elif key == "changed":
            nodes.sort(key=lambda i: self.items[i - 1].mtime_ns)
        if descending:
            nodes.reverse()
        nodes.sort(key=lambda i: self.items[i - 1].kind != Kind.DIR)
        return nodes

    def _fits(self, item: DiskItem) -> bool:
        return self._wanted.fits(item.path.name) and self._file_type in (None, item.file_type)


def _disk_item(path: Path, find: Callable[[], os.stat_result]) -> DiskItem | None:
    kind, size = Kind.OTHER, 0
    try:
        status = find()
    except OSError:
        return None
    if stat.S_ISREG(status.st_mode):
        kind, size = Kind.FILE, status.st_size
    elif stat.S_ISDIR(status.st_mode):
        kind, size = Kind.DIR, UNKNOWN
    elif stat.S_ISLNK(status.st_mode):
        kind = Kind.LINK
    file_type = {Kind.DIR: FileType.FOLDERS, Kind.LINK: FileType.LINKS}.get(kind) or file_type_of(path.name)
    return DiskItem(path, kind, size, int(kind == Kind.FILE), status.st_mtime_ns, file_type)
