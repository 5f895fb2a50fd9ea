"""tar, plain and in every packing, held against the standard library's reader and writer and against foreign archives."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import stat
import subprocess
import tarfile
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from rundlet.core.codecs.packers import PACKERS
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import RundletError, UnknownFormat
from rundlet.core.formats import detect
from rundlet.core.formats.compressed_stream import PACKINGS, Notes, decoded
from rundlet.core.formats.detect import open_archive, open_source
from rundlet.core.formats.tar import first_reading as listing
from rundlet.core.formats.tar import index as cache
from rundlet.core.formats.tar.headers import checksums_fit, is_header
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.limits import Limits
from rundlet.core.model.entry import Kind
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams.sources import MemorySource
from rundlet.core.work.checker import check
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line
from support import (
    AT_LENGTH,
    at_length_too,
    contents,
    foreign_archives,
    make_tree,
    pack_to,
    rare_tar,
    rounds,
    snapshot,
    unpack_to,
    xz_in_blocks,
)

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

FORMATS = ("tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst")


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    for room in ("KEPT_PLAIN", "KEPT_ON_DISK"):  # these are small, and are to be read as large ones are
        monkeypatch.setattr(f"rundlet.core.formats.tar.decoded_cache.{room}", 0)


def _plain(data: bytes) -> bytes:
    """An archive's stream, decompressed by the standard library."""
    if data[:2] == b"\x1f\x8b":
        return gzip.decompress(data)
    if data[:3] == b"BZh":
        return bz2.decompress(data)
    if data[:4] == b"\xfd7zX":
        return lzma.decompress(data)
    return zstd.decompress(data) if data[:4] == b"\x28\xb5\x2f\xfd" else data


def _readable(name: str) -> str:
    """The library keeps bytes that are not UTF-8; we read them as Latin-1."""
    raw = name.encode("utf-8", "surrogateescape")
    return raw.decode("utf-8") if name.isprintable() else raw.decode("latin-1")


def files_of(reader: ArchiveReader) -> dict[str, bytes]:
    return contents(reader, [Kind.FILE])


def agrees(reader: ArchiveReader, theirs: tarfile.TarFile) -> int:
    """Compare entry by entry with the standard library; gives how many there are."""
    members = theirs.getmembers()
    ours = list(reader.catalog)
    assert [e.path.rstrip("/") for e in ours] == [_readable(m.name).rstrip("/") for m in members]
    content = files_of(reader)
    for entry, member in zip(ours, members, strict=True):
        kinds = {
            Kind.FILE: member.isreg(),
            Kind.DIR: member.isdir(),
            Kind.LINK: member.issym(),
            Kind.HARD: member.islnk(),
        }
        assert kinds.get(entry.kind, True)
        assert entry.mtime_ns // 10**9 == int(member.mtime // 1)
        assert entry.mode == member.mode & 0o7777
        if entry.kind in (Kind.LINK, Kind.HARD):
            assert reader.link_target(entry.row) == member.linkname
        if entry.kind == Kind.FILE:
            assert entry.size == member.size
            if [m.name for m in members].count(member.name) == 1:
                assert content[entry.path] == theirs.extractfile(member).read()
    return len(ours)


@pytest.mark.parametrize(("fmt", "level"), [(fmt, level) for fmt in FORMATS for level in (1, rounds(6, 8))])
def test_what_we_write_the_standard_library_reads_and_comes_back(tmp_path: Path, fmt: str, level: int) -> None:
    tree = make_tree(tmp_path)
    os.link(tree / "plain.txt", tree / "zweiter Name ü")
    (tree / ("long " * 30)).mkdir()
    (tree / ("long " * 30) / ("name " * 40)).write_bytes(b"far")
    (tree / "far link").symlink_to("x/" * 80 + "y")
    os.utime(tree / "empty", (-5, -5))
    with (tree / "sparse").open("wb") as out:
        out.seek(3_000_000)
        out.write(b"in the middle")
        out.truncate(9_000_000)
    before = snapshot(tree)
    made = [tmp_path / f"{workers}.{fmt}" for workers in (1, 3)]
    for workers, archive in zip((1, 3), made, strict=True):
        assert not pack_to(archive, [tree], level=level, fmt=fmt, workers=workers).issues
    assert len({archive.read_bytes() for archive in made}) == 1
    with tarfile.open(fileobj=io.BytesIO(_plain(made[0].read_bytes()))) as theirs:
        reader = open_archive(made[0])
        assert reader.info.id == fmt
        assert agrees(reader, theirs) == len(before) + 1
        reader.close()
    outcome = unpack_to(made[1], tmp_path / "out")
    assert not outcome.issues
    after = snapshot(tmp_path / "out" / "tree")
    assert after == before
    there = tmp_path / "out" / "tree"
    assert (there / "plain.txt").stat().st_ino == (there / "zweiter Name ü").stat().st_ino
    assert (there / "sparse").stat().st_blocks * 512 < 3_000_000


