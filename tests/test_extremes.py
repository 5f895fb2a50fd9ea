"""Any bytes give a result or one of our own errors: extreme numbers in every numeric field of every format."""

from __future__ import annotations

import itertools
import struct
import subprocess
import sys
import zlib
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from rundlet.core.errors import Corrupt, LimitExceeded, RundletError
from rundlet.core.formats.detect import open_archive, open_source
from rundlet.core.formats.sevenz import writer as seven_writer
from rundlet.core.fs.disk_space import disk_rules
from rundlet.core.model.entry import Kind
from rundlet.core.model.opening import Opening
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams.sources import MemorySource
from rundlet.core.text import LONGEST_MESSAGE
from rundlet.core.work.checker import check
from rundlet.core.work.extractor import unpack
from support import Raw, contents, pack_to, raw_zip, unpack_to

NUMBERS = [0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 1 << 62, (1 << 63) - 2, (1 << 63) - 1, 1 << 63, (1 << 64) - 1]
LITTLE = 1 << 30  # bytes; what says that it is larger is planned and not unpacked


def _takes(data: bytes, place: Path) -> int:
    """List, check, plan and unpack; how many entries there were, or -1 for one of our errors."""
    try:
        reader = open_source(MemorySource(data, "x"), Opening())
        try:
            ArchiveTree(reader.catalog)
            count = len(list(reader.catalog))
            check(reader, workers=1)
            plan = plan_unpack(reader, into=place)
            if plan.size < LITTLE:
                unpack(plan, reader, workers=1)
            return count
        finally:
            reader.close()
    except RundletError as error:
        assert len(str(error)) <= LONGEST_MESSAGE
        return -1


def _tar_block(**fields: bytes) -> bytes:
    """A header of an entry of three bytes, with some of its fields as given and a checksum that fits."""
    places = {"mode": 100, "uid": 108, "gid": 116, "size": 124, "mtime": 136, "kind": 156, "sparse": 386, "real": 483}
    block = bytearray(512)
    block[0:8] = b"file.txt"
    usual = {"mode": b"0000644\0", "size": b"00000000003\0", "mtime": b"00000000001\0", "kind": b"0"}
    for name, value in {**usual, **fields}.items():
        block[places[name] : places[name] + len(value)] = value
    block[257:265] = b"ustar  \0" if fields.get("kind") == b"S" else b"ustar\x0000"
    block[148:156] = b" " * 8
    block[148:156] = b"%06o\0 " % sum(block)
    return bytes(block)


def _base_256(value: int, width: int) -> bytes:
    raw = (value % (1 << 8 * width)).to_bytes(width, "big")
    return raw if value < 0 else bytes([raw[0] | 0x80]) + raw[1:]


_DATA, _END = b"abc" + bytes(509), bytes(1024)
INTACT = _tar_block() + _DATA


def _tars() -> Iterator[tuple[str, bytes]]:
    for value in (*NUMBERS, -1, -(1 << 63), -(1 << 90), 1 << 90):
        for name, width in (("size", 12), ("mtime", 12), ("mode", 8), ("uid", 8)):
            if value.bit_length() <= 8 * width - 2:
                for kind in b"05SLxgV" if name == "size" else b"0":
                    block = _tar_block(**{name: _base_256(value, width), "kind": bytes([kind])})
                    yield f"{name} {value} {kind}", INTACT + block + _DATA + INTACT + _END
        for name in ("sparse", "real"):
            block = _tar_block(kind=b"S", **{name: _base_256(value, 12)})
            yield f"{name} {value}", INTACT + block + _DATA + _END
        for key, words in itertools.product(
            ("size", "mtime", "GNU.sparse.realsize", "GNU.sparse.map"), ("%d", "+%d", "0000%d", "%d.9999", "%d,%d")
        ):
            text = words % ((value,) * words.count("%"))
            yield f"{key}={text}", INTACT + _pax(key, text) + _tar_block() + _DATA + _END
    yield "very many digits", _pax("size", "9" * 5000) + _tar_block() + _DATA + _END


def _pax(key: str, value: str) -> bytes:
    rest = len(key) + len(value) + 3
    length = rest + len(str(rest + len(str(rest))))
    record = f"{length} {key}={value}\n".encode()
    return _tar_block(kind=b"x", size=b"%011o\0" % len(record)) + record + bytes(-len(record) % 512)


