"""The trial: a sample of what is to be packed goes through every format and level, so that choices can be judged before.

The sample is made of stretches at even distances through all files in the order of their endings and paths, so that each
kind of file has the share in it that it has in the whole. Nothing is written.
"""

from __future__ import annotations

import bisect
import itertools
import math
import os
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from rundlet.core.codecs import deflate_codec, lzma2
from rundlet.core.codecs.branch import filtered
from rundlet.core.codecs.encoders import compress_whole
from rundlet.core.codecs.packers import PACKERS
from rundlet.core.codecs.side_by_side import cores
from rundlet.core.files.types import Sort as Kindred
from rundlet.core.files.types import sort_of
from rundlet.core.formats.base import FormatInfo, Kind, PackItem
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.formats.items import open_item
from rundlet.core.formats.sevenz.sorting import FILTERS, Sort, sort_item
from rundlet.core.formats.sevenz.writer import LEVELS, ppmd_encoded
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.turns import step_aside
from rundlet.core.limits import KEPT_PLAIN, KIB, MIB, SMALL

SAMPLE = 8 * MIB
"""Bytes that are tried, when the files are larger: the tightest levels take some seconds for that."""

_WHOLE = 16 * MIB  # of neighbouring files, to see how much better they pack than stretches with gaps
_FAR_AT_MOST = 128 * MIB
_FIRST = 3 * MIB // 2
_STRETCH = 256 * KIB
_LONGEST = 1.0  # seconds for one point; slower ones are tried on as much of the sample as that allows
_TAR_BLOCK = 512
_STORED_TRIED_FROM = SMALL
_TOO_LITTLE = 64  # bytes that say nothing of their kind
_NOISE = 0.97
_QUARTER, _LEAST_DRAG = 4, MIB
_MOST_DRAG = 0.6
_OVERLAP = 0.93  # of a second core's work that comes out as time saved
_BYTES_A_SECOND = 400e6  # reading, checksums and writing, beside the codec
_START = 0.02  # seconds for threads, and for writing the archive through to the disk
_FILE_SECONDS = {"zip": 60e-6, "7z": 60e-6, "tar": 45e-6}
_READ_BACK = {
    "zip": 300e6,
    "tar": 1000e6,
    "tar.gz": 100e6,
    "tar.zst": 120e6,
    "7z": 50e6,
    "tar.xz": 45e6,
    "tar.bz2": 22e6,
}
"""Bytes a second that one core reads back and compares."""
_READ_BACK_TWICE = {"tar.xz": 30e6, "tar.bz2": 8e6}
"""The same for tars that are too large to be kept in memory: they are decoded to be listed, and once more to be compared."""
_READ_BACK_FILE = 30e-6
_ZIP_RECORDS = 30 + 46 + 2 * 9 + 9
_ORDER = (5, 1, 9, 3, 7, 0, 6, 8, 4, 2)


@dataclass(frozen=True, slots=True)
class Point:
    """What one choice would give.

    Attributes:
        fmt, level: the choice.
        size: bytes of the archive, about.
        seconds: how long packing takes, about.
        rough: whether only a first, small sample was tried.
    """

    fmt: str
    level: int
    size: int
    seconds: float
    rough: bool = False


