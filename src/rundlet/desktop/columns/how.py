"""How: what to do with what is chosen. On the disk it packs, in an archive it unpacks."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QStackedWidget,
    QWidget,
)

from rundlet.desktop.columns.pack_page import PackPage
from rundlet.desktop.columns.several import SeveralPage
from rundlet.desktop.columns.unpack_page import UnpackPage
from rundlet.desktop.widgets.basics import (
    Choices,
    Column,
    scrolling,
)

if TYPE_CHECKING:
    from rundlet.core.userdata.presets import Presets
    from rundlet.desktop.several import Several, SeveralDesk
    from rundlet.desktop.trials import Trials
    from rundlet.desktop.workspace import Workspace


class HowColumn(Column):
    """Shows the page that fits where one stands."""

    def __init__(self, workspace: Workspace, trials: Trials, several: Several, presets: Presets) -> None:
        super().__init__("How")
        self._workspace = workspace
        self._several = several
        self.what = Choices([("unpack", "Unpack"), ("pack", "Pack")], name="What to do with the archives")
        self.what.setVisible(False)
        self.body.addWidget(self.what)
        self.pack = PackPage(workspace, trials, presets)
        self.unpack = UnpackPage(workspace)
        self.several = SeveralPage(several)
        self._pages = QStackedWidget()
        self._holders: dict[QWidget, QWidget] = {self.pack: self.pack}
        for part in (self.unpack, self.several):
            self._holders[part] = scrolling(part)
        for holder in self._holders.values():
            self._pages.addWidget(holder)
        self.body.addWidget(self._pages, 1)
        workspace.moved.connect(self._show)
        several.changed.connect(self._show)
        self.what.chosen.connect(self._what_chosen)

    def _show(self, _: object = None) -> None:
        in_archive, several = self._workspace.place.in_archive, self._several
        self.what.setVisible(not in_archive and bool(several.desk.archives))
        self.what.choose("unpack" if several.desk.wanted else "pack")
        page = self.unpack if in_archive else self.several if several.unpacks else self.pack
        self._pages.setCurrentWidget(self._holders[page])

    def _what_chosen(self, what: str) -> None:
        def change(desk: SeveralDesk) -> None:
            desk.wanted = what == "unpack"

        self._several.change(change)