def test_owners_are_kept_only_when_asked(tmp_path: Path) -> None:
    (tmp_path / "a").touch()
    from rundlet.core.model.format_info import WriteOptions

    for owners in (False, True):
        target = tmp_path / f"{owners}.tar"
        pack(
            plan_pack(
                [tmp_path / "a"], target=target, info=detect.by_id("tar").info, options=WriteOptions(0, owners=owners)
            )
        )
        with tarfile.open(target) as theirs:
            assert bool(theirs.getmembers()[0].uname) == owners


@pytest.mark.parametrize("fmt", [tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT])
def test_what_the_standard_library_writes_we_read(tmp_path: Path, fmt: int) -> None:
    tree = make_tree(tmp_path)
    os.link(tree / "plain.txt", tree / "second")
    names = {"short": b"1", "prefix/" * 15 + "name": b"2"}
    if fmt != tarfile.USTAR_FORMAT:
        names |= {"n" * 300: b"3", "größe 川": b"4"}
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=fmt) as theirs:
        theirs.add(tree, "tree", filter=None if fmt != tarfile.USTAR_FORMAT else _ascii_only)
        for name, data in names.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(data), 1_700_000_000
            theirs.addfile(info, io.BytesIO(data))
        if fmt != tarfile.USTAR_FORMAT:
            link = tarfile.TarInfo("far")
            link.type, link.linkname = tarfile.SYMTYPE, "t/" * 90
            big = tarfile.TarInfo("long ago")
            big.mtime = -100_000
            theirs.addfile(link)
            theirs.addfile(big)
    for data in (out.getvalue(), gzip.compress(out.getvalue()), lzma.compress(out.getvalue(), lzma.FORMAT_ALONE)):
        with tarfile.open(fileobj=io.BytesIO(out.getvalue())) as theirs:
            assert agrees(open_source(MemorySource(data, "x")), theirs) > 10


def _ascii_only(info: tarfile.TarInfo) -> tarfile.TarInfo | None:
    return info if info.name.isascii() else None


def test_old_and_rare_headers() -> None:
    data = rare_tar()
    reader = open_source(MemorySource(data, "x.tar"))
    assert not reader.notices
    entries = {e.path: e for e in reader.catalog}
    content = files_of(reader)
    assert entries["v7 folder/"].kind == Kind.DIR
    assert content["v7 file"] == b"abc"
    assert entries["ü signed"].kind == Kind.FILE
    assert entries["far future"].mtime_ns == (1 << 33) * 10**9
    assert content["gnu sparse"] == bytes(1024) + b"xyz" + bytes(3069) + b"uv" + bytes(5000 - 4098)
    assert content["real!"] == b"ab" + bytes(5996) + b"yz"
    assert content["old map"] == bytes(1000) + b"1234" + bytes(996)
    assert content["map 0.1"] == bytes(1000) + b"1234" + bytes(986) + b"5" + bytes(9)
    assert entries["with global"].mtime_ns == 123456789 * 10**9
    assert entries["pipe"].kind == Kind.OTHER
    assert content["unknown type"] == b"ok"


def test_links_stay_inside_and_share_their_file(tmp_path: Path) -> None:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as theirs:
        for name, kind, target in [
            ("file", tarfile.REGTYPE, ""),
            ("again", tarfile.LNKTYPE, "file"),
            ("outside", tarfile.LNKTYPE, "/etc/passwd"),
            ("upwards", tarfile.LNKTYPE, "../../secret"),
            ("sym", tarfile.SYMTYPE, "file"),
            ("evil", tarfile.SYMTYPE, "/etc"),
            ("evil/passwd", tarfile.REGTYPE, ""),
            ("sym/in", tarfile.REGTYPE, ""),
        ]:
            info = tarfile.TarInfo(name)
            info.type, info.linkname, info.mode = kind, target, 0o644
            info.size = 4 if kind == tarfile.REGTYPE else 0
            theirs.addfile(info, io.BytesIO(b"data"))
    archive = tmp_path / "x.tar"
    archive.write_bytes(out.getvalue())
    outcome = unpack_to(archive, tmp_path / "out")
    assert sorted(i.item for i in outcome.problems) == ["evil", "evil/passwd", "outside", "sym/in", "upwards"]
    assert (tmp_path / "out" / "file").stat().st_nlink == 2
    assert (tmp_path / "out" / "sym").read_bytes() == b"data"
    reader = open_archive(archive)
    unpack(plan_unpack(reader, np.array([1]), into=tmp_path / "alone"), reader)
    reader.close()
    assert (tmp_path / "alone" / "again").read_bytes() == b"data"


