"""The trial chart: every format and level as a point, time across and size upwards, with the limit as a line."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from rundlet.core import text
from rundlet.desktop.theme.style import paint_ring
from rundlet.desktop.theme.theme import theme
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.work.trial import Point

_LEAST_SECONDS = 0.02
_TICKS = (0.1, 0.3, 1, 3, 10, 30, 60, 300, 1800, 7200)
_ROOM = 0.08  # above and below the points, as a share of the height
_FLAT = 0.05  # sizes that differ by less, as a share of the largest, are shown in as much room as this
_NEAR = 3  # how near to a point a click must be, in radii
_FAINT = 0.4
_SMALL = 0.7


@dataclass(frozen=True, slots=True)
class Picture:
    """What the chart shows.

    Attributes:
        points: all that are known.
        best: those that are not beaten in both time and size; the others are faint.
        chosen: the chosen format and level.
        before: bytes before packing.
        limit: bytes that the archive must fit into, or 0.
    """

    points: tuple[Point, ...] = ()
    best: frozenset[tuple[str, int]] = frozenset()
    chosen: tuple[str, int] = ("", 0)
    before: int = 0
    limit: int = 0


class Chart(QWidget):
    """A click, or the arrow keys, choose a point."""

    chosen = Signal(str, int)

    def __init__(self) -> None:
        super().__init__()
        self._picture = Picture()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._height = theme.sizes.chart
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trial: size and time of every format and level")

    def show_picture(self, picture: Picture) -> None:
        """Show other points."""
        self._picture = picture
        known = {(p.fmt, p.level): p for p in picture.points}
        self.setAccessibleDescription(point_words(known[picture.chosen]) if picture.chosen in known else "")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(theme.sizes.how_least, self._height)

    def give_way(self, room: int) -> bool:
        """Be lower where that much room is all there is, in pixels; as high as ever where no height would do. Whether that is
        another height than before."""
        sizes = theme.sizes
        height = min(room, sizes.chart) if room >= sizes.chart_least else sizes.chart
        if height == self._height:
            return False
        self._height = height
        self.updateGeometry()
        return True

    # Where things are

    def _area(self) -> QRectF:
        s = theme.sizes
        return QRectF(self.rect()).adjusted(s.chart_left, s.gap, -s.gap, -s.chart_below)

    def _scales(self) -> tuple[float, float, float, float]:
        """The least and most time (as logarithms) and size."""
        points = self._picture.points
        times = [math.log10(max(p.seconds, _LEAST_SECONDS)) for p in points]
        packed = [p.size for p in points if p.level] or [p.size for p in points]  # "as is" stands at the upper edge
        sizes = packed + ([self._picture.limit] if self._limit_is_near() else [])
        spread = max(sizes) - min(sizes)
        room = max(spread * _ROOM if spread > max(sizes) * _FLAT else max(sizes) * _FLAT, 1)
        return min(times) - 0.1, max(times) + 0.15, max(min(sizes) - room, 0), max(sizes) + room

    def _limit_is_near(self) -> bool:
        """Whether the limit is among the sizes; a far one would press all points into a line."""
        picture = self._picture
        if not picture.limit or not picture.points:
            return False
        sizes = [p.size for p in picture.points if p.level] or [p.size for p in picture.points]
        return min(sizes) * 0.7 <= picture.limit <= max(sizes) * 1.3

    def place(self, point: Point) -> QPointF:
        """Where a point is painted."""
        area = self._area()
        x0, x1, y0, y1 = self._scales()
        x = (math.log10(max(point.seconds, _LEAST_SECONDS)) - x0) / (x1 - x0)
        y = min((point.size - y0) / (y1 - y0), 1.0)
        return QPointF(area.left() + x * area.width(), area.bottom() - y * area.height())

    def _nearest(self, at: QPointF) -> Point | None:
        points = self._picture.points
        if not points:
            return None

        def away(point: Point) -> float:
            there = self.place(point) - at
            faint = (point.fmt, point.level) not in self._picture.best
            return math.hypot(there.x(), there.y()) + (theme.sizes.dot if faint else 0)

        nearest = min(points, key=away)
        return nearest if away(nearest) <= _NEAR * theme.sizes.dot else None

    # Choosing

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = self._nearest(event.position())
        if point is not None:
            self.chosen.emit(point.fmt, point.level)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Up: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Down: -1}.get(event.key())  # type: ignore[call-overload]
        order = sorted(
            (p for p in self._picture.points if (p.fmt, p.level) in self._picture.best or self._is_chosen(p)),
            key=lambda p: p.seconds,
        )
        if step is None or not order:
            super().keyPressEvent(event)
            return
        now = next((i for i, p in enumerate(order) if self._is_chosen(p)), 0)
        point = order[min(max(now + step, 0), len(order) - 1)]
        self.chosen.emit(point.fmt, point.level)

    def _is_chosen(self, point: Point) -> bool:
        return (point.fmt, point.level) == self._picture.chosen

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            point = self._nearest(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), point_words(point) if point is not None else "", self)
            return True
        return super().event(event)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(theme.sizes.small))
        if not self._picture.points:
            painter.setPen(theme.color("soft"))
            painter.drawText(self._area(), Qt.AlignmentFlag.AlignCenter, "Trying a sample …")
            return
        self._paint_axes(painter)
        self._paint_family(painter)
        for point in sorted(self._picture.points, key=self._is_chosen):
            self._paint_point(painter, point)
        taken = [self._box(point) for point in self._picture.points if self._stands_out(point)]
        if self._limit_is_near():
            taken.append(self._paint_limit(painter))
        self._paint_names(painter, taken)
        if self.hasFocus():
            paint_ring(painter, QRectF(self.rect()))

    def _paint_axes(self, painter: QPainter) -> None:
        area = self._area()
        x0, x1, y0, y1 = self._scales()
        metrics = painter.fontMetrics()
        for share in (0.0, 0.5, 1.0):
            y = area.bottom() - share * area.height()
            painter.setPen(QPen(theme.color("line"), theme.sizes.edge))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(theme.color("soft"))
            words = text.size(round(y0 + share * (y1 - y0)))
            box = QRectF(0, y - metrics.height() / 2, area.left() - theme.sizes.space, metrics.height())
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
        last = area.left() - theme.sizes.gap
        for seconds in _TICKS:
            x = area.left() + (math.log10(seconds) - x0) / (x1 - x0) * area.width()
            words = (
                f"{seconds:g} s"
                if seconds < 60
                else say("{seconds:g} min", seconds=seconds // 60)
                if seconds < 3600
                else f"{seconds // 3600:g} h"
            )
            width = metrics.horizontalAdvance(words)
            if area.left() <= x <= area.right() and x - width / 2 > last + theme.sizes.gap:
                painter.drawText(QPointF(x - width / 2, area.bottom() + metrics.height()), words)
                last = x + width / 2
        painter.drawText(
            QRectF(area.left(), self.height() - metrics.height() - 1, area.width(), metrics.height()),
            Qt.AlignmentFlag.AlignCenter,
            "time to pack →   lower is smaller",
        )

    def _paint_limit(self, painter: QPainter) -> QRectF:
        """The limit as a line with its name where it covers the fewest points; returns the place of the name."""
        area = self._area()
        _, _, y0, y1 = self._scales()
        y = area.bottom() - (self._picture.limit - y0) / (y1 - y0) * area.height()
        painter.setPen(QPen(theme.color("slate"), theme.sizes.mark / 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
        words = say("limit {limit:size}", limit=self._picture.limit)
        metrics = painter.fontMetrics()
        width, height = metrics.horizontalAdvance(words), metrics.height()
        places = [
            QRectF(left, top, width, height)
            for left in (area.right() - width, area.left())
            for top in (y - height - theme.sizes.edge, y + theme.sizes.edge)
        ]
        points = [self._box(point) for point in self._picture.points]
        _write(painter, words, "slate", places, points, must=True)
        return points[-1]

    def _paint_family(self, painter: QPainter) -> None:
        """A line through the levels of the chosen format, and its name."""
        family = sorted((p for p in self._picture.points if p.fmt == self._picture.chosen[0]), key=lambda p: p.level)
        path = QPainterPath()
        for i, point in enumerate(family):
            path.moveTo(self.place(point)) if not i else path.lineTo(self.place(point))
        painter.setPen(QPen(theme.color(_token(self._picture.chosen[0])), theme.sizes.edge))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _stands_out(self, point: Point) -> bool:
        return self._is_chosen(point) or (point.fmt, point.level) in self._picture.best

    def _box(self, point: Point) -> QRectF:
        """What a point covers."""
        radius = theme.sizes.dot if self._is_chosen(point) else theme.sizes.dot / 2
        at = self.place(point)
        return QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius)

    def _paint_names(self, painter: QPainter, taken: list[QRectF]) -> None:
        """What the chosen point is called, and once for each format that stands out what it is, where there is room."""
        chosen = [point for point in self._picture.points if self._is_chosen(point)]
        for point in chosen:
            self._paint_name(painter, f"{point.fmt} {point.level}", "ink", [point], taken, must=True)
        formats = dict.fromkeys(fmt for fmt, _ in sorted(self._picture.best) if not any(p.fmt == fmt for p in chosen))
        for fmt in formats:
            points = [point for point in self._picture.points if point.fmt == fmt and self._stands_out(point)]
            self._paint_name(painter, fmt, _token(fmt), points, taken)

    def _paint_name(
        self,
        painter: QPainter,
        words: str,
        token: str,
        points: list[Point],
        taken: list[QRectF],
        *,
        must: bool = False,
    ) -> None:
        """A name beside one of some points."""
        metrics = painter.fontMetrics()
        width, height = metrics.horizontalAdvance(words), metrics.height()
        places = []
        for point in points:
            box, gap = self._box(point), theme.sizes.space
            middle = box.center().y() - height / 2
            places += [
                QRectF(box.right() + gap, middle, width, height),
                QRectF(box.left() - gap - width, middle, width, height),
                QRectF(box.center().x() - width / 2, box.bottom(), width, height),
                QRectF(box.center().x() - width / 2, box.top() - height, width, height),
            ]
        frame = QRectF(self.rect()).adjusted(theme.sizes.chart_left, 0, 0, -theme.sizes.chart_below)
        _write(
            painter, words, token, [place for place in places if frame.contains(place)] or places[:1], taken, must=must
        )

    def _paint_point(self, painter: QPainter, point: Point) -> None:
        s = theme.sizes
        at, radius = self.place(point), s.dot / 2
        color = theme.color(_token(point.fmt))
        if (point.fmt, point.level) not in self._picture.best and not self._is_chosen(point):
            color = theme.faint(_token(point.fmt), _FAINT)
            radius *= _SMALL
        painter.setPen(Qt.PenStyle.NoPen)
        if self._is_chosen(point):
            painter.setPen(QPen(theme.color("ink"), s.mark * 0.7))
            radius = s.dot
        painter.setBrush(color)
        box = QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius)
        if point.fmt == "zip":
            painter.drawEllipse(box)
        elif point.fmt == "7z":
            painter.drawRect(box)
        else:
            painter.drawPolygon(
                [
                    box.topLeft() + QPointF(radius, -1),
                    box.bottomRight() + QPointF(1, 0),
                    box.bottomLeft() + QPointF(-1, 0),
                ]
            )


def _write(
    painter: QPainter, words: str, token: str, places: list[QRectF], taken: list[QRectF], *, must: bool = False
) -> None:
    """Write words into the first place where nothing else is, or where least is if they must be there; it is taken then."""
    covered = [sum(_shared(place, other) for other in taken) for place in places]
    best = min(range(len(places)), key=covered.__getitem__)
    if covered[best] and not must:
        return
    painter.setPen(theme.color(token))
    painter.drawText(places[best], Qt.AlignmentFlag.AlignCenter, words)
    taken.append(places[best])


def _shared(one: QRectF, other: QRectF) -> float:
    both = one.intersected(other)
    return max(both.width(), 0.0) * max(both.height(), 0.0)


def _token(fmt: str) -> str:
    """Colour goes with the shape: zip round, 7z square, tar three-cornered."""
    return {"zip": "wine", "7z": "oak"}.get(fmt, "moss")


def point_words(point: Point) -> str:
    """A point in words."""
    words = "{format}, level {level}: about {size:size} in {seconds:duration}"
    if point.rough:
        words = "{format}, level {level}: roughly {size:size} in {seconds:duration}"
    return say(words, format=point.fmt, level=point.level, size=point.size, seconds=point.seconds)
