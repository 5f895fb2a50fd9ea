"""The gauge: a cask lying on its side. Its outline is the original size, its filling the packed one."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from rundlet.core import text
from rundlet.core.sentences import fill
from rundlet.desktop.theme.theme import theme
from rundlet.presentation.sentences import say

_HOOP_SHARE = 0.45
_BULGE = 0.12
_MOST_STAVES = 40
_HOOPS = (0.08, 0.16, 0.84, 0.92)


_WORDS = {
    (False, False): "{after:size} of {before:size}",
    (True, False): "≈ {after:size} of {before:size}",
    (False, True): "{after:size} of {before:size}, in {parts:part|parts}",
    (True, True): "≈ {after:size} of {before:size}, in {parts:part|parts}",
}
"""By whether the size is estimated, and whether there are parts."""


class Gauge(QWidget):
    """Compares two sizes; its words are also in its accessible description."""

    def __init__(self) -> None:
        super().__init__()
        self._unpacking = False
        self._before = 0
        self._after: int | None = None
        self._limit = 0
        self._parts = 0
        self._roughly = False
        self._changing = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Gauge")

    def show_sizes(
        self,
        before: int,
        after: int | None,
        *,
        limit: int = 0,
        parts: int = 0,
        roughly: bool = False,
        unpacking: bool = False,
        changing: bool = False,
    ) -> None:
        """Sizes in bytes; None while the packed size is not known.

        Args:
            limit: what the packed size must fit into, or 0.
            parts: how many parts it is in, or 0.
            roughly: whether the packed size is only foretold.
            unpacking: whether it is packed already.
            changing: whether both are sizes of an archive, before and after it is changed.
        """
        self._unpacking, self._changing = unpacking, changing
        self._before, self._after = before, after
        self._limit, self._parts, self._roughly = limit, parts, roughly
        self.setAccessibleDescription(self._words())
        self.setToolTip(self._exact())
        self.update()

    def _words(self) -> str:
        facts = {"before": self._before, "after": self._after, "parts": self._parts}
        if self._changing:
            changed = self._after is not None and self._after != self._before
            return fill("≈ {after:size}, was {before:size}" if changed else "{before:size}", facts)
        if self._after is None:
            return fill("{before:size} once unpacked" if self._unpacking else "{before:size} before packing", facts)
        return fill(_WORDS[self._roughly, self._parts > 1], facts)

    def _exact(self) -> str:
        if self._changing:
            return say("{before:number} bytes before the changes", before=self._before)
        if self._after is None:
            words = "{before:number} bytes once unpacked" if self._unpacking else "{before:number} bytes before packing"
            return say(words, before=self._before)
        return say("{after:number} of {before:number} bytes", after=self._after, before=self._before)

    def sizeHint(self) -> QSize:
        return QSize(theme.sizes.to_least, theme.sizes.gauge)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        s = theme.sizes
        body = QRectF(self.rect()).adjusted(s.edge, s.edge, -s.edge, -s.edge)
        cask = cask_path(body)
        painter.fillPath(cask, theme.color("oak_wash"))
        filled = QRectF(body)
        whole = max(self._before, self._after or 0, self._limit if self._limit <= 2 * self._before else 0)
        if self._after is not None and whole > 0:
            filled.setWidth(body.width() * self._after / whole)
            painter.save()
            painter.setClipPath(cask)
            painter.fillRect(filled, theme.color("wine"))
            painter.restore()
        self._paint_hoops(painter, body, cask)
        if self._parts > 1:
            self._paint_staves(painter, filled, cask)
        painter.setPen(QPen(theme.color("oak"), 1.5))
        painter.drawPath(cask)
        if 0 < self._limit <= whole:
            x = body.left() + body.width() * self._limit / whole
            painter.setPen(QPen(theme.color("slate"), s.mark, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, self.rect().top()), QPointF(x, self.rect().bottom()))
        self._paint_words(painter, body, filled)

    def _paint_staves(self, painter: QPainter, filled: QRectF, cask: QPainterPath) -> None:
        """The parts, as the staves that the filling is made of."""
        painter.save()
        painter.setClipPath(cask)
        painter.setPen(QPen(theme.color("card"), theme.sizes.mark / 2))
        for i in range(1, min(self._parts, _MOST_STAVES)):
            x = filled.left() + filled.width() * i / min(self._parts, _MOST_STAVES)
            painter.drawLine(QPointF(x, filled.top()), QPointF(x, filled.bottom()))
        painter.restore()

    def _paint_hoops(self, painter: QPainter, body: QRectF, cask: QPainterPath) -> None:
        painter.save()
        painter.setClipPath(cask)
        painter.setPen(QPen(theme.faint("oak", _HOOP_SHARE), theme.sizes.mark))
        for share in _HOOPS:
            x = body.left() + share * body.width()
            bend = (0.5 - share) * body.height() * _BULGE
            path = QPainterPath()
            path.moveTo(x, body.top())
            path.quadTo(x - bend * 2, body.center().y(), x, body.bottom())
            painter.drawPath(path)
        painter.restore()

    def _paint_words(self, painter: QPainter, body: QRectF, filled: QRectF) -> None:
        """The packed size in the filling and the original one at the other end; all in one place where that is too narrow."""
        painter.setFont(theme.font(theme.sizes.body, bold=True))
        room = theme.sizes.wide
        full = body.adjusted(room, 0, -room, 0)
        if self._after is None:
            _write(painter, full, self._words(), "ink", Qt.AlignmentFlag.AlignHCenter)
            return
        inside = QRectF(full.left(), full.top(), filled.right() - room / 2 - full.left(), full.height())
        beside = QRectF(filled.right() + room / 2, full.top(), full.right() - filled.right() - room / 2, full.height())
        whole = self._words()
        before = say("was {size:size}" if self._changing else "{size:size}", size=self._before)
        after = f"{'≈ ' if self._roughly else ''}{text.size(self._after)}"
        if _fits(painter, beside, before) and _fits(painter, inside, after):
            _write(painter, inside, after, "on_wine", Qt.AlignmentFlag.AlignLeft, halo="wine")
            _write(painter, beside, before, "ink", Qt.AlignmentFlag.AlignRight, halo="oak_wash")
        elif _fits(painter, inside, whole):
            _write(painter, inside, whole, "on_wine", Qt.AlignmentFlag.AlignLeft, halo="wine")
        else:
            _write(painter, beside, whole, "ink", Qt.AlignmentFlag.AlignLeft, halo="oak_wash")


def _fits(painter: QPainter, room: QRectF, words: str) -> bool:
    return painter.fontMetrics().horizontalAdvance(words) <= room.width()


def _write(
    painter: QPainter, room: QRectF, words: str, token: str, side: Qt.AlignmentFlag, *, halo: str = "oak_wash"
) -> None:
    """Write words into a part of the cask, apart from the lines that run behind them."""
    metrics = painter.fontMetrics()
    width = metrics.horizontalAdvance(words)
    left = {Qt.AlignmentFlag.AlignLeft: room.left(), Qt.AlignmentFlag.AlignRight: room.right() - width}
    at = QPointF(left.get(side, room.center().x() - width / 2), room.center().y() + metrics.capHeight() / 2)
    path = QPainterPath()
    path.addText(at, painter.font(), words)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.strokePath(path, QPen(theme.color(halo), 2 * theme.sizes.mark))
    painter.fillPath(path, theme.color(token))


def paint_small(painter: QPainter, rect: QRectF, before: int, after: int) -> None:
    """The same cask without words, for a row of a list; sizes in bytes."""
    cask = cask_path(rect)
    painter.fillPath(cask, theme.color("oak_wash"))
    painter.save()
    painter.setClipPath(cask, Qt.ClipOperation.IntersectClip)
    painter.fillRect(
        QRectF(rect.left(), rect.top(), rect.width() * min(after / max(before, after, 1), 1.0), rect.height()),
        theme.color("wine"),
    )
    painter.restore()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.color("oak"), theme.sizes.edge))
    painter.drawPath(cask)


def cask_path(body: QRectF) -> QPainterPath:
    """The outline of a cask that fills a rectangle."""
    dent = body.height() * _BULGE
    end = body.width() * 0.012
    path = QPainterPath()
    path.moveTo(body.left() + end, body.top() + dent)
    path.quadTo(body.center().x(), body.top() - dent, body.right() - end, body.top() + dent)
    path.quadTo(body.right() + end, body.center().y(), body.right() - end, body.bottom() - dent)
    path.quadTo(body.center().x(), body.bottom() + dent, body.left() + end, body.bottom() - dent)
    path.quadTo(body.left() - end, body.center().y(), body.left() + end, body.top() + dent)
    return path
