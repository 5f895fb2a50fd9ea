"""Cards with a small picture or an icon, a name and a size, painted from tokens."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QStyle, QStyleOptionViewItem

from rundlet.core import text
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.file_type import FileType
from rundlet.desktop.delegates.elided_names import fitted
from rundlet.desktop.delegates.name_editing import NameEditingDelegate
from rundlet.desktop.theme.style import paint_indicator
from rundlet.desktop.theme.theme import theme

if TYPE_CHECKING:
    from rundlet.desktop.models.entries import EntryModel
    from rundlet.desktop.preview_loader import Thumbs

Index = QModelIndex | QPersistentModelIndex
_CENTRE = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter


class ThumbDelegate(NameEditingDelegate):
    """Paints one card."""

    def __init__(self, model: EntryModel, thumbs: Thumbs) -> None:
        super().__init__()
        self._model = model
        self._thumbs = thumbs

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        s = theme.sizes
        return QSize(s.thumb + 2 * s.gap, s.thumb + 2 * (s.body + s.space) + 2 * s.gap)

    def tick_rect(self, cell: QRect) -> QRect:
        """Where the tick box is on a card."""
        s = theme.sizes
        return QRect(cell.left() + s.gap + s.space, cell.top() + s.gap + s.space, s.tick, s.tick)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        record = self._model.record(index)
        if record is None:
            return
        s = theme.sizes
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        card = QRectF(option.rect).adjusted(s.space, s.space, -s.space, -s.space)
        painter.save()
        painter.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        focused = bool(option.state & QStyle.StateFlag.State_HasFocus)
        painter.setPen(QPen(theme.color("wine" if focused or selected else "line"), s.ring if focused else s.edge))
        painter.setBrush(theme.color("wine_wash" if selected else "card"))
        painter.drawRoundedRect(card, s.corner, s.corner)
        lines = s.body + s.space
        frame = QRect(
            int(card.left()) + s.space, int(card.top()) + s.space, int(card.width()) - 2 * s.space, s.thumb - s.gap
        )
        picture = self._thumbs.picture(self._model.node(index))
        if picture is not None:
            size = picture.size().scaled(frame.size(), Qt.AspectRatioMode.KeepAspectRatio)
            at = QRect(frame.topLeft(), size)
            at.moveCenter(frame.center())
            painter.drawPixmap(at, picture)
        else:
            side = s.thumb // 3
            icon = QRect(0, 0, side, side)
            icon.moveCenter(frame.center())
            oak = record.file_type in (FileType.FOLDERS, FileType.ARCHIVES)
            theme.paint_icon(painter, icon, record.file_type.name, "oak" if oak else "soft")
        painter.setFont(theme.font(s.body))
        words = QRect(frame.left(), frame.bottom() + s.space, frame.width(), lines)
        beside = self._model.names_beside(index)
        name = fitted(painter.fontMetrics(), text.shown(record.name), words.width(), beside)
        painter.setPen(theme.color("ink"))
        painter.drawText(words, _CENTRE, name)
        painter.setPen(theme.color("soft"))
        size_words = record.note or ("…" if record.size == UNKNOWN else text.size(record.size))
        painter.drawText(words.translated(0, lines), _CENTRE, size_words)
        paint_indicator(painter, QRectF(self.tick_rect(option.rect)), on=selected)
        painter.restore()