def test_links_between_folders_deeper_than_are_held_open(tmp_path: Path) -> None:
    names = [f"{'/'.join(step * 90)}/f" for step in "abc"]
    with tarfile.open(tmp_path / "x.tar", "w") as theirs:
        for name in names:
            info = tarfile.TarInfo(name)
            if name == names[0]:
                info.size = 4
                theirs.addfile(info, io.BytesIO(b"data"))
            else:
                info.type, info.linkname = tarfile.LNKTYPE, names[0]
                theirs.addfile(info)
    assert not unpack_to(tmp_path / "x.tar", tmp_path / "out").problems
    assert len({(tmp_path / "out" / name).stat().st_ino for name in names}) == 1


@at_length_too
def test_foreign_tars_agree_with_the_standard_library(tmp_path: Path) -> None:
    compared = 0
    found = foreign_archives([".tar", ".tgz", ".crate"]) + [
        p for p in foreign_archives([".gz", ".xz", ".bz2"], 400) if ".tar." in p.name
    ]
    for path in found:
        try:
            theirs = tarfile.open(path)  # noqa: SIM115
            theirs.getmembers()
        except (tarfile.TarError, OSError, EOFError):
            continue
        with theirs:
            reader = open_archive(path)
            compared += agrees(reader, theirs)
            reader.close()
    assert compared > 30


@at_length_too
def test_foreign_lone_files_and_package_members(tmp_path: Path) -> None:
    lone = [p for p in foreign_archives([".gz"], 60) if ".tar." not in p.name]
    for path in lone:
        reader = open_archive(path)
        assert b"".join(files_of(reader).values()) == gzip.decompress(path.read_bytes())
        reader.close()
    for package in sorted(Path("/var/cache/apt/archives").glob("*.deb"))[:6]:
        for name, data in _ar_members(package.read_bytes()).items():
            if name.startswith(("control.tar", "data.tar")):
                reader = open_source(MemorySource(data, name))
                with tarfile.open(fileobj=io.BytesIO(_plain(data))) as theirs:
                    assert agrees(reader, theirs) >= 1


def _ar_members(data: bytes) -> dict[str, bytes]:
    """The members of a package: headers of 60 bytes with the size in decimal digits."""
    members, at = {}, 8
    while at + 60 <= len(data):
        size = int(data[at + 48 : at + 58])
        members[data[at : at + 16].decode().strip().rstrip("/")] = data[at + 60 : at + 60 + size]
        at += 60 + size + size % 2
    return members


def test_several_members_streams_and_padding() -> None:
    plain = io.BytesIO()
    with tarfile.open(fileobj=plain, mode="w") as theirs:
        info = tarfile.TarInfo("a")
        info.size = 300_000
        theirs.addfile(info, io.BytesIO(os.urandom(300_000)))
    data = plain.getvalue()
    half = len(data) // 2
    cases = {
        "gz": gzip.compress(data[:half]) + gzip.compress(data[half:]) + bytes(100),
        "bz2": bz2.compress(data[:half]) + bz2.compress(data[half:]),
        "xz": lzma.compress(data[:half]) + bytes(8) + lzma.compress(data[half:], preset=0),
        "zst": zstd.compress(data[:half]) + b"\x51\x2a\x4d\x18\x03\0\0\0abc" + zstd.compress(data[half:]),
        "lzma": lzma.compress(data, lzma.FORMAT_ALONE),
    }
    for packing in PACKINGS:
        if packing.id in cases:
            notes = Notes()
            source = MemorySource(cases[packing.id], "x")
            assert b"".join(decoded(source, packing, notes=notes)) == data, packing.id
            assert not notes.trailing
            assert len(notes.points) == (
                1 if packing.id in ("lzma", "bz2", "xz") else 2
            )  # blocks count from a megabyte on
            reader = open_source(source)
            assert reader.info.id == f"tar.{packing.id}"
            assert len(files_of(reader)["a"]) == 300_000
    reader = open_source(MemorySource(cases["bz2"] + b"junk", "x"))
    assert "4 bytes after its end" in issue_line(reader.notices[0])


def test_compress_and_lone_files(tmp_path: Path) -> None:
    if _compress_available():
        data = b"the brook was clear today " * 9000 + os.urandom(3000) + b"herons " * 4000
        packed = subprocess.run(["compress", "-c"], input=data, capture_output=True, check=True).stdout
        assert b"".join(decoded(MemorySource(packed, "x"), next(p for p in PACKINGS if p.id == "Z"))) == data
    for name, data in {
        "table.csv.gz": gzip.compress(b"a,b\n" * 999, mtime=1_600_000_000),
        "t.bz2": bz2.compress(b"a,b\n" * 999),
        "t.xz": lzma.compress(b"a,b\n" * 999),
        "t.zst": zstd.compress(b"a,b\n" * 999),
        "odd": gzip.compress(b"a,b\n" * 999),
    }.items():
        (tmp_path / name).write_bytes(data)
        reader = open_archive(tmp_path / name)
        (entry,) = reader.catalog
        assert entry.path == (name.rpartition(".")[0] or name)
        assert entry.size == 3996
        reader.close()
        unpack_to(tmp_path / name, tmp_path / "out" / name)
        assert (tmp_path / "out" / name / entry.path).read_bytes() == b"a,b\n" * 999
    assert int((tmp_path / "out" / "table.csv.gz" / "table.csv").stat().st_mtime) == 1_600_000_000


