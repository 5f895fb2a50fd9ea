"""Whose turn it is. Threads that compute in Python step aside for a moment while an interface has something to paint.

The interpreter lets one thread run at a time, and each of the many small calls that painting takes has to wait for its turn
behind all threads that compute: with three of them a picture takes half a second. Work that goes through very many small steps asks
here between two of them.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

_NAP = 0.001  # seconds
_NAPS = 60  # at most, so that work goes on whatever the interface does

_MOMENT = 0.25  # seconds; an interface that was busy for longer has other reasons

_AT_ONCE = 1000  # objects; takes about a tenth of a millisecond

_painting = 0
_awake_since = 0.0


def step_aside() -> None:
    """Wait while an interface has something to do, a little while at most; costs next to nothing when none has."""
    if _is_busy():
        for _ in range(_NAPS):
            time.sleep(_NAP)
            if not _is_busy():
                break


def _is_busy() -> bool:
    return _painting > 0 or (_awake_since > 0 and time.monotonic() - _awake_since < _MOMENT)


def interface_wakes() -> None:
    """The interface's loop has events to see to."""
    global _awake_since
    _awake_since = _awake_since or time.monotonic()


def interface_rests() -> None:
    """The interface's loop waits for events."""
    global _awake_since
    _awake_since = 0.0


def let_go(things: list[Any] | dict[Any, Any]) -> None:
    """Empty a collection of very many objects bit by bit: to let go of a million at once keeps all threads waiting."""
    take = things.popitem if isinstance(things, dict) else things.pop
    while things:
        step_aside()
        for _ in range(min(_AT_ONCE, len(things))):
            take()


@contextmanager
def first() -> Iterator[None]:
    """Have other threads step aside; for the interface's thread alone."""
    global _painting
    _painting += 1
    try:
        yield
    finally:
        _painting -= 1
