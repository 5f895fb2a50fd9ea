"""Numbered parts: one archive in several files, read as one and written as one.

Two ways of numbering are known: ``name.zip.001``, ``.002`` … for any archive, and ``name.z01``, ``.z02`` … ``name.zip``
for zip alone, which knows of its parts itself.
"""

from __future__ import annotations

import bisect
import itertools
import os
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from rundlet.core.errors import Clash, LimitExceeded, MissingPart, OutOfDate, file_problem
from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.limits import CHUNK, MIB
from rundlet.core.sentences import Sentence
from rundlet.core.streams.replacing import BackupFolder, identity, is_list_of_names, recover
from rundlet.core.streams.sinks import NewFile, allow_many_files, commit_files, open_folder
from rundlet.core.streams.sources import ByteSource, FileSource, SliceSource

_PLAIN = re.compile(r"(?P<stem>.+)\.(?P<number>\d{3,5})$")
_DIVIDED = re.compile(r"(?P<stem>.+)\.z(?P<number>\d{2,3})$", re.IGNORECASE)
_ENDINGS = (".zip", ".7z", ".tar", ".gz", ".bz2", ".xz", ".zst", ".tgz", ".tbz2", ".txz", ".tzst")
CHECKSUMS = ".sha256"
"""How the name of a file with the checksums of parts ends."""
_MOST_PARTS = 9999
_LONGEST_LIST = 4 * MIB  # of checksums; thousands of parts with long names need less
_MOST_MISSING = 50  # with more of them gone there is nothing left to look at
_LIKE_A_YEAR = 1000  # from here on, a number far behind all others is taken for something else
_LEAST_PART = 1000
_REPEATED = 64  # bytes that packed data does not hold twice within a few thousand
_PROBE = 4096
_SHA256_DIGITS = 64


@dataclass(slots=True)
class Part:
    """One part.

    Attributes:
        number: its number, from 1.
        name: the name it has or should have.
        size: the bytes it should have.
        source: the file, or None when it is not there.
    """

    number: int
    name: str
    size: int
    source: FileSource | None

    @property
    def there(self) -> int:
        """How many bytes of it are there."""
        return self.source.size if self.source is not None else 0


class JoinedSource:
    """Parts read as one stretch of bytes. What is missing is missed only by whoever reads it.

    Attributes:
        starts: where each part begins.
        issues: what is wrong with the parts, one line each.
    """

    def __init__(self, name: str, parts: list[Part], issues: list[Issue]) -> None:
        self.name = name
        self.parts = parts
        self.issues = issues
        self.starts = [0]
        for part in parts:
            self.starts.append(self.starts[-1] + part.size)
        self.size = self.starts.pop()

    def read_at(self, offset: int, length: int) -> bytes:
        """Bytes across parts.

        Raises:
            MissingPart: when a part that they are in is not there or too short.
        """
        length = max(min(length, self.size - offset), 0)
        pieces = []
        while length > 0:
            index = bisect.bisect_right(self.starts, offset) - 1
            part = self.parts[index]
            inside = offset - self.starts[index]
            step = min(length, part.size - inside)
            if inside + step > part.there:
                raise MissingPart(_missing(part, len(self.parts)), archive=self.name, offset=offset)
            assert part.source is not None
            pieces.append(part.source.read_at(inside, step))
            offset += step
            length -= step
        return b"".join(pieces) if len(pieces) != 1 else pieces[0]

    def wanting(self) -> list[Sentence]:
        """A sentence for each part that is not all there."""
        return [_missing(part, len(self.parts)) for part in self.parts if part.there < part.size]

    def gaps(self) -> list[tuple[int, int]]:
        """Where bytes are missing: from where to where, in order."""
        return [
            (start + part.there, start + part.size)
            for start, part in zip(self.starts, self.parts, strict=True)
            if part.there < part.size
        ]

    def fingerprint(self) -> tuple[int, ...]:
        return tuple(value for part in self.parts if part.source is not None for value in part.source.fingerprint())

    def close(self) -> None:
        for part in self.parts:
            if part.source is not None:
                part.source.close()


