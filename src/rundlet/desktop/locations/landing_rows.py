"""What unpacking will leave behind, as a listing."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from rundlet.core.model.entry import Kind
from rundlet.core.model.file_type import FileType, file_type_of
from rundlet.core.model.natural import natural_key
from rundlet.core.plans.unpack_plan import Action, Steps, UnpackPlan
from rundlet.desktop.locations.listing import TOP, Row
from rundlet.presentation.findings import findings_words
from rundlet.presentation.sentences import say


@dataclass(slots=True)
class _Place:
    name: str
    folder: bool
    tone: str = "soft"
    note: str = ""
    parent: int = TOP
    asked: tuple[int, Steps] | None = None
    problem: bool = False
    below: dict[str, int] = field(default_factory=dict)


class LandingListing:
    """What will be in the chosen folder: the outcome of plans among what is already there.

    Args:
        folder: the chosen folder.
        plans: where the archives land, in it or in folders below it.
        problems: names of archives that can't be unpacked, each with why.
        most: how many entries are shown; a person reads a few hundred at best.

    Attributes:
        archives: how many archives land.
    """

    def __init__(
        self, folder: Path, plans: Sequence[UnpackPlan], problems: Sequence[tuple[str, str]] = (), *, most: int = 2000
    ) -> None:
        self.archives = len(plans)
        self._places: list[_Place] = [_Place("", folder=True)]
        self._top = self._add(TOP, folder.name or str(folder), folder=True)
        self._mark(self._top, *(("ink", "") if os.path.exists(folder) else ("moss", "new")))
        self._order: dict[int, list[int]] = {}
        for number, plan in enumerate(plans):
            self._add_plan(number, plan, folder, most // len(plans))
        for name, problem in problems:
            self._mark(node := self._add(self._top, name, folder=False), "amber", problem)
            self._places[node].problem = True
        self._add_others(folder)

    def _add_plan(self, number: int, plan: UnpackPlan, folder: Path, most: int) -> None:
        top = self._top
        for name in plan.root.relative_to(os.path.abspath(folder)).parts:
            top = self._add(top, name, folder=True)
            self._mark(top, *(("moss", "new") if plan.root_is_new else ("ink", "already there")))
        for step in plan.steps[:most]:
            tone, note = _tone(step.action, findings_words(step.notes))
            node = top
            for name in step.target[:-1]:
                node = self._add(node, name, folder=True)
                if step.action.writes and plan.root_is_new:
                    self._mark(node, "moss", "new")
            node = self._add(node, step.target[-1], folder=step.kind == Kind.DIR)
            self._mark(node, tone, note)
            if step.asked and (step.action.taken or step.action == Action.SAME):
                self._places[node].asked = number, step.asked
        if len(plan.steps) > most:
            self._add(top, say("… and {count:,} more", count=len(plan.steps) - most), folder=False)

    def _add(self, parent: int, name: str, *, folder: bool) -> int:
        below = self._places[parent].below
        if name not in below:
            self._places.append(_Place(name, folder, parent=parent))
            below[name] = len(self._places) - 1
        return below[name]

    def _mark(self, node: int, tone: str, note: str) -> None:
        self._places[node].tone, self._places[node].note = tone, note

    def taken_name(self, node: int) -> tuple[int, Steps] | None:
        """The name that is taken in a row: which plan asks for it, and its steps from the root of that plan."""
        return self._places[node].asked

    def _add_others(self, folder: Path, most: int = 40) -> None:
        try:
            with os.scandir(folder) as entries:
                others = sorted((e.name, e.is_dir()) for e in entries if not e.name.startswith("."))
        except OSError:
            return
        for name, is_dir in others[:most]:
            self._add(self._top, name, folder=is_dir)

    def children(self, node: int) -> Sequence[int]:
        if node not in self._order:
            places = self._places
            self._order[node] = sorted(
                places[node].below.values(),
                key=lambda n: (not places[n].problem, not places[n].folder, natural_key(places[n].name)),
            )
        return self._order[node]

    def parent_of(self, node: int) -> int:
        return self._places[node].parent

    def is_folder(self, node: int) -> bool:
        return self._places[node].folder

    def count(self, node: int) -> int:
        return len(self._places[node].below)

    def record(self, node: int) -> Row:
        place = self._places[node]
        file_type = FileType.FOLDERS if place.folder else file_type_of(place.name)
        return Row(name=place.name, file_type=file_type, tone=place.tone, note=place.note)

    def sort(self, key: str, *, descending: bool) -> None:
        """The landing tree has one order: what can't be done first, then folders, by name."""

    def order_ahead(self, key: str, *, descending: bool) -> None:
        """There is no other."""

    def narrow(self, words: str, file_type: FileType | None) -> None:
        """The landing tree is always whole."""

    def narrow_ahead(self, words: str, file_type: FileType | None) -> None:
        """The landing tree is always whole."""

    def counts(self) -> dict[FileType, int]:
        return {}

    @property
    def found(self) -> int:
        return len(self._places) - 1


def _tone(action: Action, note: str) -> tuple[str, str]:
    tones = {
        Action.MAKE: ("moss", "new"),
        Action.JOIN: ("ink", "already there"),
        Action.NUMBER: ("amber", "both kept"),
        Action.REPLACE: ("amber", "replaces the existing file"),
        Action.SKIP: ("amber", "existing file kept"),
        Action.SAME: ("slate", "already there, unchanged"),
        Action.REFUSE: ("amber", say("left out: {note}", note=note)),
    }
    return tones[action]
