"""zip, held against the standard library's reader and writer, and against hand-made and foreign archives."""

from __future__ import annotations

import io
import itertools
import os
import shutil
import stat
import subprocess
import sys
import threading
import time
import zipfile
import zlib
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, cast

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rundlet.core.codecs import deflate_codec
from rundlet.core.errors import FormatError, RundletError, Truncated
from rundlet.core.formats.detect import by_id, open_archive, open_source
from rundlet.core.formats.small_zip import list_small_zip
from rundlet.core.model.entry import Entry, Kind
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.streams.sources import MemorySource
from rundlet.core.work.checker import check
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line, issue_words
from support import (
    Raw,
    at_length_too,
    contents,
    foreign_archives,
    long,
    make_tree,
    pack_to,
    raw_zip,
    rounds,
    snapshot,
    unpack_to,
)

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

GIB = 1 << 30


@pytest.mark.parametrize("level", range(10))
def test_what_we_write_the_standard_library_reads(tmp_path: Path, level: int) -> None:
    tree = make_tree(tmp_path)
    archive = tmp_path / "a.zip"
    outcome = pack_to(archive, [tree], level=level)
    assert not outcome.issues
    with zipfile.ZipFile(archive) as theirs:
        seen = {}
        for info in theirs.infolist():
            mode = info.external_attr >> 16
            assert stat.S_IFMT(mode) == stat.S_IFMT((tree.parent / info.filename).lstat().st_mode)
            seen[info.filename.rstrip("/")] = (stat.S_IMODE(mode), theirs.read(info))
            assert abs(time.mktime((*info.date_time, 0, 0, -1)) - (tree.parent / info.filename).lstat().st_mtime) < 2.1
    for path, node in snapshot(tmp_path).items():
        if path.startswith("tree"):
            assert seen[path][1] == node.content
            assert node.kind == "link" or seen[path][0] == node.mode


