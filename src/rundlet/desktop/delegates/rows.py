"""Rows of the From list and of the landing tree, painted from tokens."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyle, QStyleOptionViewItem, QWidget

from rundlet.core import text
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.file_type import FileType
from rundlet.desktop.delegates.elided_names import fitted
from rundlet.desktop.delegates.name_editing import NameEditingDelegate
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.theme.style import paint_indicator, paint_ring
from rundlet.desktop.theme.theme import theme

if TYPE_CHECKING:
    from rundlet.desktop.locations.listing import Row

Index = QModelIndex | QPersistentModelIndex
_MIDDLE = Qt.AlignmentFlag.AlignVCenter
_FAINT = 0.35
_OAK = (FileType.FOLDERS, FileType.ARCHIVES)


class RowDelegate(NameEditingDelegate):
    """Paints a row's cells; the first one holds tick box, icon, name and note.

    Args:
        ticks: whether rows have tick boxes.
    """

    def __init__(self, *, ticks: bool) -> None:
        super().__init__()
        self._ticks = ticks

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(theme.sizes.row, theme.sizes.row)

    def tick_rect(self, cell: QRect) -> QRect:
        """Where the tick box is in the first cell; empty when there are none."""
        if not self._ticks:
            return QRect()
        s = theme.sizes
        return QRect(cell.left() + s.gap, cell.center().y() - s.tick // 2, s.tick, s.tick)

    def is_in_tick(self, cell: QRect, at: QPoint) -> bool:
        """Whether a point is meant for the tick box in a first cell."""
        s = theme.sizes
        return self.tick_rect(cell).adjusted(-s.space, -s.gap, s.space, s.gap).contains(at)

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        """The field for another name stands where the name stands."""
        s = theme.sizes
        left = s.gap + s.icon + (s.tick + s.gap if self._ticks else 0)
        editor.setGeometry(option.rect.adjusted(left, -s.space, 0, s.space))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model = index.model()
        record = model.record(index) if isinstance(model, EntryModel) else None
        if record is None or not isinstance(model, EntryModel):
            return
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if selected:
            painter.fillRect(option.rect, theme.color("wine_wash"))
        painter.setFont(theme.font(theme.sizes.body))
        if index.column() == 0:
            self._paint_name(painter, option, record, model.names_beside(index), selected=selected)
        elif model.key(index.column()) == "share":
            _paint_bar(painter, option.rect, record)
        else:
            self._paint_text(painter, option, index)
        painter.restore()

    def _paint_name(
        self,
        painter: QPainter,
        option: QStyleOptionViewItem,
        record: Row,
        beside: Iterable[str],
        *,
        selected: bool,
    ) -> None:
        s = theme.sizes
        rect = QRect(option.rect)
        if selected and self._ticks:
            painter.fillRect(QRect(rect.left(), rect.top(), s.mark, rect.height()), theme.color("wine"))
        if option.state & QStyle.StateFlag.State_HasFocus:
            paint_ring(painter, QRectF(rect))
        left = rect.left() + s.gap
        if self._ticks:
            paint_indicator(painter, QRectF(self.tick_rect(rect)), on=selected)
            left += s.tick + s.gap
        place = QRect(left, rect.center().y() - s.icon // 2, s.icon, s.icon)
        theme.paint_icon(painter, place, record.file_type.name, "oak" if record.file_type in _OAK else "soft")
        left += s.icon + s.gap
        note = record.note
        note_width = painter.fontMetrics().horizontalAdvance(note) + s.gap if note else 0
        room = rect.right() - left - s.space
        name_room = max(room - note_width, room * 3 // 5) if note else room
        name = fitted(painter.fontMetrics(), text.shown(record.name), name_room, beside)
        painter.setPen(theme.color(record.tone))
        font = painter.font()
        font.setStrikeOut(record.struck)
        painter.setFont(font)
        painter.drawText(QRect(left, rect.top(), name_room, rect.height()), _MIDDLE, name)
        font.setStrikeOut(False)
        painter.setFont(font)
        if note:
            left += painter.fontMetrics().horizontalAdvance(name) + s.gap
            room = rect.right() - left
            short = painter.fontMetrics().elidedText(note, Qt.TextElideMode.ElideRight, room)
            painter.setPen(theme.color("soft" if record.tone == "ink" else record.tone))
            painter.drawText(QRect(left, rect.top(), room, rect.height()), _MIDDLE, short)

    def _paint_text(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        s = theme.sizes
        rect = option.rect.adjusted(s.space, 0, -s.gap, 0)
        words = painter.fontMetrics().elidedText(str(index.data() or ""), Qt.TextElideMode.ElideRight, rect.width())
        alignment = index.data(Qt.ItemDataRole.TextAlignmentRole) or _MIDDLE
        is_size = bool(alignment & Qt.AlignmentFlag.AlignRight)
        painter.setPen(theme.color("ink" if is_size else "soft"))
        painter.drawText(rect, alignment, words)


def _paint_bar(painter: QPainter, cell: QRect, record: Row) -> None:
    """The row's part of the largest beside it; in archives its filling is the packed size."""
    s = theme.sizes
    room = cell.width() - 2 * s.gap
    if record.size == UNKNOWN or room <= 0:
        return
    width = max(round(room * min(record.share, 1.0)), s.edge)
    bar = QRect(cell.left() + s.gap, cell.center().y() - s.bar // 2, width, s.bar)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.faint("oak", _FAINT))
    painter.drawRoundedRect(bar, s.bar / 2, s.bar / 2)
    if record.packed != UNKNOWN and record.size > 0:
        filled = round(width * min(record.packed / record.size, 1.0))
        painter.setBrush(theme.color("wine"))
        painter.drawRoundedRect(QRect(bar.left(), bar.top(), max(filled, s.edge), s.bar), s.bar / 2, s.bar / 2)
