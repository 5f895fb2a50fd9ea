"""Qt's view of a listing: lazily, and without touching a file."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QDateTime, QLocale, QModelIndex, QObject, QPersistentModelIndex, Qt

from rundlet.core import text
from rundlet.core.files.types import Sort
from rundlet.core.formats.base import NO_TIME, UNKNOWN
from rundlet.desktop.models.listing import COLUMNS, TOP, Listing, Record

RECORD = Qt.ItemDataRole.UserRole + 1
"""The :class:`Record` of a row, for delegates."""

_HEADINGS = {"name": "Name", "kind": "Kind", "size": "Size", "share": "Share", "changed": "Changed"}
Index = QModelIndex | QPersistentModelIndex


class EntryModel(QAbstractItemModel):
    """A listing as rows and columns.

    Args:
        columns: which of :data:`COLUMNS` to show.
    """

    def __init__(self, columns: Sequence[str] = COLUMNS, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._columns = tuple(columns)
        self._listing: Listing | None = None
        self._parents: dict[int, int] = {}
        self._rows: dict[int, int] = {}
        self._share_heading = _HEADINGS["share"]

    @property
    def listing(self) -> Listing | None:
        """What is shown."""
        return self._listing

    def show(self, listing: Listing | None, *, share_heading: str = "Share") -> None:
        """Show another listing from its top."""
        self.beginResetModel()
        self._listing = listing
        self._share_heading = share_heading
        self._parents.clear()
        self._rows.clear()
        self.endResetModel()

    def narrow(self, text: str, sort: Sort | None) -> None:
        """Show only what fits; see :meth:`Listing.narrow`."""
        if self._listing is not None:
            self.beginResetModel()
            self._listing.narrow(text, sort)
            self._parents.clear()
            self._rows.clear()
            self.endResetModel()

    def refresh_row(self, node: int) -> None:
        """A row has something new to say."""
        index = self.index_of(node)
        if index.isValid():
            self.dataChanged.emit(index, index.siblingAtColumn(len(self._columns) - 1))

    def index_of(self, node: int) -> QModelIndex:
        """The index of a top row, or of a row whose folder was looked into; invalid for all others."""
        if self._listing is None:
            return QModelIndex()
        parent = self._parents.get(node, TOP)
        children = self._listing.children(parent)
        row = self._rows.get(node, -1)
        if not (0 <= row < len(children) and children[row] == node):
            row = children.index(node) if node in children else -1
        if row < 0:
            return QModelIndex()
        self._parents[node], self._rows[node] = parent, row
        return self.createIndex(row, 0, node)

    def node(self, index: Index) -> int:
        """The node of an index; the top for an invalid one."""
        return int(index.internalId()) if index.isValid() else TOP

    def record(self, index: Index) -> Record | None:
        """What a row shows."""
        if not index.isValid() or self._listing is None:
            return None
        return self._listing.record(self.node(index))

    def nodes_between(self, parent: Index, first: int, last: int) -> Iterable[int]:
        """The nodes of a run of rows."""
        return self._listing.children(self.node(parent))[first : last + 1] if self._listing is not None else ()

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        if self._listing is None or column >= len(self._columns) or row < 0 or column < 0:
            return QModelIndex()
        folder = self.node(parent)
        children = self._listing.children(folder)
        if row >= len(children):
            return QModelIndex()
        node = children[row]
        self._parents[node], self._rows[node] = folder, row
        return self.createIndex(row, column, node)

    def parent(self, index: Index = QModelIndex()) -> QModelIndex:  # type: ignore[override]  # noqa: B008
        folder = self._parents.get(self.node(index), TOP) if index.isValid() else TOP
        return self.index_of(folder) if folder != TOP else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if self._listing is None or parent.column() > 0:
            return 0
        node = self.node(parent)
        return len(self._listing.children(node)) if self._listing.expands(node) or node == TOP else 0

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        return self.rowCount(parent) > 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._columns)

    def flags(self, index: Index) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable if index.isValid() else Qt.ItemFlag.NoItemFlags

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
        if role == RECORD:
            return record
        key = self._columns[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return _shown(record, key)
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
