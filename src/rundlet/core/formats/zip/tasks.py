"""What goes into a zip archive, compressed side by side: neighbouring small files together, large ones in pieces."""

from __future__ import annotations

import functools
import itertools
import os
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.codecs import deflate_codec
from rundlet.core.codecs.aes import SALT_SIZES, ZipKeys, encrypt
from rundlet.core.codecs.checksums import crc32
from rundlet.core.codecs.encoders import compress_whole
from rundlet.core.codecs.steps import Tick, no_tick
from rundlet.core.formats.item_reading import READ_ERRORS, open_item, read_problem, read_whole, shrinks
from rundlet.core.formats.zip.headers import STRENGTH
from rundlet.core.formats.zip.records import Method
from rundlet.core.limits import MIB, SMALL
from rundlet.core.model.entry import Kind

if TYPE_CHECKING:
    from rundlet.core.errors import FileProblem
    from rundlet.core.formats.deflate_process import Content
    from rundlet.core.formats.deflate_workers import Deflaters
    from rundlet.core.model.contents import OpenContent
    from rundlet.core.model.item import PackItem

_BATCH = 64


@dataclass(frozen=True, slots=True)
class How:
    """How entries are written.

    Attributes:
        level: 0 to 9.
        method: the method below any lock.
        codec: the codec of that method.
        password: b"" for no lock.
        forward: whether nothing can be corrected, so that large entries get a method that ends by itself where there is one.
    """

    level: int
    method: Method
    codec: str
    password: bytes
    forward: bool = False

    @property
    def locked(self) -> bool:
        """Whether entries get a lock."""
        return bool(self.password)

    def new_lock(self) -> tuple[ZipKeys, bytes]:
        """Keys of their own for one entry, and what stands in front of its data."""
        salt = os.urandom(SALT_SIZES[STRENGTH])
        keys = ZipKeys(self.password, salt, STRENGTH)
        return keys, salt + keys.verifier


@dataclass(slots=True)
class Packed:
    """A small item, ready to be written."""

    item: PackItem
    method: Method
    crc: int
    size: int
    data: bytes


@dataclass(slots=True)
class Piece:
    """A piece of a large file: deflated or, for all other methods, as it is, with its own CRC-32 and size in bytes."""

    item: PackItem
    method: Method
    crc: int
    size: int
    data: bytes
    last: bool


@dataclass(slots=True)
class Failed:
    """An item that could not be read, or not to its end."""

    item: PackItem
    problem: FileProblem


Step = list[Packed | Failed] | Piece | Failed
"""What one task gives. The pieces of a file follow one another up to the last one or to its failure."""


def tasks(
    items: Iterable[PackItem], how: How, helpers: Deflaters | None = None, tick: Tick = no_tick
) -> Iterator[Callable[[], Step]]:
    """The tasks that compress the items, to be run side by side and taken in order.

    Args:
        helpers: processes that small files are given to, which only deflate and don't lock.
        tick: asked now and then whether the work goes on; not told of bytes, which count when they are written.
    """
    for small, group in itertools.groupby(items, key=is_small):
        if small:
            for batch in _batches(group):
                yield functools.partial(_pack_batch, batch, how, helpers, tick)
        else:
            for item in group:
                yield from _piece_tasks(item, how)


def is_small(item: PackItem) -> bool:
    """Whether it is read and compressed as a whole."""
    return item.kind != Kind.FILE or item.size <= SMALL


def _batches(items: Iterator[PackItem]) -> Iterator[list[PackItem]]:
    """Neighbours put together, so that handing them to another core costs little beside the work itself."""
    batch: list[PackItem] = []
    total = 0
    for item in items:
        batch.append(item)
        total += item.size
        if len(batch) == _BATCH or total > SMALL:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


def _pack_batch(batch: list[PackItem], how: How, helpers: Deflaters | None, tick: Tick) -> list[Packed | Failed]:
    if helpers is None:
        return [_pack_small(item, how, None, tick) for item in batch]
    files = [(item.source, item.size) for item in batch if _is_on_disk(item)]
    contents = iter(helpers.packed(files, how.level))
    return [_pack_small(item, how, next(contents) if _is_on_disk(item) else None, tick) for item in batch]


def _is_on_disk(item: PackItem) -> bool:
    return item.kind == Kind.FILE and item.content is None


def _pack_small(item: PackItem, how: How, content: Content | None, tick: Tick) -> Packed | Failed:
    """A small item; ``content`` is what a helper made of its file."""
    tick(0)
    if content is not None:
        crc, size, shrinks, data = content
        return Packed(item, Method.DEFLATED if shrinks else Method.STORED, crc, size, data)
    if item.kind == Kind.DIR:
        return Packed(item, Method.STORED, 0, 0, b"")
    if item.kind == Kind.LINK:
        data = item.target.encode("utf-8", "surrogateescape")
    else:
        try:
            data = read_whole(item)
        except READ_ERRORS as error:
            return Failed(item, read_problem(error, item))
    method, packed = Method.STORED, data
    if how.level and data and item.kind == Kind.FILE:
        smaller = compress_whole(how.codec, data, how.level, lambda _: tick(0))
        if len(smaller) < len(data):
            method, packed = how.method, smaller
    if how.locked:
        keys, begin = how.new_lock()
        packed = begin + b"".join(encrypt(keys, [packed]))
    return Packed(item, method, crc32(data), len(data), packed)


def _piece_tasks(item: PackItem, how: How) -> Iterator[Callable[[], Step]]:
    """Tasks for the pieces of a large file.

    One byte past the end of each piece is looked at, so that the last one knows that it is the last even when the
    file has grown or shrunk since the plan.
    """
    content: OpenContent | None = None
    try:
        content = open_item(item)
        method = how.method if how.level and (how.forward or shrinks(content, item.size)) else Method.STORED
        level = how.level if method == Method.DEFLATED else 0
        step = deflate_codec.piece_size(level) if level else MIB
        data, before = content.read(step, 0), b""
        offset, last = len(data), False
        while not last:
            following = content.read(step, offset) if data else b""
            last = not following
            yield functools.partial(_pack_piece, item, method, level, data, before=before, last=last)
            before, data = data[-deflate_codec.WINDOW :], following
            offset += len(data)
    except READ_ERRORS as error:
        yield functools.partial(Failed, item, read_problem(error, item))
    finally:
        if content is not None:
            content.close()


def _pack_piece(item: PackItem, method: Method, level: int, data: bytes, *, before: bytes, last: bool) -> Piece:
    packed = deflate_codec.compress_piece(data, level, before=before, last=last) if level else data
    return Piece(item, method, crc32(data), len(data), packed, last)
