"""Archives that are read as they come, held against the same archives read as files."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import random
import subprocess
import sys
import tarfile
import time
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import hypothesis.strategies as st
import pytest
from hypothesis import given

from mutating import archives, damaged, tree
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import (
    Cancelled,
    NoSpace,
    PasswordNeeded,
    PlanError,
    RundletError,
    UnknownFormat,
    Unsupported,
    WrongPassword,
)
from rundlet.core.formats.detect import open_archive
from rundlet.core.formats.forward_opening import open_forward
from rundlet.core.formats.known import PACKED_TARS
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.job import Job
from rundlet.core.model.opening import Opening
from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.core.plans.unpack_planner import Planner, plan_unpack
from rundlet.core.text import plain_path
from rundlet.core.work.checker import Verdict, check
from rundlet.core.work.extractor import unpack
from rundlet.core.work.forward_work import check_forward, unpack_forward
from rundlet.presentation.findings import issue_line
from support import (
    Node,
    Raw,
    foreign_archives,
    legacy_entry,
    packed,
    rare_tar,
    raw_zip,
    rounds,
    scratch,
    snapshot,
    tar_header,
    tar_padded,
)

if TYPE_CHECKING:
    from rundlet.core.jobs.outcomes import Checked, Outcome, Unpacked

FORMATS = ("zip", "tar", *(info.id for info in PACKED_TARS if info.writes))


@pytest.fixture(autouse=True)
def many_pieces(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Small archives come in many pieces, as large ones do, and what is kept goes to the disk."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    for module in ("tar.forward", "zip.forward"):
        monkeypatch.setattr(f"rundlet.core.formats.{module}._PIECE", 9_000)
        monkeypatch.setattr(f"rundlet.core.formats.{module}.SMALL", 40_000)
    for name, value in (
        ("formats.tar.forward._LOOK", 8_192),
        ("streams.feed.WINDOW", 4_096),
        ("streams.feed.CHUNK", 2_048),
    ):
        monkeypatch.setattr(f"rundlet.core.{name}", value)
    monkeypatch.setattr("rundlet.core.streams.pipes._IN_MEMORY", 10_000)


def in_chunks(data: bytes, size: int) -> Iterator[bytes]:
    return (data[at : at + size] for at in range(0, len(data), size))


def checked(data: bytes, *, size: int = 10_000, password: str | None = None) -> tuple[Checked, dict[str, Verdict]]:
    found: dict[str, Verdict] = {}
    with closing(open_forward(in_chunks(data, size), Opening())) as archive:
        return check_forward(archive, Job(), password=password, tell=found.__setitem__), found


def unpacked(
    data: bytes,
    into: Path,
    *,
    size: int = 10_000,
    password: str | None = None,
    clash: UnpackClash = UnpackClash.RENAME,
    job: Job | None = None,
) -> Unpacked:
    planner = Planner(into=into, on_clash=clash, in_pieces=True)
    with closing(planner), closing(open_forward(in_chunks(data, size), Opening())) as archive:
        return unpack_forward(archive, planner, job or Job(), password=password)


def assert_same(path: Path, folder: Path, *, size: int = 10_000, password: str | None = None) -> None:
    """Checking and unpacking give what they give of the file."""
    data = path.read_bytes()
    with closing(open_archive(path)) as reader:
        if password:
            reader.unlock(password)
        verdicts: dict[str, Verdict] = {}
        whole = check(
            reader, tell=lambda row, verdict: verdicts.__setitem__(plain_path(reader.catalog.path(row)), verdict)
        )
        out = unpack(plan_unpack(reader, into=folder / "whole"), reader)
    forward, found = checked(data, size=size, password=password)
    counts = ("files", "bytes_out", "unverified", "damaged", "unreadable")
    assert {name: getattr(forward, name) for name in counts} == {name: getattr(whole, name) for name in counts}
    assert found == verdicts
    again = unpacked(data, folder / "forward", size=size, password=password)
    assert _settled(folder / "forward") == _settled(folder / "whole")
    for name in ("bytes_out", "left_out", "renamed", "skipped", "files"):
        assert getattr(again, name) == getattr(out, name), name
    assert Counter(issue.reason for issue in again.issues) == Counter(issue.reason for issue in out.issues)
    below = [
        {one.partition(f"/{side}/")[2] for one in each.created} for side, each in (("forward", again), ("whole", out))
    ]
    assert below[0] - {""} == below[1] - {""}


def _settled(root: Path) -> dict[str, Node]:
    """What is there, without the times of folders that no archive has one for."""
    recent = time.time() - 1000
    return {name: replace(node, seconds=0) if node.seconds > recent else node for name, node in snapshot(root).items()}


@pytest.mark.parametrize("fmt", FORMATS)
@pytest.mark.parametrize("size", [999, 1 << 20])
def test_as_the_file(tmp_path: Path, fmt: str, size: int) -> None:
    assert_same(packed(tmp_path, fmt), tmp_path, size=size)


def test_foreign_ones(tmp_path: Path) -> None:
    """Wheels, jars and tarballs by many writers."""
    seen = Counter[str]()
    found = foreign_archives((".whl", ".jar", ".zip", ".gz", ".tgz", ".xz", ".bz2", ".tar", ".zst"), rounds(8, 30))
    for number, path in enumerate(path for path in found if path.stat().st_size < 3_000_000):
        try:
            open_archive(path).close()
        except RundletError:
            continue
        if path.suffix in (".whl", ".jar", ".zip", ".tar", ".tgz") or ".tar." in path.name:
            assert_same(path, tmp_path / str(number))
            seen[path.suffix] += 1
        else:
            assert checked(path.read_bytes())[0].files == 1
    assert seen[".whl"] and sum(seen.values()) > 5


def _tar(members: Sequence[tuple[str, bytes, str | bytes]], **more: object) -> bytes:
    """A tar by the standard library: name, type, and content or target."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", **more) as theirs:  # type: ignore[call-overload]
        for number, (name, kind, what) in enumerate(members):
            info = tarfile.TarInfo(name)
            info.type, info.mtime, info.mode = kind, 1_000_000_000 + number, 0o750 if kind == tarfile.DIRTYPE else 0o640
            if isinstance(what, str):
                info.linkname = what
            else:
                info.size = len(what)
            theirs.addfile(info, io.BytesIO(what) if isinstance(what, bytes) else None)
    return out.getvalue()


