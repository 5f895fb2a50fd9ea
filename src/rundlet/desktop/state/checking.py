"""Whether what archives hold is intact: what was found out of each item, for as long as the window is there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

if TYPE_CHECKING:
    from collections.abc import Collection

    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.jobs.outcomes import Checked
    from rundlet.core.work.checker import Verdict
    from rundlet.desktop.locations.place import OpenArchive
    from rundlet.desktop.state.changing import Chain
    from rundlet.desktop.state.standpoint import Standpoint


@dataclass(slots=True)
class Found:
    """What was found out of one archive.

    Attributes:
        seen: what the archive was then.
        verdicts: of each row a :class:`~rundlet.core.work.checker.Verdict`; filled in while it is read.
        outcome: what it came to; None while it is being read, or where that was cancelled.
        running: whether it is being read.
    """

    seen: tuple[int, ...]
    verdicts: NDArray[np.int8]
    outcome: Checked | None = None
    running: bool = False


class Checking(QObject):
    """Keeps what was found out, archive by archive.

    Attributes:
        wanted: whether the columns are to show that.

    Signals:
        changed: something of it changed.
        progressed: more is known of what is being read.
    """

    changed = Signal()
    progressed = Signal()

    def __init__(self, at: Standpoint, parent: QObject) -> None:
        super().__init__(parent)
        self._at = at
        self._found: dict[Chain, Found] = {}
        self.wanted = False

    def want(self, on: bool) -> None:
        """Show what was found out, or no longer."""
        self.wanted = on
        self.changed.emit()

    @property
    def found(self) -> Found | None:
        """What was found out of the archive where the window stands, or None; not of another version of it."""
        found, opened = self._found.get(self._at.place.chain), self._at.archive
        if found is None or opened is None:
            return None
        return found if found.seen == opened.seen and len(found.verdicts) == len(opened.reader.catalog) else None

    def begin(self, opened: OpenArchive) -> Found:
        """The archive is about to be read: nothing is known of it any more."""
        import numpy as np

        found = Found(opened.seen, np.zeros(len(opened.reader.catalog), np.int8), running=True)
        self._found[self._at.place.chain] = found
        self.changed.emit()
        return found

    def end(self, found: Found, outcome: Checked | None) -> None:
        """It was read, or that was cancelled or failed."""
        found.outcome, found.running = outcome, False
        self.changed.emit()

    def note(self, row: int) -> tuple[str, str] | None:
        """What is so of a row of the archive in a word or two, and the token that it is written in."""
        found = self.found
        if found is None or row >= len(found.verdicts) or not found.verdicts[row]:
            return None
        from rundlet.core.work.checker import Verdict
        from rundlet.presentation.checks import VERDICTS

        return VERDICTS[Verdict(int(found.verdicts[row]))]

    def nodes(self, *, good: bool) -> list[int]:
        """The rows that are intact as far as anybody can tell, or those that are not."""
        from rundlet.core.work.checker import Verdict

        return self._nodes(
            {verdict for verdict in Verdict if verdict is not Verdict.UNREAD and verdict.is_good == good}
        )

    def readable(self) -> list[int]:
        """The rows that can be read to their end, be they intact or not."""
        from rundlet.core.work.checker import Verdict

        return self._nodes({verdict for verdict in Verdict if verdict.can_be_had})

    def _nodes(self, wanted: Collection[Verdict]) -> list[int]:
        found = self.found
        verdicts = set(map(int, wanted))
        rows = found.verdicts.tolist() if found is not None else []
        return [row + 1 for row, verdict in enumerate(rows) if verdict in verdicts]

    def left(self, *, again: bool) -> None:
        """The archive was left, or is looked at again; what was found out is kept."""
        self.wanted = self.wanted and again
