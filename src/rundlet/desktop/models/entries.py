"""Qt's view of a listing: lazily, and without touching a file."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QDateTime, QLocale, QModelIndex, QObject, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QStandardItem, QStandardItemModel

from rundlet.core import text
from rundlet.core.model.entry import NO_TIME, UNKNOWN
from rundlet.desktop.locations.listing import COLUMNS, TOP, Listing, Row
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.model.file_type import FileType

_MOST_OPENED = 20_000  # rows beside each other; among more of them folders are gone into, not opened in their place
_LONG = 4_000  # rows; a tree takes a moment for each of them
_FEW = 16  # rows that are sooner found one by one among very many than by making a table of all
_HEADINGS = {"name": "Name", "kind": "Kind", "size": "Size", "share": "Share", "changed": "Changed"}
Index = QModelIndex | QPersistentModelIndex


class EntryModel(QStandardItemModel):
    """A listing as rows and columns.

    A view asks for every row there is, so rows, their places and what one may do with them are Qt's own; of a million
    of them only those in sight are asked what they say. Rows have no item of their own but for those that can be opened.

    Args:
        columns: which of :data:`COLUMNS` to show.

    Attributes:
        beside: runs a work that takes long beside the interface, and then calls back; at once where nothing else is set.

    Signals:
        renamed: a person gave a row another name; with its node and the name. The listing is not changed by that.
        reordering, reordered: before and after rows get another order, which no index outlives.
    """

    renamed = Signal(int, str)
    reordering = Signal()
    reordered = Signal()

    def __init__(self, columns: Sequence[str] = COLUMNS, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._columns = tuple(columns)
        self._listing: Listing | None = None
        self._order = self._columns[0], False
        self._rows: dict[int, int] = {}
        self._opened: set[int] = set()
        self._items = 0
        self._long = False
        self._share_heading = _HEADINGS["share"]
        self.beside: Callable[[Callable[[], None], Callable[[], None]], None] = _at_once
        self.setColumnCount(len(self._columns))

    @property
    def listing(self) -> Listing | None:
        """What is shown."""
        return self._listing

    def show(self, listing: Listing | None, *, share_heading: str = "Share") -> None:
        """Show another listing from its top, in the order of the one before."""
        self._listing = listing
        self._share_heading = share_heading
        if listing is not None:
            listing.sort(self._order[0], descending=self._order[1])
        self._begin()

    def narrow(self, text: str, file_type: FileType | None) -> None:
        """Show only what fits; see :meth:`Listing.narrow`."""
        if self._listing is not None:
            self._listing.narrow(text, file_type)
            self._begin()

    def _begin(self) -> None:
        self.beginResetModel()
        was = self.blockSignals(True)
        self.setRowCount(0)
        self._rows.clear()
        self._opened.clear()
        self._items, self._long = 0, False
        if self._listing is not None:
            self.setRowCount(len(self._listing.children(TOP)))
            self._open_below(TOP, self.invisibleRootItem())
            self._long = self.rowCount() > _LONG and self.is_flat
        self.blockSignals(was)
        self.endResetModel()

    def _open_below(self, node: int, item: QStandardItem) -> None:
        """Give the rows in a folder that can be opened an item with their number of rows."""
        self._opened.add(node)
        listing = self._listing
        if listing is None or not getattr(listing, "opens_in_place", True):
            return
        children = listing.children(node)
        for row, child in enumerate(children if len(children) <= _MOST_OPENED else ()):
            if listing.is_folder(child) and (count := listing.count(child)):
                item.setChild(row, 0, QStandardItem(count, len(self._columns)))
                self._items += 1

    def canFetchMore(self, parent: Index) -> bool:
        return parent.isValid() and self.hasChildren(parent) and self.node(parent) not in self._opened

    def fetchMore(self, parent: Index) -> None:
        if self.canFetchMore(parent):
            was = self.blockSignals(True)  # nobody has asked for these rows before
            self._open_below(self.node(parent), self.itemFromIndex(parent))
            self.blockSignals(was)

    def opened(self) -> list[int]:
        """The nodes whose rows were asked for."""
        return [node for node in self._opened if node != TOP]

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
            if self._long:
                return _place_of(node, children)
            self._rows.update(zip(children, range(len(children)), strict=True))  # once for all that lie beside it
            row = self._rows.get(node, -1)
            if not (0 <= row < len(children) and children[row] == node):
                return -1
        return row

    def rows_of(self, nodes: Sequence[int]) -> list[int]:
        """The same for many."""
        if self._long and self._listing is not None and len(nodes) > _FEW:
            children = self._listing.children(TOP)
            self._rows = dict(zip(children, range(len(children)), strict=True))
            return [self._rows.get(node, -1) for node in nodes]
        return [self.row_of(node) for node in nodes]

    def index_of(self, node: int) -> QModelIndex:
        """The index of a row; invalid for one that is not shown."""
        row = self.row_of(node)
        if row < 0 or self._listing is None:
            return QModelIndex()
        above = self._listing.parent_of(node)
        if above == TOP:
            return self.index(row, 0)
        parent = self.index_of(above)
        self.fetchMore(parent)
        return self.index(row, 0, parent) if parent.isValid() else QModelIndex()

    def node(self, index: Index) -> int:
        """The node of an index; the top for an invalid one."""
        if self._listing is None or not index.isValid():
            return TOP
        return self._listing.children(self.node(index.parent()))[index.row()]

    def key(self, column: int) -> str:
        """Which of :data:`COLUMNS` a column shows."""
        return self._columns[column]

    def record(self, index: Index) -> Row | None:
        """What a row shows."""
        if not index.isValid() or self._listing is None:
            return None
        return self._listing.record(self.node(index))

    def names_beside(self, index: Index) -> Iterator[str]:
        """The names in the rows above and below, as they are shown."""
        for row in (index.row() - 1, index.row() + 1):
            record = self.record(index.sibling(row, index.column()))
            if record is not None:
                yield text.shown(record.name)

    def nodes_between(self, parent: Index, first: int, last: int) -> Iterable[int]:
        """The nodes of a run of rows."""
        return self._listing.children(self.node(parent))[first : last + 1] if self._listing is not None else ()

    def supportedDragActions(self) -> Qt.DropAction:
        moves = getattr(self._listing, "is_editable", False)
        return Qt.DropAction.CopyAction | Qt.DropAction.MoveAction if moves else Qt.DropAction.CopyAction

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
        wanted = self._columns[column], order == Qt.SortOrder.DescendingOrder
        if wanted == self._order:
            return
        self._order = wanted
        listing = self._listing
        if listing is not None and self.is_long:
            self.beside(
                lambda: listing.order_ahead(wanted[0], descending=wanted[1]), lambda: self._put_in_order(listing)
            )
        elif listing is not None:
            self._put_in_order(listing)

    def _put_in_order(self, listing: Listing) -> None:
        if listing is not self._listing:
            return
        self.reordering.emit()
        listing.sort(self._order[0], descending=self._order[1])
        if self.is_flat:  # the rows stay, and each may say something else
            self.layoutAboutToBeChanged.emit()
            self.layoutChanged.emit()
        else:
            self._begin()
        self.reordered.emit()

    @property
    def order(self) -> tuple[str, bool]:
        """One of :data:`COLUMNS`, and whether the last or largest comes first."""
        return self._order

    @property
    def is_long(self) -> bool:
        """Whether there are very many rows, of which none can be opened: a view must not go through them one by one."""
        return self._long

    @property
    def is_flat(self) -> bool:
        """Whether no row can be opened in its place."""
        return not self._items


def _place_of(node: int, children: Sequence[int]) -> int:
    try:
        return children.index(node)
    except ValueError:
        return -1


def _at_once(work: Callable[[], None], then: Callable[[], None]) -> None:
    work()
    then()


def _shown(record: Row, key: str) -> str:
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


def _details(record: Row) -> str:
    parts = [text.shown(record.name)]
    if record.size != UNKNOWN:
        parts.append(say("{size:number} bytes", size=record.size))
    if record.packed != UNKNOWN:
        parts.append(say("{packed:number} bytes packed", packed=record.packed))
    if record.mtime_ns != NO_TIME:
        parts.append(say("changed {when}", when=_when(record.mtime_ns, with_time=True)))
    if record.note:
        parts.append(record.note)
    return "\n".join(parts)


def _spoken(record: Row) -> str:
    parts = [text.shown(record.name), record.word, record.note]
    if record.size != UNKNOWN:
        parts.append(text.size(record.size))
    return ", ".join(filter(None, parts))
