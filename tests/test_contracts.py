"""What every reader must keep, whatever its format: one suite over formats, samples and faults."""

from __future__ import annotations

import bz2
import gzip
import lzma
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest

from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import Cancelled, FileProblem, FormatError, RundletError, UnknownFormat, file_problem
from rundlet.core.formats.detect import FORMATS, WRITABLE, by_ending, by_id, detect, open_source
from rundlet.core.jobs.job import Job
from rundlet.core.model.catalog import Catalog, NameTable, joined
from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.model.opening import Opening
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.plans.unpack_planner import needs_own_folder, plan_unpack
from rundlet.core.streams.exact import chunks, read_exactly
from rundlet.core.streams.sources import FileSource, MemorySource, SliceSource
from rundlet.core.work.checker import check
from rundlet.core.work.extractor import unpack
from rundlet.presentation.findings import issue_words
from support import at_length_too, contents, make_tree, pack_to, rounds

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

_SINGLE: dict[str, Callable[[bytes], bytes]] = {
    "gz": gzip.compress,
    "bz2": bz2.compress,
    "xz": lzma.compress,
    "zst": zstd.compress,
}


@pytest.fixture(scope="module", params=[*(known.info.id for known in WRITABLE), *_SINGLE])
def sample(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[str, bytes]:
    """An archive of each format with its id."""
    folder = tmp_path_factory.mktemp("sample")
    if request.param in _SINGLE:
        return request.param, _SINGLE[request.param](b"the brook was clear today " * 40_000)
    tree = make_tree(folder)
    pack_to(folder / "x", [tree], fmt=request.param, level=2)
    return request.param, (folder / "x").read_bytes()


def read(reader: ArchiveReader, rows: list[int]) -> dict[int, bytes]:
    found = {}
    for unit in reader.units(np.array(rows, np.int64)):
        assert set(unit.rows) <= set(rows)
        assert unit.cost >= 0
        for row, data in unit.stream():
            found[row] = b"".join(data)
    return found


class Faulty(MemorySource):
    """Bytes on a disk that can't be read any more from some place on."""

    def __init__(self, data: bytes, until: int) -> None:
        super().__init__(data, "faulty")
        self.until = until

    def read_at(self, offset: int, length: int) -> bytes:
        if min(offset + length, self.size) > self.until:
            raise file_problem(OSError(5, ""), "read", "faulty")
        return super().read_at(offset, length)


def test_it_is_told_by_its_content_alone(sample: tuple[str, bytes]) -> None:
    name, data = sample
    found = detect(MemorySource(data, "misleading.jpg"))
    assert found is not None
    assert found.info.id == name
    for ending in ("", " and more behind"):
        with pytest.raises(UnknownFormat):
            open_source(MemorySource(b"only words" + ending.encode(), f"x.{name}"))


def test_any_choice_gives_just_that(sample: tuple[str, bytes]) -> None:
    reader = open_source(MemorySource(sample[1], "x"))
    files = np.flatnonzero(reader.catalog.kind == Kind.FILE).tolist()
    everything = read(reader, files)
    assert sorted(everything) == files
    for row in files:
        assert read(reader, [row]) == {row: everything[row]}
        assert reader.catalog.size[row] in (UNKNOWN, len(everything[row]))
    assert read(reader, files[::-2]) == {row: everything[row] for row in files[::-2]}
    assert read(reader, []) == {}
    assert needs_own_folder(reader) == (sample[0] in _SINGLE)
    reader.unlock("no matter")
    assert read(reader, files) == everything


def test_it_opens_from_any_source(sample: tuple[str, bytes], tmp_path: Path) -> None:
    name, data = sample
    (tmp_path / "x").write_bytes(b"in front" + data + b"behind")
    inner = SliceSource(FileSource(tmp_path / "x"), 8, len(data))
    one, other = open_source(inner), open_source(MemorySource(data, "x"))
    assert [e.path for e in one.catalog] == [e.path for e in other.catalog]
    assert not check(one, workers=2).issues
    ArchiveTree(one.catalog)
    one.close()
    assert name


def test_a_disk_that_fails_is_named_and_what_came_before_is_kept(
    sample: tuple[str, bytes], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for room in ("KEPT_PLAIN", "KEPT_ON_DISK"):  # else all of it is decoded by then
        monkeypatch.setattr(f"rundlet.core.formats.tar.decoded_cache.{room}", 0)
    source = Faulty(sample[1], until=len(sample[1]))
    reader = open_source(source)
    plan = plan_unpack(reader, into=tmp_path / "out")
    source.until = len(sample[1]) // 2
    outcome = unpack(plan, reader, workers=1)
    assert outcome.problems
    assert all("the disk reported a fault" in issue_words(i) or "damaged" in issue_words(i) for i in outcome.problems)
    landed = [path for path in (tmp_path / "out").rglob("*") if path.is_file() and not path.is_symlink()]
    assert len(landed) == outcome.files - sum(path.is_symlink() for path in (tmp_path / "out").rglob("*"))
    source.until = 0
    with pytest.raises(RundletError):
        open_source(source)


def test_listing_and_checking_can_be_cancelled(sample: tuple[str, bytes]) -> None:
    job = Job()
    job.cancel()
    reader = open_source(MemorySource(sample[1], "x"))
    with pytest.raises(Cancelled):
        check(reader, job)
    if sample[0] not in ("zip", "7z"):  # their file list is read at once
        with pytest.raises(Cancelled):
            open_source(MemorySource(sample[1], "x"), Opening(job=job))


def test_endings_name_formats_both_ways() -> None:
    for known in WRITABLE:
        assert by_id(known.info.id) is known
        for ending in (known.info.ending, *known.info.other_endings, known.info.ending.upper()):
            assert by_ending(Path(f"a.b{ending}")) is known
        assert known.info.default_level in known.info.levels
        assert [known.info.level_for(level) for level in (-1, 99)] == [known.info.levels[0], known.info.levels[-1]]
    assert by_ending(Path("x.odd")) is None
    assert len({known.info.id for known in FORMATS}) == len(FORMATS)


def test_exact_reads_say_where_bytes_are_missing() -> None:
    source = MemorySource(b"0123456789", "x")
    assert read_exactly(source, 3, 4) == b"3456"
    assert list(chunks(source, 1, 9, chunk=4)) == [b"1234", b"5678", b"9"]
    for offset, length in ((8, 3), (-1, 2), (0, -1), (11, 0)):
        with pytest.raises(FormatError, match="cut off"):
            read_exactly(source, offset, length)
    with pytest.raises(FormatError):
        SliceSource(source, 5, 6)
    assert SliceSource(source, 5, 5).read_at(2, 100) == b"789"


def _catalogs() -> Iterator[Catalog]:
    for names in ([b"a", b"b/c"], [], [b"d/e/f"]):
        zeros = np.zeros(len(names), np.int64)
        yield Catalog(
            NameTable.of(names), zeros.astype(np.uint8), zeros, zeros, zeros, zeros.astype(np.uint32), zeros, zeros != 0
        )


def test_catalogs_join() -> None:
    whole = joined(list(_catalogs()))
    assert [entry.path for entry in whole] == ["a", "b/c", "d/e/f"]
    assert ArchiveTree(whole).find("d/e/f") is not None


def test_a_source_that_is_closed_under_a_reader_gives_no_other_files_bytes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "right").write_bytes(b"right")
    (tmp_path / "wrong").write_bytes(b"wrong")
    source = FileSource(tmp_path / "right")
    real, seen = os.pread, []

    def closed_meanwhile(fd: int, length: int, offset: int) -> bytes:
        source.close()
        seen.append(fd)
        other = os.open(tmp_path / "wrong", os.O_RDONLY)  # which takes the number of a descriptor that was closed
        try:
            return real(fd, length, offset)
        finally:
            os.close(other)

    with monkeypatch.context() as patched:
        patched.setattr("rundlet.core.streams.sources.os.pread", closed_meanwhile)
        assert source.read_at(0, 5) == b"right"
    with pytest.raises(FileProblem, match="closed in the meantime"):
        source.read_at(0, 5)
    with pytest.raises(OSError, match="descriptor"):
        os.fstat(seen[0])


def shake(path: Path, places: int = rounds(70, 300)) -> None:
    """An archive changed and cut in many places: right data or our own errors, and nothing else.

    Runs in a process of its own whose memory is bounded, so that a claim that is believed ends it.
    """
    data = path.read_bytes()
    for at in range(0, len(data), max(len(data) // places, 1)):
        for change in (b"\0", b"\x7f", b"\xff", b"\xff" * 4, b"\x7f" * 8, None):
            changed = data[:at] if change is None else data[:at] + change + data[at + len(change) :]
            try:
                reader = open_source(MemorySource(changed, path.name))
                ArchiveTree(reader.catalog)
                contents(reader)
            except RundletError as error:
                assert str(error).rstrip("”").endswith("."), error


_SHAKE = """
import resource, sys
from pathlib import Path
sys.path[:0] = [sys.argv[1]]
import test_contracts
from rundlet.core.codecs.ppmd import size_of_self
most = size_of_self() + 700 * 1024 * 1024
resource.setrlimit(resource.RLIMIT_AS, (most, most))
test_contracts.shake(Path(sys.argv[2]))
"""


@at_length_too
@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE] + list(_SINGLE))
def test_changed_anywhere_it_takes_bounded_memory(fmt: str, tmp_path: Path) -> None:
    target = tmp_path / f"x.{fmt}"
    if fmt in _SINGLE:
        target.write_bytes(_SINGLE[fmt](b"the brook was clear today " * 400))
    else:
        tree = tmp_path / "tree"
        (tree / "in").mkdir(parents=True)
        (tree / "in" / "a.txt").write_bytes(b"the brook was clear today " * 400)
        (tree / "b.csv").write_bytes(b"1,2,3\n" * 300)
        (tree / "link").symlink_to("in/a.txt")
        pack_to(target, [tree], fmt=fmt)
    here = str(Path(__file__).parent)
    done = subprocess.run(
        [sys.executable, "-c", _SHAKE, here, str(target)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr[-3000:]
