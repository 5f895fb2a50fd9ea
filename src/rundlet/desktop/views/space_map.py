"""The space map: every thing in a folder as an area as large as its bytes, with what is in it one level deeper."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QToolTip, QWidget

from rundlet.core import text
from rundlet.core.model.file_type import FileType
from rundlet.desktop.locations.areas import Area, Placed, placed
from rundlet.desktop.theme.theme import theme
from rundlet.presentation.sentences import say

_TINTS = {
    FileType.FOLDERS: "oak_wash",
    FileType.ARCHIVES: "oak_wash",
    FileType.PICTURES: "wine_wash",
    FileType.FILMS: "wine_wash",
    FileType.SOUND: "wine_wash",
}
_SPOKEN = 8


class SpaceMap(QWidget):
    """Click or Enter goes in; arrow keys go from one area to the next.

    Signals:
        entered: with the row of a folder to go into, or of a file to choose.
    """

    entered = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Space map")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._areas: tuple[Area, ...] = ()
        self.placed: list[Placed] = []
        self._current = 0
        self._chosen: frozenset[int] = frozenset()

    def show_areas(self, areas: tuple[Area, ...], chosen: frozenset[int]) -> None:
        """Show areas, the largest first, with some rows chosen."""
        if areas != self._areas:
            self._current = min(self._current, max(len(areas) - 1, 0))
        self._areas, self._chosen = areas, chosen
        self._arrange()
        self._speak()

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.sizes.thumb, theme.sizes.thumb)

    @property
    def total(self) -> int:
        """The bytes of everything in the map."""
        return sum(area.size for area in self._areas)

    def _arrange(self) -> None:
        s = theme.sizes
        self.placed = placed(
            self._areas, self.width() - s.edge, self.height() - s.edge, title=s.body + 2 * s.space, gap=s.space
        )
        self.update()

    def _speak(self) -> None:
        if not self._areas:
            self.setAccessibleDescription("There is nothing here.")
            return
        largest = ", ".join(_words(area, self.total) for area in self._areas[:_SPOKEN])
        current = _words(self._areas[self._current], self.total)
        self.setAccessibleDescription(say("On {current}. The largest: {largest}.", current=current, largest=largest))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def area_at(self, at: QPointF) -> Area | None:
        """The outer area at a place."""
        return next((p.area for p in self.placed if p.depth == 0 and _rect(p).contains(at)), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        area = self.area_at(event.position())
        if area is not None and event.button() == Qt.MouseButton.LeftButton:
            self._current = self._areas.index(area)
            self._go()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1}.get(
            Qt.Key(event.key())
        )
        if step is not None and self._areas:
            self._current = max(0, min(self._current + step, len(self._areas) - 1))
            self._speak()
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.modifiers():
            self._go()
        else:
            super().keyPressEvent(event)

    def _go(self) -> None:
        if self._areas and self._areas[self._current].node:
            self.entered.emit(self._areas[self._current].node)

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            inner = [p.area for p in self.placed if _rect(p).contains(QPointF(event.pos()))]
            words = "\n".join(_words(area, self.total) for area in inner)
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(theme.sizes.body))
        for place in self.placed:
            self._paint(painter, place)
        if self.hasFocus() and self._areas:
            self._paint_focus(painter)

    def _paint_focus(self, painter: QPainter) -> None:
        current = next((p for p in self.placed if p.area is self._areas[self._current]), None)
        if current is not None:  # none has a place while there is no room at all
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.color("wine"), theme.sizes.mark))
            painter.drawRoundedRect(_rect(current).adjusted(2, 2, -2, -2), theme.sizes.space, theme.sizes.space)

    def _paint(self, painter: QPainter, place: Placed) -> None:
        s = theme.sizes
        area, rect = place.area, _rect(place).adjusted(s.edge, s.edge, -s.edge, -s.edge)
        if rect.width() <= s.edge or rect.height() <= s.edge:
            return
        chosen = area.node in self._chosen
        painter.setPen(QPen(theme.color("wine" if chosen else "line"), s.mark if chosen else s.edge))
        token = "card" if place.depth and area.file_type == FileType.FOLDERS else _TINTS.get(area.file_type, "card")
        painter.setBrush(theme.color(token))
        corner = min(float(s.space), rect.width() / 4, rect.height() / 4)
        painter.drawRoundedRect(rect, corner, corner)
        self._write(painter, rect, place)

    def _write(self, painter: QPainter, rect: QRectF, place: Placed) -> None:
        s = theme.sizes
        line = s.body + s.space
        if rect.height() < line or rect.width() < 3 * s.body:
            return
        room = rect.adjusted(s.space, s.space / 2, -s.space, 0)
        metrics = painter.fontMetrics()
        size = text.size(place.area.size)
        beside = not place.depth and metrics.horizontalAdvance(size) * 2 < room.width()
        room_for_name = room.width() - (metrics.horizontalAdvance(size) + s.gap if beside else 0)
        name = metrics.elidedText(text.shown(place.area.name), Qt.TextElideMode.ElideMiddle, int(room_for_name))
        painter.setPen(theme.color("ink" if not place.depth else "soft"))
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        painter.setPen(theme.color("soft"))
        if beside:
            painter.drawText(room, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, size)
        elif not place.filled and rect.height() > 2 * line and metrics.horizontalAdvance(size) < room.width():
            painter.drawText(room.adjusted(0, line, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, size)


def _rect(place: Placed) -> QRectF:
    return QRectF(place.x, place.y, place.width, place.height)


def _words(area: Area, total: int) -> str:
    words = "{name:shown}: {size:size}, {share:.0%} of it" if total else "{name:shown}: {size:size}"
    return say(words, name=area.name, size=area.size, share=area.size / max(total, 1))
