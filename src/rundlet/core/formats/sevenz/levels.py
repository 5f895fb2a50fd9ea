"""How the levels of 7z pack."""

from __future__ import annotations

from dataclasses import dataclass

from rundlet.core.limits import MIB


@dataclass(frozen=True, slots=True)
class Level:
    """How a level packs.

    Attributes:
        preset: of the codec.
        dictionary: bytes that repetitions are looked for in. Pieces are twice as large, which costs 0.2 % of size.
        memory: bytes that one encoder takes, about.
        order, model: of PPMd.
    """

    preset: int
    dictionary: int
    memory: int
    order: int
    model: int

    @property
    def piece(self) -> int:
        """Bytes of a piece."""
        return 2 * self.dictionary


LEVELS = {
    1: Level(1, 1 * MIB, 10 * MIB, 4, 4 * MIB),
    2: Level(2, 2 * MIB, 18 * MIB, 4, 8 * MIB),
    3: Level(3, 4 * MIB, 33 * MIB, 5, 8 * MIB),
    4: Level(4, 4 * MIB, 49 * MIB, 6, 16 * MIB),
    5: Level(5, 8 * MIB, 95 * MIB, 6, 16 * MIB),
    6: Level(6, 8 * MIB, 95 * MIB, 8, 32 * MIB),
    7: Level(7, 16 * MIB, 187 * MIB, 12, 64 * MIB),
    8: Level(8, 32 * MIB, 371 * MIB, 16, 128 * MIB),
    9: Level(9, 64 * MIB, 675 * MIB, 24, 192 * MIB),
}
"""The level 0 packs nothing."""