def open_parts(path: Path) -> ByteSource | None:
    """The whole archive that a file is a part of or lists the parts of, or None when its name does not say so.

    Raises:
        FileProblem: when the file is not there.
        MissingPart: when it lists parts, and none of them is there.
    """
    if path.name.endswith(CHECKSUMS) and (
        count := _count_listed(archive := path.with_name(path.name[: -len(CHECKSUMS)]))
    ):
        parts = _find(archive.parent, archive.name, _PLAIN)[0]
        if not parts:
            raise MissingPart(
                "{name:name} lists the checksums of {count:part|parts}, none of which is here.",
                hint="Fetch the parts into the same folder.",
                name=path.name,
                count=count,
            )
        path = parts[min(parts)]
    if (match := _PLAIN.match(path.name)) is not None:
        stem, width = match["stem"], len(match["number"])
        found = _find(path.parent, stem, _PLAIN)[0]
        if 1 not in found and len(found) < 2 and Path(stem).suffix.lower() not in _ENDINGS:
            return None  # a name that merely ends in digits
        return _join(path, stem, _PLAIN, lambda n: f"{stem}.{n:0{width}}", last=None)
    if (match := _DIVIDED.match(path.name)) is not None:
        path = _with_ending(path.parent, match["stem"])
    if path.suffix.lower() == ".zip":
        first = path.with_suffix(".z01")
        if os.path.lexists(first) or _DIVIDED.match(path.name):
            return _join(path, path.stem, _DIVIDED, lambda n: f"{path.stem}.z{n:02}", last=path)
    return None


def _with_ending(folder: Path, stem: str) -> Path:
    """The last part of a divided zip, whatever the case of its ending."""
    for ending in (".zip", ".ZIP", ".Zip"):
        if os.path.exists(folder / f"{stem}{ending}"):
            return folder / f"{stem}{ending}"
    raise MissingPart("The last part, {part:name}, is not here, and it holds the file list.", part=stem + ".zip")


def _join(
    path: Path, stem: str, pattern: re.Pattern[str], named: Callable[[int], str], *, last: Path | None
) -> JoinedSource:
    found, doubled = _find(path.parent, stem, pattern)
    found = {number: part for number, part in found.items() if not os.path.isdir(part)}
    _leave_strangers(found, keep=path)
    if last is not None:
        found[max(found, default=0) + 1] = last
    if path not in found.values():
        raise file_problem(FileNotFoundError(2, ""), "open", path)
    allow_many_files()
    sizes = {n: p.stat().st_size for n, p in found.items()}
    count = max(found)
    if last is None and sizes[count] == max(sizes.values()):  # a smaller one is the last, whatever an old list says
        count = max(count, _count_listed(path.with_name(stem)))
    usual = max((size for n, size in sizes.items() if n != count), default=0)
    parts, issues = [], doubled
    missing = [n for n in range(1, count + 1) if n not in found]
    if missing and (not usual or len(missing) > _MOST_MISSING):
        raise MissingPart(
            "Missing: {missing:part|parts} of {name:name} before part {count}, the first of them {first:name}.",
            hint="Fetch what is missing into the same folder.",
            missing=len(missing),
            name=stem,
            count=count,
            first=named(missing[0]),
        )
    opened: list[Part] = []
    try:
        for n in range(1, count + 1):
            source = FileSource(found[n]) if n in found else None
            there = source.size if source is not None else 0
            # All but the last have one size; parts of a divided zip may differ, so only a missing one is guessed.
            size = there if source is not None and (n == count or last is not None) else max(usual, there)
            part = Part(n, found[n].name if n in found else named(n), size, source)
            opened.append(part)
            parts.append(part)
            if part.there < part.size:
                issues.append(issue(part.name, Reason.MISSING_PART, problem=_missing(part, count)))
    except BaseException:
        for part in opened:
            if part.source is not None:
                part.source.close()
        raise
    issues += _same(parts)
    return JoinedSource(stem if last is None else last.name, parts, issues)


def _count_listed(archive: Path) -> int:
    """How many parts the checksum file beside them lists; 0 when there is none that can be read."""
    return max(_listed(archive), default=0)


