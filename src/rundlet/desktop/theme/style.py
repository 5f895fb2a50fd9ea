"""What a style sheet can't say: tick boxes, round buttons and the ring of the focus, seen in light and dark."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QProxyStyle, QStyle, QStyleOption, QWidget

from rundlet.desktop.theme.theme import theme

_BOX = QStyle.PrimitiveElement.PE_IndicatorCheckBox
_ROUND = QStyle.PrimitiveElement.PE_IndicatorRadioButton


class RundletStyle(QProxyStyle):
    """Qt's plain style with our own indicators."""

    def __init__(self) -> None:
        super().__init__("Fusion")

    def drawPrimitive(
        self, element: QStyle.PrimitiveElement, option: QStyleOption, painter: QPainter, widget: QWidget | None = None
    ) -> None:
        if element == QStyle.PrimitiveElement.PE_FrameFocusRect:
            beside = theme.sizes.mark
            paint_ring(painter, QRectF(option.rect).adjusted(-beside, 0, beside, 0))
        elif element in (_BOX, _ROUND):
            paint_indicator(
                painter,
                QRectF(option.rect),
                on=bool(option.state & QStyle.StateFlag.State_On),
                round_=element == _ROUND,
                enabled=bool(option.state & QStyle.StateFlag.State_Enabled),
            )
        else:
            super().drawPrimitive(element, option, painter, widget)


def paint_ring(painter: QPainter, rect: QRectF) -> None:
    """The ring around what has the focus."""
    s = theme.sizes
    inner = s.ring / 2
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(theme.color("wine"), s.ring))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRoundedRect(rect.adjusted(inner, inner, -inner, -inner), s.mark, s.mark)
    painter.restore()


def paint_indicator(painter: QPainter, rect: QRectF, *, on: bool, round_: bool = False, enabled: bool = True) -> None:
    """A tick box, or a round button that is on or off."""
    s = theme.sizes
    side = min(rect.width(), rect.height(), float(s.tick))
    box = QRectF(0, 0, side, side)
    box.moveCenter(rect.center())
    box.adjust(0.5, 0.5, -0.5, -0.5)
    corner = side / 2 if round_ else s.mark
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    filling = "wine" if enabled else "frame"
    painter.setPen(QPen(theme.color(filling if on or not enabled else "soft"), 1))
    painter.setBrush(theme.color(filling if on else "card"))
    painter.drawRoundedRect(box, corner, corner)
    if on:
        _paint_mark(painter, box, round_=round_)
    painter.restore()


def _paint_mark(painter: QPainter, box: QRectF, *, round_: bool) -> None:
    if round_:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("on_wine"))
        painter.drawEllipse(box.center(), box.width() * 0.2, box.width() * 0.2)
        return
    painter.setPen(QPen(theme.color("on_wine"), 2, c=Qt.PenCapStyle.RoundCap, j=Qt.PenJoinStyle.RoundJoin))
    at = [(0.22, 0.52), (0.42, 0.72), (0.78, 0.3)]
    painter.drawPolyline([QPointF(box.left() + x * box.width(), box.top() + y * box.height()) for x, y in at])
