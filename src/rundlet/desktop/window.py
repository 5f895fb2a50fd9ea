"""The window: it puts the columns together and wires them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QStandardPaths, Qt
from PySide6.QtGui import QCloseEvent, QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QPushButton,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rundlet.core.formats.detect import open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.plans.pack import plan_pack
from rundlet.core.text import quoted
from rundlet.core.work.pack import pack
from rundlet.core.work.unpack import unpack
from rundlet.desktop.actions import add_actions
from rundlet.desktop.background import Background
from rundlet.desktop.columns.how import HowColumn
from rundlet.desktop.columns.source import FromColumn
from rundlet.desktop.columns.target import ToColumn
from rundlet.desktop.file_manager import show_in_file_manager
from rundlet.desktop.jobs import Jobs, Outcome, RunningJob
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.crumbs import Crumbs
from rundlet.desktop.widgets.strip import Strip
from rundlet.desktop.workspace import Place, Workspace

_PLACES = (
    ("Home", QStandardPaths.StandardLocation.HomeLocation),
    ("Desktop", QStandardPaths.StandardLocation.DesktopLocation),
    ("Documents", QStandardPaths.StandardLocation.DocumentsLocation),
    ("Downloads", QStandardPaths.StandardLocation.DownloadLocation),
    ("Pictures", QStandardPaths.StandardLocation.PicturesLocation),
)


class Window(QMainWindow):
    """One window with its own place, choice and jobs."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Rundlet")
        self.resize(theme.sizes.window_width, theme.sizes.window_height)
        self.background = Background(self)
        self.workspace = Workspace(self.background, self)
        self.jobs = Jobs(self.background, self)
        self.source = FromColumn(self.workspace)
        self.how = HowColumn(self.workspace)
        self.target = ToColumn(self.workspace)
        self.strip = Strip(self.jobs)
        self._lay_out()
        self._wire()
        self.source.view.setFocus()

    def _lay_out(self) -> None:
        s = theme.sizes
        desk = QWidget()
        desk.setObjectName("desk")
        self.setCentralWidget(desk)
        rows = QVBoxLayout(desk)
        rows.setContentsMargins(s.wide, s.wide - s.space, s.wide, s.wide - s.space)
        rows.setSpacing(s.gap)
        rows.addLayout(self._top_bar())
        self.right = QSplitter(Qt.Orientation.Horizontal)
        self.right.addWidget(self.how)
        self.right.addWidget(self.target)
        self.columns = QSplitter(Qt.Orientation.Horizontal)
        self.columns.addWidget(self.source)
        self.columns.addWidget(self.right)
        for splitter in (self.columns, self.right):
            splitter.setChildrenCollapsible(False)
            splitter.setHandleWidth(s.gap + s.space)
        self.columns.setStretchFactor(0, 1)
        self.source.setMinimumWidth(s.from_least)
        self.how.setMinimumWidth(s.how_least)
        self.target.setMinimumWidth(s.to_least)
        self.columns.setSizes([s.window_width * 51 // 100, s.window_width * 49 // 100])
        self.right.setSizes([s.window_width * 23 // 100, s.window_width * 26 // 100])
        rows.addWidget(self.columns, 1)
        rows.addWidget(self.strip)

    def _top_bar(self) -> QHBoxLayout:
        s = theme.sizes
        row = QHBoxLayout()
        row.setSpacing(s.gap)
        self.back_button = QToolButton()
        self.back_button.setIcon(theme.icon("back"))
        self.back_button.setAccessibleName("Back")
        self.back_button.setToolTip("Back")
        self.places_button = QPushButton("Places")
        self.places_button.setIcon(theme.icon("place"))
        self.places_menu = QMenu(self)
        self.places_menu.aboutToShow.connect(self._fill_places)
        self.places_button.setMenu(self.places_menu)
        self.crumbs = Crumbs()
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find by name")
        self.finder.setAccessibleName("Find by name")
        self.finder.setClearButtonEnabled(True)
        self.finder.setFixedWidth(s.progress_width)
        row.addWidget(self.back_button)
        row.addWidget(self.places_button)
        row.addWidget(self.crumbs, 1)
        row.addWidget(self.finder)
        return row

    def _wire(self) -> None:
        ws = self.workspace
        ws.moved.connect(self._moved)
        self.crumbs.chosen.connect(ws.go)
        self.back_button.clicked.connect(ws.back)
        self.finder.textChanged.connect(self.source.narrow_to)
        self.source.dropped.connect(ws.gather)
        self.target.pack_pressed.connect(self.start_pack)
        self.target.unpack_pressed.connect(self.start_unpack)
        self.jobs.ended.connect(self._job_ended)
        self.strip.show_wanted.connect(show_in_file_manager)
        handlers: dict[str, Callable[[], object]] = {
            "go": self._press_button,
            "find": self._go_find,
            "up": ws.up,
            "back": ws.back,
            "from": self.source.view.setFocus,
            "how": self._go_how,
            "to": self._go_to,
            "refresh": ws.refresh,
            "close": self.close,
        }
        self.window_actions = add_actions(self, handlers)

    def _moved(self, place: Place) -> None:
        self.crumbs.show_place(place)
        self.back_button.setEnabled(self.workspace.can_go_back)
        self.finder.blockSignals(True)
        self.finder.clear()
        self.finder.blockSignals(False)
        where = place.archive or place.folder
        self.setWindowTitle(f"{where.name or where} – Rundlet")

    def _fill_places(self) -> None:
        self.places_menu.clear()
        seen = set()
        for words, location in _PLACES:
            path = Path(QStandardPaths.writableLocation(location))
            if path.is_dir() and path not in seen:
                seen.add(path)
                action = self.places_menu.addAction(theme.icon("home" if words == "Home" else "folder", "oak"), words)
                action.setData(str(path))
                action.triggered.connect(self._place_chosen)

    def _place_chosen(self) -> None:
        action = self.sender()
        self.workspace.go(Place(Path(action.data())))  # type: ignore[attr-defined]

    # Keys

    def _press_button(self) -> None:
        if self.target.go.isEnabled():
            self.target.go.click()

    def _go_find(self) -> None:
        self.finder.setFocus()
        self.finder.selectAll()

    def _go_how(self) -> None:
        page = self.how.unpack.with_folders if self.workspace.place.in_archive else self.how.pack.level
        page.setFocus()

    def _go_to(self) -> None:
        page = self.target.unpack.folder.edit if self.workspace.place.in_archive else self.target.pack.name
        page.setFocus()

    # Work

    def start_pack(self) -> None:
        """Pack what is chosen, as the sentence says."""
        ws = self.workspace
        items, target, info, level, clash = (
            ws.chosen_paths(),
            ws.asked_target,
            ws.pack.info,
            ws.pack.level,
            ws.pack_clash,
        )

        def work(job: Job) -> Report:
            job.begin("Looking through the files")
            return pack(plan_pack(items, target=target, info=info, level=level, on_clash=clash, job=job), job)

        if items:
            self.jobs.start(f"Packing {quoted(ws.pack_target.name)}", work)

    def start_unpack(self) -> None:
        """Unpack as the landing tree says."""
        plan, opened = self.workspace.plan, self.workspace.archive
        if plan is None or opened is None:
            return
        path, password = opened.path, opened.password

        def work(job: Job) -> Report:
            reader = open_archive(path)  # the window may leave the archive while this runs
            try:
                if password:
                    reader.unlock(password)
                return unpack(plan, reader, job)
            finally:
                reader.close()

        self.jobs.start(f"Unpacking {quoted(path.name)}", work)

    def _job_ended(self, running: RunningJob, outcome: Outcome) -> None:
        self.workspace.plan_again()
        if not self.workspace.place.in_archive and outcome.report is not None:
            self.workspace.refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        narrow = self.width() < theme.sizes.stack_below
        self.right.setOrientation(Qt.Orientation.Vertical if narrow else Qt.Orientation.Horizontal)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.background.close()
        self.workspace.close()
        super().closeEvent(event)
