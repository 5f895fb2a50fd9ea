"""What unpacking would do with the archive that the window is in: what is filled in, and the plan with its landing tree."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import RundletError
from rundlet.core.plans.unpack_plan import UnpackClash, UnpackPlan, own_folder_name
from rundlet.core.settings import UNPACK_CLASH, UNPACK_FOLDER, UNPACK_OWN, UNPACK_SHOW
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.locations.listing import TOP
from rundlet.desktop.state.forms import UnpackForm

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.desktop.locations.landing_rows import LandingListing
    from rundlet.desktop.state.standpoint import Standpoint

_SETTLE_MS = 60


class Unpacking(QObject):
    """What unpacking would do with the archive that the window is in.

    Attributes:
        form: what is filled in.
        plan: where everything lands; None while that is being worked out.

    Signals:
        changed: something of it changed.
        landed: there is a new plan with its landing tree.
        landing_failed: there can be none, and why.
    """

    changed = Signal()
    landed = Signal(object, object)
    landing_failed = Signal(object)

    def __init__(self, at: Standpoint, background: Background, settings: Settings, parent: QObject) -> None:
        super().__init__(parent)
        self._at = at
        self._background = background
        self._settings = settings
        self.form = UnpackForm(on_clash=self._rule, show=settings.get(UNPACK_SHOW))
        self.plan: UnpackPlan | None = None
        self._task = Latest(background)
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(_SETTLE_MS)
        self._settle.timeout.connect(self._plan_landing)

    def start_for(self, archive: Path | None, *, own_folder: bool = True) -> None:
        """Another archive: what was said of the one before does not hold for it.

        Args:
            own_folder: whether its content would lie about without a folder of its own.
        """
        rule = self._settings.get(UNPACK_OWN)
        own_folder = own_folder if rule == "needed" else rule == "always"
        self.form = UnpackForm(archive=archive, own_folder=own_folder, on_clash=self._rule, show=self.form.show)

    @property
    def _rule(self) -> UnpackClash:
        return UnpackClash(self._settings.get(UNPACK_CLASH))

    def take_settings(self) -> None:
        """Start once more from what is set."""
        archive, is_loose = self.form.archive, self._at.archive.is_loose if self._at.archive is not None else True
        self.form.show = self._settings.get(UNPACK_SHOW)
        self.start_for(archive, own_folder=is_loose)
        self.plan_again()

    def change(self, change: Callable[[UnpackForm], None]) -> None:
        """Change how or where to unpack, and work the landing out anew."""
        change(self.form)
        self.start_again()

    @property
    def folder(self) -> Path:
        """The chosen folder, without the archive's own."""
        return self.form.folder or self.usual_folder or self._at.place.folder

    @property
    def usual_folder(self) -> Path | None:
        """The folder that everything is unpacked into, where one is set and there."""
        usual = self._settings.get(UNPACK_FOLDER)
        return Path(usual) if usual and os.path.isdir(usual) else None

    @property
    def own_folder_name(self) -> str:
        """What the archive's own folder is called."""
        return own_folder_name(self._at.archive.path) if self._at.archive else ""

    def plan_soon(self) -> None:
        """The landing is to be worked out anew; one that is being worked out does not count any more."""
        self._task.drop()
        self._settle.start()

    @property
    def plans_soon(self) -> bool:
        """Whether that is about to be begun."""
        return self._settle.isActive()

    def plan_again(self) -> None:
        """Work the landing out anew, after the disk has changed."""
        if self._at.archive is not None:
            self.start_again()  # what was planned does not hold any more, and can't be begun

    def start_again(self) -> None:
        """What is selected changed: work out anew what would come of it."""
        self._forget_plan()
        self.changed.emit()
        self.plan_soon()

    def drop_plan(self) -> None:
        """There is no archive to unpack any more."""
        self._task.drop()
        self._settle.stop()
        self._forget_plan()

    def _forget_plan(self) -> None:
        plan, self.plan = self.plan, None
        if plan is not None:
            self._background.let_go(list(plan.steps))

    def _plan_landing(self) -> None:
        opened, form = self._at.archive, self.form
        if opened is None:
            return
        opened = replace(opened)  # its tree is another one once something is to be changed in it
        listing = self._at.listing
        nodes = self._at.selection.nodes or ((listing.top if listing is not None else TOP),)
        into, own = self.folder, self.own_folder_name if form.own_folder else ""
        rules = dict(form.rules)

        def work(job: Job) -> tuple[UnpackPlan, LandingListing]:
            from rundlet.core.plans.unpack_planner import plan_unpack
            from rundlet.desktop.locations.landing_rows import LandingListing

            plan = plan_unpack(
                opened.reader,
                opened.rows_below(nodes),
                into=into,
                own_folder=own,
                keep_folders=form.keep_folders,
                on_clash=form.on_clash,
                rules=rules,
                leave_same=True,
                keep_replaced=True,
                job=job,
            )
            return plan, LandingListing(plan.root, [plan])

        self._task.run(work, done=self._land, failed=self._plan_failed)

    def _land(self, result: tuple[UnpackPlan, LandingListing]) -> None:
        self._forget_plan()
        self.plan = result[0]
        self.landed.emit(*result)

    def _plan_failed(self, error: BaseException) -> None:
        if isinstance(error, RundletError):
            self.landing_failed.emit(error)
