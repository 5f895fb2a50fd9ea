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

from rundlet.core import text
from rundlet.core.errors import file_problem
from rundlet.core.fs.content_type import file_type_on_disk
from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.file_type import FileType, file_type_of, word_for
from rundlet.core.model.find import Wanted
from rundlet.core.model.natural import natural_key
from rundlet.core.sentences import fill
from rundlet.desktop.locations.areas import Area, largest
from rundlet.desktop.locations.listing import TOP, Row, Spot
from rundlet.desktop.locations.place import Place, Selection
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.fs.scan import Part
    from rundlet.core.jobs.job import Job


MOST_FOUND = 10_000
"""How many items are shown at most of those that are found below a folder."""


_FOUND = {False: "{count:item|items} found", True: "{count:item|items} and more found"}
_SELECTED = {
    (False, False): "{items:number} of {count:item|items} selected · {files:file|files} · {size:size}",
    (False, True): "{items:number} of {count:item|items} selected · {files:file|files}… · {size:size}…",
    (True, False): "From {folders:folder|folders}: {items:item|items} selected · {files:file|files} · {size:size}",
    (True, True): "From {folders:folder|folders}: {items:item|items} selected · {files:file|files}… · {size:size}…",
}
"""By whether some is selected in other folders, and whether files are still being counted."""


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
    """A folder on the disk, one level of it, or what was found in it and below. Node ``n`` is ``items[n - 1]``.

    What takes a step for each item is done when it is made, which is in the background.

    Attributes:
        folders: the nodes of the folders in it.
        seen: what was seen of it: names, kinds, times, and the sizes of files.
        find: by which words the items were found in the folder and below it; "" for what lies in the folder.
        unsaved: says how many changes of an archive are not saved.
        sizes, files: of all items, as in :class:`DiskItem`; in columns, so that a choice of very many is counted at once.
    """

    is_editable = True
    opens_in_place = False
    is_large = False  # one folder is looked through at once
    share_heading = "Share"

    def __init__(self, folder: Path, items: list[DiskItem], *, find: str = "") -> None:
        self.folder = folder
        self.find = find
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
        self.unsaved: Callable[[Path], int] = lambda _: 0
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

    @classmethod
    def found_below(cls, folder: Path, words: str, *, hidden: bool, job: Job) -> DiskListing:
        """Items with these words in their names, in a folder and in all below it; at most :data:`MOST_FOUND`.

        Folders that can't be read are passed by, and links are not followed.

        Raises:
            FileProblem: when the folder itself can't be read.
        """
        wanted, items, ahead = Wanted.of(words), list[DiskItem](), [str(folder)]
        while ahead and len(items) < MOST_FOUND:
            job.checkpoint()
            place = ahead.pop()
            try:
                with os.scandir(place) as entries:
                    inner = sorted(entries, key=lambda entry: entry.name)
            except OSError as error:
                if place == str(folder):
                    raise file_problem(error, "open the folder", folder) from error
                continue
            for entry in inner:
                step_aside()
                if entry.name.startswith(".") and not hidden:
                    continue
                if entry.is_dir(follow_symlinks=False):
                    ahead.append(entry.path)
                if wanted.fits(entry.name):
                    item = _disk_item(Path(entry.path), partial(entry.stat, follow_symlinks=False))
                    items += [item] if item is not None else []
        return cls(folder, items[:MOST_FOUND], find=words)

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
        word = {Kind.DIR: "Folder", Kind.LINK: "Link"}.get(item.kind) or _word(item)
        return Row(
            name=item.path.name,
            file_type=item.file_type,
            word=word,
            size=item.size,
            share=max(item.size, 0) / self._largest,
            mtime_ns=item.mtime_ns,
            note=self._note(item),
        )

    def _note(self, item: DiskItem) -> str:
        """Where an item was found; of a folder how many files it holds, once they are counted."""
        if self.find and item.path.parent != self.folder:
            return say("in {folder:shown}", folder=str(item.path.parent.relative_to(self.folder)))
        if unsaved := self.unsaved(item.path):
            return say("{count:change|changes} not saved", count=unsaved)
        return text.plural(item.files, "file") if item.kind == Kind.DIR and item.size != UNKNOWN else ""

    def sort(self, key: str, *, descending: bool) -> None:
        by_size = key in ("size", "share")  # folders may have been counted since
        if (key, descending) != (self._key, self._descending) or by_size:
            self._key, self._descending = key, descending
            self._arrange()

    def order_ahead(self, key: str, *, descending: bool) -> None:
        self._ahead = (key, descending), self._ordered(key, descending=descending)

    def narrow(self, words: str, file_type: FileType | None) -> None:
        wanted = Wanted.of(words)
        if (wanted, file_type) != (self._wanted, self._file_type):
            self._wanted, self._file_type = wanted, file_type
            self._arrange()

    def narrow_ahead(self, words: str, file_type: FileType | None) -> None:
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

    @property
    def top(self) -> int:
        return TOP

    def looks_like(self, other: object) -> bool:
        return isinstance(other, DiskListing) and (other.folder, other.find, other.seen) == (
            self.folder,
            self.find,
            self.seen,
        )

    def entered(self, node: int, place: Place) -> Place | None:
        item = self.items[node - 1]
        is_folder = item.kind == Kind.DIR or (item.kind == Kind.LINK and os.path.isdir(item.path))
        return Place(item.path) if is_folder else None

    def path_of(self, node: int) -> Path | None:
        return self.items[node - 1].path if node else self.folder

    def spot(self, node: int) -> Spot | None:
        item = self.items[node - 1] if node else None
        if item is None or item.kind != Kind.FILE:
            return None
        return Spot(node, item.path.name, item.size, path=item.path)

    def meant(self, nodes: list[int]) -> list[int]:
        return nodes

    def disk_items(self, nodes: Iterable[int]) -> Sequence[DiskItem]:
        return [self.items[node - 1] for node in nodes]

    def counted(self, nodes: tuple[int, ...], others: Sequence[DiskItem]) -> Selection:
        sizes = [self.sizes[node - 1] for node in nodes] + [item.size for item in others]
        files = sum(self.files[node - 1] for node in nodes) + sum(item.files for item in others)
        return Selection(
            nodes,
            len(sizes),
            files,
            sum(size for size in sizes if size > 0),
            UNKNOWN in sizes,
            elsewhere=len(others),
            folders=len({item.path.parent for item in others} | ({self.folder} if nodes else set())),
        )

    def whole(self) -> Selection:
        size = sum(size for size in self.sizes if size > 0)
        return Selection(files=sum(self.files), size=size, counting=UNKNOWN in self.sizes)

    def summary(self, selection: Selection) -> str:
        facts = {
            "count": len(self.items),
            "items": selection.items,
            "files": selection.files,
            "size": selection.size,
            "folders": selection.folders,
        }
        if not selection.items:
            return fill(_FOUND[len(self.items) >= MOST_FOUND] if self.find else "{count:item|items}", facts)
        return fill(_SELECTED[selection.elsewhere > 0, selection.counting], facts)

    def areas(self) -> tuple[Area, ...]:
        return largest(
            Area(item.path.name, item.size, item.file_type, node, largest(map(_area, item.parts)))
            for node, item in enumerate(self.items, 1)
        )

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


def _word(item: DiskItem) -> str:
    if item.file_type is not file_type_of(item.path.name):
        return "Plain text" if item.file_type is FileType.TEXT else "Empty file"
    return word_for(item.path.name)


def _area(part: Part) -> Area:
    return Area(part.name, part.size, FileType.FOLDERS if part.is_folder else file_type_of(part.name))


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
    file_type = {Kind.DIR: FileType.FOLDERS, Kind.LINK: FileType.LINKS}.get(kind) or file_type_on_disk(path, size)
    return DiskItem(path, kind, size, int(kind == Kind.FILE), status.st_mtime_ns, file_type)
