"""Archives written anew with edits: what was asked for is another, and nothing else is, as a second reader sees it, too."""

from __future__ import annotations

import errno
import io
import os
import tarfile
import zipfile
import zlib
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import hypothesis.strategies as st
import numpy as np
import pytest
from hypothesis import given, settings

import second_reader
from rundlet.core.codecs.parallel import Pool
from rundlet.core.errors import PlanError
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.formats.edits import Edits
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.formats.rewriting import rewrite
from rundlet.core.formats.sevenz import new_header
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Packed
from rundlet.core.model.contents import BytesContent
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.streams.copying import copy_bytes
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.streams.sources import FileSource, SliceSource
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line
from support import AT_LENGTH, Raw, at_length_too, legacy_entry, pack_to, raw_zip, read_whole, rounds, scratch

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.sevenz.new_header import Row

FORMATS = [known.info.id for known in WRITABLE]
SECOND = 10**9


@dataclass(frozen=True)
class Node:
    """What an entry is to be."""

    kind: Kind
    content: bytes
    seconds: int
    mode: int


def held(reader: ArchiveReader) -> dict[str, Node]:
    """What an archive holds; a hard link counts as the file that it is."""
    found: dict[str, Node] = {}
    wanted = np.flatnonzero(np.isin(reader.catalog.kind, (Kind.FILE, Kind.LINK)))
    data = {row: b"".join(chunks) for unit in reader.units(wanted) for row, chunks in unit.stream()}
    for entry in reader.catalog:
        row, kind = entry.row, entry.kind
        if kind == Kind.HARD:
            first, kind = reader.hard_target(row), Kind.FILE
            assert first is not None
            row = first
        content = reader.link_target(row).encode() if kind == Kind.LINK else data.get(row, b"")
        path = entry.path.rstrip("/")
        assert path not in found
        found[path] = Node(kind, content, entry.mtime_ns // SECOND, entry.mode)
    return found


def rewritten(
    reader: ArchiveReader, target: Path, edits: Edits, added: list[PackItem] | None = None, *, password: str = ""
) -> None:
    pool = Pool(2, "test")
    sink = ArchiveSink(target)
    try:
        options = WriteOptions(reader.info.default_level, password=password)
        outcome = Packed(target)
        rewrite(reader, sink, edits, added=added or [], options=options, pool=pool, job=Job(), outcome=outcome)
        assert not outcome.problems
        sink.commit()
    finally:
        sink.close()
        pool.shutdown()


NAMES = st.sampled_from(["a", "b.txt", "Grüße 川", "ein sehr langer Name " * 7, "x" * 90 + "/" + "y" * 90, "n" * 120])
CONTENTS = st.one_of(
    st.binary(max_size=40),
    st.builds(lambda byte, count: bytes([byte]) * count, st.integers(0, 255), st.integers(0, 200_000)),
    st.builds(lambda seed: np.random.default_rng(seed).bytes(30_000), st.integers(0, 9)),
)


@st.composite
def trees(draw: st.DrawFn) -> list[tuple[str, str, bytes]]:
    """Some files, folders, links and second names of files: path, what it is, and its content or target."""
    found: dict[str, tuple[str, bytes]] = {}
    for number in range(draw(st.integers(1, 7))):
        path = f"{draw(st.sampled_from(['', 'in/', 'in/deep/']))}{number}{draw(NAMES)}"
        what = draw(st.sampled_from(["file", "file", "file", "link", "folder", "hard"]))
        earlier = [other for other, (kind, _) in found.items() if kind == "file"]
        if what == "hard" and earlier:
            found[path] = (what, draw(st.sampled_from(earlier)).encode())
        elif what == "link":
            found[path] = (what, draw(st.sampled_from([b"a", b"../elsewhere", b"t" * 130])))
        elif what == "folder":
            found[path] = (what, b"")
        else:
            found[path] = ("file", draw(CONTENTS))
    return [(path, kind, data) for path, (kind, data) in found.items()]


def make(root: Path, tree: list[tuple[str, str, bytes]]) -> Path:
    top = root / "top"
    top.mkdir()
    for number, (path, what, data) in enumerate(tree):
        place = top / path
        place.parent.mkdir(parents=True, exist_ok=True)
        if what == "file":
            place.write_bytes(data)
        elif what == "folder":
            place.mkdir()
        elif what == "link":
            place.symlink_to(data.decode())
        else:
            os.link(top / data.decode(), place)
        os.utime(place, (10**9 + number, 10**9 + number), follow_symlinks=False)
    return top


@at_length_too
@pytest.mark.parametrize("fmt", FORMATS)
@settings(max_examples=rounds(15, 150))
@given(tree=trees(), data=st.data())
def test_any_edits_of_any_tree(fmt: str, tree: list[tuple[str, str, bytes]], data: st.DataObject) -> None:
    """The archive holds what a fresh one of the edited tree would, and each byte that was not touched is as it was."""
    with scratch() as folder:
        ending = by_id(fmt).info.ending
        pack_to(folder / f"old{ending}", [make(folder, tree)], fmt=fmt, level=1)
        reader = open_archive(folder / f"old{ending}")
        before = held(reader)
        rows = list(range(len(reader.catalog)))
        paths = [reader.catalog.path(row).rstrip("/") for row in rows]
        removed = frozenset(data.draw(st.sets(st.sampled_from(rows)), "removed"))
        renamed = {
            row: f"new/{row}{data.draw(NAMES, 'name')}" for row in data.draw(st.sets(st.sampled_from(rows)), "renamed")
        }
        times = dict.fromkeys(data.draw(st.sets(st.sampled_from(rows)), "times"), 1_234_567_890 * SECOND)
        modes = dict.fromkeys(data.draw(st.sets(st.sampled_from(rows)), "modes"), 0o640)
        edits = Edits(removed, renamed, times, modes)
        added = [
            PackItem(f"added {n}", Kind.FILE, "", len(content), 10**18, 0o600, content=BytesContent(content))
            for n, content in enumerate(data.draw(st.lists(CONTENTS, max_size=3), "added"))
        ]
        rewritten(reader, folder / f"new{ending}", edits, added)
        expected = {}
        for row, path in zip(rows, paths, strict=True):
            if row in removed:
                continue
            node = before[path]
            if row in times:
                node = replace(node, seconds=1_234_567_890)
            if row in modes:
                node = replace(node, mode=0o640)
            expected[edits.path(reader, row)] = node
        for n, item in enumerate(added):
            assert item.content is not None
            opened = item.content.open()
            expected[f"added {n}"] = Node(Kind.FILE, opened.read(opened.size, 0), 10**9, 0o600)
        packed_before = raw_data(reader) if fmt == "zip" else {}
        reader.close()
        new = open_archive(folder / f"new{ending}")
        assert not new.notices
        found = held(new)
        assert found == expected
        if fmt == "zip":
            packed = raw_data(new)
            for row, path in zip(rows, paths, strict=True):
                if row not in removed:
                    assert packed[edits.renamed.get(row, path)] == packed_before[path]
        new.close()
        second_look(folder / f"new{ending}", fmt, {p: n for p, n in expected.items() if n.kind == Kind.FILE})


def raw_data(reader: ArchiveReader) -> dict[str, bytes]:
    """The packed bytes of each entry of a zip, by its path."""
    with zipfile.ZipFile(reader.source.path) as archive:  # type: ignore[attr-defined]
        data = Path(archive.filename or "").read_bytes()
        found = {}
        for info in archive.infolist():
            at = info.header_offset
            begin = at + 30 + int.from_bytes(data[at + 26 : at + 28], "little")
            begin += int.from_bytes(data[at + 28 : at + 30], "little")
            found[info.filename.rstrip("/")] = data[begin : begin + info.compress_size]
    return found


def second_look(archive: Path, fmt: str, files: dict[str, Node]) -> None:
    """What a reader that is not ours says."""
    if fmt == "zip":
        with zipfile.ZipFile(archive) as second:
            assert read_whole(second)
            assert {p: second.read(p) for p in files} == {p: n.content for p, n in files.items()}
    elif fmt == "7z":
        entries = {e.name: e.data for e in second_reader.read(archive.read_bytes())}
        assert {p: entries[p] for p in files} == {p: n.content for p, n in files.items()}
    elif fmt != "tar.zst":
        with tarfile.open(archive) as third:
            found = {}
            for path in files:
                inner = third.extractfile(third.getmember(path))
                assert inner is not None
                found[path] = inner.read()
            assert found == {p: n.content for p, n in files.items()}


def zip_with_everything(target: Path) -> None:
    """Extra fields that nobody knows, a comment of each kind, a Unicode path, and a stub in front."""
    unknown = b"\xfe\xca\x03\0abc"
    with zipfile.ZipFile(target, "w") as archive:
        archive.comment = b"of the whole"
        for number, name in enumerate(["first.txt", "second.txt", "third.txt"]):
            info = zipfile.ZipInfo(name, (2001, 2, 3, 4, 5, 6))
            path = b"\x01" + zlib.crc32(name.encode()).to_bytes(4, "little") + name.encode()
            info.extra = unknown + b"up" + len(path).to_bytes(2, "little") + path
            info.extra += b"UT\x09\0\x03" + (10**9).to_bytes(4, "little") * 2
            info.comment = "naïve".encode("cp437")
            info.external_attr = 0o100644 << 16 | 0x21
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, name * 100 * (number + 1))
    data = target.read_bytes()
    target.write_bytes(b"#!/bin/sh\nexit\n" + data)