def test_what_we_write_comes_back_the_same_on_any_number_of_cores(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    before = snapshot(tree)
    archives = [tmp_path / f"{workers}.zip" for workers in (1, 2, 5)]
    for workers, archive in zip((1, 2, 5), archives, strict=True):
        pack_to(archive, [tree], workers=workers)
        unpack_to(archive, tmp_path / archive.stem, workers=workers)
        assert snapshot(tmp_path / archive.stem / "tree") == before
    assert len({archive.read_bytes() for archive in archives}) == 1


def test_files_of_one_piece_are_packed_side_by_side_and_one_that_fails_is_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    data = {name: (name * 20_000 + "\n").encode() * 80 for name in "ab"} | {"c": b"c" * 5_000_000, "d": b"d" * 10}
    for name, content in data.items():
        (tmp_path / name).write_bytes(content)
    plan = plan_pack([tmp_path / name for name in data], target=tmp_path / "x.zip", info=by_id("zip").info, level=9)
    both, begun = threading.Barrier(2, timeout=60), itertools.count()
    compress, pread = deflate_codec.compress_piece, os.pread

    def meeting(*args: Any, **named: Any) -> bytes:
        if next(begun) < 2:
            both.wait()  # the first of two files is not done before the second one is begun
        return compress(*args, **named)

    def failing(fd: int, count: int, at: int) -> bytes:
        if at > 4_000_000 and os.readlink(f"/proc/self/fd/{fd}").endswith("/c"):
            raise OSError(5, "")
        return pread(fd, count, at)

    monkeypatch.setattr(deflate_codec, "compress_piece", meeting)
    monkeypatch.setattr("rundlet.core.model.contents.os.pread", failing)
    outcome = pack(plan, workers=2)
    assert [issue_line(issue) for issue in outcome.issues] == [
        "c: could not be read (the disk reported a fault) and was left out"
    ]
    del data["c"]
    with zipfile.ZipFile(tmp_path / "x.zip") as theirs:
        assert {name: theirs.read(name) for name in theirs.namelist()} == data


@given(
    data=st.binary(max_size=3000),
    repeat=st.integers(1, 400),
    level=st.integers(1, 9),
    cuts=st.lists(st.integers(1, 1_000_000), max_size=4),
)
@settings(max_examples=60)
def test_pieces_make_one_ordinary_stream(data: bytes, repeat: int, level: int, cuts: list[int]) -> None:
    whole = data * repeat + b"."
    edges = [0, *sorted({cut % len(whole) for cut in cuts} - {0}), len(whole)]
    packed = b""
    for start, end in itertools.pairwise(edges):
        before = whole[max(start - deflate_codec.WINDOW, 0) : start]
        packed += deflate_codec.compress_piece(whole[start:end], level, before=before, last=end == len(whole))
    decoder = zlib.decompressobj(-15)
    assert decoder.decompress(packed) == whole
    assert decoder.eof
    assert not decoder.unused_data


def _named(info: zipfile.ZipInfo) -> str:
    """The library leaves the separators of other systems as they are."""
    return info.filename if info.create_system else info.filename.replace("\\", "/")


@at_length_too
def test_foreign_zips_list_and_unpack_as_the_standard_library_says(tmp_path: Path) -> None:
    found = foreign_archives([".whl", ".jar", ".zip", ".odt", ".docx", ".xlsx", ".ott", ".npz"])
    if not found:
        pytest.skip("there is no foreign zip on this machine")
    entries = 0
    for number, path in enumerate(found):
        try:
            theirs = zipfile.ZipFile(path)
            expected = {_named(i): theirs.read(i) for i in theirs.infolist()}
        except (zipfile.BadZipFile, NotImplementedError, RuntimeError):
            with pytest.raises(FormatError):
                open_archive(path)
            continue
        with theirs:
            reader = open_archive(path)
            assert contents(reader) == expected, path
            for entry, info in zip(reader.catalog, theirs.infolist(), strict=True):
                assert (entry.path, entry.size, entry.packed, entry.crc) == (
                    _named(info), info.file_size, info.compress_size, info.CRC,
                )  # fmt: skip
                assert (entry.kind == Kind.DIR) == _named(info).endswith("/")
                entries += 1
            reader.close()
            unpack_to(path, tmp_path / str(number))
            for name, data in expected.items():
                if not name.endswith("/"):
                    assert (tmp_path / str(number) / name).read_bytes() == data
    assert entries > 20


def test_what_the_standard_library_writes_we_read() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as theirs:
        theirs.writestr("plain", b"x" * 100_000)
        theirs.writestr("größe.txt", "größe")
        with theirs.open("wide", "w", force_zip64=True) as wide:
            wide.write(b"y" * 10)
        theirs.comment = b"a comment with PK\x05\x06 in it" + b"." * 300
    streamed = io.BytesIO()
    with zipfile.ZipFile(cast(BinaryIO, _Unseekable(streamed)), "w", zipfile.ZIP_DEFLATED) as theirs:
        theirs.writestr("piped", b"with a data descriptor" * 99)
    for before in (b"", b"#!/bin/sh stub\n" * 7):
        reader = open_source(MemorySource(before + out.getvalue(), "x.zip"))
        assert contents(reader) == {"plain": b"x" * 100_000, "größe.txt": "größe".encode(), "wide": b"y" * 10}
        reader = open_source(MemorySource(before + streamed.getvalue(), "y.zip"))
        assert contents(reader) == {"piped": b"with a data descriptor" * 99}


class _Unseekable:
    def __init__(self, out: io.BytesIO) -> None:
        self.write, self.flush = out.write, out.flush


@long
@pytest.mark.skipif(shutil.disk_usage("/tmp").free < 14 * GIB, reason="needs 14 GB of free disk")
def test_over_four_gib_goes_both_ways(tmp_path: Path) -> None:
    source = tmp_path / "sparse.bin"
    with source.open("wb") as out:
        out.seek(4 * GIB + 12_345)
        out.write(b"the end")
    (tmp_path / "after.txt").write_bytes(b"behind it")
    archive = tmp_path / "huge.zip"
    pack_to(archive, [source, tmp_path / "after.txt"], level=0)
    with zipfile.ZipFile(archive) as theirs:
        assert [i.file_size for i in theirs.infolist()] == [source.stat().st_size, 9]
        assert theirs.read("after.txt") == b"behind it"
        with theirs.open("sparse.bin") as data:
            data.seek(4 * GIB + 12_345)
            assert data.read() == b"the end"
    reader = open_archive(archive)
    assert not check(reader).issues
    reader.close()
    archive.unlink()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as theirs:
        theirs.write(source, "sparse.bin")
    unpack_to(archive, tmp_path / "out")
    assert (tmp_path / "out" / "sparse.bin").stat().st_size == source.stat().st_size


@long
def test_seventy_thousand_entries_go_both_ways(tmp_path: Path) -> None:
    many = tmp_path / "many"
    for folder in range(70):
        (many / str(folder)).mkdir(parents=True)
        for number in range(1000):
            (many / str(folder) / f"{number}").touch()
    pack_to(tmp_path / "ours.zip", [many])
    with zipfile.ZipFile(tmp_path / "ours.zip") as theirs:
        names = theirs.namelist()
    with zipfile.ZipFile(tmp_path / "theirs.zip", "w") as theirs:
        for name in names:
            theirs.writestr(name, b"")
    for archive in ("ours.zip", "theirs.zip"):
        reader = open_archive(tmp_path / archive)
        assert [e.path for e in reader.catalog] == names
        assert len(names) == 70_071
        reader.close()
    assert unpack_to(tmp_path / "ours.zip", tmp_path / "out").files == 70_000


@pytest.mark.parametrize(
    ("entry", "words"),
    [
        (Raw(b"a", crc=1), "fails its checksum"),
        (Raw(b"a", size=3), "two sizes differ"),
        (Raw(b"a", method=8, packed=b"\xff" * 9), "damaged"),
        (Raw(b"a", method=8, packed=zlib.compress(b"content", 9, -15), size=100), "less than its stated size"),
        (Raw(b"a", method=8, packed=zlib.compress(bytes(9000), 9, -15), size=10), "damaged"),
        (Raw(b"a", method=8, packed=zlib.compress(bytes(3 << 20), 9, -15), size=2 << 20), "more than its stated size"),
        (Raw(b"a", method=99), "method 99"),
        (Raw(b"a", local_method=8), "contradict"),
        (Raw(b"a", flags=0x801), "password"),
        (Raw(b"a", flags=0x841), "no open description"),
        (Raw(b"a", offset=40_000), "shares its place"),
    ],
)
def test_a_damaged_entry_is_named_and_the_others_come_out(tmp_path: Path, entry: Raw, words: str) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"before"), entry, Raw(b"behind")]))
    outcome = unpack_to(tmp_path / "x.zip", tmp_path / "out")
    assert [issue.item for issue in outcome.issues] == ["a"]
    assert words in issue_words(outcome.issues[0])
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == ["before", "behind"]


