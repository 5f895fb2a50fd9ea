"""The parts of a plain file, where one of them is selected, and the file that they make up."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.errors import RundletError
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.work.joiner import JoinPlan

_PART = re.compile(r".+\.\d{2,}")


class Joining(QObject):
    """Follows the choice on the disk.

    Attributes:
        plan: what joining would give; None where no parts of a plain file are selected.
        error: why that can't be told, or None.

    Signals:
        changed: something of it changed.
    """

    changed = Signal()

    def __init__(self, paths: Callable[[], tuple[Path, ...]], background: Background, parent: QObject) -> None:
        super().__init__(parent)
        self._paths = paths
        self._task = Latest(background)
        self._for: tuple[Path, ...] = ()
        self.wanted = True
        self.plan: JoinPlan | None = None
        self.error: RundletError | None = None

    def follow(self, _: object = None) -> None:
        """Something else is selected."""
        paths = self._paths()
        if paths == self._for:
            return
        self._for, self.plan, self.error, self.wanted = paths, None, None, True
        self._task.drop()
        if paths and all(_PART.fullmatch(path.name) for path in paths) and len({_stem(path) for path in paths}) == 1:
            self._look(paths)
        else:
            self.changed.emit()

    def look_again(self, _: object = None) -> None:
        """The folder was looked at again."""
        if self.offered:
            self._look(self._for)

    def _look(self, paths: tuple[Path, ...]) -> None:
        def work(_: Job) -> JoinPlan | RundletError | None:
            from rundlet.core.work.joiner import plan_join

            try:
                return plan_join(paths[0])
            except RundletError as error:
                return error

        def done(found: JoinPlan | RundletError | None) -> None:
            if paths != self._for:
                return
            is_error = isinstance(found, RundletError)
            self.error = found if isinstance(found, RundletError) else None
            self.plan = found if not isinstance(found, RundletError) and found is not None else None
            if self.plan is not None and (self.plan.holds_archive or (len(self.plan.parts) < 2 and not is_error)):
                self.plan = None
            self.changed.emit()

        self._task.run(work, done=done, failed=log_failure)

    def want(self, on: bool) -> None:
        """Show it, or no longer."""
        self.wanted = on
        self.changed.emit()

    @property
    def offered(self) -> bool:
        """Whether what is selected can be joined, or could be with what is missing."""
        return self.plan is not None and self._for == self._paths()


def _stem(path: Path) -> str:
    return path.name.rpartition(".")[0]
