"""What the window was like when it was closed comes back with the next one, unless that is not wanted."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QObject, Qt, QTimer

from rundlet.core.settings import REMEMBER

if TYPE_CHECKING:
    from PySide6.QtWidgets import QSplitter

    from rundlet.core.userdata.remembered import Remembered
    from rundlet.desktop.window import Window

_WAYS = ("list", "thumbs", "map")


class WindowMemory(QObject):
    """Size and place, columns, the way to look and the order, and the format and level that were chosen last."""

    def __init__(self, window: Window, remembered: Remembered) -> None:
        super().__init__(window)
        self._window = window
        self.remembered = remembered
        self._forgets = False

    def restore(self) -> None:
        """Make a new window like the last one was."""
        window, was = self._window, self.remembered
        if not window.settings.get(REMEMBER):
            return
        window.workspace.packing.take_settings(was.text("format"), was.number("level", -1))
        _give(was.text("geometry"), window.restoreGeometry)
        way = was.text("view")
        if way in _WAYS[1:]:
            window.source.pages.show_as(way)
        column, descending = was.number("order", 0), was.number("descending", 0)
        view = window.source.view
        if 0 <= column < view.header().count():
            view.sortByColumn(column, Qt.SortOrder.DescendingOrder if descending else Qt.SortOrder.AscendingOrder)
        QTimer.singleShot(0, self, self._restore_widths)  # once the window has its size

    def _restore_widths(self) -> None:
        for name, splitter in self._splitters.items():
            if len(sizes := self.remembered.numbers(name)) == splitter.count():
                splitter.setSizes(sizes)
        self._window.fit_columns()
        header = self._window.source.view.header()
        for section, width in enumerate(self.remembered.numbers("widths")[: header.count()]):
            if width and not header.isSectionHidden(section):
                header.resizeSection(section, width)

    @property
    def _splitters(self) -> dict[str, QSplitter]:
        narrow = self._window.right.orientation() == Qt.Orientation.Vertical
        return {"columns": self._window.columns, "right stacked" if narrow else "right": self._window.right}

    def keep(self) -> None:
        """Remember what the window is like, as it is being closed."""
        window = self._window
        if self._forgets or not window.settings.get(REMEMBER):
            return
        header, form = window.source.view.header(), window.workspace.packing.form
        kept: dict[str, object] = {name: splitter.sizes() for name, splitter in self._splitters.items()}
        self.remembered.keep(
            {
                **kept,
                "geometry": _told(window.saveGeometry()),
                "view": window.source.pages.way,
                "widths": [header.sectionSize(section) for section in range(header.count())],
                "order": header.sortIndicatorSection(),
                "descending": int(header.sortIndicatorOrder() == Qt.SortOrder.DescendingOrder),
                "format": form.info.id,
                "level": form.level,
            }
        )

    def forget(self) -> None:
        """Forget all of it, also what the window is like now."""
        self.remembered.forget()
        self._forgets = True


def _told(state: QByteArray) -> str:
    return base64.b64encode(state.data()).decode("ascii")


def _give(told: str, take: Callable[[QByteArray], object]) -> None:
    try:
        state = base64.b64decode(told, validate=True)
    except binascii.Error:
        return
    if state:
        take(QByteArray(state))
