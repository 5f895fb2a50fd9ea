"""Units of an archive shared out among workers: each is done once, and workers meet at fine ones only where that helps."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import pytest

from rundlet.core.work import scheduler as units

if TYPE_CHECKING:
    from rundlet.core.formats.base import Unit

FINE, COARSE = 100, 1 << 20


@dataclass
class Piece:
    cost: int
    rows: Sequence[int] = (0,)

    def stream(self) -> Iterator[tuple[int, Iterator[bytes]]]:
        yield 0, iter(())


class Hall:
    """Where workers are seen at their units."""

    def __init__(self, meet: int = 0) -> None:
        self.lock = threading.Lock()
        self.done: list[Unit] = []
        self.at_fine = self.most_at_fine = 0
        self.meeting = threading.Barrier(2) if meet else None
        self.meet = meet

    def work(self, given: Iterator[Unit]) -> None:
        for unit in given:
            with self.lock:
                self.at_fine += unit.cost == FINE
                self.most_at_fine = max(self.most_at_fine, self.at_fine)
                together = self.meeting is not None and unit.cost == FINE and 0 < len(self.done) <= self.meet
            if together and self.meeting is not None:
                self.meeting.wait(60)
            time.sleep(0.001)  # so that others come by meanwhile
            with self.lock:
                self.at_fine -= unit.cost == FINE
                self.done.append(unit)


@pytest.mark.parametrize("workers", [1, 2, 5])
@pytest.mark.parametrize("costs", [[FINE] * 40, [COARSE] * 9, [FINE] * 30 + [COARSE] * 7, []])
def test_every_unit_is_done_once_and_fine_ones_one_at_a_time(
    workers: int, costs: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(units, "_own_seconds", time.monotonic)  # the interpreter is busy all along
    monkeypatch.setattr(units, "_KNOWN_AFTER", 0)
    pieces, hall = [Piece(cost) for cost in costs], Hall()
    units.run_side_by_side(iter(pieces), hall.work, workers)
    assert sorted(map(id, hall.done)) == sorted(map(id, pieces))
    assert hall.most_at_fine == min(costs.count(FINE), 1)


def test_workers_meet_at_fine_units_where_the_file_system_is_slow(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(units, "_own_seconds", lambda: 0.0)
    monkeypatch.setattr(units, "_KNOWN_AFTER", 0)
    hall = Hall(meet=1)
    units.run_side_by_side(iter([Piece(FINE) for _ in range(3)]), hall.work, 2)
    assert len(hall.done) == 3 and hall.most_at_fine == 2


def test_the_first_error_ends_all_workers() -> None:
    def work(given: Iterator[Unit]) -> None:
        for unit in given:
            if unit.cost == COARSE:
                raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        units.run_side_by_side(iter([Piece(COARSE), *(Piece(FINE) for _ in range(50))]), work, 3)