def listed_sums(archive: Path) -> dict[str, str]:
    """The SHA-256 of each part in the checksum file beside them, by its name; nothing where there is no such file."""
    try:
        with checksum_path(archive).open(encoding="utf-8", errors="replace") as file:
            lines = [line.strip().partition(" ") for line in file.read(_LONGEST_LIST).splitlines()]
    except OSError:
        return {}
    return {name.lstrip(" *"): digest.lower() for digest, _, name in lines if len(digest) == _SHA256_DIGITS}


def _listed(archive: Path) -> dict[int, str]:
    """The names of the parts in the checksum file beside them, by number."""
    try:
        with checksum_path(archive).open(encoding="utf-8", errors="replace") as file:
            names = [line.strip().partition(" ")[2].lstrip(" *") for line in file.read(_LONGEST_LIST).splitlines()]
    except OSError:
        return {}
    found = ((name, match) for name in names if (match := _PLAIN.match(name)) and match["stem"] == archive.name)
    return {number: name for name, match in found if 0 < (number := int(match["number"])) <= _MOST_PARTS}


def _find(folder: Path, stem: str, pattern: re.Pattern[str]) -> tuple[dict[int, Path], list[Issue]]:
    """The parts that lie beside each other, by number, and what is there twice."""
    found: dict[int, Path] = {}
    issues = []
    try:
        names = sorted(os.listdir(folder))
    except OSError as error:
        raise file_problem(error, "open the folder", folder) from error
    if any(is_list_of_names(name) for name in names):
        recover(folder)
        names = sorted(os.listdir(folder))
    for name in sorted(names, key=len):  # of two with one number, the one that is numbered as the others are
        match = pattern.match(name)
        if match is None or match["stem"] != stem or not 0 < int(match["number"]) <= _MOST_PARTS:
            continue
        if int(match["number"]) in found:
            used = found[int(match["number"])].name
            issues.append(issue(name, Reason.PART_TWICE, number=int(match["number"]), name=used))
        else:
            found[int(match["number"])] = folder / name
    return found, issues


def _leave_strangers(found: dict[int, Path], *, keep: Path) -> None:
    """Take out what has a number far behind all others, such as ``backup.zip.2024`` beside ``backup.zip.001``."""
    numbers = sorted(found)
    for before, after in itertools.pairwise(numbers):
        if after >= _LIKE_A_YEAR and after - before > _MOST_MISSING:
            for number in numbers[numbers.index(after) :]:
                if found[number] != keep:
                    del found[number]
            return


def whole_set(target: Path) -> list[Path]:
    """The files of an archive in parts that is replaced by one of its name: nothing that only looks like one of them.

    These are its parts from the first up to where one is missing, those that its checksum file names, and that file.
    """
    found = {n: path for n, path in _find(target.parent, target.name, _PLAIN)[0].items() if os.path.isfile(path)}
    numbers = set(itertools.takewhile(found.__contains__, itertools.count(1)))
    if numbers:
        width = len(found[1].suffix)
        numbers = {n for n in numbers if n == 1 or len(found[n].suffix) == max(width, len(f".{n}"))}
    listed = _listed(target)
    numbers |= {number for number in listed if number in found and found[number].name == listed[number]}
    files = [found[number] for number in sorted(numbers)]
    sums = checksum_path(target)
    return [*files, sums] if os.path.isfile(sums) and (files or listed) else files


def is_taken_by_parts(target: Path) -> bool:
    """Whether anything stands in the way of an archive of this name in parts."""
    return bool(_find(target.parent, target.name, _PLAIN)[0]) or os.path.lexists(checksum_path(target))