FILE, FOLDER, LINK, HARD = tarfile.REGTYPE, tarfile.DIRTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE
NOISE = random.Random(3).randbytes(60_000)

TARS: dict[str, Callable[[], bytes]] = {
    "names, links and folders across pieces": lambda: _tar(
        [
            ("d", FOLDER, b""), ("d/first", FILE, b"1" * 5000), ("d/large", FILE, NOISE), ("d/in", FOLDER, b""),
            ("d/again", HARD, "d/first"), ("d/large again", HARD, "d/large"), ("d/sym", LINK, "in/deep"),
            ("d/first", FILE, b"2" * 7000), ("d/in/deep", FILE, b"3" * 9000), ("d/nowhere", HARD, "d/nothing"),
            ("d/first/below", FILE, b"4" * 10), ("out", LINK, "/etc"), ("out/passwd", FILE, b"5" * 9000),
            ("../up", FILE, b"6"), ("d/pipe", tarfile.FIFOTYPE, b""), ("d/" + "long " * 60, FILE, b"7" * 9000),
            ("d/last", HARD, "d/first"), ("", FILE, b"8"), ("e/without/a/folder", FILE, b"9" * 20_000),
        ]
    ),
    "attributes for all": lambda: _tar(
        [(f"f{number}", FILE, NOISE[: number * 3000]) for number in range(15)],
        format=tarfile.PAX_FORMAT,
        pax_headers={"mtime": "987654321.5", "comment": "for all"},
    ),
    "gnu": lambda: _tar([("x" * 300, FILE, NOISE), ("s", LINK, "t" * 300)], format=tarfile.GNU_FORMAT),
    "nothing": lambda: _tar([]),
    "rare": rare_tar,
    "without an end": lambda: _tar([("a", FILE, b"a" * 700), ("b", FILE, NOISE)])[: 512 * 4 + 60_000],
    "two in a row": lambda: _tar([("a", FILE, b"a")])[:1024] + rare_tar(),
}  # fmt: skip