def test_what_nobody_knows_of_a_zip_stays(tmp_path: Path) -> None:
    archive = tmp_path / "x.zip"
    zip_with_everything(archive)
    reader = open_archive(archive)
    edits = Edits(frozenset({0}), {1: "Grüße.txt"}, {2: 1_500_000_000 * SECOND}, {2: 0o600})
    rewritten(reader, tmp_path / "y.zip", edits)
    reader.close()
    assert (tmp_path / "y.zip").read_bytes().startswith(b"#!/bin/sh\n")
    with zipfile.ZipFile(tmp_path / "y.zip") as second:
        assert read_whole(second) and second.comment == b"of the whole"
        one, two = second.infolist()
    assert (one.filename, one.comment.decode()) == ("Grüße.txt", "naïve")
    assert two.comment.decode("cp437") == "naïve" and two.external_attr == 0o100600 << 16 | 0x21
    assert one.extra == b"\xfe\xca\x03\0abcUT\x09\0\x03" + (10**9).to_bytes(4, "little") * 2  # of its old name, nothing
    assert two.extra.startswith(b"\xfe\xca\x03\0abcup") and b"third.txtUT" in two.extra
    assert two.extra[-13:] == b"UT\x09\0\x03" + (1_500_000_000).to_bytes(4, "little") + (10**9).to_bytes(4, "little")