def _compress_available() -> bool:
    import shutil

    return shutil.which("compress") is not None


def _sample() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as theirs:
        for name, data in {"folder/ü": b"text " * 90, "b": os.urandom(700), "n" * 120: b"z"}.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            theirs.addfile(info, io.BytesIO(data))
    return out.getvalue()[:6144]


SAMPLE = _sample()
SAMPLES = {
    "tar": SAMPLE,
    "gz": gzip.compress(SAMPLE),
    "bz2": bz2.compress(SAMPLE),
    "xz": lzma.compress(SAMPLE),
    "zst": zstd.compress(SAMPLE),
    "lzma": lzma.compress(SAMPLE, lzma.FORMAT_ALONE),
}
GOOD = files_of(open_source(MemorySource(SAMPLE, "s")))


def _survives(data: bytes, *, checked: bool) -> None:
    try:
        reader = open_source(MemorySource(data, "s"))
        found = files_of(reader)
    except RundletError as error:
        assert str(error).endswith(".")
        return
    for name, content in found.items():
        if (
            checked
            and name in GOOD
            and not content.startswith(b"!")
            and not reader.notices
            and len(reader.catalog) == len(GOOD)
        ):
            assert content == GOOD[name]


@pytest.mark.parametrize("packing", SAMPLES)
def test_cut_anywhere(packing: str) -> None:
    data = SAMPLES[packing]
    for length in range(0, len(data), 7 if packing == "tar" else 3):
        _survives(data[:length], checked=packing in ("gz", "bz2", "xz"))


@pytest.mark.parametrize("packing", SAMPLES)
@example(at=225, change=225, more=1007)  # once left the columns of a catalog with different lengths
@given(at=st.integers(0, 10_000), change=st.integers(1, 255), more=st.integers(0, 10_000))
@settings(max_examples=120)
def test_flipped_anywhere(packing: str, at: int, change: int, more: int) -> None:
    data = bytearray(SAMPLES[packing])
    data[at % len(data)] ^= change
    data[more % len(data)] ^= change >> 1
    _survives(bytes(data), checked=packing in ("xz", "bz2"))


def _words(count: int) -> bytes:
    rng = np.random.default_rng(count)
    return b" ".join(rng.choice([b"brook", b"weir", b"ford", b"heron", b"%d" % count], count))


FOREIGN: dict[str, Callable[[bytes], bytes]] = {
    "one gzip member": gzip.compress,
    "gzip members": lambda data: b"".join(map(gzip.compress, _stretches(data))),
    "xz in blocks": lambda data: xz_in_blocks(_stretches(data)),
}


def _stretches(data: bytes) -> list[bytes]:
    return [data[at : at + 300_000] for at in range(0, len(data), 300_000)]


@at_length_too
@pytest.mark.parametrize("packing", [*(packing.id for packing in PACKINGS if packing.id in PACKERS), *FOREIGN])
def test_nothing_damaged_stands_under_its_own_name(tmp_path: Path, packing: str) -> None:
    """A checksum over much more than one entry is known to fail only when the entries were read."""
    datas = {f"{number:02}": _words(9_000 + number) for number in range(40)}
    for name, data in datas.items():
        (tmp_path / name).write_bytes(data)
    target = tmp_path / "x"
    fmt = "tar" if packing in FOREIGN else f"tar.{packing}"
    pack_to(target, [tmp_path / name for name in datas], fmt=fmt, level=1)
    whole = FOREIGN.get(packing, bytes)(target.read_bytes())
    rng = np.random.default_rng(5)
    came_in_all = doubted_in_all = 0
    tries = rounds(6, 25)
    for round_ in range(tries):
        bent = bytearray(whole)
        bent[rng.integers(20, len(bent))] ^= 1 << rng.integers(8)
        target.write_bytes(bent)
        into = tmp_path / f"out{round_}"
        reader = open_archive(target)
        outcome = unpack(plan_unpack(reader, into=into), reader)
        checked = check(reader)
        reader.close()
        came = {path.name: path.read_bytes() for path in into.iterdir()}
        doubted = {name for name in came if name.endswith(" (may be damaged)")}
        assert {name: came[name] for name in came.keys() - doubted} == {
            name: datas[name] for name in came.keys() - doubted
        }
        assert checked.files == len(came) - len(doubted)
        about = [issue.item for issue in outcome.problems]
        assert all(name.removesuffix(" (may be damaged)") in about for name in doubted)
        assert about or came == datas
        came_in_all += len(came)
        doubted_in_all += len(doubted)
    assert came_in_all > tries * len(datas) / 4
    if packing in (
        "gzip members",
        "bz2",
        "xz in blocks",
    ):  # there is more than one checksum, so that most come out undoubted
        assert came_in_all - doubted_in_all > tries * len(datas) / 5
    assert doubted_in_all or packing == "bz2" or not AT_LENGTH  # whose blocks say it before they give anything out


