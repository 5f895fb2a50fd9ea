"""Exact reads: all the bytes asked for, or an error that says where they were missing; and streams cut to size."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from rundlet.core.errors import Truncated
from rundlet.core.limits import CHUNK
from rundlet.core.streams.sources import ByteSource
from rundlet.core.text import quoted


def read_exactly(source: ByteSource, offset: int, length: int) -> bytes:
    """The ``length`` bytes at ``offset``.

    Raises:
        Truncated: when the source ends before; nothing is set aside for bytes that are not there.
    """
    if offset < 0 or length < 0 or offset + length > source.size:
        raise _cut(source, offset, length)
    data = source.read_at(offset, length)
    if len(data) != length:
        raise _cut(source, offset, length)
    return data


def chunks(source: ByteSource, offset: int, length: int, *, chunk: int = CHUNK) -> Iterator[bytes]:
    """The same bytes, ``chunk`` of them at a time.

    Raises:
        Truncated: at the chunk that is not wholly there.
    """
    end = offset + length
    while offset < end:
        step = min(chunk, end - offset)
        yield read_exactly(source, offset, step)
        offset += step


def _cut(source: ByteSource, offset: int, length: int) -> Truncated:
    return Truncated(
        f"{quoted(source.name)} is cut off: {length} bytes should stand at {offset}, and it has {source.size} in all.",
        archive=source.name,
        offset=offset,
    )


def in_pieces(content: Iterable[bytes], step: int) -> Iterator[bytes]:
    """Bytes in pieces of one size, the last one shorter."""
    pending: list[bytes] = []
    total = 0
    for data in content:
        while total + len(data) >= step:
            pending.append(data[: step - total])
            data = data[step - total :]
            yield b"".join(pending)
            pending, total = [], 0
        if data:
            pending.append(data)
            total += len(data)
    if pending:
        yield b"".join(pending)