def test_offsets_beyond_four_gib(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """With the border at a place that a test can reach: what grows over it gets a wide offset, and what shrinks keeps its own."""
    archive = tmp_path / "x.zip"
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(name, bytes(1000)) for name in (b"a", b"b", b"c")]))
    reader = open_archive(archive)
    for module in ("rewriting", "directory"):
        monkeypatch.setattr(f"rundlet.core.formats.zip.{module}.MAX32", 1500)
    rewritten(reader, tmp_path / "wide.zip", Edits(renamed={0: "a" * 400}))
    reader.close()
    data = (tmp_path / "wide.zip").read_bytes()
    assert data.count(b"\x01\0\x08\0" + (2461).to_bytes(8, "little")) == 1
    wide = open_archive(tmp_path / "wide.zip")
    rewritten(wide, tmp_path / "z.zip", Edits(frozenset({0})))
    wide.close()
    with zipfile.ZipFile(tmp_path / "z.zip") as second:
        assert second.namelist() == ["b", "c"] and read_whole(second)


def test_a_time_that_the_old_lock_hangs_on_is_left_alone(tmp_path: Path) -> None:
    """Where the sizes of an entry stand behind its data, a password is tried on the time in its header."""
    (tmp_path / "x.zip").write_bytes(raw_zip([legacy_entry(b"some data " * 30, b"pw", by_time=True)]))
    reader = open_archive(tmp_path / "x.zip")
    rewritten(reader, tmp_path / "y.zip", Edits(times={0: 10**18}))
    reader.close()
    new = open_archive(tmp_path / "y.zip")
    new.unlock("pw")
    assert held(new)["e"] == Node(Kind.FILE, b"some data " * 30, 10**9, 0o644)
    new.close()


