"""A place where the window can stand, what is selected there, and the archive that is open."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.formats.detect import open_archive
from rundlet.core.limits import DEFAULT, Limits
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.opening import Opening
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.plans.staged_catalog import StagedCatalog


@dataclass(frozen=True, slots=True)
class Place:
    """Where the window stands.

    Attributes:
        folder: the folder on the disk.
        archive: the archive in it that was gone into, or None.
        inner: the folder in the archive, "" for its top.
        outer: where an archive within another one was gone into; its file is a private copy then.
        entry: the path of such an archive in the one that it lies in.
        find: words by which items were looked for in the folder and all below it; "" for the folder itself.
    """

    folder: Path
    archive: Path | None = None
    inner: str = ""
    outer: Place | None = None
    entry: str = ""
    find: str = ""

    @property
    def in_archive(self) -> bool:
        """Whether this is inside an archive."""
        return self.archive is not None

    @property
    def chain(self) -> tuple[str, ...]:
        """The archive where this is, by its path on the disk and those of the archives within each other; () on the disk."""
        if self.outer is not None:
            return (*self.outer.chain, self.entry)
        return () if self.archive is None else (str(self.archive),)

    @property
    def outermost(self) -> Path | None:
        """The archive on the disk where this is, or None."""
        return self.outer.outermost if self.outer is not None else self.archive

    def up(self) -> Place:
        """The place above."""
        if self.inner:
            return replace(self, inner=self.inner.rpartition("/")[0])
        if self.outer is not None:
            return self.outer
        if self.archive is not None:
            return Place(self.archive.parent)
        if self.find:
            return Place(self.folder)
        return Place(self.folder.parent)


@dataclass(frozen=True, slots=True)
class Selection:
    """What is chosen, counted.

    Attributes:
        nodes: the chosen rows of the listing.
        items: how many things are chosen, those in other folders too.
        files: files in all of them, folders counted through.
        size: their bytes.
        counting: whether folders are still being counted.
        elsewhere: how many of the items lie in other folders.
        folders: how many folders the items lie in.
        packed: the bytes that they take in the archive, or ``UNKNOWN`` on the disk and where entries share them.
        unseen: how many of the rows, the last ones of ``nodes``, are not shown as the list is narrowed.
    """

    nodes: tuple[int, ...] = ()
    items: int = 0
    files: int = 0
    size: int = 0
    counting: bool = False
    elsewhere: int = 0
    folders: int = 0
    packed: int = UNKNOWN
    unseen: int = 0

    @property
    def shown(self) -> tuple[int, ...]:
        """The chosen rows that are shown."""
        return self.nodes[: len(self.nodes) - self.unseen]


_OTHERS = {
    (True, False): "{words} ({hidden:number} hidden)",
    (False, True): "{words} ({elsewhere:number} in other folders)",
    (True, True): "{words} ({hidden:number} hidden, {elsewhere:number} in other folders)",
}


def with_others(words: str, selection: Selection) -> str:
    """The words of a button, and what else is selected than what is shown here."""
    hidden, elsewhere = selection.unseen, selection.elsewhere
    if not (hidden or elsewhere):
        return words
    return say(_OTHERS[hidden > 0, elsewhere > 0], words=words, hidden=hidden, elsewhere=elsewhere)


@dataclass(slots=True)
class OpenArchive:
    """An archive that the window is in.

    Attributes:
        tree, file_types: what it holds; with changes that are not saved, what it will hold, and what goes, too.
        is_loose: whether its content is to go into a folder of its own.
        password: what opens it, or "".
        code_page: how the person says that its names are written; "" for nothing said.
        seen: what its files were when it was opened.
        limits: what reading it may take.
        staged: what rows of the tree's catalog stand for, where there are changes that are not saved.
    """

    path: Path
    reader: ArchiveReader
    tree: ArchiveTree
    file_types: NDArray[np.int64]
    is_loose: bool
    password: str = field(default="", repr=False)
    code_page: str = ""
    seen: tuple[int, ...] = ()
    limits: Limits = DEFAULT
    staged: StagedCatalog | None = None

    def rows_below(self, nodes: Iterable[int]) -> NDArray[np.int64]:
        """The rows of the archive itself for these nodes of the tree and everything below them."""
        rows = self.tree.rows_below(nodes)
        return rows if self.staged is None else rows[rows < self.staged.own]

    def stored_path(self, node: int) -> str:
        """The path of a node in the archive as it is now."""
        row = self.tree.row(node)
        if self.staged is not None and row is not None and row in self.staged.renamed:
            return self.staged.renamed[row]
        return self.tree.path(node)

    @property
    def is_locked(self) -> bool:
        """Whether anything in it is locked, be it unlocked by now, or its names are hidden."""
        return self.reader.names_hidden or bool(self.reader.catalog.encrypted.any())

    @property
    def needs_password(self) -> bool:
        """Whether anything in it is locked that no password was given for."""
        return not self.reader.unlocked and bool(self.reader.catalog.encrypted.any())

    def reopened(self) -> ArchiveReader:
        """One more reader of it, unlocked, for work that goes on when the window leaves it.

        Raises:
            RundletError: when it can't be opened any more.
        """
        reader = open_archive(self.path, Opening(self.code_page or None, self.limits, password=self.password or None))
        try:
            if self.password and not reader.unlocked:
                reader.unlock(self.password)
        except BaseException:
            reader.close()
            raise
        return reader