def _same(parts: list[Part]) -> list[Issue]:
    """Neighbours with the same beginning, middle and end: one was saved under the other's name.

    Not said where all of these repeat themselves, as long runs of the same bytes are alike in all their parts.
    """
    issues = []
    for one, other in itertools.pairwise(parts):
        if one.source is None or other.source is None or one.there != other.there or one.there < 2 * _PROBE:
            continue
        places = (0, one.there // 2, one.there - _PROBE)
        heads = [one.source.read_at(at, _PROBE) for at in places]
        if not all(map(_repeats, heads)) and heads == [other.source.read_at(at, _PROBE) for at in places]:
            issues.append(issue(other.name, Reason.PARTS_ALIKE, number=one.number))
    return issues


def _repeats(data: bytes) -> bool:
    return data.find(data[:_REPEATED], 1) > 0


def _missing(part: Part, count: int) -> Sentence:
    facts = {"number": part.number, "part": part.name, "size": part.size, "there": part.there}
    if part.source is None and part.number == count:  # its checksum is all that is known of it
        said = "Part {number}, {part:name}, the last one, is not here; it should have at most {size:byte|bytes}."
    elif part.source is not None:
        said = "Part {number} is too short: it should have {size:byte|bytes} and has {there:number}."
    elif 1 < part.number < count:
        said = (
            "Part {number}, {part:name}, is not here; "
            "it should have {size:byte|bytes} and belongs between parts {before} and {next}."
        )
        facts |= {"before": part.number - 1, "next": part.number + 1}
    else:
        said = "Part {number}, {part:name}, is not here; it should have {size:byte|bytes}."
    return Sentence(said, facts)


def files_of(source: ByteSource) -> list[Path]:
    """The files on the disk that a source reads: the one, or all parts that are there with their checksum file."""
    if isinstance(source, SliceSource):
        return files_of(source.inner)
    if isinstance(source, FileSource):
        return [source.path]
    if not isinstance(source, JoinedSource):
        return []
    paths = [part.source.path for part in source.parts if part.source is not None]
    sums = checksum_path(paths[0].with_name(source.name)) if paths else None
    return [*paths, sums] if sums is not None and os.path.isfile(sums) else paths


def is_outdated(source: ByteSource) -> bool:
    """Whether a file that a source reads was changed or replaced since it was opened."""
    if isinstance(source, SliceSource):
        return is_outdated(source.inner)
    if isinstance(source, JoinedSource):
        return any(part.source is not None and part.source.is_outdated for part in source.parts)
    return isinstance(source, FileSource) and source.is_outdated


def parts_that_came(source: ByteSource, folder: Path) -> bool:
    """Whether a part that was missing when an archive was opened lies in its folder by now."""
    if isinstance(source, SliceSource):
        return parts_that_came(source.inner, folder)
    return isinstance(source, JoinedSource) and any(
        part.source is None and os.path.isfile(folder / part.name) for part in source.parts
    )


class PartsSink:
    """Writes an archive in numbered parts, all of which appear when it is whole, with a checksum file beside them.

    Args:
        target: the archive's name; the parts are called ``NAME.001`` and so on.
        part_size: bytes of each part but the last.
        replace: whether parts of an archive of that name are replaced.

    Raises:
        FileProblem: when the system refuses.
        Clash: when parts of that name are there and are not to be replaced.
    """

    def __init__(self, target: Path, part_size: int, *, replace: bool = False) -> None:
        if part_size < _LEAST_PART:
            raise LimitExceeded(
                "Parts of {part_size:number} bytes are too small; {least:number} is the least.",
                part_size=part_size,
                least=_LEAST_PART,
            )
        self.target = target
        self._size = part_size
        self._replace = replace
        self._position = 0
        self._files: list[NewFile] = []
        self._checksums: NewFile | None = None
        if not replace and is_taken_by_parts(target):
            raise Clash(
                "A part of {name:name} is already there.",
                hint="Choose another name, or say that it is to be replaced.",
                name=target.name,
            )
        allow_many_files()
        self._folder = open_folder(target.parent)
        old = [path.name for path in whole_set(target)] if replace else []
        self._seen = {name: identity(name, self._folder) for name in old}

    @property
    def paths(self) -> list[Path]:
        """The parts, and the checksum file behind them."""
        parts = [part_path(self.target, i + 1) for i in range(len(self._files))]
        return [*parts, checksum_path(self.target)]

    def tell(self) -> int:
        return self._position

    def write(self, data: bytes | memoryview) -> None:
        data = memoryview(data)
        while data:
            index, inside = divmod(self._position, self._size)
            step = min(self._size - inside, len(data))
            try:
                if index == len(self._files):
                    self._add()
                self._files[index].write(data[:step])
            except OSError as error:
                raise file_problem(error, "write", self.target) from error
            self._position += step
            data = data[step:]

    def _add(self) -> None:
        if len(self._files) == _MOST_PARTS:
            raise LimitExceeded(
                "The archive would be in more than {most:number} parts; choose larger ones.", most=_MOST_PARTS
            )
        self._files.append(NewFile(self._folder, part_path(self.target, len(self._files) + 1).name))

    forward = False

    def patch(self, offset: int, data: bytes) -> None:
        while data:
            index, inside = divmod(offset, self._size)
            step = min(self._size - inside, len(data))
            try:
                os.pwrite(self._files[index].fd, data[:step], inside)
            except OSError as error:
                raise file_problem(error, "write", self.target) from error
            offset += step
            data = data[step:]

    def read_at(self, offset: int, length: int) -> bytes:
        pieces = []
        end = min(offset + length, self._position)
        while offset < end:
            index, inside = divmod(offset, self._size)
            try:
                data = os.pread(self._files[index].fd, min(self._size - inside, end - offset), inside)
            except OSError as error:
                raise file_problem(error, "check", self.target) from error
            if not data:
                break
            pieces.append(data)
            offset += len(data)
        return b"".join(pieces)

    def rewind(self, offset: int) -> None:
        keep, inside = divmod(offset, self._size)
        for file in self._files[keep + 1 :]:
            file.discard()
        del self._files[keep + 1 :]
        if keep < len(self._files):
            os.ftruncate(self._files[keep].fd, inside)
            os.lseek(self._files[keep].fd, inside, os.SEEK_SET)
        self._position = offset

    def commit(self) -> BackupFolder | None:
        """Write all parts and their checksum file through to the disk, then give them their names, all or none.

        Returns:
            The files that they replaced, which are the caller's to discard; None when there were none.

        Raises:
            Clash: when one of the names was taken meanwhile.
            OutOfDate: when the parts that are to be replaced were changed meanwhile.
            FileProblem: when the system refuses. In all these cases everything is as it was before.
        """
        if not self._files:
            self._add()
        try:
            names = [path.name for path in self.paths]
            lines = [f"{_sha256(file.fd)}  {name}\n" for file, name in zip(self._files, names, strict=False)]
            self._checksums = NewFile(self._folder, names[-1])
            self._checksums.write("".join(lines).encode("utf-8", "surrogateescape"))
            files = dict(zip(names, [*self._files, self._checksums], strict=True))
            if self._replace and set(map(str, whole_set(self.target))) != {
                str(self.target.with_name(name)) for name in self._seen
            }:
                raise OutOfDate(
                    "The parts of {name:name} were changed meanwhile; nothing was replaced.", name=self.target.name
                )
            return commit_files(self._folder, self.target.parent, files, old=self._seen, seen=self._seen)
        except FileExistsError as error:
            raise Clash("A part of {name:name} was made by someone else meanwhile.", name=self.target.name) from error
        except OSError as error:
            raise file_problem(error, "write", self.target) from error
        finally:
            self.close()

    def close(self) -> None:
        for file in (*self._files, *([self._checksums] if self._checksums is not None else ())):
            file.discard()
        if self._folder >= 0:
            os.close(self._folder)
            self._folder = -1


def part_path(target: Path, index: int) -> Path:
    """Where a part stands."""
    return target.with_name(f"{target.name}.{index:03}")


def checksum_path(archive: Path) -> Path:
    """Where the checksums of its parts stand, one ``HASH  NAME`` a line."""
    return archive.with_name(archive.name + CHECKSUMS)


def _sha256(fd: int) -> str:
    import hashlib  # only archives in parts have sums

    digest, at = hashlib.sha256(), 0
    while data := os.pread(fd, CHUNK, at):
        digest.update(data)
        at += len(data)
    return digest.hexdigest()