def test_entries_that_share_bytes_are_not_taken_apart(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"a", bytes(100)), Raw(b"b", bytes(100), offset=0)]))
    reader = open_archive(tmp_path / "x.zip")
    with pytest.raises(PlanError, match="share their data"):
        rewritten(reader, tmp_path / "y.zip", Edits(frozenset({0})))
    reader.close()
    assert not (tmp_path / "y.zip").exists()


def tar_of_others(target: Path, style: int) -> None:
    """Long names, attributes of all and of one, sub-second times, and second names of a file."""
    headers = {"comment": "for all", "RUNDLET.unknown": "kept"} if style == tarfile.PAX_FORMAT else None
    with tarfile.open(target, "w", format=style, pax_headers=headers) as tar:
        for number, name in enumerate(["short", "d/" * 60 + "long", "n" * 150]):
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.uname = 1000 + number, 10**9 + (0.5 if headers else 0), "somebody"
            info.pax_headers = {"SCHILY.xattr.user.note": "dear"} if headers else {}
            tar.addfile(info, io.BytesIO(bytes([number]) * (1000 + number)))
        for name in ("twin", "t" * 120):
            info = tarfile.TarInfo(name)
            info.type, info.linkname, info.mtime = tarfile.LNKTYPE, "n" * 150, 10**9
            tar.addfile(info)


