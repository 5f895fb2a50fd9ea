"""The trial in the window: started anew with every choice, told point by point, never in the way."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import RundletError
from rundlet.core.plans.losses import Traits, traits_of
from rundlet.core.plans.pack_plan import items_of
from rundlet.desktop.background import Background, Latest

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.item import PackItem
    from rundlet.core.work.sample import Sample
    from rundlet.core.work.trial import Point
    from rundlet.desktop.state.forms import PackForm
    from rundlet.desktop.state.workspace import Workspace

LEAST = 16_000
"""Bytes; of less there is nothing to choose between, and no chart is drawn."""

_WAIT_MS = 350  # a choice that stands so long is worth trying

Selection = tuple[str, int]


class TrialRunner(QObject):
    """What is known of how well and how quickly the chosen files pack.

    Signals:
        changed: there is something new.

    Attributes:
        enabled: whether anything is tried at all.
        held: asked before a trial is begun; one that is held waits a little longer.
        sample: what is tried; None before it was read.
        traits: what the chosen files have that not every format keeps.
        running: whether more points are on their way.
    """

    changed = Signal()

    def __init__(self, workspace: Workspace, background: Background) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._background = background
        self._task = Latest(background)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_WAIT_MS)
        self._timer.timeout.connect(self._start)
        self._tried: object = None
        self.enabled = True
        self.held: Callable[[], bool] = bool
        self._points: dict[Selection, Point] = {}
        self.sample: Sample | None = None
        self.traits = Traits()
        self.running = False
        workspace.selector.changed.connect(self._again)
        workspace.packing.changed.connect(self._again)

    @property
    def points(self) -> dict[Selection, Point]:
        """The newest point of each format and level, with the time for reading it back where that is asked for."""
        sample, form = self.sample, self._workspace.packing.form
        if sample is None or not (form.read_back or form.trash):
            return self._points
        from rundlet.core.work.trial import with_reading_back

        return {selection: with_reading_back(point, sample) for selection, point in self._points.items()}

    @property
    def point(self) -> Point | None:
        """The point of the chosen format and level."""
        form = self._workspace.packing.form
        return self.points.get((form.info.id, form.level))

    @property
    def best(self) -> set[Selection]:
        """The choices that no other beats in both time and size."""
        if not self._points:
            return set()
        from rundlet.core.work.trial import worth_showing

        return worth_showing(list(self.points.values()))

    def fitting(self, limit: int) -> Point | None:
        """The quickest choice that fits a limit of so many bytes, among formats that can do all else that is asked."""
        form = self._workspace.packing.form
        points = [p for p in self.points.values() if not form.password or p.fmt in ("zip", "7z")]
        if not points:
            return None
        from rundlet.core.work.trial import that_fits

        return that_fits(points, limit)

    @property
    def at_rest(self) -> bool:
        """Whether nothing is tried and nothing is about to be."""
        return not self.running and not self._timer.isActive()

    def stop(self) -> None:
        """Try nothing any more."""
        self.enabled = False
        self._timer.stop()
        self._task.drop()

    def _asked(self) -> tuple[object, ...]:
        form = self._workspace.packing.form
        return (self._workspace.selector.paths(), form.leave_out, form.exclude, form.follow)

    def _again(self, _: object = None) -> None:
        if not self.enabled or self._asked() == self._tried:
            return
        self._tried = self._asked()
        self._task.drop()
        self._points, self.sample, self.traits, self.running = {}, None, Traits(), False
        self.changed.emit()
        if self._workspace.selector.paths():
            self._timer.start()
        else:
            self._timer.stop()

    def _start(self) -> None:
        if self.held():
            self._timer.start()
            return
        paths, form, asked = self._workspace.selector.paths(), self._workspace.packing.form, self._tried
        leave_out, exclude, follow = form.leave_out, form.exclude, form.follow

        def work(job: Job) -> None:
            from rundlet.core.work.sample import take_sample
            from rundlet.core.work.trial import trial

            items: list[PackItem] = items_of(
                paths, exclude=exclude, leave_out=leave_out, follow=follow, tick=job.checkpoint
            )
            traits = traits_of(items)
            self._background.tell(lambda: self._seen(asked, traits))
            sample = take_sample(items, job)
            self._background.tell(lambda: self._sampled(asked, sample))
            if sample.total < LEAST:
                return
            for point in trial(sample, job):
                self._background.tell(lambda point=point: self._add(asked, point))  # type: ignore[misc]

        self.running = True
        self._task.run(work, done=self._ended, failed=self._ended)

    def _seen(self, asked: object, traits: Traits) -> None:
        if asked == self._tried:
            self.traits = traits
            self.changed.emit()

    def _sampled(self, asked: object, sample: Sample) -> None:
        if asked == self._tried:
            self.sample = sample
            self.changed.emit()

    def _add(self, asked: object, point: Point) -> None:
        if asked == self._tried:
            self._points[point.fmt, point.level] = point
            self.changed.emit()

    def _ended(self, result: object) -> None:
        self.running = False
        if isinstance(result, BaseException) and not isinstance(result, RundletError):
            self._points = {}
        self.changed.emit()


def parts_for(form: PackForm, point: Point | None) -> int | None:
    """How many parts an archive will be in, about; None while that is not known."""
    if point is None or not form.part_size:
        return None
    return max(-(-point.size // form.part_size), 1)
