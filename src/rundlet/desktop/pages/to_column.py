"""To: what will be there afterwards, and the one button."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QStackedWidget,
)

from rundlet.desktop.pages.batch_page import BatchTarget
from rundlet.desktop.pages.pack_target import PackTarget
from rundlet.desktop.pages.unpack_target import UnpackTarget
from rundlet.desktop.views.basics import (
    Column,
    GoButton,
)

if TYPE_CHECKING:
    from rundlet.desktop.state.archive_batch import ArchiveBatch
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.folder_field import Quick


class ToColumn(Column):
    """Shows the page that fits where one stands."""

    pack_pressed = Signal()
    unpack_pressed = Signal()

    batch_pressed = Signal()

    def __init__(self, workspace: Workspace, trials: TrialRunner, batch: ArchiveBatch, quick: Quick) -> None:
        super().__init__("To")
        self._workspace = workspace
        self._batch = batch
        self.pack = PackTarget(workspace, trials, quick)
        self.unpack = UnpackTarget(workspace, quick)
        self.batch = BatchTarget(batch, quick)
        self._pages = QStackedWidget()
        for page in (self.pack, self.unpack, self.batch):
            self._pages.addWidget(page)
        self.body.addWidget(self._pages, 1)
        self.pack.go.clicked.connect(self.pack_pressed)
        self.unpack.go.clicked.connect(self.unpack_pressed)
        self.batch.go.clicked.connect(self.batch_pressed)
        workspace.moved.connect(self._show)
        batch.changed.connect(self._show)

    def _show(self, _: object = None) -> None:
        self._pages.setCurrentWidget(self._page)

    @property
    def _page(self) -> PackTarget | UnpackTarget | BatchTarget:
        if self._workspace.place.in_archive:
            return self.unpack
        return self.batch if self._batch.unpacks else self.pack

    @property
    def go(self) -> GoButton:
        """The button at the end of the sentence."""
        return self._page.go
