"""Files sorted into solid blocks: what is alike lies together, what can't get smaller lies apart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from enum import IntEnum
from functools import partial
from typing import TYPE_CHECKING

from rundlet.core.codecs.parallel import cores, in_order
from rundlet.core.formats.item_reading import open_item, shrinks
from rundlet.core.formats.sevenz.records import IDS, Folder
from rundlet.core.limits import KIB
from rundlet.core.model.entry import Kind

if TYPE_CHECKING:
    from rundlet.core.formats.sevenz.new_header import Row
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.item import PackItem

_HEAD = 4 * KIB
_TRIED_FROM = 64 * KIB  # smaller files take longer to try than to pack
_AT_ONCE = 128
_LOOKING = 32  # looking at a file counts as this part of its bytes, so that progress moves meanwhile
_ELF_MACHINES = {3: "x86", 62: "x86", 183: "arm64"}
_PE_MACHINES = {0x014C: "x86", 0x8664: "x86", 0xAA64: "arm64"}
_TEXT_CONTROLS = frozenset(range(32)) - set(b"\t\n\r\f\x1b")


class ContentType(IntEnum):
    """What a file is to the packer, in the order in which the blocks are written."""

    OTHER = 0
    TEXT = 1
    X86 = 2
    ARM64 = 3
    PACKED = 4


FILTERS = {ContentType.X86: "x86", ContentType.ARM64: "arm64"}
"""The branch filter for each type of program."""

_BY_FILTER = {name: content_type for content_type, name in FILTERS.items()}


@dataclass(frozen=True, slots=True)
class BlockPlan:
    """The items of one solid block, all of one type.

    Attributes:
        rows: what the header keeps of the items, where another archive has said it already; else nothing.
    """

    content_type: ContentType
    items: Sequence[PackItem]
    rows: Sequence[Row] = ()


def blocks(
    items: Sequence[PackItem], *, alone_from: int, largest: int, copy: bool, pool: ThreadPoolExecutor, job: Job
) -> Iterator[BlockPlan]:
    """The items with content in blocks: by type, then by ending and path.

    Args:
        alone_from: files of more bytes than this have a block to themselves.
        largest: bytes that the others of one block may have together.
        copy: whether nothing is compressed at all, so that there is nothing to try.
    """
    filled = [item for item in items if item.kind == Kind.LINK or (item.kind == Kind.FILE and item.size)]
    content_types = {item.path: ContentType.PACKED if copy else ContentType.OTHER for item in filled}
    if not copy:
        batches = [filled[at : at + _AT_ONCE] for at in range(0, len(filled), _AT_ONCE)]
        tasks = (partial(_content_types, batch) for batch in batches)
        job.expect(sum(item.size // _LOOKING for item in filled))
        for batch, found in zip(batches, in_order(pool, tasks, ahead=2 * cores()), strict=True):
            job.advance(sum(item.size // _LOOKING for item in batch))
            content_types.update((item.path, content_type) for item, content_type in zip(batch, found, strict=True))
    filled.sort(key=lambda item: (content_types[item.path], _ending(item), item.path))
    together: list[PackItem] = []
    total = 0
    for item in filled:
        content_type, alone = content_types[item.path], item.size > alone_from
        if together and (alone or content_type != content_types[together[0].path] or total + item.size > largest):
            yield BlockPlan(content_types[together[0].path], together)
            together, total = [], 0
        if alone:
            yield BlockPlan(content_type, [item])
        else:
            together.append(item)
            total += item.size
    if together:
        yield BlockPlan(content_types[together[0].path], together)


def _ending(item: PackItem) -> str:
    return item.path.rpartition("/")[2].rpartition(".")[2].lower()


def _content_types(items: Sequence[PackItem]) -> list[ContentType]:
    return [content_type_of(item) for item in items]


def content_type_of(item: PackItem) -> ContentType:
    """What a file is, by its content; whoever reads it later says what keeps it from being read."""
    if item.kind == Kind.LINK or item.content is not None:  # to look into another archive would mean to decode it twice
        return ContentType.OTHER
    try:
        content = open_item(item)
    except OSError:
        return ContentType.OTHER
    try:
        head = content.read(_HEAD, 0)
        machine = _machine(head)
        if machine:
            return _BY_FILTER[machine]
        if item.size >= _TRIED_FROM and not shrinks(content, item.size):
            return ContentType.PACKED
        return ContentType.OTHER if _TEXT_CONTROLS & set(head) else ContentType.TEXT
    except OSError:
        return ContentType.OTHER
    finally:
        content.close()


def content_type_of_block(folder: Folder) -> ContentType:
    """What the files of a block of another archive are, as far as the way in which they are packed tells."""
    methods = {coder.method for coder in folder.coders}
    for name, content_type in _BY_FILTER.items():
        if IDS[name] in methods:
            return content_type
    if IDS["ppmd"] in methods:
        return ContentType.TEXT
    return ContentType.PACKED if methods <= {IDS["copy"], IDS["aes"]} else ContentType.OTHER


def _machine(head: bytes) -> str:
    """The processor that a program is for, where there is a filter for it, else ""."""
    if head[:4] == b"\x7fELF" and len(head) >= 20:
        return _ELF_MACHINES.get(int.from_bytes(head[18:20], "little" if head[5] == 1 else "big"), "")
    if head[:2] == b"MZ" and len(head) >= 64:
        at = int.from_bytes(head[60:64], "little")
        if head[at : at + 4] == b"PE\0\0":
            return _PE_MACHINES.get(int.from_bytes(head[at + 4 : at + 6], "little"), "")
    return ""