def _zstd(data: bytes) -> bytes:
    return zstd.compress(data, options={zstd.CompressionParameter.checksum_flag: 1})


PACKERS: dict[str, Callable[[bytes], bytes]] = {
    "": lambda data: data,
    ".gz": lambda data: gzip.compress(data[:30_000], 1) + gzip.compress(data[30_000:]) + bytes(100),
    ".bz2": lambda data: b"".join(map(bz2.compress, in_chunks(data, 50_000))),
    ".xz": lambda data: lzma.compress(data[:1000], preset=0) + bytes(8) + lzma.compress(data[1000:], preset=0),
    ".zst": lambda data: b"\x50\x2a\x4d\x18\4\0\0\0skip".join(map(_zstd, in_chunks(data, 50_000))),
    ".lzma": lambda data: lzma.compress(data, lzma.FORMAT_ALONE, preset=1),
}


@pytest.mark.parametrize("packer", PACKERS)
@pytest.mark.parametrize("shape", TARS)
def test_tars_of_every_shape(tmp_path: Path, shape: str, packer: str) -> None:
    path = tmp_path / f"x.tar{packer}"
    path.write_bytes(PACKERS[packer](TARS[shape]()))
    assert_same(path, tmp_path)


def test_taken_names(tmp_path: Path) -> None:
    """What was there before is not taken for what the archive has put there, by every rule."""
    data = TARS["names, links and folders across pieces"]()
    path = tmp_path / "x.tar"
    path.write_bytes(data)
    for clash in UnpackClash:
        for side in ("whole", "forward"):
            there = tmp_path / clash / side
            (there / "d").mkdir(parents=True)
            for name in ("first", "deep", "large", "sym", "again"):
                (there / "d" / name).write_text("before")
                os.utime(there / "d" / name, (5, 5))
        with closing(open_archive(path)) as reader:
            unpack(plan_unpack(reader, into=tmp_path / clash / "whole", on_clash=clash), reader)
        unpacked(data, tmp_path / clash / "forward", clash=clash)
        theirs, ours = _settled(tmp_path / clash / "whole"), _settled(tmp_path / clash / "forward")
        if clash is UnpackClash.SKIP:  # the content has gone by that a link would get a file of its own for
            theirs, ours = (
                {k: v for k, v in each.items() if "again" not in k and "last" not in k} for each in (theirs, ours)
            )
        assert ours == theirs, clash


def _described(entry: Raw, *, signed: bool = True, wide: bool = False) -> Raw:
    """An entry that says its checksum and sizes only behind its data."""
    data = entry.data if entry.packed is None else entry.packed
    numbers = zlib.crc32(entry.data).to_bytes(4, "little") + b"".join(
        len(each).to_bytes(8 if wide else 4, "little") for each in (data, entry.data)
    )
    entry.descriptor = (b"PK\x07\x08" if signed else b"") + numbers
    return entry


def _deflated(name: bytes, data: bytes) -> Raw:
    packer = zlib.compressobj(6, zlib.DEFLATED, -15)
    return Raw(name, data, method=8, packed=packer.compress(data) + packer.flush())


def zips() -> dict[str, bytes]:
    inner = raw_zip([_described(Raw(b"inner", NOISE[:500])), Raw(b"more")])
    return {
        "links and permissions": raw_zip(
            [Raw(b"d/", b"", 0o040700), Raw(b"d/run", b"#!", 0o100755), Raw(b"d/l", b"run", 0o120777), Raw(b"e", NOISE, 0o100600)]
        ),
        "links that lead out": raw_zip([Raw(b"a", b"/etc/passwd", 0o120777), Raw(b"b", b"x" * 5000, 0o120777), Raw(b"c", b"")]),
        "sizes behind": raw_zip(
            [
                _described(Raw(b"a", inner)), _described(_deflated(b"b", NOISE * 3)), _described(Raw(b"c", inner), signed=False),
                _described(Raw(b"", b"")), _described(Raw(b"d", inner * 9), wide=True), _described(Raw(b"e", b""), signed=False),
                _described(_deflated(b"f", b"w" * 400_000)), Raw(b"g", inner),
            ]
        ),
        "nothing": raw_zip([]),
        "a comment": raw_zip([Raw(b"a", NOISE)], comment=b"PK\1\2 words"),
        "names twice": raw_zip([Raw(b"a", b"1"), Raw(b"a", NOISE[:30_000]), Raw(b"a/b", b"2"), Raw(b"../x", b"3")]),
        "separators of another system": raw_zip(
            [Raw(b"d\\e\\", b"", 0o20, host=0), Raw(b"d\\f", b"x", host=0), Raw(b"d/g\\h", b"y")]
        ),
        "damaged": raw_zip([Raw(b"a", crc=5), Raw(b"b", NOISE, crc=7), Raw(b"c"), Raw(b"d", method=99)]),
    }  # fmt: skip


