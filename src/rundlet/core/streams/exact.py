"""Exact reads: all the bytes asked for, or an error that says where they were missing; and streams cut to size."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from rundlet.core.errors import MissingPart, Truncated
from rundlet.core.limits import CHUNK

if TYPE_CHECKING:
    from rundlet.core.streams.sources import ByteSource


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


def read_there(source: ByteSource, offset: int, length: int) -> bytes:
    """The same bytes up to the end of the source, or up to the first that is in a part that is not there.

    Raises:
        MissingPart: when that is the very first.
    """
    try:
        return source.read_at(offset, length)
    except MissingPart:
        there, missing = 0, length
        while missing - there > 1:
            middle = (there + missing) // 2
            try:
                source.read_at(offset, middle)
                there = middle
            except MissingPart:
                missing = middle
        if not there:
            raise
        return source.read_at(offset, there)


def next_there(source: ByteSource, offset: int, step: int) -> int | None:
    """The first place from ``offset`` on, in steps of so many bytes, where a step is not in a part that is not there.

    None when there is no such place before the end of the source.
    """
    missing, there = 0, 1  # steps to a place that is not there, and to one that is
    if _is_there(source, offset, step):
        return offset
    last = (source.size - 1 - offset) // step
    while there > last or not _is_there(source, offset + there * step, step):
        if there >= last:
            return None
        missing, there = there, min(2 * there, last)
    while there - missing > 1:
        middle = (missing + there) // 2
        if _is_there(source, offset + middle * step, step):
            there = middle
        else:
            missing = middle
    return offset + there * step


def _is_there(source: ByteSource, offset: int, length: int) -> bool:
    try:
        source.read_at(offset, length)
    except MissingPart:
        return False
    return True


def read_last(source: ByteSource, length: int) -> bytes:
    """The last ``length`` bytes, or about as many of them as follow on a part that is not there.

    Raises:
        MissingPart: when the last byte is not there.
    """
    length = min(length, source.size)
    while True:
        try:
            return source.read_at(source.size - length, length)
        except MissingPart:
            if length < 2:
                raise
            length //= 2


def chunks(source: ByteSource, offset: int, length: int, *, chunk: int = CHUNK) -> Iterator[bytes]:
    """The same bytes, ``chunk`` of them at a time.

    Raises:
        Truncated: at the chunk that is not wholly there.
        MissingPart: at the first byte that is in a part that is not there.
    """
    end = offset + length
    while offset < end:
        step = min(chunk, end - offset)
        data = read_there(source, offset, step) if offset + step <= source.size else b""
        if not data:
            raise _cut(source, offset, step)
        yield data
        offset += len(data)


def _cut(source: ByteSource, offset: int, length: int) -> Truncated:
    return Truncated(
        "{archive:name} is cut off: {length} bytes should stand at {offset}, and it has {size} in all.",
        archive=source.name,
        offset=offset,
        length=length,
        size=source.size,
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