@pytest.mark.parametrize("style", [tarfile.PAX_FORMAT, tarfile.GNU_FORMAT])
@pytest.mark.parametrize("packing", ["", ".gz"])
def test_tars_of_others(tmp_path: Path, style: int, packing: str) -> None:
    """Every header but those that are changed stays byte for byte; names move between fields and extensions as they must."""
    archive = tmp_path / "x.tar"
    tar_of_others(archive, style)
    if packing:
        import gzip

        archive.with_suffix(".tar.gz").write_bytes(gzip.compress(archive.read_bytes()))
        archive = archive.with_suffix(".tar.gz")
    cases = [
        Edits(renamed={0: "s" * 130, 1: "now short", 2: "Grüße " * 30}),
        Edits(renamed={3: "other twin", 4: "w" * 140}, times={0: 5 * SECOND + 5, 1: -SECOND, 2: 8 * 10**18}),
        Edits(frozenset({2})),  # the first of its other names takes over
        Edits(frozenset({2, 3}), renamed={4: "the last"}, modes={4: 0o600}),
        Edits(frozenset({0, 1}), times={2: SECOND}),
    ]
    for number, edits in enumerate(cases):
        reader = open_archive(archive)
        before = held(reader)
        expected = {}
        for row in range(len(reader.catalog)):
            if row not in edits.removed:
                node = before[reader.catalog.path(row)]
                node = replace(node, seconds=edits.times[row] // SECOND) if row in edits.times else node
                expected[edits.path(reader, row)] = replace(node, mode=edits.modes.get(row, node.mode))
        rewritten(reader, tmp_path / f"{number}{archive.suffixes[-1]}", edits)
        reader.close()
        new = open_archive(tmp_path / f"{number}{archive.suffixes[-1]}")
        assert not new.notices
        found = held(new)
        new.close()
        assert found == expected
        with tarfile.open(tmp_path / f"{number}{archive.suffixes[-1]}") as second:
            assert set(second.getnames()) == set(expected)
            for member in second.getmembers():
                assert member.uname == ("somebody" if member.isreg() else "")
                if style == tarfile.PAX_FORMAT:
                    assert member.pax_headers["RUNDLET.unknown"] == "kept"
                    assert member.isreg() == (member.pax_headers.get("SCHILY.xattr.user.note") == "dear")
                if member.isreg():
                    inner = second.extractfile(member)
                    assert inner is not None and inner.read() == expected[member.name].content


def test_a_solid_block_that_loses_some_is_packed_once_more_and_others_are_not(tmp_path: Path) -> None:
    """Locked or not; the new block holds the rest, and all other blocks are there byte for byte."""
    files = tmp_path / "f"
    files.mkdir()
    for number in range(6):
        (files / f"{number}.txt").write_bytes(b"%d words, " % number * 500)
        (files / f"{number}.bin").write_bytes(np.random.default_rng(number).bytes(70_000))
    for password in ("", "right"):
        archive = tmp_path / f"x{password}.7z"
        pack(plan_pack([files], target=archive, info=by_id("7z").info, options=WriteOptions(3, password=password)))
        reader = open_archive(archive)
        if password:
            reader.unlock(password)
        row = next(e.row for e in reader.catalog if e.path == "f/3.txt")
        rewritten(reader, tmp_path / "y.7z", Edits(frozenset({row})), password=password)
        reader.close()
        old, new = archive.read_bytes(), (tmp_path / "y.7z").read_bytes()
        before = {e.name: e for e in second_reader.read(old, password)}
        after = {e.name: e for e in second_reader.read(new, password)}
        del before["f/3.txt"]
        assert after == before
        (tmp_path / "y.7z").unlink()
        assert sum(old[at : at + 60_000] in new for at in range(10_000, len(old) - 60_000, 70_000)) >= 5


def test_what_nobody_knows_of_a_7z_stays_or_stops_the_work(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """An unknown property belongs to just these entries: renaming keeps it, and more or fewer entries are refused."""
    (tmp_path / "a").write_text("content")
    (tmp_path / "b").touch()
    with monkeypatch.context() as patched:
        real = "rundlet.core.formats.sevenz.writer.files_info"

        def others(rows: list[Row], _: object) -> bytes:
            """As those write it that list what is empty before what is not."""
            return new_header.files_info(sorted(rows, key=lambda row: row.has_stream), [(0x42, b"who knows")])

        patched.setattr(real, others)
        pack_to(tmp_path / "x.7z", [tmp_path / "a", tmp_path / "b"], fmt="7z")
    reader = open_archive(tmp_path / "x.7z")
    assert reader.unknown == [(0x42, b"who knows")]  # type: ignore[attr-defined]
    rewritten(reader, tmp_path / "y.7z", Edits(renamed={1: "c"}))
    for edits, added in ((Edits(frozenset({1})), []), (Edits(), [PackItem("d", Kind.DIR, "", 0, 0, 0o755)])):
        with pytest.raises(PlanError, match="information about its files"):
            rewritten(reader, tmp_path / "z.7z", edits, added)
    reader.close()
    assert not (tmp_path / "z.7z").exists()
    new = open_archive(tmp_path / "y.7z")
    assert new.unknown == [(0x42, b"who knows")] and [new.catalog.path(row) for row in (0, 1)] == ["b", "c"]  # type: ignore[attr-defined]
    new.close()


@pytest.mark.parametrize("packing", ["gz", "bz2", "xz", "zst"])
def test_whole_members_before_the_first_change_are_not_packed_again(tmp_path: Path, packing: str) -> None:
    files = tmp_path / "f"
    files.mkdir()
    for number in range(2):
        (files / f"{number}.bin").write_bytes(
            np.random.default_rng(number).bytes(300_000) * (4 if packing == "bz2" else 18)
        )
    fmt = f"tar.{packing}"
    pack_to(tmp_path / f"x.{fmt}", [files], fmt=fmt, level=1)
    reader = open_archive(tmp_path / f"x.{fmt}")
    last = next(e.row for e in reader.catalog if e.path == "f/1.bin")
    before = held(reader)
    start = reader.member_before(int(reader.index.data_at[last]) - 512)  # type: ignore[attr-defined]
    assert start.packed > 40_000 and start.plain > 500_000
    rewritten(reader, tmp_path / f"y.{fmt}", Edits(renamed={last: "f/other.bin"}))
    reader.close()
    old, new = (tmp_path / f"x.{fmt}").read_bytes(), (tmp_path / f"y.{fmt}").read_bytes()
    assert old[: start.packed] == new[: start.packed]
    reader = open_archive(tmp_path / f"y.{fmt}")
    before["f/other.bin"] = before.pop("f/1.bin")
    assert held(reader) == before
    reader.close()


@at_length_too
@pytest.mark.parametrize("target", FORMATS)
def test_entries_of_archives_are_packed_as_files_are(tmp_path: Path, target: str) -> None:
    """Out of every format into every other, also in another order than they lie in the first one."""
    files = tmp_path / "f"
    files.mkdir()
    for number in range(40):
        (files / f"{number}.{'abc'[number % 3]}").write_bytes(b"%d, " % number * (50 + 40 * number))
    (files / "large").write_bytes(np.random.default_rng(1).bytes(rounds(1_200_000, 6_000_000)))
    pack_to(tmp_path / f"base.{target}", [files / "0.a"], fmt=target)
    for source in FORMATS if AT_LENGTH else ("zip", "7z", "tar.gz"):
        pack_to(tmp_path / f"x.{source}", [files], fmt=source, level=1)
        reader = open_archive(tmp_path / f"x.{source}")
        entries = [entry for entry in reader.catalog if entry.kind == Kind.FILE]
        for order in (entries, entries[::-1]):
            contents = ArchiveContents(reader, [entry.row for entry in entries])
            items = [
                PackItem(e.path, Kind.FILE, "", e.size, e.mtime_ns, e.mode, content=contents.source(e.row))
                for e in order
            ]
            base = open_archive(tmp_path / f"base.{target}")
            rewritten(base, tmp_path / f"y.{target}", Edits(frozenset({0})), items)
            base.close()
            contents.close()
            new = open_archive(tmp_path / f"y.{target}")
            before, after = held(reader), held(new)
            assert after == {path: node for path, node in before.items() if node.kind == Kind.FILE}
            new.close()
            (tmp_path / f"y.{target}").unlink()
        reader.close()


def test_content_may_be_read_more_than_once(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"%d" % n, b"%d" % n * 50) for n in range(4)]))
    reader = open_archive(tmp_path / "x.zip")
    contents = ArchiveContents(reader, range(4))
    for row in (2, 2, 0, 3, 2, 0):
        content = contents.source(row).open()
        assert content.read(content.size, 0) == b"%d" % row * 50
        content.close()
    contents.close()
    reader.close()


