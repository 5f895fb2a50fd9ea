"""Entries under the legacy cipher, many of which are decrypted in step: one alone goes at a megabyte a second."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Protocol

import numpy as np

from rundlet.core.codecs.legacy_cipher import HEADER_SIZE, TOGETHER, LegacyCipher, decrypt_together
from rundlet.core.errors import RundletError
from rundlet.core.limits import MIB

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.streams.sources import ByteSource

_MOST, _LARGEST, _IN_ALL = 4096, 4 * MIB, 32 * MIB  # entries, and bytes of each and of all, that are held in memory


class Legacy(Protocol):
    """What the reader of the archive gives."""

    source: ByteSource

    def content(self, row: int, source: ByteSource) -> Iterable[bytes]: ...
    def legacy_stream(self, row: int) -> tuple[LegacyCipher, bytes]: ...
    def decoded(self, row: int, packed: bytes) -> Iterable[bytes]: ...


def in_step(
    rows: NDArray[np.int64], packed: NDArray[np.int64], legacy: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], list[list[int]]]:
    """Sort out the entries that are decrypted in step.

    Args:
        rows: the wanted entries; shape (n,).
        packed: their packed bytes; shape (n,).
        legacy: whether they are under the legacy cipher; shape (n,).

    Returns:
        all other rows in their order, and batches of rows, the largest first.
    """
    fitting = legacy & (packed > HEADER_SIZE) & (packed <= _LARGEST)
    if np.count_nonzero(fitting) < TOGETHER:
        return rows, []
    order = np.argsort(-packed[fitting], kind="stable")
    batches: list[list[int]] = [[]]
    room = _IN_ALL
    for row, size in zip(rows[fitting][order].tolist(), packed[fitting][order].tolist(), strict=True):
        if len(batches[-1]) == _MOST or room < size:
            batches.append([])
            room = _IN_ALL
        batches[-1].append(row)
        room -= size
    batches = [batch for batch in batches if len(batch) >= TOGETHER]
    taken = np.isin(rows, np.concatenate([np.zeros(0, np.int64), *batches]))
    return rows[~taken], batches


class LegacyUnit:
    """A batch of them; see :class:`rundlet.core.formats.base.Unit`. The largest come first."""

    def __init__(self, reader: Legacy, rows: Sequence[int], cost: int) -> None:
        self._reader = reader
        self.rows = rows
        self.cost = cost

    def stream(self) -> Iterator[tuple[int, Iterable[bytes]]]:
        streams: dict[int, tuple[LegacyCipher, bytes]] = {}
        for row in self.rows:
            try:
                streams[row] = self._reader.legacy_stream(row)
            except RundletError:
                pass  # said when it is read by itself
        steps = decrypt_together([cipher for cipher, _ in streams.values()], [data for _, data in streams.values()])
        clear: dict[int, bytes] = {}
        for row in self.rows:
            yield row, self._content(row, steps, streams, clear) if row in streams else self._alone(row)

    def _alone(self, row: int) -> Iterator[bytes]:
        yield from self._reader.content(row, self._reader.source)

    def _content(
        self,
        row: int,
        steps: Generator[bytes, None, list[bytes]],
        streams: dict[int, tuple[LegacyCipher, bytes]],
        clear: dict[int, bytes],
    ) -> Iterator[bytes]:
        """The content of one entry. The first one that is asked for has all decrypted; it may be left on the way."""
        while not clear:
            try:
                yield next(steps)
            except StopIteration as done:
                clear.update(zip(streams, done.value, strict=True))
        yield from self._reader.decoded(row, clear.pop(row))
