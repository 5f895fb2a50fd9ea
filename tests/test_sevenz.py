"""7z: what other writers made, what we write read by a second reader, hand-made rarities, and damage."""

from __future__ import annotations

import bz2
import hashlib
import lzma
import os
import random
import struct
import subprocess
import sys
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import inflate64
import numpy as np
import pyppmd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import second_reader
from rundlet.core.codecs import lzma2
from rundlet.core.codecs.branch import BRANCHES, filtered, unfiltered
from rundlet.core.codecs.four_stream import joined_streams
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import Corrupt, FormatError, LimitExceeded, PasswordNeeded, RundletError, WrongPassword
from rundlet.core.formats.detect import by_id, open_archive, open_source
from rundlet.core.formats.sevenz import fields
from rundlet.core.formats.sevenz.header import read_header
from rundlet.core.formats.sevenz.reader import SevenReader
from rundlet.core.formats.sevenz.records import EPOCH, METHODS, BindPair, Coder, Folder
from rundlet.core.formats.sevenz.writer import SevenWriter
from rundlet.core.limits import MIB, Limits
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.streams.sources import MemorySource
from rundlet.core.work.checker import check
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line
from support import AT_LENGTH, at_length_too, contents, foreign_archives, make_tree, rounds, snapshot

LIBRARY = Path(np.linalg._umath_linalg.__file__)  # a compiled program that is there wherever the tests are
IDS = {name: method for method, name in reversed(METHODS.items())}


def pack_seven(target: Path, items: list[Path], *, workers: int | None = None, part_size: int = 0, **how: Any) -> None:
    options = WriteOptions(**({"level": 5} | how))
    info = by_id("7z").info
    plan = plan_pack(items, target=target, info=info, options=options, part_size=part_size, on_clash=PackClash.REPLACE)
    assert not pack(plan, workers=workers).problems


# What other writers made

DATA = Path(__file__).parent / "data"


@pytest.mark.parametrize(
    ("file", "name", "crc"), [("foreign-1", "test.gif", 0x3225C42B), ("foreign-2", "asd.go", 0x230CEAB5)]
)
def test_foreign_archives_read_right(file: str, name: str, crc: int) -> None:
    data = (DATA / f"{file}.7z").read_bytes()
    reader = open_source(MemorySource(data, "x.7z"))
    assert [entry.path for entry in reader.catalog] == [name]
    assert not check(reader).issues
    assert zlib.crc32(contents(reader)[name]) == reader.catalog.crc[0] == crc
    behind_program = open_source(MemorySource(b"MZ" + bytes(70_000) + data, "x.exe"))
    assert contents(behind_program) == contents(reader)


@at_length_too
def test_foreign_archives_on_the_machine_read_right() -> None:
    own = sorted((Path(__file__).parent / "data").glob("*.7z"))
    assert own
    for path in [*own, *foreign_archives((".7z",))]:
        reader = open_archive(path)
        assert not check(reader).problems, path
        reader.close()


# What we write


LOCKS = (("", False), ("pass wörd 川", False), ("pass", True))


@at_length_too
@pytest.mark.parametrize(
    ("level", "password", "hide_names"),
    [(level, *LOCKS[level % 3]) for level in (range(10) if AT_LENGTH else (0, 1, 3, 5, 8))],
)
def test_a_second_reader_agrees(tmp_path: Path, level: int, password: str, hide_names: bool) -> None:
    tree = make_tree(tmp_path)
    (tree / "program").write_bytes(LIBRARY.read_bytes()[:200_000])
    (tree / "old").touch()
    os.utime(tree / "old", ns=(0, -1_234_567_800))
    (tree / "in" / "words.txt").write_text("the brook was clear today\n" * 3000)
    target = tmp_path / "x.7z"
    method = "ppmd" if level % 2 else "lzma2"
    pack_seven(target, [tree], level=level, password=password, hide_names=hide_names, method=method)
    data = target.read_bytes()
    there = {f"tree/{name}": node for name, node in snapshot(tree).items()}
    theirs = {one.name: one for one in second_reader.read(data, password)}
    assert set(theirs) == {*there, "tree"}
    for name, node in there.items():
        one = theirs[name]
        status = (tmp_path / name).lstat()
        assert one.data == node.content, name
        assert one.is_folder == (node.kind == "dir")
        assert one.changed == status.st_mtime_ns // 100 + EPOCH
        assert one.mode == status.st_mode
    if password:
        opening = Opening()
        if hide_names:
            with pytest.raises(PasswordNeeded, match="the names in it too"):
                open_archive(target)
            with pytest.raises(WrongPassword):
                open_archive(target, Opening(password="another"))
            opening = Opening(password=password)
        reader = open_archive(target, opening)
        if not hide_names:
            with pytest.raises(PasswordNeeded):
                check(reader)
            with pytest.raises(WrongPassword, match=r"does not open “x\.7z”"):
                reader.unlock("another")
            reader.unlock(password)
    else:
        reader = open_archive(target)
    outcome = unpack(plan_unpack(reader, into=tmp_path / "out"), reader)
    reader.close()
    assert not outcome.issues
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tree)