@pytest.mark.parametrize("shape", zips())
@pytest.mark.parametrize("size", [7, 100_000])
def test_zips_of_every_shape(tmp_path: Path, shape: str, size: int) -> None:
    path = tmp_path / "x.zip"
    path.write_bytes(zips()[shape])
    assert_same(path, tmp_path, size=size)


def test_a_zip_and_its_list(tmp_path: Path) -> None:
    """What the headers in front say is held against the list at the end, or said to be alone where that is missing."""
    whole = raw_zip([Raw(b"a", b"one"), Raw(b"b", NOISE), Raw(b"c", b"three")])
    begin = whole.index(b"PK\1\2")
    second = whole.index(b"PK\1\2", begin + 4)
    renamed = whole[:begin] + whole[begin:].replace(b"c", b"q", 1)
    left_over = raw_zip([Raw(b"old", b"before")])[: 30 + 3 + 6] + whole
    for data, reason in (
        (whole[:begin], Reason.LIST_MISSING),
        (whole[:second], Reason.LIST_MISSING),
        (whole[: begin - 3], Reason.LIST_MISSING),
        (renamed, Reason.NAME_IN_FRONT),
        (left_over, Reason.NOT_LISTED),
        (whole[:-22], Reason.LIST_MISSING),
    ):
        into = tmp_path / str(reason) / str(len(data))
        outcome = unpacked(data, into)
        assert reason in {issue.reason for issue in (*outcome.issues, *checked(data)[0].issues)} or b"PK\1\2" in data, (
            reason
        )
        assert (into / "a").read_bytes() == b"one" and (into / "b").read_bytes() == NOISE
    cut, verdicts = checked(whole[: begin - 3])
    assert "cut off before its end" in " ".join(map(issue_line, cut.issues))
    assert cut.damaged == 1 and verdicts["c"] is Verdict.DAMAGED and verdicts["b"] is Verdict.INTACT
    elsewhere = raw_zip([Raw(b"a", b"one"), Raw(b"b", b"two", offset=5)])
    assert _reasons(checked(elsewhere)[0]) == {Reason.NOT_LISTED, Reason.LISTED_ELSEWHERE}
    second = whole.index(b"PK\3\4", 4)
    gap, verdicts = checked(whole[:second] + b"nothing" + whole[second:])
    assert Reason.GAPS in _reasons(gap) and set(verdicts.values()) == {Verdict.INTACT}


def _reasons(outcome: Outcome) -> set[Reason]:
    return {issue.reason for issue in outcome.issues}


def test_what_is_no_link_after_all_leaves_what_was_there(tmp_path: Path) -> None:
    """Where a link can't be made of what was written in a file's place, that file comes back."""
    for name in "ab":
        (tmp_path / name).write_text("before")
    outcome = unpacked(zips()["links that lead out"], tmp_path, clash=UnpackClash.REPLACE)
    assert outcome.left_out == 2 and {path.name: path.read_text() for path in tmp_path.iterdir() if path.is_file()} == {
        "a": "before", "b": "before", "c": "",
    }  # fmt: skip


def test_a_link_to_what_did_not_come_out(tmp_path: Path) -> None:
    """It is no link to what stood in that place before."""
    lost = tar_header(
        b"a", kind=b"S", size=5, magic=b"ustar  \0", extra=(386, b"%011o\0%011o\0" % (9000, 3) + bytes(73))
    )
    again = _tar([("filler", FILE, NOISE), ("again", HARD, "a")])
    (tmp_path / "a").write_text("before")
    outcome = unpacked(lost + tar_padded(b"xyzuv") + again, tmp_path, clash=UnpackClash.REPLACE)
    assert outcome.left_out == 2 and (tmp_path / "a").read_text() == "before" and not (tmp_path / "again").exists()


