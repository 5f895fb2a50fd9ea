"""Qt's view of a listing: lazily, and without touching a file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from PySide6.QtCore import (
    QAbstractItemModel,
    QDateTime,
    QLocale,
    QMimeData,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    Qt,
    Signal,
)

from rundlet.core import text
from rundlet.core.files.types import Sort
from rundlet.core.formats.base import NO_TIME, UNKNOWN
from rundlet.desktop.dragging import URIS
from rundlet.desktop.models.listing import COLUMNS, TOP, DiskListing, Listing, Record

STEP = 1_000
"""Rows of the top that are there at first, and that come with each reach for more: a view asks for all that are there."""

_NONE = Qt.ItemFlag.NoItemFlags
_STILL = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
_CARRIED = _STILL | Qt.ItemFlag.ItemIsDragEnabled
_CARRIED_LEAF = _CARRIED | Qt.ItemFlag.ItemNeverHasChildren
_NAMED = _CARRIED | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemNeverHasChildren
_HEADINGS = {"name": "Name", "kind": "Kind", "size": "Size", "share": "Share", "changed": "Changed"}
Index = QModelIndex | QPersistentModelIndex


class EntryModel(QAbstractItemModel):
    """A listing as rows and columns.

    Args:
        columns: which of :data:`COLUMNS` to show.

    Attributes:
        carry: what is dragged with rows; None where nothing can be dragged.

    Signals:
        renamed: a person gave a row another name; with its node and the name. The listing is not changed by that.
    """

    renamed = Signal(int, str)

    def __init__(self, columns: Sequence[str] = COLUMNS, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._columns = tuple(columns)
        self._listing: Listing | None = None
        self._rows: dict[int, int] = {}
        self._top: Sequence[int] = ()
        self._fetched = 0
        self._share_heading = _HEADINGS["share"]
        self.carry: Callable[[list[int]], QMimeData] | None = None
        self._carried: QMimeData | None = None

    @property
    def listing(self) -> Listing | None:
        """What is shown."""
        return self._listing

    def show(self, listing: Listing | None, *, share_heading: str = "Share") -> None:
        """Show another listing from its top."""
        self.beginResetModel()
        self._listing = listing
        self._share_heading = share_heading
        self._begin()
        self.endResetModel()

    def narrow(self, text: str, sort: Sort | None) -> None:
        """Show only what fits; see :meth:`Listing.narrow`."""
        if self._listing is not None:
            self.beginResetModel()
            self._listing.narrow(text, sort)
            self._begin()
            self.endResetModel()

    def _begin(self) -> None:
        self._rows.clear()
        self._top = self._listing.children(TOP) if self._listing is not None else ()
        self._fetched = min(len(self._top), STEP)

    def fetch_to(self, row: int) -> None:
        """See to it that a top row is there."""
        if self._listing is not None and row >= self._fetched:
            last = min(max(row + 1, self._fetched + STEP), len(self._top)) - 1
            if last >= self._fetched:
                self.beginInsertRows(QModelIndex(), self._fetched, last)
                self._fetched = last + 1
                self.endInsertRows()

    def canFetchMore(self, parent: Index) -> bool:
        return not parent.isValid() and self._listing is not None and self._fetched < len(self._top)

    def fetchMore(self, parent: Index) -> None:
        if not parent.isValid():
            self.fetch_to(self._fetched)

    def refresh_row(self, node: int) -> None:
        """A row has something new to say."""
        index = self.index_of(node)
        if index.isValid():
            self.dataChanged.emit(index, index.siblingAtColumn(len(self._columns) - 1))

    def row_of(self, node: int) -> int:
        """The row of a node below its parent, or -1 when it is not shown."""
        if self._listing is None or node == TOP:
            return -1
        children = self._listing.children(self._listing.parent_of(node))
        row = self._rows.get(node, -1)
        if not (0 <= row < len(children) and children[row] == node):
            self._rows.update(zip(children, range(len(children)), strict=True))  # once for all that lie beside it
            row = self._rows.get(node, -1)
            if not (0 <= row < len(children) and children[row] == node):
                return -1
        return row

    def index_of(self, node: int) -> QModelIndex:
        """The index of a row; invalid for one that is not shown or not yet asked for."""
        row = self.row_of(node)
        if row < 0 or self._listing is None or (self._listing.parent_of(node) == TOP and row >= self._fetched):
            return QModelIndex()
        return self.createIndex(row, 0, node)

    def node(self, index: Index) -> int:
        """The node of an index; the top for an invalid one."""
        return int(index.internalId()) if index.isValid() else TOP

    def key(self, column: int) -> str:
        """Which of :data:`COLUMNS` a column shows."""
        return self._columns[column]

    def record(self, index: Index) -> Record | None:
        """What a row shows."""
        if not index.isValid() or self._listing is None:
            return None
        return self._listing.record(self.node(index))

    def nodes_between(self, parent: Index, first: int, last: int) -> Iterable[int]:
        """The nodes of a run of rows."""
        return self._listing.children(self.node(parent))[first : last + 1] if self._listing is not None else ()

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        if self._listing is None or not 0 <= column < len(self._columns):
            return QModelIndex()
        children = self._listing.children(self.node(parent)) if parent.isValid() else self._top
        if not 0 <= row < len(children):
            return QModelIndex()
        node = children[row]
        self._rows[node] = row
        return self.createIndex(row, column, node)

    def parent(self, index: Index = QModelIndex()) -> QModelIndex:  # type: ignore[override]  # noqa: B008
        if self._listing is None or not index.isValid():
            return QModelIndex()
        folder = self._listing.parent_of(self.node(index))
        return self.index_of(folder) if folder != TOP else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if self._listing is None or parent.column() > 0:
            return 0
        if not parent.isValid():
            return self._fetched
        node = self.node(parent)
        return len(self._listing.children(node)) if self._listing.expands(node) else 0

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        if not parent.isValid():
            return self._fetched > 0
        return self._listing is not None and parent.column() == 0 and self._listing.expands(int(parent.internalId()))

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._columns)

    def flags(self, index: Index) -> Qt.ItemFlag:
        listing = self._listing
        if listing is None or not index.isValid():
            return _NONE
        if self.carry is None:
            return _STILL
        if isinstance(listing, DiskListing):
            return _NAMED if index.column() == 0 else _CARRIED_LEAF
        return _CARRIED if listing.is_folder(index.internalId()) else _CARRIED_LEAF

    def mimeTypes(self) -> list[str]:
        return [URIS]

    def mimeData(self, indexes: Sequence[QModelIndex]) -> QMimeData:
        nodes = list(dict.fromkeys(self.node(index) for index in indexes))
        self._carried = self.carry(nodes) if self.carry is not None else QMimeData()
        return self._carried

    def supportedDragActions(self) -> Qt.DropAction:
        on_disk = isinstance(self._listing, DiskListing)
        return Qt.DropAction.CopyAction | Qt.DropAction.MoveAction if on_disk else Qt.DropAction.CopyAction

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        record = self.record(index)
        if record is None or role != Qt.ItemDataRole.EditRole or value == record.name:
            return False
        self.renamed.emit(self.node(index), str(value))
        return True

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and 0 <= section < len(self._columns):
            key = self._columns[section]
            if role == Qt.ItemDataRole.DisplayRole:
                return self._share_heading if key == "share" else _HEADINGS[key]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                side = Qt.AlignmentFlag.AlignRight if key == "size" else Qt.AlignmentFlag.AlignLeft
                return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        record = self.record(index)
        if record is None:
            return None
        key = self._columns[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return _shown(record, key)
        if role == Qt.ItemDataRole.EditRole and key == "name":
            return record.name
        if role == Qt.ItemDataRole.ToolTipRole:
            return _details(record)
        if role == Qt.ItemDataRole.AccessibleTextRole:
            return _spoken(record) if key == "name" else _shown(record, key)
        if role == Qt.ItemDataRole.TextAlignmentRole and key == "size":
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if self._listing is None or not 0 <= column < len(self._columns):
            return
        self.layoutAboutToBeChanged.emit()
        before = self.persistentIndexList()
        self._listing.sort(self._columns[column], descending=order == Qt.SortOrder.DescendingOrder)
        self._rows.clear()
        self._top = self._listing.children(TOP)
        for index in before:
            moved = self.index_of(self.node(index))
            self.changePersistentIndex(index, moved.siblingAtColumn(index.column()) if moved.isValid() else moved)
        self.layoutChanged.emit()


def _shown(record: Record, key: str) -> str:
    if key == "name":
        return text.shown(record.name)
    if key == "kind":
        return record.word
    if key == "size":
        return "…" if record.size == UNKNOWN else text.size(record.size)
    if key == "changed":
        return _when(record.mtime_ns)
    return ""


def _when(mtime_ns: int, *, with_time: bool = False) -> str:
    if mtime_ns == NO_TIME:
        return ""
    moment = QDateTime.fromMSecsSinceEpoch(mtime_ns // 1_000_000)
    return QLocale().toString(moment if with_time else moment.date(), QLocale.FormatType.ShortFormat)


def _details(record: Record) -> str:
    parts = [text.shown(record.name)]
    if record.size != UNKNOWN:
        parts.append(f"{text.number(record.size)} bytes")
    if record.packed != UNKNOWN:
        parts.append(f"{text.number(record.packed)} bytes packed")
    if record.mtime_ns != NO_TIME:
        parts.append(f"changed {_when(record.mtime_ns, with_time=True)}")
    if record.note:
        parts.append(record.note)
    return "\n".join(parts)


def _spoken(record: Record) -> str:
    parts = [text.shown(record.name), record.word, record.note]
    if record.size != UNKNOWN:
        parts.append(text.size(record.size))
    return ", ".join(filter(None, parts))