@dataclass(frozen=True, slots=True)
class Stretch:
    """A part of a file in the sample.

    Attributes:
        size: bytes of the whole file.
        sort: what the file is to the packer.
        quick: bytes that it packs to by the quickest means, for comparing parts of the sample with all of it.
    """

    data: bytes
    size: int
    sort: Sort
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
    hopeless: tuple[tuple[Kindred, int], ...]
    quick: float
    items: tuple[PackItem, ...] = ()
    far: float = 1.0

    @property
    def likeness(self) -> float:
        """How much better the whole sample packs than this part of it, by the quickest means."""
        mine = sum(stretch.quick for stretch in self.stretches) / max(self.bytes, 1)
        return self.quick / mine if mine else 1.0

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
    tried: dict[Kindred, list[bool]] = {}
    sorts: dict[str, Sort] = {}
    for begin, end in _windows(total, budget):
        job.checkpoint()
        for item, data in _between(files, ends, begin, end):
            if data:
                sort = sorts.setdefault(item.path, sort_item(item))
                quick = min(len(deflate_codec.compress(data, 1)), len(data))
                stretches.append(Stretch(data, item.size, sort, quick))
                tried.setdefault(sort_of(item.path), []).append(len(data) < _TOO_LITTLE or quick < _NOISE * len(data))
    counts: dict[Kindred, int] = {}
    for item in files:
        counts[sort_of(item.path)] = counts.get(sort_of(item.path), 0) + 1
    return Sample(
        items=tuple(files),
        stretches=tuple(stretches),
        total=total,
        files=len(files),
        entries=len(items),
        name_bytes=sum(len(item.path.encode("utf-8", "surrogateescape")) for item in items),
        padding=sum(-item.size % _TAR_BLOCK for item in files),
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
    begin, end = max((sample.total - _WHOLE) // 2, 0), min((sample.total + _WHOLE) // 2, sample.total)
    whole = b"".join(data for _, data in _between(sample.items, ends, begin, end))
    job.checkpoint()
    parts = [at for at in _windows(sample.total, SAMPLE) if begin <= at[0] and at[1] <= end]
    some = b"".join(data for at in parts for _, data in _between(sample.items, ends, *at))
    if not whole or len(some) < MIB:
        return sample
    packed = len(lzma2.encoded(whole, 1, _WHOLE)) / len(whole)
    job.checkpoint()
    return replace(sample, far=min(packed / (len(lzma2.encoded(some, 1, _WHOLE)) / len(some)), 1.0))


def _windows(total: int, budget: int) -> Iterator[tuple[int, int]]:
    """Where in all files end to end the stretches of the sample are."""
    if total <= budget:
        yield from ((at, min(at + _STRETCH, total)) for at in range(0, total, _STRETCH))
        return
    count = budget // _STRETCH
    step = total / count
    for i in range(count):
        begin = int(i * step + (step - _STRETCH) / 2)
        yield begin, begin + _STRETCH


def _read(item: PackItem, at: int, length: int) -> bytes:
    step_aside()
    try:
        fd = open_item(item)
    except OSError:
        return b""
    try:
        return os.pread(fd, length, at)
    except OSError:
        return b""
    finally:
        os.close(fd)


def try_one(sample: Sample, info: FormatInfo, level: int, *, ppmd: bool = False) -> Point:
    """What one choice would give on all cores, by the whole sample.

    Args:
        ppmd: whether text in 7z is packed by PPMd.
    """
    workers = cores()
    dictionary = 0
    if info.id == "zip":
        packed, seconds, piece = _try_zip(sample, level)
        extra = sample.entries * _ZIP_RECORDS + 2 * sample.name_bytes
    elif info.id == "7z":
        packed, seconds, piece = _try_seven(sample, level, ppmd=ppmd)
        dictionary = LEVELS[level].dictionary if level else 0
        extra = 32 + int(0.35 * (2 * sample.name_bytes + 20 * sample.entries))
    else:
        packing = info.id.rpartition("tar.")[2] if "." in info.id else ""
        packed, seconds, piece = _try_tar(sample, packing, level)
        dictionary = piece // 2 if packing == "xz" else 0
        extra = sample.entries * _TAR_BLOCK + sample.padding + 2 * _TAR_BLOCK
        if piece:  # headers and padding are nearly all the same
            extra = 40 * sample.entries + sample.name_bytes // 4
    scale = sample.total / max(sample.bytes, 1)
    pieces = max(-(-sample.total // piece), 1) if piece else 1
    rounds = -(-pieces // workers)
    gain = min(pieces / rounds, 1 + (workers - 1) * _OVERLAP) if piece else 1.0
    likeness = sample.likeness if level and packed < 0.98 * sample.bytes else 1.0
    if dictionary > _STRETCH:
        likeness *= float(sample.far ** min(math.log2(dictionary / _STRETCH) / math.log2(_WHOLE / _STRETCH), 1.0))
    size = int(packed * scale * likeness) + extra
    took = seconds * scale / gain + (sample.total + size) / _BYTES_A_SECOND + _START
    return Point(info.id, level, size, took + sample.entries * _FILE_SECONDS[info.id.partition(".")[0]])


def with_reading_back(point: Point, sample: Sample) -> Point:
    """The same with the time for reading the archive back and comparing it with the files."""
    twice = _READ_BACK_TWICE if sample.total > KEPT_PLAIN else {}
    speed = twice.get(point.fmt, _READ_BACK[point.fmt]) * (1 + (cores() - 1) * _OVERLAP)
    return replace(point, seconds=point.seconds + sample.total / speed + sample.files * _READ_BACK_FILE)


def _try_zip(sample: Sample, level: int) -> tuple[int, float, int]:
    packed, seconds = 0, 0.0
    for stretch in sample.stretches:
        stored = not level or (stretch.size > _STORED_TRIED_FROM and stretch.sort == Sort.PACKED)
        if stored:
            packed += len(stretch.data)
            continue
        begin = time.perf_counter()
        smaller = len(deflate_codec.compress(stretch.data, level))
        seconds += time.perf_counter() - begin
        packed += min(smaller, len(stretch.data))
    return packed, seconds, MIB


def _try_seven(sample: Sample, level: int, *, ppmd: bool) -> tuple[int, float, int]:
    if not level:
        return sample.bytes, 0.0, MIB
    how = LEVELS[level]
    packed, seconds = 0, 0.0
    groups: dict[Sort, list[bytes]] = {}
    for stretch in sample.stretches:
        groups.setdefault(stretch.sort, []).append(stretch.data)
    for sort, datas in groups.items():
        data = b"".join(datas)
        if sort == Sort.PACKED:
            packed += len(data)
            continue
        begin = time.perf_counter()
        if ppmd and sort == Sort.TEXT:
            part = data[:MIB]
            share = len(data) / len(part)
            packed += int(len(ppmd_encoded(part, how)) * share)
            seconds += 2 * (time.perf_counter() - begin) * share  # it is read back at once, which takes as long
            continue
        if sort in FILTERS:
            data = b"".join(filtered(FILTERS[sort], [data]))

        def encoded(data: bytes) -> int:
            return len(lzma2.encoded(data, how.preset, min(how.dictionary, len(data))))

        packed += encoded(data)
        took = time.perf_counter() - begin
        whole = sample.total * len(data) // sample.bytes
        seconds += took * _drag(datas, took, min(how.dictionary, whole), encoded)
    return packed, seconds, how.piece


def _drag(datas: Sequence[bytes], took: float, behind: int, encoded: Callable[[bytes], int]) -> float:
    """How much longer a codec that looks far back takes for each byte than it did for these, once it has so much behind it.

    The time grows by a power of what lies behind; by which, a quarter of the data tells.

    Args:
        datas, took: what was encoded end to end, and in how many seconds.
        behind: bytes that the codec will look back over.
        encoded: encodes some bytes in the same way.
    """
    size, quarter = sum(map(len, datas)), b"".join(datas[::_QUARTER])
    if size < _LEAST_DRAG or behind <= size or len(quarter) * 2 > size:
        return 1.0
    begin = time.perf_counter()
    encoded(quarter)
    slower = (took / size) / ((time.perf_counter() - begin) / len(quarter))
    power = math.log(slower) / math.log(size / len(quarter))
    return float((behind / size) ** min(max(power, 0.0), _MOST_DRAG))


def _try_tar(sample: Sample, packing: str, level: int) -> tuple[int, float, int]:
    if not packing:
        return sample.bytes, 0.0, 0
    packer = PACKERS[packing](level)
    data = b"".join(stretch.data for stretch in sample.stretches)
    packed, seconds = 0, 0.0
    for at in range(0, len(data), packer.piece):
        begin = time.perf_counter()
        packed += len(packer.pack(data[at : at + packer.piece]))
        seconds += time.perf_counter() - begin
    if packing == "xz" and level:
        behind = min(packer.piece // 2, sample.total)
        seconds *= _drag([s.data for s in sample.stretches], seconds, behind, lambda data: len(packer.pack(data)))
    return packed, seconds, packer.piece


def trial(sample: Sample, job: Job | None = None) -> Iterator[Point]:
    """Every choice: first roughly, then by as much of the sample as a few seconds allow.

    Args:
        job: asked before each point; may cancel.
    """
    job = job or Job()
    infos = [known.info for known in WRITABLE]
    choices = [(info, level) for level in _ORDER for info in infos if level in info.levels]
    small = sample.first(_FIRST)
    speed: dict[tuple[str, int], float] = {}
    rough: dict[tuple[str, int], Point] = {}
    for info, level in choices:
        job.checkpoint()
        begin = time.perf_counter()
        point = try_one(small, info, level)
        speed[info.id, level] = small.bytes / max(time.perf_counter() - begin, 1e-4)
        rough[info.id, level] = point
        yield Point(point.fmt, point.level, point.size, point.seconds, rough=small.bytes < sample.bytes)
    if small.bytes == sample.bytes:
        return
    sample = with_far(sample, job)
    hopeful = [choice for choice in choices if not _is_beaten(rough[choice[0].id, choice[1]], rough.values())]
    for info, level in sorted(hopeful, key=lambda choice: -speed[choice[0].id, choice[1]]):
        job.checkpoint()
        allowed = int(speed[info.id, level] * _LONGEST)
        if allowed > 1.5 * small.bytes:
            yield try_one(sample.first(allowed) if allowed < sample.bytes else sample, info, level)


def _is_beaten(point: Point, others: Iterable[Point]) -> bool:
    """Whether others are so much better in both that trying it further can't change that."""
    return any(o.size < 0.99 * point.size and o.seconds < 0.9 * point.seconds for o in others)


def predicted(
    items: Sequence[PackItem],
    info: FormatInfo,
    level: int,
    *,
    method: str = "",
    read_back: bool = False,
    job: Job | None = None,
) -> Point:
    """What packing these items so would give; takes a few seconds at the tightest levels.

    Args:
        method: as in :class:`rundlet.core.formats.base.WriteOptions`.
        read_back: whether the archive is read back and compared when it is written.
    """
    sample = take_sample(items, job)
    if info.id in ("7z", "tar.xz") and level:
        sample = with_far(sample, job or Job())
    of_its_own = method in ("", "deflate", "lzma2", "ppmd")
    ppmd = method == "ppmd"
    point = try_one(sample, info, level, ppmd=ppmd) if of_its_own else _by_method(sample, info, level, method)
    return with_reading_back(point, sample) if read_back else point


def _by_method(sample: Sample, info: FormatInfo, level: int, method: str) -> Point:
    """The same for a method that is not the format's usual one."""
    codec = {"lzma": "headed lzma"}.get(method, method)
    packed, seconds = 0, 0.0
    for stretch in sample.stretches:
        if level and not (stretch.size > _STORED_TRIED_FROM and stretch.sort == Sort.PACKED):
            begin = time.perf_counter()
            packed += min(len(compress_whole(codec, stretch.data, level)), len(stretch.data))
            seconds += time.perf_counter() - begin
        else:
            packed += len(stretch.data)
    scale = sample.total / max(sample.bytes, 1)
    return Point(
        info.id,
        level,
        int(packed * scale) + 120 * sample.entries,
        seconds * scale / (1 + (cores() - 1) * _OVERLAP) + _START,
    )


def worth_showing(points: Sequence[Point]) -> set[tuple[str, int]]:
    """The choices that no other beats in both time and size."""
    best: set[tuple[str, int]] = set()
    smallest: float = float("inf")
    for point in sorted(points, key=lambda p: (p.seconds, p.size)):
        if point.size < smallest * 0.999:
            best.add((point.fmt, point.level))
            smallest = point.size
    return best


def that_fits(points: Sequence[Point], limit: int) -> Point | None:
    """The quickest choice whose archive fits a limit of so many bytes, with a little room for error; None without one."""
    fitting = [point for point in points if point.size * 1.03 <= limit]
    return min(fitting, key=lambda point: point.seconds, default=None)