def test_the_same_bytes_on_any_number_of_cores_and_in_parts(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    rng = random.Random(3)
    (tree / "large.txt").write_bytes(b"".join(b"%d %d\n" % (i, rng.randrange(999)) for i in range(600_000)))
    for workers in (1, 2, 3):
        pack_seven(tmp_path / f"{workers}.7z", [tree], level=1, workers=workers)
    data = (tmp_path / "1.7z").read_bytes()
    assert data == (tmp_path / "2.7z").read_bytes() == (tmp_path / "3.7z").read_bytes()
    pack_seven(tmp_path / "p.7z", [tree], level=1, part_size=300_000)
    parts = sorted(tmp_path.glob("p.7z.0*"))
    assert b"".join(path.read_bytes() for path in parts) == data
    assert {one.name for one in second_reader.read(data)} == {e.path for e in open_archive(tmp_path / "1.7z").catalog}
    reader = open_archive(parts[1])
    assert not check(reader).issues
    reader.close()


def test_blocks_are_of_one_sort_and_size(tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    tree.mkdir()
    program = bytearray(LIBRARY.read_bytes()[:100_000])
    (tree / "a program").write_bytes(program)
    program[18:20] = b"\xb7\0"
    (tree / "b program for another").write_bytes(program)
    (tree / "c packed").write_bytes(os.urandom(100_000))
    (tree / "d empty").touch()
    for i in range(30):
        (tree / f"{i} large.txt").write_text(f"the brook {i} was clear " * 15_000)
    pack_seven(tmp_path / "x.7z", [tree], level=1)
    reader = open_archive(tmp_path / "x.7z")
    assert isinstance(reader, SevenReader)
    chains = [tuple(coder.name for coder in folder.coders) for folder in reader.streams.folders]
    assert {("lzma2",), ("x86", "lzma2"), ("arm64", "lzma2"), ("copy",)} == set(chains)
    sizes = [reader.streams.unpack_size(i) for i in range(len(chains))]
    assert max(sizes) <= 8 * MIB
    assert not check(reader).issues
    row = next(e.row for e in reader.catalog if "29 large" in e.path)
    plan = plan_unpack(reader, np.array([row]), into=tmp_path / "out")
    assert 0 < plan.read_through < 8 * MIB
    assert plan_unpack(reader, into=tmp_path / "out").read_through == 0
    reader.close()


def test_unreadable_files_are_left_out_and_blocks_taken_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tree = tmp_path / "tree"
    tree.mkdir()
    for name in ("a", "b", "c"):
        (tree / name).write_bytes(name.encode() * 50_000)
    (tree / "large").write_bytes(b"0123456789" * 700_000)
    plan = plan_pack([tree], target=tmp_path / "x.7z", info=by_id("7z").info, level=1)
    (tree / "b").unlink()
    real = os.pread

    def failing(fd: int, count: int, at: int) -> bytes:
        if at > 5_000_000 and os.readlink(f"/proc/self/fd/{fd}").endswith("large"):
            raise OSError(5, "")
        return real(fd, count, at)

    monkeypatch.setattr("rundlet.core.model.contents.os.pread", failing)
    outcome = pack(plan)
    monkeypatch.undo()
    assert sorted(issue_line(issue) for issue in outcome.problems) == [
        "tree/b: could not be read (it is not there) and was left out",
        "tree/large: could not be read (the disk reported a fault) and was left out",
    ]
    assert {one.name: one.data for one in second_reader.read((tmp_path / "x.7z").read_bytes())} == {
        "tree": b"", "tree/a": b"a" * 50_000, "tree/c": b"c" * 50_000,
    }  # fmt: skip


def test_a_block_is_taken_over_as_it_is(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    pack_seven(tmp_path / "x.7z", [tree], level=3, password="pass")
    old = open_archive(tmp_path / "x.7z")
    assert isinstance(old, SevenReader)
    sink = ArchiveSink(tmp_path / "y.7z")
    writer = SevenWriter(sink, WriteOptions(3))
    for folder in range(len(old.streams.folders)):
        writer.copy_block(old, folder)
    writer.finish()
    sink.commit()
    kept = {one.name: one.data for one in second_reader.read((tmp_path / "x.7z").read_bytes(), "pass") if one.data}
    assert {one.name: one.data for one in second_reader.read((tmp_path / "y.7z").read_bytes(), "pass")} == kept
    old.close()


# Rarities, made by hand


@dataclass
class RawBlock:
    """A block for :func:`raw_seven`; what is not given follows from the rest."""

    coders: list[Coder]
    packed: list[bytes]
    files: list[bytes]
    sizes: list[int] | None = None
    pairs: tuple[BindPair, ...] | None = None
    feeds: tuple[int, ...] | None = None
    crcs: list[int] | None = None

    def folder(self) -> Folder:
        pairs = tuple(BindPair(i, i + 1) for i in range(len(self.coders) - 1)) if self.pairs is None else self.pairs
        return Folder(tuple(self.coders), pairs, (len(self.coders) - 1,) if self.feeds is None else self.feeds)


@dataclass
class RawSeven:
    """An archive made property by property."""

    blocks: list[RawBlock] = field(default_factory=list)
    names: list[str] | None = None
    extra: bytes = b""
    empty: int = 0

    def header(self) -> bytes:
        files = [data for block in self.blocks for data in block.files]
        count = len(files) + self.empty
        out = b"\x01"
        if self.blocks:
            out += b"\x04" + self.streams() + b"\x08\x0d"
            out += b"".join(fields.number(len(block.files)) for block in self.blocks)
            sizes = b"".join(fields.number(len(data)) for block in self.blocks for data in block.files[:-1])
            crcs = [crc for b in self.blocks for crc in (b.crcs or map(zlib.crc32, b.files))]
            out += (b"\x09" + sizes if sizes else b"") + b"\x0a\x01"
            out += b"".join(struct.pack("<I", crc) for crc in crcs) + b"\0\0"
        names = [f"f{i}" for i in range(count)] if self.names is None else self.names
        text = b"\0" + b"".join(name.encode("utf-16-le") + b"\0\0" for name in names)
        out += b"\x05" + fields.number(count) + b"\x11" + fields.number(len(text)) + text
        if self.empty:
            bits = fields.bits(np.array([False] * len(files) + [True] * self.empty))
            out += b"\x0e" + fields.number(len(bits)) + bits
        return out + self.extra + b"\0\0"

    def streams(self) -> bytes:
        packed = [data for block in self.blocks for data in block.packed]
        out = b"\x06\0" + fields.number(len(packed)) + b"\x09" + b"".join(fields.number(len(d)) for d in packed)
        out += b"\0\x07\x0b" + fields.number(len(self.blocks)) + b"\0"
        for block in self.blocks:
            out += self._folder(block.folder())
        out += b"\x0c"
        for block in self.blocks:
            total = sum(map(len, block.files))
            out += b"".join(map(fields.number, block.sizes or [total] * len(block.coders)))
        return out + b"\0"

    @staticmethod
    def _folder(folder: Folder) -> bytes:
        out = fields.number(len(folder.coders))
        for c in folder.coders:
            is_complex = (c.num_in_streams, c.num_out_streams) != (1, 1)
            out += bytes([len(c.method) | 0x10 * is_complex | 0x20 * bool(c.properties)]) + c.method
            out += bytes([c.num_in_streams, c.num_out_streams]) * is_complex
            out += (fields.number(len(c.properties)) + c.properties) * bool(c.properties)
        out += b"".join(bytes([pair.in_index, pair.out_index]) for pair in folder.bind_pairs)
        return out + bytes(folder.packed) * (len(folder.packed) > 1)

    def build(self, header: bytes | None = None) -> bytes:
        body = b"".join(data for block in self.blocks for data in block.packed)
        header = self.header() if header is None else header
        start = struct.pack("<QQI", len(body), len(header), zlib.crc32(header))
        return b"7z\xbc\xaf\x27\x1c\0\x04" + struct.pack("<I", zlib.crc32(start)) + start + body + header

    def read(self, **opening: Any) -> SevenReader:
        reader = open_source(MemorySource(self.build(), "x.7z"), Opening(**opening))
        assert isinstance(reader, SevenReader)
        return reader


PROGRAM = LIBRARY.read_bytes()[4096:90_001]
LZMA1 = {"id": lzma.FILTER_LZMA1, "dict_size": 1 << 20, "lc": 3, "lp": 0, "pb": 2}


def coder(name: str, properties: bytes = b"", ins: int = 1) -> Coder:
    return Coder(IDS[name], ins, 1, properties)


def raw_lzma(data: bytes) -> bytes:
    return lzma.compress(data, lzma.FORMAT_RAW, filters=[LZMA1])


def raw_deflate(data: bytes) -> bytes:
    packer = zlib.compressobj(9, zlib.DEFLATED, -15)
    return packer.compress(data) + packer.flush()


def deflate64(data: bytes) -> bytes:
    packer = inflate64.Deflater()
    return bytes(packer.deflate(data) + packer.flush())


def ppmd_of(data: bytes) -> bytes:
    packer = pyppmd.Ppmd7Encoder(6, 1 << 20)
    packed: bytes = b"".join(packer.encode(data[i : i + 4096]) for i in range(0, len(data), 4096)) + packer.flush()
    return packed


def delta_of(data: bytes, distance: int) -> bytes:
    chain = [{"id": lzma.FILTER_DELTA, "dist": distance}, {"id": lzma.FILTER_LZMA2, "preset": 0}]
    packed = lzma.compress(data, lzma.FORMAT_RAW, filters=chain)
    return lzma.decompress(packed, lzma.FORMAT_RAW, filters=chain[1:])


_LZMA_PROPERTIES = b"\x5d" + struct.pack("<I", 1 << 20)
RARE = {
    "copy": ([coder("copy")], lambda d: d),
    "lzma": ([coder("lzma", _LZMA_PROPERTIES)], raw_lzma),
    "bzip2": ([coder("bzip2")], bz2.compress),
    "bzip2 in several streams": ([coder("bzip2")], lambda d: bz2.compress(d[:9999]) + bz2.compress(d[9999:])),
    "deflate": ([coder("deflate")], raw_deflate),
    "deflate64": ([coder("deflate64")], deflate64),
    "zstd": ([coder("zstd", b"\x01\x05\x03\0\0")], zstd.compress),
    "ppmd": ([coder("ppmd", b"\x06" + struct.pack("<I", 1 << 20))], ppmd_of),
    "delta": ([coder("delta", b"\x03"), coder("deflate")], lambda d: raw_deflate(delta_of(d, 4))),
    "copy of a copy": ([coder("copy"), coder("copy")], lambda d: d),
} | {
    f"{name} and lzma": (
        [coder(name), coder("lzma", _LZMA_PROPERTIES)],
        lambda d, n=name: raw_lzma(b"".join(filtered(n, [d]))),
    )
    for name in BRANCHES
}


@pytest.mark.parametrize("name", RARE)
def test_every_coder(name: str) -> None:
    coders, packer = RARE[name]
    files = [PROGRAM[:30_000], b"", PROGRAM[30_000:30_001], PROGRAM[30_001:]]
    reader = RawSeven([RawBlock(coders, [packer(PROGRAM)], files)]).read()
    assert list(contents(reader).values()) == files
    one = next(data for unit in reader.units(np.array([2])) for _, data in unit.stream())
    assert b"".join(one) == files[2]
    cut = RawSeven([RawBlock(coders, [packer(PROGRAM)[:-5000]], files)]).read()
    assert list(contents(cut).values())[-1].startswith(b"!")


def behind_filter(data: bytes, filter_id: int) -> bytes:
    """An xz stream, made by hand, that says its content went through a filter that the library takes in no other way."""
    packed = lzma.compress(data, lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA2, "dict_size": 1 << 20}])
    flags = b"\0\0"

    def number(value: int) -> bytes:
        out = b""
        while value >= 0x80:
            out, value = out + bytes([value & 0x7F | 0x80]), value >> 7
        return out + bytes([value])

    def padded(part: bytes, to: int = 4) -> bytes:
        return part + b"\0" * (-len(part) % to)

    filters = b"\x01" + number(filter_id) + b"\0" + b"\x21\x01\x10"
    head = padded(b"\0" + filters)
    head = bytes([len(head) // 4]) + head[1:]
    head += struct.pack("<I", zlib.crc32(head))
    index = padded(b"\0\x01" + number(len(head) + len(packed)) + number(len(data)))
    index += struct.pack("<I", zlib.crc32(index))
    tail = struct.pack("<I", len(index) // 4 - 1) + flags
    start = b"\xfd7zXZ\0" + flags + struct.pack("<I", zlib.crc32(flags))
    return start + head + padded(packed) + index + struct.pack("<I", zlib.crc32(tail)) + tail + b"YZ"


def test_filters_agree_with_the_codec_library() -> None:
    rng = np.random.default_rng(5)
    words = rng.integers(0, 1 << 26, 50_000) | rng.choice(np.array([0x94000000, 0x90000000, 0x10000000]), 50_000)
    for data in (PROGRAM, words.astype("<u4").tobytes()):
        ours = b"".join(unfiltered("arm64", [data[:777], data[777:]], len(data)))
        assert ours == lzma.decompress(behind_filter(data, 0x0A)) == second_reader.arm64(data)
    assert ours != data
    packed = b"".join(filtered("x86", [PROGRAM]))
    assert PROGRAM == second_reader.x86(packed) != packed
    ids = {"x86": 4, "powerpc": 5, "ia-64": 6, "arm": 7, "arm thumb": 8, "sparc": 9}
    for name, number in ids.items():
        chain = [{"id": number}, {"id": lzma.FILTER_LZMA2, "preset": 0}]
        packed = lzma.compress(PROGRAM, lzma.FORMAT_RAW, filters=chain)
        theirs = lzma.decompress(packed, lzma.FORMAT_RAW, filters=chain[1:])
        assert b"".join(filtered(name, [PROGRAM[:5000], PROGRAM[5000:]])) == theirs


@given(st.lists(st.sampled_from(b"\xef\x17\x97\x67\x83\x31\x11\0\x80\xff\x03\x13"), max_size=300), st.integers(1, 40))
def test_any_bytes_come_back_through_the_risc_v_filter(data: list[int], step: int) -> None:
    plain = bytes(data)
    packed = b"".join(filtered("risc-v", [plain[i : i + step] for i in range(0, len(plain), step)]))
    assert packed == b"".join(filtered("risc-v", [plain]))
    assert b"".join(unfiltered("risc-v", [packed[:step], packed[step:]], len(packed))) == plain


def split_streams(data: bytes) -> tuple[bytes, bytes, bytes, bytes]:
    """The four streams of a program, by an encoder of the test's own that moves every second branch."""
    main, calls, jumps, odds = bytearray(), bytearray(), bytearray(), [1024] * 258
    low, width, out = 0, 0xFFFFFFFF, bytearray()
    before, at, turn = 0, 0, 0
    while at < len(data):
        byte = data[at]
        main.append(byte)
        at += 1
        if byte & 0xFE == 0xE8 or (before == 0x0F and byte & 0xF0 == 0x80):
            which = before if byte == 0xE8 else 256 if byte == 0xE9 else 257
            turn += 1
            moved = turn % 2 == 0 and at + 4 <= len(data)
            bound = (width >> 11) * odds[which]
            if moved:
                low, width = low + bound, width - bound
                odds[which] -= odds[which] >> 5
                target = (int.from_bytes(data[at : at + 4], "little") + at + 4) & 0xFFFFFFFF
                (calls if byte == 0xE8 else jumps).extend(target.to_bytes(4, "big"))
                at += 4
                byte = data[at - 1]
            else:
                width = bound
                odds[which] += (2048 - odds[which]) >> 5
            while width < 1 << 24:
                width, low = width << 8, low << 8
                out.append(0)
        before = byte
    # The sum of all shifts, carries and all, as one large number behind a first byte of nothing.
    return bytes(main), bytes(calls), bytes(jumps), b"\0" + low.to_bytes(len(out) + 4, "big")


def test_the_filter_with_four_streams() -> None:
    data = PROGRAM * 2
    main, calls, jumps, ranged = split_streams(data)
    assert b"".join(joined_streams([main], [calls], [jumps], [ranged], len(data))) == data
    block = RawBlock(
        [coder("four-stream x86", ins=4), coder("lzma", _LZMA_PROPERTIES), coder("copy"), coder("copy")],
        [raw_lzma(main), calls, jumps, ranged],
        [data],
        sizes=[len(data), len(main), len(calls), len(jumps)],
        pairs=(BindPair(0, 1), BindPair(1, 2), BindPair(2, 3)),
        feeds=(4, 5, 6, 3),
    )
    assert contents(RawSeven([block]).read()) == {"f0": data}
    for broken in ([main[:-9]], [main + b"\xe8" * 9]):
        assert b"".join(_until_error(joined_streams(broken, [calls], [jumps[:-3]], [ranged], len(data) + 99))) != data


def _until_error(chunks: Iterator[bytes]) -> Iterator[bytes]:
    try:
        yield from chunks
    except FormatError:
        return


def test_only_the_entries_of_an_unknown_coder_are_lost() -> None:
    strange = RawBlock([Coder(b"\x7f\x01")], [b"?????"], [b"lost"])
    fine = RawBlock([coder("copy")], [b"kept"], [b"kept"])
    reader = RawSeven([strange, fine]).read()
    assert contents(reader) == {"f0": b"!It is packed with method 7f01, which Rundlet does not have.", "f1": b"kept"}
    circle = RawBlock(
        [coder("delta", b"\0"), coder("delta", b"\0")], [b"xxxx"], [b"xxxx"], pairs=(BindPair(0, 0),), feeds=(1,)
    )
    assert contents(RawSeven([circle, fine]).read())["f1"] == b"kept"


def test_rare_properties() -> None:
    def times(kind: int) -> bytes:
        return bytes([kind, 11, 0, 0x40, 0]) + struct.pack("<Q", EPOCH + 10_000_000)

    anti = b"\x0f\x01\xc0" + b"\x10\x01\x40"
    rest = b"\x18\x22\x01\0" + bytes(32) + b"\x19\x03\0\0\0" + b"\x16\x01\0"
    attributes = b"\x15\x0f\x00\xb0\0" + struct.pack("<3I", 0x20, 0x8000 | 0o100640 << 16, 0x10)
    raw = RawSeven(
        [RawBlock([coder("copy")], [b"abc"], [b"abc"])],
        names=["dir\\a", "gone", "b", "dir"],
        empty=3,
    )
    raw.names, raw.extra = (
        ["dir\\a", "b", "gone", "dir"],
        anti + times(0x12) + times(0x13) + times(0x14) + rest + attributes,
    )
    reader = raw.read()
    assert [(e.path, e.kind, e.mode, e.mtime_ns) for e in reader.catalog] == [
        ("dir/a", Kind.FILE, 0, NO_TIME), ("b", Kind.FILE, 0, 1_000_000_000), ("dir", Kind.DIR, 0, NO_TIME),
    ]  # fmt: skip
    assert issue_line(reader.notices[0]) == "x.7z: 1 item that only deletes a file is not listed"
    assert second_reader.read(raw.build())[0].data == b"abc"


def test_headers_within_headers_and_elsewhere() -> None:
    inner = RawSeven([RawBlock([coder("copy")], [b"abc"], [b"abc"])])
    header, body = inner.header(), b"abc"
    for _ in range(3):
        packed = lzma.compress(header, lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA2, "dict_size": 1 << 20}])
        outer = b"\x17\x06" + fields.number(len(body)) + b"\x01\x09" + fields.number(len(packed)) + b"\0"
        outer += b"\x07\x0b\x01\0\x01\x21\x21\x01\x12\x0c" + fields.number(len(header))
        outer += b"\x0a\x01" + struct.pack("<I", zlib.crc32(header)) + b"\0\0"
        body, header = body + packed, outer
    start = struct.pack("<QQI", len(body), len(header), zlib.crc32(header))
    data = b"7z\xbc\xaf\x27\x1c\0\x04" + struct.pack("<I", zlib.crc32(start)) + start + body + header
    assert contents(open_source(MemorySource(data, "x"))) == {"f0": b"abc"}
    assert second_reader.read(data)[0].data == b"abc"
    empty = struct.pack("<QQI", 0, 0, 0)
    nothing = b"7z\xbc\xaf\x27\x1c\0\x04" + struct.pack("<I", zlib.crc32(empty)) + empty
    assert len(open_source(MemorySource(nothing, "x")).catalog) == 0


@pytest.mark.parametrize(
    ("block", "words"),
    [
        (RawBlock([coder("lzma2", bytes([40]))], [b"\0"], [b"x"]), "more than the 1.1 GB allowed"),
        (RawBlock([coder("lzma", b"\x5d\xff\xff\xff\xff")], [b"\0" * 9], [b"x"]), "more than the 1.1 GB allowed"),
        (
            RawBlock([coder("ppmd", b"\x06" + struct.pack("<I", 3 << 30))], [b"\0" * 9], [b"x"]),
            "more than the 1.1 GB allowed",
        ),
        (RawBlock([coder("lzma", b"\xe1\0\0\x10\0")], [raw_lzma(b"x")], [b"x"]), "damaged"),
        (RawBlock([coder("lzma", bytes([3 + 9 * 3]) + b"\0\0\x10\0")], [raw_lzma(b"x")], [b"x"]), "lc and lp over 4"),
        (RawBlock([coder("copy")], [b"y"], [b"x"]), "fails its checksum"),
        (RawBlock([coder("lzma2", b"\x12"), coder("aes", b"\x19\0")], [bytes(16)], [b"x"]), "locked with a password"),
    ],
)
def test_what_an_entry_may_not_ask_for(block: RawBlock, words: str) -> None:
    fine = RawBlock([coder("copy")], [b"kept"], [b"kept"])
    found = contents(RawSeven([block, fine]).read())
    assert words in found["f0"].decode()
    assert found["f1"] == b"kept"


def test_claims_are_bounded_before_memory_is_taken() -> None:
    many = b"\x01\x05" + fields.number(1 << 50) + b"\0\0"
    for header in (
        many,
        b"\x01\x04\x06\0" + fields.number(1 << 60),
        b"\x01\x04\x07\x0b" + fields.number(1 << 40) + b"\0",
    ):
        with pytest.raises(RundletError):
            open_source(MemorySource(RawSeven().build(header), "x"))
    data = RawSeven([RawBlock([coder("copy")], [b"abc"], [b"abc"])]).build()
    with pytest.raises(LimitExceeded, match="more than Rundlet reads"):
        open_source(MemorySource(data, "x"), Opening(limits=Limits(directory_bytes=10)))
    with pytest.raises(FormatError, match="cut off: 9 bytes are missing"):
        open_source(MemorySource(data[:-9], "x"))
    lock = RawBlock([coder("copy"), coder("aes", bytes([63 - 1]))], [bytes(16)], [b"x"])
    reader = RawSeven([lock]).read()
    reader.unlock("x")
    assert ["more work to try a password" in issue_line(issue) for issue in check(reader).issues] == [True]


def test_a_key_takes_its_rounds() -> None:
    from rundlet.core.codecs.aes import stretched_key

    word, salt = "pä".encode("utf-16-le"), b"salt"
    for power in (0, 5, 15):
        digest = hashlib.sha256()
        for counter in range(1 << power):
            digest.update(salt + word + struct.pack("<Q", counter))
        assert stretched_key(word, salt, power) == digest.digest()
    assert stretched_key(word, salt, 0x3F) == (salt + word).ljust(32, b"\0")
    with pytest.raises(LimitExceeded):
        stretched_key(word, salt, 40)


# Solid blocks


def in_segments(data: bytes, step: int) -> bytes:
    return b"".join(lzma2.encoded(data[i : i + step], 0, 1 << 16) for i in range(0, len(data), step)) + b"\0"


def test_damage_is_pinned_to_its_segment(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    files = [rng.integers(60, 99, 300_000).astype(np.uint8).tobytes() for _ in range(40)]
    packed = bytearray(in_segments(b"".join(files), 1_000_000))
    packed[len(packed) // 2 : len(packed) // 2 + 9] = b"\xff" * 9
    raw = RawSeven([RawBlock([coder("lzma2", b"\x12")], [bytes(packed)], files)])
    reader = raw.read()
    found = list(contents(reader).values())
    lost = [i for i, data in enumerate(found) if data.startswith(b"!")]
    assert 1 <= len(lost) <= 6
    assert all(found[i] == files[i] for i in range(40) if i not in lost)
    outcome = unpack(plan_unpack(reader, into=tmp_path / "out"), reader)
    assert len(outcome.problems) == len(lost)
    assert outcome.files == 40 - len(lost)


def test_only_what_is_needed_is_decoded(monkeypatch: pytest.MonkeyPatch) -> None:
    decoded = []
    real = lzma2.whole

    def counted(packed: bytes, properties: bytes, segment: lzma2.Segment, memory: int) -> bytes:
        decoded.append(segment.at)
        return real(packed, properties, segment, memory)

    monkeypatch.setattr(lzma2, "whole", counted)
    data = bytes(range(256)) * (40 * MIB // 256)
    files = [data[i : i + 5 * MIB] for i in range(0, len(data), 5 * MIB)]
    reader = RawSeven([RawBlock([coder("lzma2", b"\x18")], [in_segments(data, 4 * MIB)], files)]).read()
    units = list(reader.units(np.arange(8)))
    assert len(units) > 2
    for unit in reader.units(np.array([5])):
        assert [b"".join(chunks) for _, chunks in unit.stream()] == [files[5]]
    assert sorted(decoded) == [24 * MIB, 28 * MIB]  # the entry lies from 25 to 30 MiB
    assert contents(reader) == {f"f{i}": data for i, data in enumerate(files)}


# Damage

SAMPLE = RawSeven(
    [
        RawBlock([coder("lzma2", b"\x12")], [in_segments(PROGRAM[:9000], 4000)], [PROGRAM[:4500], PROGRAM[4500:9000]]),
        RawBlock(
            [coder("x86"), coder("lzma", _LZMA_PROPERTIES)],
            [raw_lzma(b"".join(filtered("x86", [PROGRAM[:900]])))],
            [PROGRAM[:900]],
        ),
        RawBlock([coder("copy")], [b"content"], [b"content"]),
    ],
    names=["a", "b", "dir/c", "d", "dir"],
    empty=1,
)
GOOD = contents(SAMPLE.read())


def survives(data: bytes, *, own_header: bool = False) -> None:
    """Right data, or our own error; never anything else."""
    try:
        reader = open_source(MemorySource(data, "s.7z"))
        ArchiveTree(reader.catalog)
        found = contents(reader)
    except RundletError as error:
        assert str(error).endswith(".")
        return
    for name, content in found.items():
        assert own_header or content.startswith(b"!") or content == GOOD[name]


def test_cut_anywhere() -> None:
    data = SAMPLE.build()
    for length in range(0, len(data), 3):
        survives(data[:length])


@given(at=st.integers(0, 100_000), change=st.integers(1, 255))
@example(at=16598, change=1)  # a name in a header that was looked for though it was not lost
@at_length_too
@settings(max_examples=rounds(100, 600))
def test_flipped_anywhere(at: int, change: int) -> None:
    data = bytearray(SAMPLE.build())
    data[at % len(data)] ^= change
    survives(bytes(data))


@pytest.mark.timeout(60)
@pytest.mark.parametrize("kind", ["packed", "plain", "large"])
def test_very_many_beginnings_of_a_header(kind: str) -> None:
    """Where nothing leads to the header and all that stands at the end may be one, looking for it comes to an end."""
    zeros = raw_lzma(bytes(1 << 25))
    large = RawSeven([RawBlock([coder("lzma", _LZMA_PROPERTIES)], [zeros], [bytes(1 << 25)])]).streams()[:-1]
    beginning = {"packed": b"\x17\x06", "plain": b"\x01\x04", "large": b"\x17" + large + b"\x0a\x01abcd\0\0"}[kind]
    data = bytearray(SAMPLE.build() + zeros + beginning * ((1 << 20) // len(beginning)))
    data[12] ^= 1
    with pytest.raises(RundletError):
        open_source(MemorySource(bytes(data), "s.7z"))


@given(st.lists(st.tuples(st.integers(0, 10_000), st.integers(0, 255)), min_size=1, max_size=5), st.integers(0, 9))
@at_length_too
@settings(max_examples=rounds(150, 1400))
def test_a_header_of_anything(changes: list[tuple[int, int]], cut: int) -> None:
    header = bytearray(SAMPLE.header())
    for at, value in changes:
        header[at % len(header)] = value
    survives(SAMPLE.build(bytes(header[: len(header) - cut])), own_header=True)


@given(st.integers(0, (1 << 63) - 1), st.lists(st.integers(0, (1 << 63) - 1), max_size=30))
def test_any_number_comes_back(one: int, many: list[int]) -> None:
    assert fields.FieldReader(fields.number(one)).number() == one == second_reader.Reading(fields.number(one)).number()
    packed = fields.numbers(np.array(many, np.int64))
    assert fields.FieldReader(packed).numbers(len(many)).tolist() == many
    with pytest.raises(Corrupt):
        fields.FieldReader(b"\xff" * 9).number()


_BOUNDED = """
import resource, sys
from pathlib import Path
sys.path[:0] = [sys.argv[1]]
import numpy, test_sevenz
from rundlet.core.codecs.ppmd import size_of_self
most = size_of_self() + 700 * 1024 * 1024
resource.setrlimit(resource.RLIMIT_AS, (most, most))
header = bytearray(test_sevenz.SAMPLE.header())
for at in range(len(header)):
    for value in (0, 1, 0x7F, 0xFF):
        changed = bytes(header[:at]) + bytes([value]) + bytes(header[at + 1:])
        test_sevenz.survives(test_sevenz.SAMPLE.build(changed), own_header=True)
"""


def test_no_header_takes_more_than_bounded_memory() -> None:
    here = str(Path(__file__).parent)
    done = subprocess.run([sys.executable, "-c", _BOUNDED, here], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-2000:]


@pytest.mark.parametrize(
    ("header", "problem"),
    [
        (b"\x01\x05\x00\x00\x04\x00\x00", "wrong order"),
        (b"\x01\x04\x00\x04\x00\x05\x00\x00\x00", "wrong order"),
        (b"\x01\x04\x08\x00\x06\x00\x00\x00\x00\x05\x00\x00\x00", "wrong order"),
        (b"\x01\x04\x00\x05\x00\x00\x00", ""),
    ],
)
def test_parts_of_the_header_stand_in_their_order(header: bytes, problem: str) -> None:
    if problem:
        with pytest.raises(Corrupt, match=problem):
            read_header(header)
    else:
        assert not len(read_header(header).names)


def test_files_without_names_are_numbered() -> None:
    """So that what has a name comes out, and so do they."""
    names = "\0a\0\0unnamed 2\0".encode("utf-16-le")
    part = b"\x00" + names
    header = b"\x01\x04\x00\x05\x04\x0e\x01\xf0\x11" + bytes([len(part)]) + part + b"\x00\x00"
    assert read_header(header).names.all_raw() == [b"unnamed 1", b"a", b"unnamed 3", b"unnamed 2"]