@pytest.mark.parametrize("refused", [0, 1, 3])
def test_bytes_are_copied_by_the_system_or_by_hand(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, refused: int
) -> None:
    """In steps, out of a stretch of a file, and also where the system stops after some of them."""
    data = np.random.default_rng(1).bytes(10_000)
    (tmp_path / "x").write_bytes(data)
    monkeypatch.setattr("rundlet.core.streams.copying._STEP", 1000)
    source, sink = SliceSource(FileSource(tmp_path / "x"), 100, 9000), ArchiveSink(tmp_path / "y")
    real, calls = sink.copy_from, []

    def copy_from(fd: int, length: int, offset: int) -> int:
        calls.append(length)
        if len(calls) == refused:
            raise OSError(errno.EXDEV, "")
        return real(fd, length, offset)

    monkeypatch.setattr(sink, "copy_from", copy_from)
    told: list[int] = []
    copy_bytes(sink, source, 50, 8000, told.append)
    sink.commit()
    source.close()
    assert (tmp_path / "y").read_bytes() == data[150:8150] and sum(told) == 8000
    assert len(calls) == (refused or 8)


def test_an_entry_that_can_not_be_read_is_left_out_or_stops_the_work(tmp_path: Path) -> None:
    """One that would be packed into another archive is left out and named; one that is to stay stops the work."""
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip([Raw(b"good", b"g" * 50), Raw(b"bad", b"b" * 50, crc=1)]))
    reader = open_archive(archive)
    contents = ArchiveContents(reader, [0, 1])
    items = [
        PackItem(name, Kind.FILE, "", 50, 0, 0o644, content=contents.source(row))
        for row, name in enumerate(["good", "bad"])
    ]
    (tmp_path / "a").write_text("a")
    for fmt in FORMATS:
        pack_to(tmp_path / f"base.{fmt}", [tmp_path / "a"], fmt=fmt)
        base = open_archive(tmp_path / f"base.{fmt}")
        sink, pool, outcome = ArchiveSink(tmp_path / "out"), Pool(2, "test"), Packed(tmp_path)
        try:
            rewrite(base, sink, Edits(), added=items, options=WriteOptions(1), pool=pool, job=Job(), outcome=outcome)
        finally:
            pool.shutdown()
            sink.close()
            base.close()
        said = [issue_line(issue) for issue in outcome.problems]
        assert said == ["bad: could not be read (its content fails its checksum) and was left out"]
    contents.close()
    reader.close()
