"""How: what to do with what is chosen. On the disk it packs, in an archive it unpacks."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QStackedWidget,
    QWidget,
)

from rundlet.desktop.pages.batch_page import BatchPage
from rundlet.desktop.pages.pack_page import PackPage
from rundlet.desktop.pages.unpack_page import UnpackPage
from rundlet.desktop.views.basics import (
    Choices,
    Column,
    scrolling,
)

if TYPE_CHECKING:
    from rundlet.core.userdata.presets import Presets
    from rundlet.desktop.state.archive_batch import ArchiveBatch, BatchForm
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace


class HowColumn(Column):
    """Shows the page that fits where one stands."""

    def __init__(self, workspace: Workspace, trials: TrialRunner, batch: ArchiveBatch, presets: Presets) -> None:
        super().__init__("How")
        self._workspace = workspace
        self._batch = batch
        self.what = Choices([("unpack", "Unpack"), ("pack", "Pack")], name="What to do with the archives")
        self.what.setVisible(False)
        self.body.addWidget(self.what)
        self.pack = PackPage(workspace, trials, presets)
        self.unpack = UnpackPage(workspace)
        self.batch = BatchPage(batch)
        self._pages = QStackedWidget()
        self._holders: dict[QWidget, QWidget] = {self.pack: self.pack}
        for part in (self.unpack, self.batch):
            self._holders[part] = scrolling(part)
        for holder in self._holders.values():
            self._pages.addWidget(holder)
        self.body.addWidget(self._pages, 1)
        workspace.moved.connect(self._show)
        batch.changed.connect(self._show)
        self.what.chosen.connect(self._what_chosen)

    def _show(self, _: object = None) -> None:
        in_archive, batch = self._workspace.place.in_archive, self._batch
        self.what.setVisible(not in_archive and bool(batch.form.archives))
        self.what.choose("unpack" if batch.form.wanted else "pack")
        page = self.unpack if in_archive else self.batch if batch.unpacks else self.pack
        self._pages.setCurrentWidget(self._holders[page])

    def _what_chosen(self, what: str) -> None:
        def change(form: BatchForm) -> None:
            form.wanted = what == "unpack"

        self._batch.change(change)