def test_numbers_of_tars(tmp_path: Path) -> None:
    """And what stands before them is delivered."""
    for words, data in _tars():
        count = _takes(data, tmp_path / "out")
        assert count >= (1 if data.startswith(INTACT) else 0), words


@pytest.mark.parametrize(
    ("size", "held"), [("0" * 22 + "3", True), ("+3", True), ("+", False), ("-3", False), ("3x", False), ("", True)]
)
def test_sizes_as_extended_headers_may_write_them(tmp_path: Path, size: str, held: bool) -> None:
    """Zeros in front and a plus sign are allowed; an empty value takes an attribute back."""
    (tmp_path / "x.tar").write_bytes(_pax("size", size) + _tar_block() + _DATA + _END)
    reader = open_archive(tmp_path / "x.tar")
    assert contents(reader) == ({"file.txt": b"abc"} if held else {})
    reader.close()


def test_numbers_of_zips(tmp_path: Path) -> None:
    whole = raw_zip([Raw(b"a", b"content", extra=struct.pack("<HHBI", 0x5455, 5, 1, 7)), Raw(b"b/c", b"more")])
    for width, code in ((2, "<H"), (4, "<I")):
        for at in range(0, len(whole) - width, 3):
            for value in (0, (1 << 8 * width) - 1, 1 << 8 * width - 1):
                _takes(whole[:at] + struct.pack(code, value) + whole[at + width :], tmp_path / "out")
    for value, count in itertools.product(NUMBERS, (1, 2, 3)):
        data = bytearray(
            raw_zip([Raw(b"a", extra=struct.pack("<HH", 1, 8 * count) + struct.pack("<Q", value) * count)])
        )
        central = data.index(b"PK\x01\x02")
        for place in (20, 24, 42)[:count]:
            data[central + place : central + place + 4] = b"\xff" * 4
        _takes(bytes(data), tmp_path / "out")


def _seven_with(header: bytes, whole: bytes) -> bytes:
    (at,) = struct.unpack_from("<Q", whole, 12)
    start = struct.pack("<QQI", at, len(header), zlib.crc32(header))
    return whole[:8] + struct.pack("<I", zlib.crc32(start)) + start + whole[32 : 32 + at] + header