def _frame(data: bytes) -> bytes:
    return zstd.compress(data, options={zstd.CompressionParameter.checksum_flag.value: 1})


def _stored_frame(data: bytes) -> bytes:
    """A zstd frame of one raw block (RFC 8878, section 3.1.1)."""
    return b"\x28\xb5\x2f\xfd\0\x50" + (len(data) << 3 | 1).to_bytes(3, "little") + data


IN_PIECES: dict[str, Callable[[bytes], bytes]] = {
    "gzip members": FOREIGN["gzip members"],
    "bzip2 blocks": lambda data: bz2.compress(data, 1),
    "xz streams": lambda data: b"".join(map(lzma.compress, _stretches(data))),
    "xz in blocks": FOREIGN["xz in blocks"],
    "zstd frames": lambda data: b"".join(map(_frame, _stretches(data))),
}


@at_length_too
@pytest.mark.parametrize("packing", IN_PIECES)
@pytest.mark.parametrize("harm", ["bits", "the beginning", "a part"])
def test_behind_damage_the_list_goes_on(tmp_path: Path, packing: str, harm: str) -> None:
    """What can be decoded behind it comes out, under names of its own and not those of an archive within."""
    rng = np.random.default_rng(8)
    inner = IN_PIECES[packing](_tar_of({"inside": rng.bytes(700_000)}))
    datas = {f"{number:02}": _words(3_000 + number) + rng.bytes(20_000) for number in range(60)}
    datas |= {"20": inner, "40": inner + b"."}
    whole = IN_PIECES[packing](_tar_of(datas))
    size = len(whole) // 9
    for round_ in range(1 if harm == "the beginning" else rounds(1, 4)):
        data = bytearray(whole)
        for at in rng.integers(20, len(data) * 8 // 10, 1 + round_ % 2):  # not in the last piece
            data[20 if harm == "the beginning" else at] ^= 1 << int(rng.integers(8))
        folder = tmp_path / f"{round_}"
        folder.mkdir()
        if harm == "a part":
            for number in range(10):
                if number != 1 + round_:
                    (folder / f"x.{number + 1:03}").write_bytes(whole[number * size : (number + 1) * size])
        else:
            (folder / "x.001").write_bytes(data)
        reader = open_archive(folder / "x.001")
        assert any("items may be missing from the file list" in issue_line(notice) for notice in reader.notices)
        unpack(plan_unpack(reader, into=folder / "out"), reader)
        assert check(reader).files >= len(datas) - 24
        reader.close()
        came = {path.name: path.read_bytes() for path in (folder / "out").iterdir()}
        right = {name for name, content in came.items() if datas.get(name) == content}
        assert all(name.endswith(" (may be damaged)") for name in came.keys() - right), came.keys() - right
        assert {name.removesuffix(" (may be damaged)") for name in came} <= datas.keys()
        assert len(right) >= len(datas) - 24


@pytest.mark.parametrize(
    ("pack_one", "at", "flip"), [(partial(gzip.compress, compresslevel=0), 10, 6), (_stored_frame, 4, 8)]
)
def test_members_within_a_damaged_one_are_not_the_archives_own(
    pack_one: Callable[[bytes], bytes], at: int, flip: int
) -> None:
    """A file that was packed as it is looks like what follows on the damage, yet does not lead to the end."""
    inner = _tar_of({"inside": np.random.default_rng(1).bytes(40_000)})
    members = [pack_one(inner[at : at + 20_000]) for at in range(0, len(inner), 20_000)]
    datas = {"first": bytes(300), "inner": b"".join(members), "behind": bytes(900)}
    plain = _tar_of(datas)
    cuts = [0, plain.index(b"inner"), plain.index(b"behind"), len(plain)]
    outer = [bytearray(pack_one(plain[a:b])) for a, b in pairwise(cuts)]
    assert members[0] in outer[1]
    outer[1][at] ^= flip
    for cut_off in (b"", members[0][: 3 + (pack_one is _stored_frame)]):  # the beginning of one more
        reader = open_source(MemorySource(b"".join(outer) + cut_off, "s"))
        assert contents(reader) == {name: datas[name] for name in ("first", "behind")}
    outer[2][at] ^= flip
    reader = open_source(MemorySource(b"".join(outer) + cut_off, "s"))
    assert list(contents(reader)) == ["first"]


def test_what_asks_for_too_much_within_damage_is_not_gone_on_from() -> None:
    wide = bytearray(_stored_frame(bytes(100)))
    wide[5] = 0xB0  # a window of 4 GiB (RFC 8878, section 3.1.1.1.2)
    datas = {"first": bytes(300), "wide": bytes(wide), "behind": bytes(900)}
    plain = _tar_of(datas)
    cuts = [0, plain.index(b"wide"), plain.index(b"behind"), len(plain)]
    outer = [bytearray(_stored_frame(plain[a:b])) for a, b in pairwise(cuts)]
    outer[1][4] ^= 8
    reader = open_source(MemorySource(b"".join(outer), "s"))
    assert contents(reader) == {name: datas[name] for name in ("first", "behind")}


def test_a_tar_with_nothing_in_it_is_one() -> None:
    out = io.BytesIO()
    tarfile.open(fileobj=out, mode="w").close()
    for data, fmt in ((out.getvalue(), "tar"), (gzip.compress(out.getvalue()), "tar.gz")):
        reader = open_source(MemorySource(data, "x"))
        assert (reader.info.id, len(reader.catalog), reader.notices) == (fmt, 0, [])
        reader.close()


@at_length_too
@pytest.mark.parametrize(
    ("case", "seed"), [("to the end", 1), ("with members behind", 1), ("of a small one", 0), ("of a small one", 20)]
)
def test_zeros_are_not_taken_for_data(case: str, seed: int) -> None:
    """A file that was never filled to its end, or lost a stretch, may decode on; what comes of it is doubted."""
    rng = np.random.default_rng(seed)
    if case == "of a small one":
        datas = {}
        for number in range(4):  # as it needs luck to decode on: words or noise, of a length around a block's
            words = (b"brook weir %d " % number * 50)[:513]
            datas[f"d{number}/{number:03}"] = words if rng.random() < 0.5 else rng.bytes(int(rng.choice([1, 511, 513])))
    else:
        tables = [b"\n".join(b"%d,%.2f" % (i, v) for i, v in enumerate(rng.normal(5, 1, 3000))) for _ in range(20)]
        datas = {f"{number:02}": table for number, table in enumerate(tables)} | {"20": b"end"}
    plain = _tar_of(datas)
    cut = plain.rindex(b"20\0\0") if case == "with members behind" else len(plain)
    first, second = gzip.compress(plain[:cut]), gzip.compress(plain[cut:]) if plain[cut:] else b""
    places = (
        range(90, len(first) - 8, rounds(2, 1))
        if case == "of a small one"
        else range(2_000, len(first) - 4_000, rounds(2_800, 700))
    )
    doubted = 0
    for at in places:
        reader = open_source(MemorySource(first[:at] + bytes(min(len(first) - at, 4_000)) + second, "s"))
        unsure = {reader.catalog.path(row) for row in reader.doubtful}
        doubted += len(unsure)
        for name, content in contents(reader).items():
            assert content == datas.get(name) or content.startswith(b"!") or name in unsure, (at, name)
    assert doubted


def _tar_of(datas: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as theirs:
        for name, data in datas.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            theirs.addfile(info, io.BytesIO(data))
    return out.getvalue()


@pytest.mark.parametrize("packing", [bytes, gzip.compress])
def test_one_damaged_header_hides_one_entry(packing: Callable[[bytes], bytes]) -> None:
    inner = bytes(1024) + _tar_of({"inner": b""})
    datas = {str(number): bytes([number]) * 700 * number for number in range(9)} | {"5": inner}
    whole = _tar_of(datas)
    with tarfile.open(fileobj=io.BytesIO(whole)) as theirs:
        headers = [member.offset for member in theirs.getmembers()]
    for number in range(8):
        for field in (3, 108, 131, 150):
            if field == 131 and number == 5:
                continue  # where its data ends can't be told from an end of entries within it
            data = bytearray(whole)
            data[headers[number] + field] ^= 1
            reader = open_source(MemorySource(packing(bytes(data)), "s"))
            assert contents(reader) == {name: datas[name] for name in datas if name != str(number)}, (number, field)
            assert "items are missing from the file list" in issue_line(reader.notices[0])


class _Counting(MemorySource):
    reads = 0

    def read_at(self, offset: int, length: int) -> bytes:
        self.reads += 1
        return super().read_at(offset, length)


@pytest.mark.parametrize("size", [b"00000000000\0", b"no number!!\0"])
def test_headers_within_an_entry_that_lost_bytes(size: bytes) -> None:
    """However many of them lead nowhere, each is followed once, whatever it says."""
    nested = bytearray(_tar_of({str(number): b"" for number in range(3000)}))
    nested[124:136], nested[148:156] = size, b"        "
    nested[148:156] = b"%06o\0 " % sum(nested[:512])
    whole = _tar_of({"outer": bytes(nested) + bytes(4096), "behind": b"content" * 900})
    source = _Counting(whole[: len(nested)] + whole[len(nested) + 1000 :], "s")
    reader = open_source(source)
    found = contents(reader)
    assert found["behind"] == b"content" * 900 and found["outer"] != bytes(nested) + bytes(4096)
    assert source.reads < 20_000


def test_damage_ends_the_list_and_is_said() -> None:
    data = bytearray(SAMPLE)
    reader = open_source(MemorySource(bytes(data[:-3000]), "s"))
    assert reader.notices[0].problem
    assert "the file list ends after" in issue_line(reader.notices[0])
    for cut in (9, 700):
        reader = open_source(MemorySource(gzip.compress(SAMPLE)[:-cut], "s"))
        assert "can't be checked, as their checksum is missing" in issue_line(reader.notices[0])
        assert not reader.doubtful  # there is no sign of damage
    broken = bytearray(gzip.compress(SAMPLE * 1))
    broken[-6] ^= 1
    found = files_of(open_source(MemorySource(bytes(broken), "s")))
    assert found["folder/ü"].startswith((b"text", b"!"))
    assert is_header(SAMPLE) and not is_header(bytes(512))
    assert not checksums_fit(np.zeros((1, 512), np.uint8))[0]


def test_noise_is_no_header() -> None:
    """The checksum fits some blocks of any compressed file, as the sum of signed bytes is small."""
    noise = np.random.default_rng(1).integers(0, 256, (100_000, 512)).astype(np.uint8)
    fitting = noise[checksums_fit(noise)]
    assert len(fitting) > 10
    assert not any(is_header(block.tobytes()) for block in fitting)
    for block in fitting[:3]:
        with pytest.raises(UnknownFormat):
            open_source(MemorySource(block.tobytes() * 4, "x"))
    old = bytearray(SAMPLE[:512])
    old[257:265] = bytes(8)  # what was written before there was a magic
    old[148:156] = b"        "
    old[148:156] = b"%06o\0 " % sum(old)
    assert is_header(bytes(old))


def test_a_listing_is_kept_and_used_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cache, "INDEX_FROM", 1)
    tree = make_tree(tmp_path)
    (tree / "noise").write_bytes(os.urandom(20 << 20))
    archive = tmp_path / "x.tar.gz"
    pack_to(archive, [tree], fmt="tar.gz", level=1)
    first = open_archive(archive)
    assert isinstance(first, TarReader)
    assert len(first.index.points) >= 5
    walked = []
    monkeypatch.setattr("rundlet.core.formats.tar.list_packed", lambda *a: walked.append(a) or first.index)
    second = open_archive(archive)
    assert not walked
    assert list(second.catalog) == list(first.catalog)
    assert isinstance(second, TarReader) and second.index.links == first.index.links
    row = next(e.row for e in second.catalog if e.path == "tree/plain.txt")
    (unit,) = second.units(np.array([row]))
    assert unit.cost < 5 << 20  # not from the beginning
    assert b"".join(next(iter(unit.stream()))[1]) == (tree / "plain.txt").read_bytes()
    assert len(list(second.units(np.arange(len(second.catalog))))) > 1
    for reader in (first, second):
        reader.close()
    monkeypatch.undo()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(cache, "INDEX_FROM", 1)
    (kept,) = cache.cache_folder().iterdir()
    kept.write_bytes(b"damaged")
    third = open_archive(archive)
    assert list(third.catalog) == list(first.catalog)
    third.close()
    archive.touch()
    open_archive(archive, Opening(limits=Limits(index_bytes=10))).close()
    assert not list(cache.cache_folder().iterdir())


def test_a_listing_is_never_taken_for_that_of_another_archive(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cache, "INDEX_FROM", 1)
    archive = tmp_path / "x.tar.gz"
    how: dict[str, Any] = {"target": archive, "info": detect.by_id("tar.gz").info, "level": 0}
    packed = []
    for sizes in ((60_000, 40_000), (40_000, 60_000)):
        for name, size in zip("ab", sizes, strict=True):
            (tmp_path / name).write_bytes(os.urandom(size))
        plan = plan_pack([tmp_path / "a", tmp_path / "b"], **how, on_clash=PackClash.REPLACE, read_back=True)
        assert not pack(plan).issues
        packed.append(archive.read_bytes())
    assert len(packed[0]) == len(packed[1])
    assert not cache.cache_folder().exists()  # what has no name yet can't be told from others
    walk = listing.list_packed

    def replaced_meanwhile(*args: Any) -> Any:
        archive.with_name("new").write_bytes(packed[0])
        archive.with_name("new").replace(archive)
        return walk(*args)

    with monkeypatch.context() as patch:
        patch.setattr("rundlet.core.formats.tar.list_packed", replaced_meanwhile)
        open_archive(archive).close()
    for _ in range(2):
        reader = open_archive(archive)
        assert reader.catalog.size.tolist() == [60_000, 40_000]
        reader.close()


@pytest.mark.parametrize("packing", ["gz", "bz2", "xz"])
def test_one_entry_out_of_a_foreign_stream_does_not_begin_at_the_beginning(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, packing: str
) -> None:
    monkeypatch.setattr(cache, "INDEX_FROM", 1)
    monkeypatch.setattr("rundlet.core.formats.tar.first_reading.INDEX_FROM", 1)
    small = 1 if packing == "gz" else 4  # within gzip, places to begin at are far from each other
    datas = {f"f{i}": os.urandom(700_000 // small) + bytes(1_200_000 // small) for i in range(24)}
    plain = io.BytesIO()
    with tarfile.open(fileobj=plain, mode="w") as theirs:
        for name, data in datas.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            theirs.addfile(info, io.BytesIO(data))
    archive = tmp_path / f"foreign.tar.{packing}"
    step = 4_000_000 // small
    in_blocks = [plain.getvalue()[at : at + step] for at in range(0, len(plain.getvalue()), step)]
    write: dict[str, Callable[[list[bytes]], bytes]] = {
        "gz": lambda p: gzip.compress(b"".join(p), 1),
        "bz2": lambda p: bz2.compress(b"".join(p)),
        "xz": xz_in_blocks,
    }
    archive.write_bytes(write[packing](in_blocks))
    for _ in range(2):
        reader = open_archive(archive)
        assert isinstance(reader, TarReader) and len(reader.index.points) >= 4
        for row in (23, 9, 0):
            (unit,) = reader.units(np.array([row]))
            assert unit.cost < 14_000_000 // small
            assert b"".join(next(iter(unit.stream()))[1]) == datas[f"f{row}"]
        assert files_of(reader) == datas
        reader.close()


@pytest.mark.parametrize("room", ["none", "memory", "disk", "full disk"])
def test_what_was_decoded_for_the_list_is_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, room: str) -> None:
    """In memory or in a file without a name, for all who have it open; else it is decoded again."""
    kept = "rundlet.core.formats.tar.decoded_cache"
    monkeypatch.setattr(f"{kept}.KEPT_PLAIN", 64 << 20 if room == "memory" else 1000)
    monkeypatch.setattr(f"{kept}.KEPT_ON_DISK", 64 << 20 if "disk" in room else 0)
    monkeypatch.setattr("rundlet.core.formats.tar.index.INDEX_FROM", 0)
    tree = tmp_path / "tree"
    tree.mkdir()
    for name in ("a", "b"):
        (tree / name).write_bytes(os.urandom(400_000))
    pack_to(tmp_path / "x.tar.xz", [tree], fmt="tar.xz", level=1)
    begun: list[object] = []
    real = decoded
    monkeypatch.setattr("rundlet.core.formats.tar.reader.decoded", lambda *a, **k: begun.append(a) or real(*a, **k))
    with monkeypatch.context() as failing:
        if room == "full disk":
            failing.setattr(f"{kept}.os.write", lambda *_: os.pwrite(-1, b"", 0))
        reader = open_archive(tmp_path / "x.tar.xz")
    beside = open_archive(tmp_path / "x.tar.xz")
    for number, one in enumerate((reader, beside)):
        outcome = unpack(plan_unpack(one, into=tmp_path / f"{number}"), one)
        assert not outcome.issues and snapshot(tmp_path / f"{number}" / "tree") == snapshot(tree)
        assert bool(begun) == (room in ("none", "full disk") or (number == 1 and room == "memory"))
    reader.close()
    del reader, one
    assert snapshot(tree) == snapshot(unpack_all(beside, tmp_path / "2") / "tree")  # whoever has it open keeps it there
    beside.close()
    del beside
    begun.clear()
    later = open_archive(tmp_path / "x.tar.xz")
    unpack_all(later, tmp_path / "3")
    later.close()
    assert begun
    folder = tmp_path / "cache" / "rundlet"
    assert [path.suffix for path in folder.rglob("*") if path.is_file()] == [".npz"]
    held = [os.readlink(link) for link in Path("/proc/self/fd").iterdir() if link.is_symlink()]
    assert not [place for place in held if place.startswith(str(folder))]


def unpack_all(reader: ArchiveReader, into: Path) -> Path:
    unpack(plan_unpack(reader, into=into), reader)
    return into


def test_growing_and_shrinking_files_are_said(tmp_path: Path) -> None:
    folder = tmp_path / "f"
    folder.mkdir()
    for name in "abc":
        (folder / name).write_bytes(b"x" * 1000)
    plan = plan_pack([folder], target=tmp_path / "x.tar", info=detect.by_id("tar").info)
    (folder / "a").unlink()
    (folder / "b").write_bytes(b"y" * 5000)
    outcome = pack(plan)
    assert [issue_line(i) for i in outcome.problems] == ["f/a: could not be read (it is not there) and was left out"]
    with tarfile.open(tmp_path / "x.tar") as theirs:
        assert {m.name: m.size for m in theirs.getmembers()} == {"f": 0, "f/b": 5000, "f/c": 1000}
        assert stat.S_IMODE(theirs.getmember("f").mode) == 0o755
