"""The sample: stretches of what is to be packed, by which the whole is judged.

The stretches lie at even distances in all files in the order of their endings and paths, so that each kind of file has the
share in it that it has in the whole. Nothing is written.
"""

from __future__ import annotations

import bisect
import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from rundlet.core.codecs import lzma2
from rundlet.core.codecs.whole import deflated
from rundlet.core.formats.item_reading import READ_ERRORS, open_item
from rundlet.core.formats.sevenz.sorting import ContentType, content_type_of
from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.jobs.job import Job
from rundlet.core.limits import KIB, MIB
from rundlet.core.model.entry import Kind
from rundlet.core.model.file_type import FileType, file_type_of

if TYPE_CHECKING:
    from rundlet.core.model.item import PackItem

SAMPLE = 8 * MIB
"""Bytes that are tried, when the files are larger: the tightest levels take some seconds for that."""

STRETCH = 256 * KIB
WHOLE = 16 * MIB
"""Bytes of neighbouring files, to see how much better they pack than stretches with gaps."""

TAR_BLOCK = 512
_FAR_AT_MOST = 128 * MIB
_TOO_LITTLE = 64  # bytes that say nothing of their kind
_NOISE = 0.97


@dataclass(frozen=True, slots=True)
class Stretch:
    """A part of a file in the sample.

    Attributes:
        path: the file's place in the archive.
        size: bytes of the whole file.
        content_type: what the file is to the packer.
        quick: bytes that it packs to by the quickest means, for comparing parts of the sample with all of it.
    """

    data: bytes
    path: str
    size: int
    content_type: ContentType
    quick: int


@dataclass(frozen=True, slots=True)
class Sample:
    """What is tried.

    Attributes:
        stretches: in their order.
        total: bytes of all files, tried or not.
        files, entries: how many files there are, and how many entries in all.
        name_bytes: bytes of all names together.
        padding: bytes that a tar fills its files up with.
        hopeless: kinds of file of which nothing in the sample gets smaller, with how many files each has.
        quick: what all stretches of the whole sample pack to by the quickest means, as a share of their bytes.
        items: the files it is taken from, in its order.
        far: how much better neighbours pack together than the sample does, which has gaps; see :func:`with_far`.
    """

    stretches: tuple[Stretch, ...]
    total: int
    files: int
    entries: int
    name_bytes: int
    padding: int
    hopeless: tuple[tuple[FileType, int], ...]
    quick: float
    items: tuple[PackItem, ...] = ()
    far: float = 1.0

    @property
    def likeness(self) -> float:
        """How much better the whole sample packs than this part of it, by the quickest means."""
        mine = sum(stretch.quick for stretch in self.stretches) / max(self.bytes, 1)
        return self.quick / mine if mine else 1.0

    @property
    def noise(self) -> float:
        """The share of it that does not get smaller."""
        kept = (len(stretch.data) for stretch in self.stretches if stretch.quick > _NOISE * len(stretch.data))
        return sum(kept) / max(self.bytes, 1)

    @property
    def bytes(self) -> int:
        """Bytes in the sample."""
        return sum(len(stretch.data) for stretch in self.stretches)

    def first(self, most: int) -> Sample:
        """About so many bytes of it, taken evenly."""
        every = max(-(-self.bytes // most), 1)
        return replace(self, stretches=self.stretches[every // 2 :: every] or self.stretches[:1])


def take_sample(items: Sequence[PackItem], job: Job | None = None, *, budget: int = SAMPLE) -> Sample:
    """Read the sample. Files that can't be read are passed over.

    Args:
        items: what is to be packed.
        budget: bytes to read.
    """
    job = job or Job()
    files = [item for item in items if item.kind == Kind.FILE and item.size]
    files.sort(key=lambda item: (item.path.rpartition(".")[2].lower(), item.path))
    ends = list(itertools.accumulate(item.size for item in files))
    total = ends[-1] if ends else 0
    stretches: list[Stretch] = []
    tried: dict[FileType, list[bool]] = {}
    content_types: dict[str, ContentType] = {}
    for begin, end in _windows(total, budget):
        job.checkpoint()
        for item, data in _between(files, ends, begin, end):
            if data:
                if item.path not in content_types:
                    content_types[item.path] = content_type_of(item)
                content_type = content_types[item.path]
                quick = min(len(deflated(data, 1)), len(data))
                stretches.append(Stretch(data, item.path, item.size, content_type, quick))
                tried.setdefault(file_type_of(item.path), []).append(
                    len(data) < _TOO_LITTLE or quick < _NOISE * len(data)
                )
    counts: dict[FileType, int] = {}
    for item in files:
        counts[file_type_of(item.path)] = counts.get(file_type_of(item.path), 0) + 1
    return Sample(
        items=tuple(files),
        stretches=tuple(stretches),
        total=total,
        files=len(files),
        entries=len(items),
        name_bytes=sum(len(item.path.encode("utf-8", "surrogateescape")) for item in items),
        padding=sum(-item.size % TAR_BLOCK for item in files),
        quick=sum(stretch.quick for stretch in stretches) / max(sum(len(stretch.data) for stretch in stretches), 1),
        hopeless=tuple((kindred, counts[kindred]) for kindred, found in tried.items() if not any(found)),
    )


def _between(files: Sequence[PackItem], ends: Sequence[int], begin: int, end: int) -> Iterator[tuple[PackItem, bytes]]:
    """What lies between two places in all files end to end, file by file."""
    index = bisect.bisect_right(ends, begin)
    while index < len(files) and ends[index] - files[index].size < end:
        item, start = files[index], ends[index] - files[index].size
        at = max(begin - start, 0)
        yield item, _read(item, at, min(end - start, item.size) - at)
        index += 1


def with_far(sample: Sample, job: Job) -> Sample:
    """Find out how much better neighbours pack together than stretches with gaps between them, in the middle of the files.

    For codecs that look far back. Takes a second or two; of too much data the sample has too little to compare with.
    """
    ends = list(itertools.accumulate(item.size for item in sample.items))
    if not sample.bytes < sample.total <= _FAR_AT_MOST or sample.far != 1.0:
        return sample
    begin, end = max((sample.total - WHOLE) // 2, 0), min((sample.total + WHOLE) // 2, sample.total)
    whole = b"".join(data for _, data in _between(sample.items, ends, begin, end))
    job.checkpoint()
    parts = [at for at in _windows(sample.total, SAMPLE) if begin <= at[0] and at[1] <= end]
    some = b"".join(data for at in parts for _, data in _between(sample.items, ends, *at))
    if not whole or len(some) < MIB:
        return sample
    packed = len(lzma2.encoded(whole, 1, WHOLE)) / len(whole)
    job.checkpoint()
    return replace(sample, far=min(packed / (len(lzma2.encoded(some, 1, WHOLE)) / len(some)), 1.0))


def _windows(total: int, budget: int) -> Iterator[tuple[int, int]]:
    """Where in all files end to end the stretches of the sample are."""
    if total <= budget:
        yield from ((at, min(at + STRETCH, total)) for at in range(0, total, STRETCH))
        return
    count = budget // STRETCH
    step = total / count
    for i in range(count):
        begin = int(i * step + (step - STRETCH) / 2)
        yield begin, begin + STRETCH


def _read(item: PackItem, at: int, length: int) -> bytes:
    step_aside()
    try:
        content = open_item(item)
    except READ_ERRORS:
        return b""
    try:
        return content.read(length, at)
    except READ_ERRORS:
        return b""
    finally:
        content.close()
