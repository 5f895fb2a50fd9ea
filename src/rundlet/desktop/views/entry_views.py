"""The list and the cards of what lies in a place. Both show one model and share one choice."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtCore import (
    QEvent,
    QItemSelection,
    QItemSelectionModel,
    QItemSelectionRange,
    QModelIndex,
    QPoint,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtWidgets import QAbstractItemView, QListView, QMenu, QTreeView

from rundlet.desktop.delegates.rows import RowDelegate
from rundlet.desktop.delegates.thumbs import ThumbDelegate
from rundlet.desktop.locations.listing import COLUMNS, TOP
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.row_selection import (
    MOST_SEARCHED,
    Index,
    item_command,
    lay_out_columns,
    prepare,
    takes_key,
    tell_replaced,
)

if TYPE_CHECKING:
    from PySide6.QtGui import QKeyEvent

    from rundlet.desktop.models.entries import EntryModel
    from rundlet.desktop.preview_loader import Thumbs

_Flag = QItemSelectionModel.SelectionFlag
_ORDER_WORDS = {
    "name": "Sort by name",
    "kind": "Sort by kind",
    "size": "Sort by size",
    "share": "Sort by share",
    "changed": "Sort by time of change",
}
_COLUMN_WORDS = {
    "kind": "Show the kind",
    "size": "Show the size",
    "share": "Show the share",
    "changed": "Show the time of change",
}
_CARDS_AT_ONCE = 20_000


class EntryView(QTreeView):
    """The list. A click in a tick box adds or takes back one row; a click beside all rows loses no choice.

    Signals:
        entered: with the node that is to be gone into.
        look_wanted: the current row is to be shown, or no longer.
        drag_wanted: the chosen rows are taken hold of; with what may be done with them.
        replaced: a person selects something and lets go of all else, of what is not shown too.
        columns_wanted: with the columns beside the names that a person wants to see, with commas between.
    """

    entered = Signal(int)
    look_wanted = Signal()
    drag_wanted = Signal(object)
    replaced = Signal()
    columns_wanted = Signal(str)
    pointed = False

    def __init__(self, model: EntryModel) -> None:
        super().__init__()
        self._delegate = RowDelegate(ticks=True)
        self.entries = model
        self.columns: tuple[str, ...] = COLUMNS[1:]  # those beside the names that a person wants to see
        self.setModel(model)
        # A header asks for every row whether it is chosen, each time that it is painted; ours has no use for that.
        self.header().setSelectionModel(QItemSelectionModel(model, self))
        self.setItemDelegate(self._delegate)
        prepare(self)
        self.setUniformRowHeights(True)
        self.setSortingEnabled(True)
        self.setExpandsOnDoubleClick(False)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Files and folders")
        self.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self._left: tuple[list[int], list[int], int] = [], [], TOP
        self._left_of: object = None  # the listing that this is of
        self._left_all = False
        model.reordering.connect(self._leave_order)
        model.reordered.connect(self._take_order)
        self.doubleClicked.connect(self._enter)
        self.header().setAccessibleName("Columns of the list")
        self.header().setSectionsMovable(False)
        self.header().setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.header().customContextMenuRequested.connect(self.offer_header_menu)
        lay_out_columns(self.header())

    def selectionCommand(self, index: Index, event: QEvent | None = None) -> QItemSelectionModel.SelectionFlag:
        command = item_command(self, index, event)
        return tell_replaced(self, super().selectionCommand(index, event) if command is None else command, event)

    def in_tick(self, index: Index, at: QPoint) -> bool:
        """Whether a point is in the tick box of a row."""
        return index.column() == 0 and self._delegate.is_in_tick(self.visualRect(index), at)

    def startDrag(self, actions: Qt.DropAction) -> None:
        self.drag_wanted.emit(actions)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not takes_key(self, event):
            super().keyPressEvent(event)

    def keyboardSearch(self, search: str) -> None:
        if self.entries.rowCount() <= MOST_SEARCHED:
            super().keyboardSearch(search)

    def doItemsLayout(self) -> None:
        """Nothing, where there are so many rows that :class:`LongView` shows them: each takes a moment here."""
        if self.entries.is_long:
            QAbstractItemView.doItemsLayout(self)
        else:
            super().doItemsLayout()

    def _leave_order(self) -> None:
        entries = self.entries
        self.executeDelayedItemsLayout()  # until then a row that was just opened has not asked for those below it
        # Below a closed folder nothing has asked for its rows since the last order; what was open in it then still is.
        known = dict.fromkeys([*entries.opened(), *(self._left[0] if self._left_of is entries.listing else ())])
        opened = [node for node in known if self.isExpanded(entries.index_of(node))]
        chosen = self.chosen_nodes()
        self._left, self._left_of = (opened, chosen, entries.node(self.currentIndex())), entries.listing
        self._left_all = entries.listing is not None and chosen == entries.listing.children(TOP)

    def _take_order(self) -> None:
        """What was opened, chosen and current still is, wherever it stands now."""
        opened, chosen, current = self._left
        for node in opened:
            self.setExpanded(self.entries.index_of(node), True)
        if self._left_all:
            self._choose_all_at_top()
        elif chosen:
            self._select(chosen)
        if current != TOP:
            self.selectionModel().setCurrentIndex(self.entries.index_of(current), _Flag.NoUpdate)

    def _enter(self, index: QModelIndex) -> None:
        if index.isValid():
            self.entered.emit(self.entries.node(index))

    def chosen_nodes(self) -> list[int]:
        """The nodes of all selected rows, run by run."""
        top: list[int] = []
        below: list[int] = []
        for run in self.selectionModel().selection().toList():
            if run.left() == 0:
                nodes = below if run.parent().isValid() else top
                nodes += self.entries.nodes_between(run.parent(), run.top(), run.bottom())
        return top + below if below else top

    def choose_nodes(self, nodes: Iterable[int]) -> None:
        """Select rows, and no others; the first becomes the current one, and what it stands in is opened."""
        first = self._select(nodes)
        current = self.entries.index_of(first) if first >= 0 else QModelIndex()
        self.selectionModel().setCurrentIndex(current, _Flag.NoUpdate)
        self.scrollTo(current)

    def _select(self, nodes: Iterable[int]) -> int:
        """Select rows, as far as they are shown; the first of them, or -1."""
        entries = self.entries
        by_parent: dict[int, list[int]] = {}
        first = -1
        nodes = list(nodes)
        for node, row in zip(nodes, entries.rows_of(nodes), strict=True):
            if row >= 0 and entries.listing is not None:
                by_parent.setdefault(entries.listing.parent_of(node), []).append(row)
                first = node if first < 0 else first
        selection = QItemSelection()
        for parent, rows in by_parent.items():
            self._add_runs(selection, entries.index_of(parent), sorted(rows))
        self.selectionModel().select(selection, _Flag.ClearAndSelect)
        return first

    def selectAll(self) -> None:
        """Everything that is there to be seen."""
        if self.entries.is_flat:
            self._choose_all_at_top()
        else:
            super().selectAll()

    def choose_others(self) -> None:
        """The rows at the top that are not chosen, instead of all that are."""
        if self.entries.is_flat:
            self._choose_all_at_top(_Flag.Toggle)
            # Else the next run that is picked with Shift would take the place of all that was changed by this.
            self.selectionModel().select(QItemSelection(), _Flag.Select)
        elif self.entries.listing is not None:
            chosen = set(self.chosen_nodes())
            self.choose_nodes(node for node in self.entries.listing.children(TOP) if node not in chosen)

    def _choose_all_at_top(self, how: QItemSelectionModel.SelectionFlag = _Flag.ClearAndSelect) -> None:
        """In one run, as a million rows one by one take seconds."""
        last = self.entries.index(self.entries.rowCount() - 1, self.entries.columnCount() - 1)
        self.selectionModel().select(QItemSelection(self.entries.index(0, 0), last), how)

    def _add_runs(self, selection: QItemSelection, parent: QModelIndex, rows: list[int]) -> None:
        """Rows as runs: a selection of many single rows takes very long."""
        last_column = self.entries.columnCount() - 1
        there = self.entries.rowCount(parent)
        at = 0
        while at < len(rows) and rows[at] < there:
            end = at
            while end + 1 < len(rows) and rows[end + 1] == rows[end] + 1 and rows[end + 1] < there:
                end += 1
            begin_index = self.entries.index(rows[at], 0, parent)
            selection.append(QItemSelectionRange(begin_index, self.entries.index(rows[end], last_column, parent)))
            at = end + 1

    def header_menu(self) -> QMenu:
        """Every order that the list can be put in, also by what has no column, and which columns there are."""
        menu = QMenu(self)
        for column, key in enumerate(COLUMNS):
            action = menu.addAction(_ORDER_WORDS[key])
            action.setData(column)
            action.triggered.connect(self._order_chosen)
        menu.addSeparator()
        for key in COLUMNS[1:]:
            action = menu.addAction(_COLUMN_WORDS[key])
            action.setCheckable(True)
            action.setChecked(key in self.columns)
            action.setData(key)
            action.toggled.connect(self._column_chosen)
        return menu

    def _column_chosen(self, shows: bool) -> None:
        chosen = {*self.columns, self.sender().data()} if shows else {*self.columns} - {self.sender().data()}  # type: ignore[attr-defined]
        self.columns_wanted.emit(",".join(key for key in COLUMNS if key in chosen))

    def offer_header_menu(self, at: QPoint) -> None:
        """Show the menu of the header, at a place of it that was asked."""
        self.header_menu().popup(self.sender().mapToGlobal(at))  # type: ignore[attr-defined]

    def _order_chosen(self) -> None:
        column = self.sender().data()  # type: ignore[attr-defined]
        largest_first = COLUMNS[column] in ("size", "share", "changed")
        self.sortByColumn(column, Qt.SortOrder.DescendingOrder if largest_first else Qt.SortOrder.AscendingOrder)


class ThumbView(QListView):
    """The cards, with the same signals and the same rules as the list."""

    entered = Signal(int)
    look_wanted = Signal()
    drag_wanted = Signal(object)
    replaced = Signal()
    pointed = False

    def __init__(self, beside: EntryView, thumbs: Thumbs) -> None:
        super().__init__()
        self.entries = beside.entries
        self._delegate = ThumbDelegate(self.entries, thumbs)
        self.setModel(self.entries)
        self.setSelectionModel(beside.selectionModel())
        self.setItemDelegate(self._delegate)
        self.setViewMode(QListView.ViewMode.IconMode)
        self.setMovement(QListView.Movement.Static)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setUniformItemSizes(True)
        self.setLayoutMode(QListView.LayoutMode.Batched)  # a million cards at once would take half a second
        self.setBatchSize(_CARDS_AT_ONCE)
        prepare(self)
        self.setAcceptDrops(False)
        self.setAccessibleName("Files and folders as thumbnails")
        self.doubleClicked.connect(self._enter)
        thumbs.arrived.connect(self._arrived)

    def selectionCommand(self, index: Index, event: QEvent | None = None) -> QItemSelectionModel.SelectionFlag:
        command = item_command(self, index, event)
        whole = (super().selectionCommand(index, event) if command is None else command) | _Flag.Rows
        return tell_replaced(self, whole, event)

    def in_tick(self, index: Index, at: QPoint) -> bool:
        """Whether a point is in the tick box of a card."""
        s = theme.sizes
        return (
            self._delegate.tick_rect(self.visualRect(index)).adjusted(-s.space, -s.space, s.space, s.space).contains(at)
        )

    def startDrag(self, actions: Qt.DropAction) -> None:
        self.drag_wanted.emit(actions)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not takes_key(self, event):
            super().keyPressEvent(event)

    def viewportSizeHint(self) -> QSize:
        return QSize(theme.sizes.thumb, theme.sizes.thumb)

    def _enter(self, index: QModelIndex) -> None:
        if index.isValid():
            self.entered.emit(self.entries.node(index))

    def _arrived(self, node: int) -> None:
        if self.isVisible():
            self.update(self.entries.index_of(node))