def test_lies_about_the_whole_are_said() -> None:
    cases = {
        raw_zip([Raw(b"a"), Raw(b"b")], count=7): "says that it holds 7 items, but 2 are there",
        raw_zip([Raw(b"a")]) + b"junk": "4 bytes after its end",
        raw_zip([Raw(b"a"), Raw(b"b", offset=0)]): "",
    }
    for data, words in cases.items():
        reader = open_source(MemorySource(data, "x.zip"))
        assert words in " ".join(map(issue_line, reader.notices))
    assert all(b"shares its place" in content for content in contents(reader).values())


def test_times_and_names_of_other_writers() -> None:
    ntfs = bytes.fromhex("0a00 2000 00000000 0100 1800") + (133_000_000_001_234_567).to_bytes(8, "little") + bytes(16)
    unix = bytes.fromhex("5554 0500 01") + (1_655_526_400).to_bytes(4, "little")
    names = ["größe".encode("cp437"), "größe".encode(), b"plain"]
    data = raw_zip([Raw(n, flags=0, extra=x) for n, x in zip(names, [ntfs, unix, b"\xff\xff"], strict=True)])
    first, second, third = open_source(MemorySource(data, "x.zip")).catalog
    assert (first.path, second.path, third.path) == ("größe", "größe", "plain")
    assert first.mtime_ns == (133_000_000_001_234_567 - 116_444_736_000_000_000) * 100
    assert second.mtime_ns == 1_655_526_400_000_000_000
    assert third.mtime_ns == int(time.mktime((1980, 1, 1, 0, 0, 0, 0, 0, -1))) * 1_000_000_000


SAMPLE = raw_zip(
    [
        Raw(b"folder/", b"", mode=0o040755),
        Raw(b"folder/text", b"text " * 50, method=8, packed=zlib.compress(b"text " * 50, 9, -15)),
        Raw(b"stored", bytes(range(60))),
        Raw(b"link", b"stored", mode=0o120777),
        Raw(
            b"piped", b"p" * 40, method=8, packed=zlib.compress(b"p" * 40, 9, -15), descriptor=b"PK\x07\x08" + bytes(12)
        ),
    ],
    comment=b"said",
)
GOOD = contents(open_source(MemorySource(SAMPLE, "s.zip")))


