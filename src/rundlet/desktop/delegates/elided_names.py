"""Names that are longer than their place."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt

if TYPE_CHECKING:
    from PySide6.QtGui import QFontMetrics

_WORD_AT_MOST = 12
_MIDDLE, _RIGHT = Qt.TextElideMode.ElideMiddle, Qt.TextElideMode.ElideRight


def fitted(metrics: QFontMetrics, name: str, room: int, beside: Iterable[str]) -> str:
    """A name, as far as there is room for it.

    Its middle is left out, unless that is what tells it from the names beside it: then what both have in common is.

    Args:
        room: pixels.
        beside: the names that stand next to it; asked for only when it does not fit.
    """
    short = metrics.elidedText(name, _MIDDLE, room)
    if short == name:
        return name
    alike = [other for other in beside if other != name and metrics.elidedText(other, _MIDDLE, room) == short]
    if not alike:
        return short
    differs = min(_common(name, other) for other in alike)
    begin = differs
    while begin > max(differs - _WORD_AT_MOST, 0) and name[begin - 1].isalnum():
        begin -= 1
    head = metrics.elidedText(name, _RIGHT, room // 3)
    if begin < len(head):
        return metrics.elidedText(name, _RIGHT, room)
    return head + metrics.elidedText(name[begin:], _MIDDLE, room - metrics.horizontalAdvance(head))


def _common(name: str, other: str) -> int:
    """How many characters both begin with."""
    pairs = enumerate(zip(name, other, strict=False))
    return next((at for at, (mine, theirs) in pairs if mine != theirs), min(len(name), len(other)))
