"""What an archive is compared with, and what that found out, for as long as the window is there."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.errors import RundletError
from rundlet.core.plans.unpack_plan import own_folder_name
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Compared
    from rundlet.core.work.comparer import Comparison
    from rundlet.desktop.locations.place import OpenArchive
    from rundlet.desktop.state.changing import Chain
    from rundlet.desktop.state.standpoint import Standpoint


@dataclass(frozen=True, slots=True)
class Other:
    """What an archive is compared with.

    Attributes:
        path: a folder in which paths begin, or another archive.
        only: names in the folder that are looked at; empty for all.
    """

    path: Path
    only: tuple[str, ...] = ()

    @property
    def tops(self) -> list[Path]:
        """What of the disk is meant."""
        return [self.path / name for name in self.only] or [self.path]

    @property
    def name(self) -> str:
        """What it is called."""
        return self.only[0] if len(self.only) == 1 else self.path.name or str(self.path)


@dataclass(slots=True)
class Found:
    """What comparing one archive found out.

    Attributes:
        seen: what the archive was then.
        other: what it was compared with.
        comparison, outcome: what it came to; None while it goes on, or where it was cancelled.
        running: whether it goes on.
    """

    seen: tuple[int, ...]
    other: Other
    comparison: Comparison | None = None
    outcome: Compared | None = None
    running: bool = False


class Comparing(QObject):
    """Keeps what was found out, archive by archive.

    Attributes:
        wanted: whether the columns are to show that.
        certain: whether all content is to be compared.
        proposals: what the archive where the window stands may be compared with.
        originals_of: what was packed into an archive, by the log; asked beside the interface.

    Signals:
        changed: something of it changed.
    """

    changed = Signal()

    def __init__(self, at: Standpoint, background: Background, parent: QObject) -> None:
        super().__init__(parent)
        self._at = at
        self._task = Latest(background)
        self._found: dict[Chain, Found] = {}
        self._others: dict[Chain, Other] = {}
        self.proposals: list[Other] = []
        self._proposed_for: Path | None = None
        self.originals_of: Callable[[Path], list[Path]] = lambda _: []
        self.wanted = False
        self.certain = False

    def want(self, on: bool) -> None:
        """Show what was found out, or no longer."""
        self.wanted = on
        if on:
            self._propose()
        self.changed.emit()

    @property
    def other(self) -> Other | None:
        """What the archive where the window stands is compared with: what was chosen, else what is proposed first."""
        chosen = self._others.get(self._at.place.chain)
        return chosen or (self.proposals[0] if self.proposals else None)

    def choose(self, path: Path) -> None:
        """Compare with a folder or another archive."""
        if (opened := self._at.archive) is not None:
            self._choose(_as_other(path, opened))

    def choose_other(self, other: Other) -> None:
        """Compare with something that was proposed."""
        self._choose(other)

    def _choose(self, other: Other) -> None:
        self._others[self._at.place.chain] = other
        self.changed.emit()

    def _propose(self) -> None:
        """Find out where the archive came from by the log, and whether a folder of its name lies beside it."""
        opened, place = self._at.archive, self._at.place
        if opened is None or opened.path == self._proposed_for:
            return
        self.proposals, self._proposed_for = [], opened.path
        if place.outer is not None:
            return
        archive, beside = opened.path, opened.path.parent / own_folder_name(opened.path)

        def work(_: Job) -> list[Other]:
            return _proposals(self.originals_of(archive), beside, opened)

        def done(found: list[Other]) -> None:
            if self._proposed_for == archive:
                self.proposals = found
                self.changed.emit()

        self._task.run(work, done=done, failed=log_failure)

    # What was found out

    @property
    def found(self) -> Found | None:
        """What was found out of the archive where the window stands, or None; not of another version of it."""
        found, opened = self._found.get(self._at.place.chain), self._at.archive
        return found if found is not None and opened is not None and found.seen == opened.seen else None

    def begin(self, opened: OpenArchive, other: Other) -> Found:
        """A comparison is about to be made."""
        found = Found(opened.seen, other, running=True)
        self._found[self._at.place.chain] = found
        self.changed.emit()
        return found

    def end(self, found: Found, outcome: Compared | None) -> None:
        """It was made, or that was cancelled or failed."""
        found.outcome, found.running = outcome, False
        if outcome is None:
            found.comparison = None
        self.changed.emit()

    def note(self, row: int) -> tuple[str, str] | None:
        """What is so of a row of the archive in a word or two, and the token that it is written in."""
        found = self.found
        if found is None or found.comparison is None:
            return None
        from rundlet.presentation.comparisons import mark

        at = found.comparison.of_catalog_row(row)
        return mark(found.comparison, at) if at >= 0 else None

    def nodes(self, rows: list[int]) -> list[int]:
        """The nodes of the archive's list for rows of the comparison that it has."""
        found = self.found
        if found is None or found.comparison is None:
            return []
        catalog_rows = [found.comparison.catalog_row(row) for row in rows]
        return [row + 1 for row in catalog_rows if row >= 0]

    def left(self, *, again: bool) -> None:
        """The archive was left, or is looked at again; what was found out is kept."""
        self.wanted = self.wanted and again
        if not again:
            self._proposed_for, self.proposals = None, []


def _as_other(path: Path, opened: OpenArchive) -> Other:
    from rundlet.core.work.comparer import names_in

    if not os.path.isdir(path):
        return Other(path)
    return Other(*names_in(path, opened.tree))


def _proposals(originals: list[Path], beside: Path, opened: OpenArchive) -> list[Other]:
    found = []
    parents = {path.parent for path in originals}
    if len(parents) == 1 and all(os.path.lexists(path) for path in originals):
        found.append(Other(parents.pop(), tuple(path.name for path in originals)))
    try:
        if os.path.isdir(beside):
            found.append(_as_other(beside, opened))
    except RundletError:
        pass
    return list(dict.fromkeys(found))