@pytest.fixture
def seven(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[bytes, bytes]:
    """A 7z archive whose header is not packed, and that header."""
    monkeypatch.setattr(seven_writer.SevenWriter, "_encoded", lambda self, header, at: header)
    (tmp_path / "f").mkdir()
    (tmp_path / "f" / "a.txt").write_text("words " * 50)
    (tmp_path / "f" / "empty").touch()
    pack_to(tmp_path / "x.7z", [tmp_path / "f"], fmt="7z")
    whole = (tmp_path / "x.7z").read_bytes()
    at, size = struct.unpack_from("<QQ", whole, 12)
    return whole, whole[32 + at : 32 + at + size]


def test_numbers_of_7z(tmp_path: Path, seven: tuple[bytes, bytes]) -> None:
    whole, header = seven
    larger = (b"\xff" * 9, b"\xff" + b"\xff" * 7 + b"\x7f", b"\xff" + bytes(7) + b"\x80", b"\xf0" + b"\xff" * 4)
    for at in range(len(header)):
        for value in (0, 0x7F, 0xFF):
            _takes(_seven_with(header[:at] + bytes([value]) + header[at + 1 :], whole), tmp_path / "out")
        for number in larger:
            _takes(_seven_with(header[:at] + number + header[at + 1 :], whole), tmp_path / "out")


def test_a_header_can_not_claim_more_than_it_holds(tmp_path: Path, seven: tuple[bytes, bytes]) -> None:
    """Neither millions of entries without names in a few kilobytes, nor gigabytes that it would unpack to."""
    whole, _ = seven
    many = 200_000
    empty = b"\x0e" + _number(many // 8) + b"\xff" * (many // 8)
    names = b"\x01\x05" + _number(many) + empty + b"\x11" + _number(2 * many + 1) + bytes(2 * many + 1) + b"\0\0"
    with pytest.raises(Corrupt, match="without names"):
        open_source(MemorySource(_seven_with(names, whole), "x.7z"), Opening())
    huge = (
        b"\x17\x06\x00\x01\x09\x20\x00\x07\x0b\x01\x00\x01\x21\x21\x01\x18\x0c" + b"\xf0" + b"\x00\x00\x00\x7f\x00\x00"
    )
    with pytest.raises((LimitExceeded, RundletError)):
        open_source(MemorySource(_seven_with(huge, whole), "x.7z"), Opening())


def _number(value: int) -> bytes:
    return b"\xff" + struct.pack("<Q", value)


def test_a_link_target_is_no_longer_than_the_systems(tmp_path: Path) -> None:
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip([Raw(b"link", b"x" * 5000, mode=0o120777)]))
    reader = open_archive(archive)
    with pytest.raises(Corrupt, match="usable target"):
        reader.link_target(0)
    reader.close()


def test_a_file_and_a_folder_of_one_name(tmp_path: Path) -> None:
    """Both come out, whichever comes first; the second gets a number, with all that is in it."""
    for number, names in enumerate(([b"x", b"x/", b"x/a", b"x/y/b"], [b"x/a", b"x/y/b", b"x"])):
        archive = tmp_path / f"{number}.zip"
        archive.write_bytes(raw_zip([Raw(n, b"" if n.endswith(b"/") else n, mode=0) for n in names]))
        out = tmp_path / f"out {number}"
        unpack_to(archive, out)
        folder, file = ("x (2)", "x") if number == 0 else ("x", "x (2)")
        assert {str(p.relative_to(out)): p.read_bytes() for p in out.rglob("*") if p.is_file()} == {
            file: b"x",
            f"{folder}/a": b"x/a",
            f"{folder}/y/b": b"x/y/b",
        }


@pytest.mark.parametrize("stored", ["a/b", "./a/b", "a//b"])
@pytest.mark.parametrize("named", ["a/b", "./a/b", "a/./b"])
def test_hard_links_find_their_file_however_it_is_written(tmp_path: Path, stored: str, named: str) -> None:
    file, link = bytearray(_tar_block()), bytearray(_tar_block(kind=b"1", size=b"00000000000\0"))
    for block, place, words in ((file, 0, stored), (link, 0, "link"), (link, 157, named)):
        block[place : place + 100] = words.encode().ljust(100, b"\0")
    for block in (file, link):
        block[148:156] = b" " * 8
        block[148:156] = b"%06o\0 " % sum(block)
    (tmp_path / "x.tar").write_bytes(bytes(file) + _DATA + bytes(link) + _END)
    outcome = unpack_to(tmp_path / "x.tar", tmp_path / "out")
    assert not outcome.problems and (tmp_path / "out" / "link").read_bytes() == b"abc"


def test_very_deep_folders(tmp_path: Path) -> None:
    deep = "/".join(["d"] * 1500)
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(f"{deep}/f.txt".encode())]))
    assert not unpack_to(tmp_path / "x.zip", tmp_path / "out").problems
    reader = open_archive(tmp_path / "x.zip")
    assert ArchiveTree(reader.catalog).find(deep) is not None and np.all(reader.catalog.kind == Kind.FILE)
    reader.close()
    subprocess.run(
        ["rm", "-r", tmp_path / "out"], check=True
    )  # the language's own way of removing folders gives up on these


@pytest.mark.parametrize("folded", [False, True])
def test_planning_takes_as_long_as_a_tree_is_deep(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, folded: bool
) -> None:
    """Counted in calls: twice the depth takes about twice as many."""
    if folded:
        rules = replace(disk_rules(tmp_path), folds_case=True)
        monkeypatch.setattr("rundlet.core.plans.unpack_planner.disk_rules", lambda _: rules)

    def calls(depth: int) -> int:
        archive = tmp_path / f"{depth}.zip"
        folders = ["/".join(["d"] * count) for count in range(1, depth + 1)]
        archive.write_bytes(raw_zip([Raw(f"{folder}/f.txt".encode()) for folder in folders]))
        count = 0

        def note(frame: object, event: str, argument: object) -> None:
            nonlocal count
            count += 1

        with closing(open_archive(archive)) as reader:
            sys.setprofile(note)
            try:
                plan = plan_unpack(reader, into=tmp_path / "out")
            finally:
                sys.setprofile(None)
        assert len(plan.steps) == depth and not plan.issues
        return count

    assert calls(800) < 2.5 * calls(400)
