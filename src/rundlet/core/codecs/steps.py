"""Encoding in small steps, between which the work can be paused, cancelled, and told how far it is."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from rundlet.core.limits import KIB

STEP = 128 * KIB
"""Bytes given to an encoder at once: the slowest takes some tenths of a second for as many."""

Tick = Callable[[int], object]
"""Told of bytes that were encoded. May wait, and may raise to end the work."""


def no_tick(_: int) -> None:
    """For work that nobody waits for."""


class Encoder(Protocol):
    """An incremental encoder, in the shape of the standard library's."""

    def compress(self, data: bytes, /) -> bytes:
        """Take data; give out what is ready."""

    def flush(self) -> bytes:
        """End the stream."""


def in_steps(encoder: Encoder, data: bytes | memoryview, tick: Tick = no_tick) -> bytes:
    """All of the data encoded, and the stream ended. The bytes are the same as for all of it at once."""
    view = memoryview(data)
    out = []
    for at in range(0, len(view), STEP):
        piece = view[at : at + STEP]
        out.append(encoder.compress(piece))  # type: ignore[arg-type]
        tick(len(piece))
    out.append(encoder.flush())
    return b"".join(out)
