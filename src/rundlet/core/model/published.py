"""Checksums as somebody pastes them: one, many, a whole list, or a sentence with one in it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from rundlet.core.model.checksum_list import Algorithm, algorithms_of, read_checksums

_WORD = re.compile(r"(?<![0-9A-Za-z])[0-9A-Fa-f]{32,128}(?![0-9A-Za-z])")
_GROUP = re.compile(r"[^\s:\-]+")
_HEX = re.compile(r"[0-9A-Fa-f]+")
_LONGEST = 1 << 20  # characters of a list
_MOST = 100_000  # characters in which one is looked for that stands among words
_MOST_GROUPS = 400
_NEAR = 8  # characters in which a near miss may differ
_MOST_COMPARED = 200  # files among which a near miss is looked for
_SHORT = 2  # characters that may be missing from one, or too many


@dataclass(frozen=True, slots=True)
class Published:
    """A checksum that was published.

    Attributes:
        digest: in lower case hexadecimal digits.
        algorithms: which may have given it, by its length; none where no checksum is as long.
        name: of the file that it is said to be of, or "".
    """

    digest: str
    algorithms: tuple[Algorithm, ...]
    name: str = ""


@lru_cache(4)
def readings_of(text: str) -> list[list[Published]]:
    """The checksums in a text, in each way in which it can be understood, the likeliest first.

    Upper case, spaces, colons and line breaks within one do no harm. Two of 32 digits may be one of 64.
    """
    text = text[:_LONGEST].strip()
    if not text:
        return []
    if len(text) == 8 and _HEX.fullmatch(text):
        return [[Published(text.lower(), (Algorithm.CRC32,))]]
    short = text[:_MOST]
    together = _in_groups(short)
    whole = [Published(together, algorithms_of(together))] if algorithms_of(together) else []
    lines, odd = read_checksums(text)
    if any(line.algorithm is Algorithm.CRC32 for line in lines) and (odd or whole):
        lines = [line for line in lines if line.algorithm is not Algorithm.CRC32]  # words that only look like one
    if lines:
        return [[Published(line.digest, line.algorithms, line.name) for line in lines]]
    words = [match[0].lower() for match in _WORD.finditer(short)]
    known = [Published(word, algorithms_of(word)) for word in words if algorithms_of(word)]
    if whole or known:
        first = [whole] if whole and (len(known) != 1 or len(together) > len(known[0].digest)) else []
        return [*first, *([known] if known and known != whole else [])] or [whole]
    return [[Published(together or word, ()) for word in words[:1] or [together]]] if together or words else []


def published_in(text: str) -> list[Published]:
    """The checksums in a text, in their order, as it is likeliest to be understood; see :func:`readings_of`."""
    readings = readings_of(text)
    return readings[0] if readings else []


def answers(text: str, sums: Mapping[Path, Mapping[Algorithm, str]]) -> list[Answer]:
    """Hold the checksums in a text against those of files, in the way of understanding it in which the most of them match."""
    by_name: dict[str, dict[Path, Mapping[Algorithm, str]]] = {}
    by_digest: dict[str, list[tuple[Path, Algorithm]]] = {}
    for path, digests in sums.items():
        by_name.setdefault(path.name, {})[path] = digests
        for algorithm, digest in digests.items():
            by_digest.setdefault(digest, []).append((path, algorithm))

    def answer(published: Published) -> Answer:
        own = by_name.get(published.name.rpartition("/")[2], {}) if published.name else {}
        for path, algorithm in by_digest.get(published.digest, ()):
            if algorithm in published.algorithms and (not own or path in own):
                return Answer(published, path, algorithm, matches=True)
        return _unmatched(published, own, sums if len(sums) <= _MOST_COMPARED else {})

    found = [[answer(published) for published in reading] for reading in readings_of(text)]
    return max(found, key=lambda reading: sum(answer.matches for answer in reading), default=[])


def _in_groups(text: str) -> str:
    """The longest checksum that is written in groups, or one that is nearly as long as any; "" for none."""
    groups = _GROUP.findall(text)[:_MOST_GROUPS]
    best = nearly = ""
    for first in range(len(groups)):
        joined = ""
        for group in groups[first:]:
            if not _HEX.fullmatch(group) or len(joined) > 128:
                break
            joined += group
            if len(joined) >= 32 and len(joined) > len(best) and algorithms_of(joined):
                best = joined
            if len(joined) > len(nearly) and any(abs(len(joined) - size) <= _SHORT for size in (32, 40, 64, 128)):
                nearly = joined
    return (best or nearly).lower()


@dataclass(frozen=True, slots=True)
class Answer:
    """What became of a published checksum.

    Attributes:
        path: the file that it is of, or nearly of, or that it is said to be of; None for none.
        algorithm: which gave it, or would give it.
        matches: whether it is the file's.
        actual: what the file has, where that is not it.
        differing: places in ``actual``, from 0, in which a near miss differs; none where it is none.
    """

    published: Published
    path: Path | None = None
    algorithm: Algorithm | None = None
    matches: bool = False
    actual: str = ""
    differing: tuple[int, ...] = ()


def _unmatched(
    published: Published, own: Mapping[Path, Mapping[Algorithm, str]], all_: Mapping[Path, Mapping[Algorithm, str]]
) -> Answer:
    """What to say of one that no file has: of which it is a near miss, or whose it is said to be.

    Args:
        own: the files of the name that it is said to be of.
        all_: those among which a near miss is looked for where there are none of that name.
    """
    near = [
        Answer(published, path, algorithm, actual=actual, differing=places)
        for path, found in (own or all_).items()
        for algorithm, actual in found.items()
        if (places := differing(published.digest, actual))
    ]
    if near:
        return min(near, key=lambda answer: len(answer.differing))
    for path, found in own.items():
        for algorithm in published.algorithms:
            if algorithm in found:
                return Answer(published, path, algorithm, actual=found[algorithm])
    return Answer(published)


def differing(digest: str, actual: str) -> tuple[int, ...]:
    """The places of a checksum in which another one differs, where it is nearly the same; none where it is not, or is the same."""
    if len(digest) == len(actual):
        places = tuple(place for place, (one, other) in enumerate(zip(digest, actual, strict=True)) if one != other)
        return places if len(places) <= _NEAR and len(places) * 4 < len(actual) else ()
    if abs(len(digest) - len(actual)) > _SHORT or len(actual) < 32:
        return ()
    front = next(
        (place for place, (one, other) in enumerate(zip(digest, actual, strict=False)) if one != other),
        min(len(digest), len(actual)),
    )
    most = min(len(digest), len(actual)) - front
    back = next((place for place in range(most) if digest[-1 - place] != actual[-1 - place]), most)
    if front + back < min(len(digest), len(actual)) - _SHORT:
        return ()
    return tuple(range(front, max(len(actual) - back, front + 1)))


def algorithms_wanted(published: Sequence[Published]) -> list[Algorithm]:
    """The algorithms that files must be read with to answer; of one that is too short or too long, those that come near."""
    wanted = {algorithm for each in published for algorithm in each.algorithms}
    for each in published:
        if not each.algorithms:
            wanted.update(
                algorithm
                for size in range(len(each.digest) - _SHORT, len(each.digest) + _SHORT + 1)
                for algorithm in algorithms_of("0" * size)
            )
    return sorted(wanted)
