"""To: what will be there afterwards, and the one button."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QStackedWidget,
)

from rundlet.desktop.columns.pack_target import PackTarget
from rundlet.desktop.columns.several import SeveralTarget
from rundlet.desktop.columns.unpack_target import UnpackTarget
from rundlet.desktop.widgets.basics import (
    Column,
    GoButton,
)

if TYPE_CHECKING:
    from rundlet.desktop.several import Several
    from rundlet.desktop.trials import Trials
    from rundlet.desktop.widgets.folder_field import Quick
    from rundlet.desktop.workspace import Workspace


class ToColumn(Column):
    """Shows the page that fits where one stands."""

    pack_pressed = Signal()
    unpack_pressed = Signal()

    several_pressed = Signal()

    def __init__(self, workspace: Workspace, trials: Trials, several: Several, quick: Quick) -> None:
        super().__init__("To")
        self._workspace = workspace
        self._several = several
        self.pack = PackTarget(workspace, trials, quick)
        self.unpack = UnpackTarget(workspace, quick)
        self.several = SeveralTarget(several, quick)
        self._pages = QStackedWidget()
        for page in (self.pack, self.unpack, self.several):
            self._pages.addWidget(page)
        self.body.addWidget(self._pages, 1)
        self.pack.go.clicked.connect(self.pack_pressed)
        self.unpack.go.clicked.connect(self.unpack_pressed)
        self.several.go.clicked.connect(self.several_pressed)
        workspace.moved.connect(self._show)
        several.changed.connect(self._show)

    def _show(self, _: object = None) -> None:
        self._pages.setCurrentWidget(self._page)

    @property
    def _page(self) -> PackTarget | UnpackTarget | SeveralTarget:
        if self._workspace.place.in_archive:
            return self.unpack
        return self.several if self._several.unpacks else self.pack

    @property
    def go(self) -> GoButton:
        """The button at the end of the sentence."""
        return self._page.go