def test_what_stands_behind_the_end(tmp_path: Path) -> None:
    whole = _tar([("a", FILE, b"a")])
    for packer in PACKERS:
        data = PACKERS[packer](whole)
        assert not checked(data)[0].issues
        for junk in (data + b"junk", PACKERS[packer](whole + b"junk" * 300)):
            outcome = checked(junk)[0]
            assert _reasons(outcome) == {Reason.JUNK_BEHIND} and outcome.files == 1, packer


def test_a_full_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    room = iter([10**9, 10**9])
    monkeypatch.setattr("rundlet.core.work.extractor.free_bytes", lambda _: next(room, 10))
    with pytest.raises(NoSpace):
        unpacked(TARS["names, links and folders across pieces"](), tmp_path / "out")
    assert not (tmp_path / "out").exists()


def test_locked_ones(tmp_path: Path) -> None:
    path = packed(tmp_path, "zip", "word")
    data = path.read_bytes()
    for password, error in ((None, PasswordNeeded), ("wrong", WrongPassword)):
        with pytest.raises(error):
            unpacked(data, tmp_path / "out", password=password)
        with pytest.raises(error):
            checked(data, password=password)
        assert not (tmp_path / "out").exists()
    assert_same(path, tmp_path, password="word")
    mixed = tmp_path / "mixed.zip"
    mixed.write_bytes(
        raw_zip([Raw(b"a", NOISE), legacy_entry(NOISE, b"word", name=b"b"), legacy_entry(b"x", b"other", name=b"c")])
    )
    outcome, verdicts = checked(mixed.read_bytes())
    assert verdicts["a"] is Verdict.INTACT and outcome.unreadable == 2
    assert checked(mixed.read_bytes(), password="word")[1]["b"] is Verdict.INTACT


def test_what_can_not_be_read_as_it_comes(tmp_path: Path) -> None:
    for data, error in (
        (packed(tmp_path, "7z").read_bytes(), Unsupported),
        (b"", UnknownFormat),
        (b"just words", UnknownFormat),
        (b"#!/bin/sh\n" + raw_zip([Raw(b"a")]), UnknownFormat),
    ):
        with pytest.raises(error) as said:
            open_forward(in_chunks(data, 10), Opening())
        assert said.value.hint or not data


