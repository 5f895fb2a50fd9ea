"""What all ways of listing rows have in common: clicks, keys, and how wide the columns are."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtCore import QEvent, QItemSelectionModel, QModelIndex, QPersistentModelIndex, QPoint, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QAbstractItemView, QApplication, QHeaderView

from rundlet.desktop.theme.theme import theme

if TYPE_CHECKING:
    from rundlet.desktop.models.entries import EntryModel

Index = QModelIndex | QPersistentModelIndex
_Flag = QItemSelectionModel.SelectionFlag
_typed_at = 0.0  # when a letter was last typed in a list
MOST_SEARCHED = 20_000  # rows; to look through more for what is typed would keep the view busy for too long
_PLAIN = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)


class RowsView(Protocol):
    """A view that lists rows.

    Attributes:
        entered, look_wanted, replaced: its signals.
        pointed: whether it was the mouse that selected last, and not a key.
    """

    entries: EntryModel
    entered: Any
    look_wanted: Any
    replaced: Any
    pointed: bool

    def in_tick(self, index: Index, at: QPoint) -> bool:
        """Whether a point lies on the tick box of a row."""

    def state(self) -> QAbstractItemView.State: ...

    def currentIndex(self) -> QModelIndex: ...


def item_command(view: RowsView, index: Index, event: QEvent | None) -> QItemSelectionModel.SelectionFlag | None:
    """What a click does to the choice where it is not the usual thing; None where it is."""
    global _typed_at
    if isinstance(event, QMouseEvent):
        _typed_at = 0.0
        if not index.isValid():
            held = event.type() == QEvent.Type.MouseMove  # a band is being drawn
            return None if held else _Flag.NoUpdate
        if event.type() == QEvent.Type.MouseButtonPress and view.in_tick(index, event.position().toPoint()):
            return _Flag.Toggle | _Flag.Rows
        if event.type() == QEvent.Type.MouseButtonRelease and view.in_tick(index, event.position().toPoint()):
            return _Flag.NoUpdate
    return None


def tell_replaced(
    view: RowsView, command: QItemSelectionModel.SelectionFlag, event: QEvent | None
) -> QItemSelectionModel.SelectionFlag:
    """Pass a command on, and say so when a person lets go of everything else with it."""
    if event is not None:
        view.pointed = isinstance(event, QMouseEvent)
    if event is not None and command & _Flag.Clear:
        view.replaced.emit()
    return command


def takes_key(view: RowsView, event: QKeyEvent) -> bool:
    """Whether a key goes in or asks for a look; a name that is being typed keeps its keys."""
    if view.state() == QAbstractItemView.State.EditingState:
        return True
    if event.modifiers() not in _PLAIN:
        return False
    if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
        if view.currentIndex().isValid():
            view.entered.emit(view.entries.node(view.currentIndex()))
        return True
    global _typed_at
    now = time.monotonic()
    if event.key() == Qt.Key.Key_Space and now - _typed_at > QApplication.keyboardInputInterval() / 1000:
        view.look_wanted.emit()
        return True
    if event.text().isprintable() and event.text() and view.entries.rowCount() <= MOST_SEARCHED:
        _typed_at = now  # a name is being typed to go to, in which a space is a space
    return False


def prepare(view: QAbstractItemView) -> None:
    """Whole rows are chosen, several at once, and dragged; names are typed only when that was asked for."""
    view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
    view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    view.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
    view.setDragEnabled(True)


def lay_out_columns(header: QHeaderView) -> None:
    """Give the columns of a list their widths: the names have what the others leave."""
    header.setStretchLastSection(False)
    header.setMinimumSectionSize(theme.sizes.control)
    header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
    samples = {1: "GeoJSON map ", 2: "1000.0 kB ", 3: "Packed bar", 4: "29/12/2031 "}
    for column, sample in samples.items():
        header.setSectionResizeMode(column, QHeaderView.ResizeMode.Interactive)
        header.resizeSection(column, theme.text_width(sample) + 2 * theme.sizes.gap)
