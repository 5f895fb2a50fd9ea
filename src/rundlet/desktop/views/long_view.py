"""The list of a folder with very many rows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QItemSelectionModel, QModelIndex, QPoint, Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from rundlet.desktop.delegates.rows import RowDelegate
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

    from rundlet.desktop.views.entry_views import EntryView

_Move = QAbstractItemView.CursorAction


class LongView(QTableView):
    """Looks and works like the list beside it, whose model, choice and order it shares.

    A tree lays out every row before it shows one, which takes half a second for a million of them; a table, in which no
    row can be opened in its place, works out where those in sight are.

    Signals:
        entered, look_wanted, drag_wanted, replaced: as in :class:`EntryView`.
    """

    entered = Signal(int)
    look_wanted = Signal()
    drag_wanted = Signal(object)
    replaced = Signal()
    pointed = False

    def __init__(self, beside: EntryView) -> None:
        super().__init__()
        self.entries = beside.entries
        self._delegate = RowDelegate(ticks=True)
        self.setModel(self.entries)
        self.setSelectionModel(beside.selectionModel())
        self.setItemDelegate(self._delegate)
        prepare(self)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setTabKeyNavigation(False)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(beside.accessibleName())
        self._lay_out(beside)
        self.doubleClicked.connect(self._enter)

    def _lay_out(self, beside: EntryView) -> None:
        rows, columns, theirs = self.verticalHeader(), self.horizontalHeader(), beside.header()
        rows.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        rows.setDefaultSectionSize(theme.sizes.row)
        rows.hide()
        lay_out_columns(columns)
        columns.setAccessibleName(theirs.accessibleName())
        columns.setDefaultAlignment(theirs.defaultAlignment())
        columns.setHighlightSections(False)
        columns.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        columns.customContextMenuRequested.connect(beside.offer_header_menu)
        # As in the list beside: a header would ask for every row whether it is chosen.
        for header in (rows, columns):
            header.setSelectionModel(QItemSelectionModel(self.entries, self))
        columns.setSortIndicator(theirs.sortIndicatorSection(), theirs.sortIndicatorOrder())
        self.setSortingEnabled(True)
        theirs.sortIndicatorChanged.connect(self.sortByColumn)
        columns.sortIndicatorChanged.connect(beside.sortByColumn)

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

    def moveCursor(self, action: _Move, modifiers: Qt.KeyboardModifier) -> QModelIndex:
        """Rows are what one moves between."""
        if action in (_Move.MoveHome, _Move.MoveEnd):
            return self.entries.index(0 if action == _Move.MoveHome else self.entries.rowCount() - 1, 0)
        return super().moveCursor(action, modifiers)

    def _enter(self, index: QModelIndex) -> None:
        if index.isValid():
            self.entered.emit(self.entries.node(index))
