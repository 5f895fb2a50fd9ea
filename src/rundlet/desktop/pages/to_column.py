"""To: what will be there afterwards, and the one button."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QStackedWidget

from rundlet.desktop.dragging import local_files
from rundlet.desktop.state.archive_batch import Task
from rundlet.desktop.views.basics import Column, GoButton
from rundlet.desktop.views.quiet_page import QuietPage

if TYPE_CHECKING:
    from PySide6.QtGui import QDragEnterEvent, QDropEvent

    from rundlet.desktop.pages.batch_page import BatchTarget
    from rundlet.desktop.pages.change_target import ChangeTarget
    from rundlet.desktop.pages.check_page import CheckTarget
    from rundlet.desktop.pages.checks_page import ChecksTarget
    from rundlet.desktop.pages.compare_page import CompareTarget
    from rundlet.desktop.pages.join_page import JoinTarget
    from rundlet.desktop.pages.pack_target import PackTarget
    from rundlet.desktop.pages.sums_page import SumsTarget
    from rundlet.desktop.pages.unpack_target import UnpackTarget
    from rundlet.desktop.state.archive_batch import ArchiveBatch
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.folder_field import Quick

    Target = (
        PackTarget
        | UnpackTarget
        | BatchTarget
        | ChangeTarget
        | CheckTarget
        | ChecksTarget
        | CompareTarget
        | SumsTarget
        | JoinTarget
    )


class ToColumn(Column):
    """Shows the page that fits where one stands; each is made when it is first wanted.

    Signals:
        pack_pressed, unpack_pressed, batch_pressed, change_pressed, check_pressed, compare_pressed, sums_pressed,
            join_pressed, checks_pressed: the button of a page.
        select_wanted: rows are to be selected.
        enter_wanted: with an archive that is to be looked into, with what is wrong in it.
        part_found: a file that was chosen for a missing part, and where that should be.
        look_wanted: the current item is to be looked at in the list, too.
        trash_wanted: the folder that an archive was compared with is to go to the trash.
        refused: with a sentence that says why what was dropped here can't be used.
        split_wanted: the archive is to be split into parts of so many bytes.
    """

    pack_pressed = Signal()
    unpack_pressed = Signal()
    batch_pressed = Signal()
    change_pressed = Signal()
    check_pressed = Signal()
    compare_pressed = Signal()
    sums_pressed = Signal()
    join_pressed = Signal()
    checks_pressed = Signal()
    enter_wanted = Signal(object)
    part_found = Signal(object, object)
    trash_wanted = Signal()
    look_wanted = Signal(bool)
    select_wanted = Signal(object)
    split_wanted = Signal(object)
    refused = Signal(str)

    def __init__(self, workspace: Workspace, trials: TrialRunner, batch: ArchiveBatch, quick: Quick) -> None:
        super().__init__("To")
        self.setAcceptDrops(True)
        self._workspace = workspace
        self._trials = trials
        self._batch = batch
        self._quick = quick
        self._pack: PackTarget | None = None
        self._unpack: UnpackTarget | None = None
        self._batch_target: BatchTarget | None = None
        self._change: ChangeTarget | None = None
        self._check: CheckTarget | None = None
        self._compare: CompareTarget | None = None
        self._sums: SumsTarget | None = None
        self._join: JoinTarget | None = None
        self._checks: ChecksTarget | None = None
        self.quiet = QuietPage("The result", "What will be made is shown here, before anything is done.")
        self._no_button = GoButton("Pack")
        self._no_button.setEnabled(False)
        self._no_button.setParent(self.quiet)
        self._no_button.hide()
        self._pages = QStackedWidget()
        self._pages.addWidget(self.quiet)
        self.body.addWidget(self._pages, 1)
        workspace.moved.connect(self._show)
        workspace.selector.changed.connect(self._show)
        batch.changed.connect(self._show)
        workspace.changing.changed.connect(self._show)
        workspace.checking.changed.connect(self._show)
        workspace.comparing.changed.connect(self._show)
        workspace.sums.changed.connect(self._show)
        workspace.joining.changed.connect(self._show)
        workspace.archive_checks.changed.connect(self._show)

    @property
    def pack(self) -> PackTarget:
        """The page for packing."""
        if self._pack is None:
            from rundlet.desktop.pages.pack_target import PackTarget

            self._pack = PackTarget(self._workspace, self._trials, self._quick)
            self._pack.go.clicked.connect(self.pack_pressed)
            self._pack.split_wanted.connect(self.split_wanted)
            self._pages.addWidget(self._pack)
            self._pack.refresh()
        return self._pack

    @property
    def unpack(self) -> UnpackTarget:
        """The page for unpacking."""
        if self._unpack is None:
            from rundlet.desktop.pages.unpack_target import UnpackTarget

            self._unpack = UnpackTarget(self._workspace, self._quick)
            self._unpack.go.clicked.connect(self.unpack_pressed)
            self._pages.addWidget(self._unpack)
            self._unpack.refresh()
        return self._unpack

    @property
    def batch(self) -> BatchTarget:
        """The page for unpacking several archives."""
        if self._batch_target is None:
            from rundlet.desktop.pages.batch_page import BatchTarget

            self._batch_target = BatchTarget(self._batch, self._quick)
            self._batch_target.go.clicked.connect(self.batch_pressed)
            self._pages.addWidget(self._batch_target)
            self._batch_target.refresh()
        return self._batch_target

    @property
    def change(self) -> ChangeTarget:
        """The page for changing an archive."""
        if self._change is None:
            from rundlet.desktop.pages.change_target import ChangeTarget

            self._change = ChangeTarget(self._workspace, self._quick)
            self._change.go.clicked.connect(self.change_pressed)
            self._pages.addWidget(self._change)
            self._change.refresh()
        return self._change

    @property
    def check(self) -> CheckTarget:
        """The page for checking an archive."""
        if self._check is None:
            from rundlet.desktop.pages.check_page import CheckTarget

            self._check = CheckTarget(self._workspace)
            self._check.go.clicked.connect(self.check_pressed)
            self._check.select_wanted.connect(self.select_wanted)
            self._check.part_found.connect(self.part_found)
            self._pages.addWidget(self._check)
            self._check.refresh()
        return self._check

    @property
    def compare(self) -> CompareTarget:
        """The page for comparing an archive."""
        if self._compare is None:
            from rundlet.desktop.pages.compare_page import CompareTarget

            self._compare = CompareTarget(self._workspace)
            self._compare.go.clicked.connect(self.compare_pressed)
            self._compare.select_wanted.connect(self.select_wanted)
            self._compare.trash_wanted.connect(self.trash_wanted)
            self._compare.look_wanted.connect(self.look_wanted)
            self._pages.addWidget(self._compare)
            self._compare.refresh()
        return self._compare

    @property
    def sums(self) -> SumsTarget:
        """The page for checksums."""
        if self._sums is None:
            from rundlet.desktop.pages.sums_page import SumsTarget

            self._sums = SumsTarget(self._workspace)
            self._sums.go.clicked.connect(self.sums_pressed)
            self._pages.addWidget(self._sums)
            self._sums.refresh()
        return self._sums

    @property
    def checks(self) -> ChecksTarget:
        """The page for checking several archives."""
        if self._checks is None:
            from rundlet.desktop.pages.checks_page import ChecksTarget

            self._checks = ChecksTarget(self._workspace, self._batch)
            self._checks.go.clicked.connect(self.checks_pressed)
            self._checks.enter_wanted.connect(self.enter_wanted)
            self._pages.addWidget(self._checks)
            self._checks.refresh()
        return self._checks

    @property
    def join(self) -> JoinTarget:
        """The page for the parts of a plain file."""
        if self._join is None:
            from rundlet.desktop.pages.join_page import JoinTarget

            self._join = JoinTarget(self._workspace)
            self._join.go.clicked.connect(self.join_pressed)
            self._join.part_found.connect(self.part_found)
            self._pages.addWidget(self._join)
            self._join.refresh()
        return self._join

    @property
    def page(self) -> Target | QuietPage:
        """The page that fits where one stands."""
        task = self._batch.task
        if task is Task.CHANGE:
            return self.change
        if task is Task.CHECK:
            return self.check
        if task is Task.COMPARE:
            return self.compare
        if task is Task.SUMS:
            return self.sums
        if task is Task.JOIN:
            return self.join
        if task is Task.CHECK_SEVERAL:
            return self.checks
        if task is Task.UNPACK:
            return self.unpack
        if task is Task.UNPACK_SEVERAL:
            return self.batch
        return self.pack if task is Task.PACK else self.quiet

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """A folder that is dropped here is where the outcome goes."""
        from rundlet.desktop.views.folder_field import FolderField  # of a page that is there by now

        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()
        dropped, page = local_files(event.mimeData()), self.page
        field = next((field for field in page.findChildren(FolderField) if field.isVisible()), None)
        if isinstance(page, QuietPage):
            self.refused.emit("Nothing is selected yet. Select files or an archive first, then drop a folder on To.")
        elif field is None:
            self.refused.emit("Nothing is saved in a folder here. Drop files on the list to add them to the archive.")
        elif len(dropped) == 1 and os.path.isdir(dropped[0]):
            field.take(dropped[0])
        else:
            self.refused.emit("Drop a single folder on To to choose where the result goes.")

    def _show(self, _: object = None) -> None:
        self._pages.setCurrentWidget(self.page)

    @property
    def go(self) -> GoButton:
        """The button at the end of the sentence; one that can't be pressed where there is nothing to do."""
        page = self.page
        return self._no_button if isinstance(page, QuietPage) else page.go

    def buttons(self) -> Iterator[tuple[GoButton, Task]]:
        """The buttons that there are by now, each with what it does."""
        pages = (
            (self._pack, Task.PACK),
            (self._unpack, Task.UNPACK),
            (self._batch_target, Task.UNPACK_SEVERAL),
            (self._change, Task.CHANGE),
            (self._check, Task.CHECK),
            (self._compare, Task.COMPARE),
            (self._sums, Task.SUMS),
            (self._join, Task.JOIN),
            (self._checks, Task.CHECK_SEVERAL),
        )
        for page, task in pages:
            if page is not None:
                yield page.go, task
