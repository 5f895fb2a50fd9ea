"""What a format can do, and how an archive is written in it."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class FormatInfo:
    """What a format is called and what it can do.

    Attributes:
        id: the short name, as typed on the command line.
        ending: the file name ending, with its dot.
        about: one sentence on who can open it.
        levels: the levels it can write, 0 being "as is"; empty when it can only be read.
        default_level: the level that serves most people.
        can_lock, can_hide_names: whether it can write with a password, and hide the names behind it.
        other_endings: shorter endings that stand for it too.
        methods: the codecs it can be written with, its usual one first; empty when there is no choice.
    """

    id: str
    ending: str
    about: str
    levels: tuple[int, ...]
    default_level: int
    can_lock: bool = False
    can_hide_names: bool = False
    methods: tuple[str, ...] = ()
    other_endings: tuple[str, ...] = ()

    @property
    def writes(self) -> bool:
        """Whether new archives can be made in it."""
        return bool(self.levels)

    def level_for(self, level: int) -> int:
        """The nearest level that the format has."""
        return min(max(level, self.levels[0]), self.levels[-1])


@dataclass(frozen=True, slots=True)
class WriteOptions:
    """How an archive is written.

    Attributes:
        level: 0 (as is) to 9 (tightest).
        password: locks the entries, where the format can; "" for no lock.
        hide_names: whether the names are locked too, where the format can.
        method: the codec, one of the format's ``methods``; "" for its usual one.
        owners: whether the names and numbers of owners are kept, where the format can.
    """

    level: int
    password: str = field(default="", repr=False)
    hide_names: bool = False
    method: str = ""
    owners: bool = False
