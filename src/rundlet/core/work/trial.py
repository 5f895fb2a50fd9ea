"""The trial: a sample of what is to be packed goes through every format and level, so that choices can be judged before."""

from __future__ import annotations

import heapq
import math
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar

from rundlet.core.codecs import lzma2
from rundlet.core.codecs.branch import filtered
from rundlet.core.codecs.encoders import compress_whole
from rundlet.core.codecs.packers import PACKERS
from rundlet.core.codecs.parallel import cores
from rundlet.core.codecs.whole import deflated
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.formats.sevenz.levels import LEVELS
from rundlet.core.formats.sevenz.pieces import ppmd_encoded
from rundlet.core.formats.sevenz.sorting import FILTERS, ContentType
from rundlet.core.jobs.job import Job
from rundlet.core.limits import MIB, SMALL
from rundlet.core.work.sample import STRETCH, TAR_BLOCK, WHOLE, Sample, Stretch, take_sample, with_far

if TYPE_CHECKING:
    from rundlet.core.model.format_info import FormatInfo
    from rundlet.core.model.item import PackItem

_Key = TypeVar("_Key")

_Parts = list[tuple[float, int]]
"""Seconds on one core and bytes of what goes into the same pieces, in order; bytes turn into the number of pieces."""

_FIRST = 3 * MIB // 2
_LONGEST = 1.0  # seconds for one point; slower ones are tried on as much of the sample as that allows
_STORED_TRIED_FROM = SMALL
_QUARTER, _LEAST_DRAG = 4, MIB
_MOST_DRAG = 0.6
_MANY_PIECES = 200  # of one part: with more of them it does not matter which of them run beside each other
_OVERLAP = 0.93  # of a second core's work that comes out as time saved
_BYTES_A_SECOND = 600e6  # reading, checksums and writing, beside the codec
_START = 0.035  # seconds for threads, and for writing the archive through to the disk
_FILE_SECONDS = {"zip": 30e-6, "7z": 30e-6, "tar": 25e-6}
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
_READ_BACK_FILE = 30e-6
_COPIES = (
    "7z",
    "tar.gz",
    "tar.zst",
)  # keep what can't get smaller as it is, which is read back as quickly as from a zip
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