def _by_row(reader: ArchiveReader, rows: list[int]) -> dict[int, bytes | str]:
    """What each row holds, or what is wrong with it."""
    found: dict[int, bytes | str] = {}
    for unit in reader.units(np.array(rows, np.int64)):
        for row, chunks in unit.stream():
            try:
                found[row] = b"".join(chunks)
            except RundletError as error:
                found[row] = str(error)
    return found


def _survives(data: bytes) -> None:
    """Right data, or our own error; never anything else, and the same whether entries are read alone or with others."""
    try:
        reader = open_source(MemorySource(data, "s.zip"))
    except RundletError as error:
        assert str(error).endswith(".")
        return
    ArchiveTree(reader.catalog)
    rows = range(len(reader.catalog))
    alone = {row: content for each in rows for row, content in _by_row(reader, [each]).items()}
    assert _by_row(reader, list(rows)) == alone
    for name, content in contents(reader).items():
        if name in GOOD and not content.startswith(b"!") and reader.catalog.crc.tolist():
            assert content == GOOD[name] or zlib.crc32(content) in reader.catalog.crc.tolist()


def test_cut_anywhere_it_ends_in_our_own_error() -> None:
    for length in range(len(SAMPLE)):
        _survives(SAMPLE[:length])
    with pytest.raises(Truncated, match="end is missing"):
        open_source(MemorySource(SAMPLE[:20], "s.zip"))


class _NoWayBack(io.BytesIO):
    """What can't be gone back in, so that sizes stand behind the data."""

    def seekable(self) -> bool:
        return False

    def tell(self) -> int:
        raise OSError


def _by_another_writer(datas: dict[str, bytes], out: io.BytesIO) -> bytes:
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as writer:
        for name, data in datas.items():
            writer.writestr(zipfile.ZipInfo(name, (2020, 5, 4, 3, 2, 2)), data, int(name) % 2 * zipfile.ZIP_DEFLATED)
    return out.getvalue()


@pytest.mark.parametrize("out", [io.BytesIO, _NoWayBack])
@pytest.mark.parametrize("stub", [b"", b"a program" * 50])
def test_without_a_table_of_contents_whole_entries_come_out(out: type[io.BytesIO], stub: bytes) -> None:
    inner = raw_zip([Raw(b"inner", b"never shown as an entry of the outer one")])
    datas = {str(i): b"x" + os.urandom(300) + inner + bytes(5000) if i % 3 else b"" for i in range(12)}
    data = _by_another_writer(datas, out())
    first = len(data) - data[::-1].index(b"PK\x01\x02"[::-1]) - 4  # the last record of the directory
    theirs = zipfile.ZipFile(io.BytesIO(data))
    begin = theirs.start_dir
    ends = [*[info.header_offset for info in theirs.infolist()][1:], begin]
    for cut in (len(data) - 10, begin, ends[8] + 20, ends[4] + 100, ends[2] - 5, ends[0]):
        reader = open_source(MemorySource(data[:cut], "s.zip"))
        came = {name: content for name, content in contents(reader).items() if not content.startswith(b"!")}
        whole = [name for name, end in zip(datas, ends, strict=True) if end <= cut]
        assert came == {name: datas[name] for name in whole}, cut
        assert "file list is missing" in issue_line(reader.notices[0])
        assert reader.catalog.mtime_ns[0] // 10**9 == int(time.mktime((2020, 5, 4, 3, 2, 2, 0, 0, -1)))
    end = bytearray(data[-22:])
    end[12:16] = (int.from_bytes(end[12:16], "little") + 10).to_bytes(4, "little")
    reader = open_source(MemorySource(data[:-22] + b"no record " + end, "s.zip"))
    assert contents(reader) == datas
    assert issue_line(reader.notices[0]).endswith("damaged after 12 items; nothing more was found without it")
    # Damage within the directory, within the header of an entry, and within its data.
    for at, lost in ((begin, None), (first, None), (ends[4], "5"), (ends[10] - 100, "10")):
        damaged = bytearray(data)
        damaged[at] ^= 1
        reader = open_source(MemorySource(stub + bytes(damaged), "s.zip"))
        came = {name: content for name, content in contents(reader).items() if not content.startswith(b"!")}
        assert came == {name: content for name, content in datas.items() if name != lost}, at


