"""How: what to do with what is selected. On the disk it packs, in an archive it unpacks or changes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QKeyCombination, Signal
from PySide6.QtWidgets import QStackedWidget, QWidget

from rundlet.desktop.dragging import local_files
from rundlet.desktop.state.archive_batch import Task
from rundlet.desktop.views.basics import Choices, Column, scrolling
from rundlet.desktop.views.quiet_page import QuietPage

if TYPE_CHECKING:
    from PySide6.QtGui import QDragEnterEvent, QDropEvent

    from rundlet.core.userdata.presets import Presets
    from rundlet.desktop.pages.batch_page import BatchPage
    from rundlet.desktop.pages.change_page import ChangePage
    from rundlet.desktop.pages.check_page import CheckPage
    from rundlet.desktop.pages.checks_page import ChecksPage
    from rundlet.desktop.pages.compare_page import ComparePage
    from rundlet.desktop.pages.join_page import JoinPage
    from rundlet.desktop.pages.pack_page import PackPage
    from rundlet.desktop.pages.sums_page import SumsPage
    from rundlet.desktop.pages.unpack_page import UnpackPage
    from rundlet.desktop.state.archive_batch import ArchiveBatch, BatchForm
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace

    Page = PackPage | UnpackPage | BatchPage | ChangePage | CheckPage | ChecksPage | ComparePage | SumsPage | JoinPage


class HowColumn(Column):
    """Shows the page that fits where one stands; each is made when it is first wanted.

    Signals:
        dropped: files that were dragged here.
        password_wanted: archives are selected whose password is not known.
        unused_key: a key that an empty password field has no use for.
        put_back_wanted: copies that were opened and changed are to be put back into the archive.
    """

    dropped = Signal(object)
    password_wanted = Signal()
    unused_key = Signal(QKeyCombination)
    put_back_wanted = Signal(object)

    def __init__(self, workspace: Workspace, trials: TrialRunner, batch: ArchiveBatch, presets: Presets) -> None:
        super().__init__("How")
        self.setAcceptDrops(True)
        self._workspace = workspace
        self._trials = trials
        self._batch = batch
        self._presets = presets
        self._pack: PackPage | None = None
        self._unpack: UnpackPage | None = None
        self._batch_page: BatchPage | None = None
        self._change: ChangePage | None = None
        self._check: CheckPage | None = None
        self._compare: ComparePage | None = None
        self._sums: SumsPage | None = None
        self._join: JoinPage | None = None
        self._checks: ChecksPage | None = None
        self.what = Choices(
            [("join", "Join"), ("unpack", "Unpack"), ("check", "Check"), ("pack", "Pack"), ("sums", "Checksums")],
            name="What to do with what is selected",
        )
        self.what.setVisible(False)
        self.body.addWidget(self.what)
        self.within = Choices(
            [("unpack", "Unpack"), ("change", "Change"), ("check", "Check"), ("compare", "Compare")],
            name="What to do with the archive",
        )
        self.within.setVisible(False)
        self.body.addWidget(self.within)
        self.quiet = QuietPage(
            "Nothing is selected",
            "Select files or folders to pack them, or open an archive to unpack it. You can drop files here, too.",
            "Recent archives",
        )
        self._pages = QStackedWidget()
        self._holders: dict[QWidget, QWidget] = {}
        self._hold(self.quiet, scrolling(self.quiet))
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
        self.what.chosen.connect(self._what_chosen)
        self.within.chosen.connect(self._want_within)
        self.quiet.opened.connect(workspace.enter_file)

    def _want_within(self, what: str) -> None:
        self._workspace.checking.want(what == "check")
        self._workspace.comparing.want(what == "compare")
        self._workspace.changing.want(what == "change")

    def _hold(self, page: QWidget, holder: QWidget) -> None:
        self._holders[page] = holder
        self._pages.addWidget(holder)

    @property
    def pack(self) -> PackPage:
        """The page for packing."""
        if self._pack is None:
            from rundlet.desktop.pages.pack_page import PackPage

            self._pack = PackPage(self._workspace, self._trials, self._presets)
            self._hold(self._pack, self._pack)
            self._pack.refresh()
        return self._pack

    @property
    def unpack(self) -> UnpackPage:
        """The page for unpacking."""
        if self._unpack is None:
            from rundlet.desktop.pages.unpack_page import UnpackPage

            self._unpack = UnpackPage(self._workspace)
            self._unpack.lock.unused_key.connect(self.unused_key)
            self._hold(self._unpack, scrolling(self._unpack))
            self._unpack.refresh()
        return self._unpack

    @property
    def batch(self) -> BatchPage:
        """The page for unpacking several archives."""
        if self._batch_page is None:
            from rundlet.desktop.pages.batch_page import BatchPage

            self._batch_page = BatchPage(self._batch)
            self._batch_page.password_wanted.connect(self.password_wanted)
            self._batch_page.lock.unused_key.connect(self.unused_key)
            self._hold(self._batch_page, scrolling(self._batch_page))
            self._batch_page.refresh()
        return self._batch_page

    @property
    def change(self) -> ChangePage:
        """The page for changing an archive."""
        if self._change is None:
            from rundlet.desktop.pages.change_page import ChangePage

            self._change = ChangePage(self._workspace)
            self._change.lock.unused_key.connect(self.unused_key)
            self._change.put_back_wanted.connect(self.put_back_wanted)
            self._hold(self._change, scrolling(self._change))
            self._change.refresh()
        return self._change

    @property
    def check(self) -> CheckPage:
        """The page for checking an archive."""
        if self._check is None:
            from rundlet.desktop.pages.check_page import CheckPage

            self._check = CheckPage(self._workspace)
            self._check.lock.unused_key.connect(self.unused_key)
            self._hold(self._check, scrolling(self._check))
            self._check.refresh()
        return self._check

    @property
    def compare(self) -> ComparePage:
        """The page for comparing an archive."""
        if self._compare is None:
            from rundlet.desktop.pages.compare_page import ComparePage

            self._compare = ComparePage(self._workspace)
            self._compare.lock.unused_key.connect(self.unused_key)
            self._hold(self._compare, scrolling(self._compare))
            self._compare.refresh()
        return self._compare

    @property
    def sums(self) -> SumsPage:
        """The page for checksums."""
        if self._sums is None:
            from rundlet.desktop.pages.sums_page import SumsPage

            self._sums = SumsPage(self._workspace)
            self._hold(self._sums, scrolling(self._sums))
            self._sums.refresh()
        return self._sums

    @property
    def checks(self) -> ChecksPage:
        """The page for checking several archives."""
        if self._checks is None:
            from rundlet.desktop.pages.checks_page import ChecksPage

            self._checks = ChecksPage(self._workspace, self._batch)
            self._hold(self._checks, scrolling(self._checks))
            self._checks.refresh()
        return self._checks

    @property
    def join(self) -> JoinPage:
        """The page for the parts of a plain file."""
        if self._join is None:
            from rundlet.desktop.pages.join_page import JoinPage

            self._join = JoinPage(self._workspace)
            self._hold(self._join, scrolling(self._join))
            self._join.refresh()
        return self._join

    @property
    def page(self) -> Page | QuietPage:
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

    def _show(self, _: object = None) -> None:
        batch = self._batch
        on_disk = not self._workspace.place.in_archive and self._workspace.selection.items > 0
        self.what.setVisible(on_disk)
        joins = self._workspace.joining.offered
        first = ["join"] if joins else ["unpack", "check"] if batch.form.archives else []
        self.what.offer([*first, "pack", "sums"])
        chosen = {Task.SUMS: "sums", Task.UNPACK_SEVERAL: "unpack", Task.JOIN: "join", Task.CHECK_SEVERAL: "check"}
        self.what.choose(chosen.get(batch.task, "pack"))
        self.within.setVisible(self._workspace.archive is not None)
        self.within.choose(
            {Task.CHANGE: "change", Task.CHECK: "check", Task.COMPARE: "compare"}.get(batch.task, "unpack")
        )
        self._pages.setCurrentWidget(self._holders[self.page])

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() and event.source() is None:  # what comes from our list is selected there already
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        event.acceptProposedAction()
        self.dropped.emit(local_files(event.mimeData()))

    def split_into(self, size: int) -> None:
        """Split the archive into parts of so many bytes."""
        self.pack.options.split_into(size)

    def choose(self, task: Task) -> None:
        """Pack the selected archives, or unpack them."""
        self._what_chosen("pack" if task is Task.PACK else "unpack")

    def _what_chosen(self, what: str) -> None:
        def change(form: BatchForm) -> None:
            form.wanted = what == "unpack"

        self._workspace.sums.want(what == "sums")
        self._workspace.joining.want(what == "join")
        self._workspace.archive_checks.want(what == "check")
        if what in ("unpack", "pack"):
            self._batch.change(change)
