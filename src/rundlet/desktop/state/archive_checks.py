"""Whether the archives that are selected on the disk are intact: what was found out of each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

if TYPE_CHECKING:
    from rundlet.core.jobs.outcomes import Checked


@dataclass(slots=True)
class Line:
    """What was found out of one archive.

    Attributes:
        seen: its size and time when that was begun.
        outcome: what it came to, or None.
        why: why nothing came of it, or "".
        running: whether it is being read, or waits to be.
    """

    seen: tuple[int, int]
    outcome: Checked | None = None
    why: str = ""
    running: bool = True

    @property
    def is_good(self) -> bool:
        """Whether it is intact, as far as that can be told."""
        return self.outcome is not None and not self.outcome.problems


class ArchiveChecks(QObject):
    """Keeps it for as long as the window is there.

    Attributes:
        wanted: whether the columns are to show it.

    Signals:
        changed: something of it changed.
    """

    changed = Signal()

    def __init__(self, paths: Callable[[], tuple[Path, ...]], parent: QObject) -> None:
        super().__init__(parent)
        self._paths = paths
        self._for: tuple[Path, ...] = ()
        self._lines: dict[Path, Line] = {}
        self.wanted = False

    def follow(self, _: object = None) -> None:
        """Something else is selected."""
        if self.wanted and self._paths() != self._for:
            self.want(False)

    def want(self, on: bool) -> None:
        """Show it, or no longer."""
        self._for = self._paths()
        if on != self.wanted:
            self.wanted = on
            self.changed.emit()

    def line(self, archive: Path) -> Line | None:
        """What was found out of an archive as it is now, or None."""
        line = self._lines.get(archive)
        return line if line is not None and line.seen == _seen(archive) else None

    def begin(self, archive: Path) -> Line:
        """An archive is about to be read."""
        line = self._lines[archive] = Line(_seen(archive))
        self.changed.emit()
        return line

    def end(self, line: Line, outcome: Checked | None, why: str) -> None:
        """It was read, or that was cancelled or failed."""
        line.outcome, line.why, line.running = outcome, why, False
        self.changed.emit()


def _seen(archive: Path) -> tuple[int, int]:
    try:
        status = archive.stat()
    except OSError:
        return -1, -1
    return status.st_size, status.st_mtime_ns