@given(st.lists(st.tuples(st.integers(0, len(SAMPLE) - 1), st.integers(1, 255)), min_size=1, max_size=4))
@at_length_too
@settings(max_examples=rounds(150, 1500))
def test_flipped_anywhere_it_ends_in_our_own_error_or_right_data(flips: list[tuple[int, int]]) -> None:
    data = bytearray(SAMPLE)
    for at, change in flips:
        data[at] ^= change
    _survives(bytes(data))


@given(st.binary(max_size=400))
@at_length_too
@settings(max_examples=rounds(100, 600))
def test_any_bytes_behind_a_zip_beginning(data: bytes) -> None:
    _survives(b"PK\x03\x04" + data)
    _survives(data + SAMPLE[-60:])


def test_the_tree_counts_folders_through() -> None:
    names = [b"a/b/c.txt", b"a/b/", b"a/d.txt", b"e", b"a/b/", b"./f", b"g//h"]
    data = raw_zip([Raw(n, b"" if n.endswith(b"/") else b"12345") for n in names])
    tree = ArchiveTree(open_source(MemorySource(data, "x.zip")).catalog)
    shape = {
        tree.path(n): (int(tree.size[n]), int(tree.files[n])) for n in range(len(tree)) if tree.parent[n] >= 0 or n == 0
    }
    assert shape == {
        "": (25, 5), "a": (10, 2), "a/b": (5, 1), "a/b/c.txt": (5, 1), "a/d.txt": (5, 1),
        "e": (5, 1), "f": (5, 1), "g": (5, 1), "g/h": (5, 1),
    }  # fmt: skip
    below = tree.rows_below([tree.find("a/b") or 0])
    assert below.tolist() == [0, 1, 4]
    assert [tree.name(int(n)) for n in tree.sorted_children(0)] == ["a", "g", "e", "f"]
    assert tree.name(int(tree.sorted_children(0, "size", descending=True)[0])) == "a"


def _rows(path: Path) -> list[Entry]:
    reader = open_archive(path)
    try:
        return list(reader.catalog)
    finally:
        reader.close()


@settings(max_examples=rounds(60, 1500), deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_a_small_list_is_the_readers(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    """Listed without all that readers need, an archive says the same, or is left to them."""
    entries = data.draw(
        st.lists(
            st.builds(
                Raw,
                st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=12).map(str.encode),
                st.binary(max_size=30),
                mode=st.sampled_from([0, 0o100644, 0o100755, 0o40755, 0o120777, 0o644]),
                flags=st.sampled_from([0, 1 << 11]),
            ),
            max_size=8,
        )
    )
    path = tmp_path_factory.mktemp("small") / "x.zip"
    whole = bytearray(raw_zip(entries))
    for _ in range(data.draw(st.integers(0, 3))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    path.write_bytes(whole)
    found = list_small_zip(path)
    if found is not None:
        assert found == _rows(path)


def test_small_lists_of_others_and_our_own(tmp_path: Path) -> None:
    pack_to(tmp_path / "own.zip", [make_tree(tmp_path)])
    listed = 0
    for path in [tmp_path / "own.zip", *foreign_archives([".zip", ".whl", ".jar"], rounds(20, 400))]:
        found = list_small_zip(path)
        if found is not None:
            listed += 1
            assert found == _rows(path), path
    assert listed >= 3
    assert list_small_zip(tmp_path / "none.zip") is None and list_small_zip(tmp_path) is None


_SUMS = """
import random, sys, zlib
from rundlet.core.codecs.whole import deflated
noise = random.Random(int(sys.argv[1]))
junk = [noise.randbytes(noise.randint(100, 400_000)) for _ in range(60)]  # another memory in each process
del junk
words = [bytes(random.Random(n).choices(b"abcdefgh", k=n % 8 + 2)) for n in range(3000)]
total = 0
for number in range(60_000):
    some = random.Random(number)
    total = zlib.crc32(deflated(b" ".join(some.choices(words, k=some.randint(50, 700))), 1), total)
print(total)
"""


@long
def test_small_files_have_the_same_bytes_in_every_process() -> None:
    """Also at the quickest level, of whose library that can't be said by itself."""
    sums = {
        subprocess.run([sys.executable, "-c", _SUMS, str(n)], capture_output=True, text=True, check=True).stdout
        for n in range(5)
    }
    assert len(sums) == 1