@pytest.mark.parametrize("packer", PACKERS)
def test_cut_and_changed_streams(tmp_path: Path, packer: str) -> None:
    """What came before the damage comes out; what no checksum was right for is not called intact."""
    members = [(f"f{number}", FILE, NOISE[: 2000 * number]) for number in range(1, 20)]
    data = PACKERS[packer](_tar(members))
    vouches = packer not in ("", ".lzma")
    outcome, verdicts = checked(data)
    assert set(verdicts.values()) == {Verdict.INTACT if vouches else Verdict.UNTOLD} and outcome.files == 19
    into = tmp_path / "cut"
    cut = unpacked(data[: len(data) // 2], into)
    assert 5 < cut.files < 19 and cut.problems
    for number in range(1, cut.files):
        assert (into / f"f{number}").read_bytes() == NOISE[: 2000 * number]
    outcome, verdicts = checked(data[: len(data) // 2])
    assert outcome.problems and Verdict.DAMAGED in verdicts.values()
    assert outcome.files == sum(verdict.is_good for verdict in verdicts.values())
    if packer == ".gz":
        assert Verdict.INTACT in verdicts.values()  # those of the first member
        wrong = bytearray(data)
        wrong[-108:-104] = bytes(4)  # the last member's checksum
        outcome, verdicts = checked(bytes(wrong))
        assert verdicts["f1"] is Verdict.INTACT and verdicts["f19"] is Verdict.DOUBTFUL and outcome.doubtful > 5
        assert Reason.FILES_BEFORE_DAMAGE in {
            issue.reason for issue in unpacked(bytes(wrong), tmp_path / "wrong").issues
        }


@given(
    st.sampled_from(("zip", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst")),
    st.integers(0, 1 << 32),
    st.integers(1, 5000),
)
def test_any_damage(fmt: str, seed: int, size: int) -> None:
    """Whatever is damaged: nothing but our own errors, nothing called intact that is not, and nothing written elsewhere."""
    with scratch() as folder:
        contents = tree(folder)
        data = damaged(archives(folder)[fmt], random.Random(seed))
        try:
            _, verdicts = checked(data, size=size)
            outcome = unpacked(data, folder / "out" / "in", size=size)
        except RundletError:
            return
        for name, verdict in verdicts.items():
            there = folder / "out" / "in" / name
            if verdict is Verdict.INTACT and name in contents:
                assert there.read_bytes() == contents[name]
        assert len(list(folder.iterdir())) == 2 + len(FORMATS) + 1 or not outcome.files
        assert [path.name for path in (folder / "out").iterdir()] in (["in"], []) if (folder / "out").exists() else True


@pytest.mark.parametrize("fmt", ["zip", "tar.gz"])
def test_what_ends_early_is_taken_back(tmp_path: Path, fmt: str) -> None:
    data = packed(tmp_path, fmt).read_bytes()
    into = tmp_path / "out"
    into.mkdir()
    (into / "tree").mkdir()
    (into / "tree" / "a.txt").write_text("before")
    before = snapshot(into)

    class Impatient(Job):
        def __init__(self, most: int) -> None:
            super().__init__()
            self.left = most

        def checkpoint(self) -> None:
            self.left -= 1
            if self.left < 0:
                self.cancel()
            super().checkpoint()

    ended = 0
    for most in range(0, 400, 2):
        try:
            unpacked(data, into, clash=UnpackClash.REPLACE, job=Impatient(most))
            break
        except Cancelled:
            ended += 1
        assert snapshot(into, times=False).keys() == before.keys(), most
        assert (into / "tree" / "a.txt").read_text() == "before"
    assert ended > 3 and (into / "tree" / "b.bin").exists()

    def refuse() -> None:
        raise PlanError("Nothing matches.")

    planner = Planner(into=tmp_path / "refused", in_pieces=True)
    with closing(open_forward(in_chunks(data, 999), Opening())) as archive, pytest.raises(PlanError):
        unpack_forward(archive, planner, Job(), chosen=refuse)
    assert not (tmp_path / "refused").exists()


_MEMORY = """
import resource, sys
from rundlet.cli.main import main
status = main(sys.argv[1:])
print(status, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""


@pytest.mark.parametrize("fmt", ["tar", "tar.gz", "zip"])
def test_memory_does_not_grow_with_the_archive(tmp_path: Path, fmt: str) -> None:
    """300 MB in one file and in many, some of it without its size in front, take no more memory than 3."""
    taken = []
    for megabytes in (3, 300):
        path = tmp_path / f"{megabytes}.{fmt}"
        large, small = bytes(megabytes * 500_000), NOISE * 16
        if fmt == "zip":
            with zipfile.ZipFile(_Forwards(path), "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out:
                out.writestr("large", large)
                for number in range(megabytes // 2):
                    out.writestr(f"small {number}", small)
        else:
            with tarfile.open(str(path), f"w|{fmt[4:]}") as tar:  # type: ignore[call-overload]
                for name, data in (("large", large), *((f"small {number}", small) for number in range(megabytes // 2))):
                    info = tarfile.TarInfo(name)
                    info.size = len(data)
                    tar.addfile(info, io.BytesIO(data))
        for words in (["check", "-"], ["unpack", "-", "--into", str(tmp_path / f"out {megabytes}")]):
            with path.open("rb") as file:
                ran = subprocess.run(
                    [sys.executable, "-c", _MEMORY, *words], stdin=file, capture_output=True, text=True, check=True
                )
            status, peak = ran.stdout.split()[-2:]
            assert status == "0", ran
            taken.append(int(peak))
    assert max(taken[2:]) < max(taken[:2]) + 60, taken


class _Forwards(io.RawIOBase):
    """A file that can't be gone back in, so that a zip is written with its sizes behind the data."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._file = path.open("wb")

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        return self._file.write(data)  # type: ignore[arg-type]

    def close(self) -> None:
        self._file.close()
        super().close()