def try_one(sample: Sample, info: FormatInfo, level: int, *, ppmd: bool = False) -> Point:
    """What one choice would give on all cores, by the whole sample.

    Args:
        ppmd: whether text in 7z is packed by PPMd.
    """
    workers = cores()
    dictionary = 0
    if info.id == "zip":
        packed, parts, piece = _try_zip(sample, level)
        extra = sample.entries * _ZIP_RECORDS + 2 * sample.name_bytes
    elif info.id == "7z":
        packed, parts, piece = _try_seven(sample, level, ppmd=ppmd)
        dictionary = LEVELS[level].dictionary if level else 0
        extra = 32 + int(0.35 * (2 * sample.name_bytes + 20 * sample.entries))
    else:
        packing = info.id.rpartition("tar.")[2] if "." in info.id else ""
        packed, parts, piece = _try_tar(sample, packing, level)
        dictionary = piece // 2 if packing == "xz" else 0
        extra = sample.entries * TAR_BLOCK + sample.padding + 2 * TAR_BLOCK
        if piece:  # headers and padding are nearly all the same
            extra = 40 * sample.entries + sample.name_bytes // 4
    scale = sample.total / max(sample.bytes, 1)
    likeness = sample.likeness if level and packed < 0.98 * sample.bytes else 1.0
    if dictionary > STRETCH:
        likeness *= float(sample.far ** min(math.log2(dictionary / STRETCH) / math.log2(WHOLE / STRETCH), 1.0))
    size = int(packed * scale * likeness) + extra
    whole = [(seconds * scale, max(-(-int(count * scale) // piece), 1)) for seconds, count in parts]
    took = on_cores(whole, workers) + (sample.total + size) / _BYTES_A_SECOND + _START
    return Point(info.id, level, size, took + sample.entries * _FILE_SECONDS[info.id.partition(".")[0]])


def on_cores(parts: _Parts, workers: int) -> float:
    """Seconds that parts take on so many cores, each part in so many pieces, which are begun in order."""
    ends = [0.0] * workers
    for seconds, pieces in parts:
        pieces = min(pieces, _MANY_PIECES)
        for _ in range(pieces):
            heapq.heapreplace(ends, ends[0] + seconds / pieces)
    return max(max(ends), sum(seconds for seconds, _ in parts) / (1 + (workers - 1) * _OVERLAP))


def with_reading_back(point: Point, sample: Sample) -> Point:
    """The same with the time for reading the archive back and comparing it with the files."""
    speed = _READ_BACK[point.fmt]
    copied = sample.noise if point.fmt in _COPIES else 0.0
    seconds = sample.total * ((1 - copied) / speed + copied / _READ_BACK["zip"]) / (1 + (cores() - 1) * _OVERLAP)
    return replace(point, seconds=point.seconds + seconds + sample.files * _READ_BACK_FILE)


def _try_zip(sample: Sample, level: int) -> tuple[int, _Parts, int]:
    packed, seconds = 0, 0.0
    for stretch in sample.stretches:
        stored = not level or (stretch.size > _STORED_TRIED_FROM and stretch.content_type == ContentType.PACKED)
        if stored:
            packed += len(stretch.data)
            continue
        begin = time.perf_counter()
        smaller = len(deflated(stretch.data, level))
        seconds += time.perf_counter() - begin
        packed += min(smaller, len(stretch.data))
    return packed, [(seconds, sample.bytes)], MIB


def _try_seven(sample: Sample, level: int, *, ppmd: bool) -> tuple[int, _Parts, int]:
    if not level:
        return sample.bytes, [], MIB
    how = LEVELS[level]
    scale = sample.total / max(sample.bytes, 1)
    kinds: Counter[str] = Counter()
    for stretch in sample.stretches:
        kinds[_ending(stretch)] += len(stretch.data)

    def block(stretch: Stretch) -> tuple[ContentType, str]:
        ending = _ending(stretch)
        return stretch.content_type, ending if kinds[ending] * scale >= how.piece else ""

    packed = 0
    parts: _Parts = []
    for (content_type, _), datas in _groups(sample.stretches, block).items():
        data = b"".join(datas)
        if content_type == ContentType.PACKED:
            packed += len(data)
            continue
        begin = time.perf_counter()
        if ppmd and content_type == ContentType.TEXT:
            part = data[:MIB]
            share = len(data) / len(part)
            packed += int(len(ppmd_encoded(part, how)) * share)
            took = 2 * (time.perf_counter() - begin) * share  # it is read back at once, which takes as long
            parts.append((took, len(data)))
            continue
        if content_type in FILTERS:
            data = b"".join(filtered(FILTERS[content_type], [data]))

        def encoded(data: bytes) -> int:
            return len(lzma2.encoded(data, how.preset, min(how.dictionary, len(data))))

        packed += encoded(data)
        took = time.perf_counter() - begin
        took *= _drag(datas, took, min(how.dictionary, int(scale * len(data))), encoded)
        parts.append((took, len(data)))
    return packed, parts, how.piece


def _ending(stretch: Stretch) -> str:
    return stretch.path.rpartition(".")[2].lower()


def _groups(stretches: Iterable[Stretch], key: Callable[[Stretch], _Key]) -> dict[_Key, list[bytes]]:
    """The data of stretches that go into the same pieces; what fills pieces of its own is tried by itself."""
    groups: dict[_Key, list[bytes]] = {}
    for stretch in stretches:
        groups.setdefault(key(stretch), []).append(stretch.data)
    return groups


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


def _try_tar(sample: Sample, packing: str, level: int) -> tuple[int, _Parts, int]:
    if not packing:
        return sample.bytes, [], 0
    packer = PACKERS[packing](level)
    looks_far = packing == "xz" and level > 0

    def piece(stretch: Stretch) -> str:
        return stretch.path if looks_far and stretch.size >= packer.piece else ""

    packed = 0
    parts: _Parts = []
    for datas in _groups(sample.stretches, piece).values():
        data = b"".join(datas)
        begin = time.perf_counter()
        packed += sum(len(packer.pack(data[at : at + packer.piece])) for at in range(0, len(data), packer.piece))
        took = time.perf_counter() - begin
        if looks_far:
            behind = min(packer.piece // 2, len(data) * sample.total // sample.bytes)
            took *= _drag(datas, took, behind, lambda data: len(packer.pack(data)))
        parts.append((took, len(data)))
    return packed, parts, packer.piece


def trial(sample: Sample, job: Job | None = None) -> Iterator[Point]:
    """Every choice: first roughly, then by as much of the sample as a few seconds allow.

    Of what can't get smaller only the quickest levels and those that are proposed are tried, roughly: to try harder
    takes long and tells nothing.

    Args:
        job: asked before each point; may cancel.
    """
    job = job or Job()
    infos = [known.info for known in WRITABLE]
    choices = [(info, level) for level in _ORDER for info in infos if level in info.levels]
    hopeless = sum(count for _, count in sample.hopeless) == sample.files > 0
    if hopeless:
        choices = [(info, level) for info, level in choices if level in (0, 1, info.default_level)]
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
    if small.bytes == sample.bytes or hopeless:
        return
    sample = with_far(sample, job)
    hopeful = [
        selection for selection in choices if not _is_beaten(rough[selection[0].id, selection[1]], rough.values())
    ]
    for info, level in sorted(hopeful, key=lambda selection: -speed[selection[0].id, selection[1]]):
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
        if level and not (stretch.size > _STORED_TRIED_FROM and stretch.content_type == ContentType.PACKED):
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
