"""What several tests need: trees to pack, trees to compare, hand-made archives and foreign ones found on the machine."""

from __future__ import annotations

import lzma
import os
import shutil
import stat
import struct
import sys
import tempfile
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest

from rundlet.core.codecs.legacy_cipher import LegacyCipher
from rundlet.core.errors import RundletError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome

AT_LENGTH = "RUNDLET_TESTS_AT_LENGTH" in os.environ
"""Whether tests that can be run for longer are: see ``make test-long``."""

long = pytest.mark.long
"""A test that takes so long that ``make test`` leaves it out."""

at_length_too = pytest.mark.at_length_too
"""A test that ``make test-long`` runs once more, with more rounds or more data."""


def rounds(few: int, many: int) -> int:
    """How often something is tried, or how much of it there is."""
    return many if AT_LENGTH else few


@contextmanager
def scratch() -> Iterator[Path]:
    """A folder of its own for each of very many tries."""
    folder = Path(tempfile.mkdtemp(prefix="rundlet-tests-"))
    try:
        yield folder
    finally:
        shutil.rmtree(folder)


def read_whole(archive: zipfile.ZipFile) -> bool:
    """Read every entry with its checksum, of which a wrong one raises."""
    return sum(len(archive.read(info)) for info in archive.infolist()) >= 0


def pack_to(
    target: Path,
    items: Sequence[Path],
    *,
    level: int = 5,
    workers: int | None = None,
    fmt: str = "zip",
    job: Job | None = None,
) -> Outcome:
    """Pack without ceremony."""
    plan = plan_pack(items, target=target, info=by_id(fmt).info, level=level, on_clash=PackClash.REPLACE)
    return pack(plan, job, workers=workers)


def unpack_to(
    archive: Path, into: Path, *, clash: UnpackClash = UnpackClash.RENAME, workers: int | None = None
) -> Outcome:
    """Unpack everything without ceremony."""
    reader = open_archive(archive)
    try:
        return unpack(plan_unpack(reader, into=into, on_clash=clash), reader, workers=workers)
    finally:
        reader.close()


@dataclass(frozen=True)
class Node:
    """What a path on the disk is, for comparing."""

    kind: str
    mode: int
    content: bytes
    seconds: int


def snapshot(root: Path, *, times: bool = True) -> dict[str, Node]:
    """Everything below a folder, by its relative path."""
    found = {}
    for folder, dirs, files in os.walk(root):
        for name in dirs + files:
            path = Path(folder, name)
            status = path.lstat()
            seconds = int(status.st_mtime) if times and not path.is_symlink() else 0
            if path.is_symlink():
                node = Node("link", 0, os.readlink(os.fsencode(path)), 0)
            elif path.is_dir():
                node = Node("dir", stat.S_IMODE(status.st_mode), b"", seconds)
            else:
                node = Node("file", stat.S_IMODE(status.st_mode), path.read_bytes(), seconds)
            found[str(path.relative_to(root))] = node
    return found


def make_tree(root: Path) -> Path:
    """A folder with something of everything."""
    tree = root / "tree"
    (tree / "empty folder").mkdir(parents=True)
    (tree / "in" / "deep" / "er").mkdir(parents=True)
    (tree / "empty").touch()
    (tree / "plain.txt").write_bytes(b"some words, " * 5000)
    (tree / "in" / "noise.bin").write_bytes(os.urandom(300_000))
    (tree / "in" / "deep" / "Grüße 川 σ.txt").write_bytes(b"names in many scripts")
    (tree / "in" / "deep" / "er" / "run.sh").write_bytes(b"#!/bin/sh\n")
    (tree / "in" / "deep" / "er" / "run.sh").chmod(0o750)
    (tree / "in" / "large.csv").write_bytes(
        b"".join(b"%d,%d\n" % (i, i * i % 977) for i in range(rounds(60_000, 150_000)))
    )
    (tree / "link").symlink_to("in/deep")
    os.utime(tree / "plain.txt", (1_900_000_001, 1_900_000_001))
    os.utime(tree / "empty folder", (1_500_000_000, 1_500_000_000))
    return tree


@dataclass
class Raw:
    """One entry of a hand-made zip; the fields say what is written, true or not."""

    name: bytes
    data: bytes = b"content"
    mode: int = 0o100644
    method: int = 0
    packed: bytes | None = None
    size: int | None = None
    crc: int | None = None
    flags: int = 0x800
    local_method: int | None = None
    extra: bytes = b""
    host: int = 3
    descriptor: bytes = b""
    offset: int | None = None


def raw_zip(entries: Sequence[Raw], *, before: bytes = b"", comment: bytes = b"", count: int | None = None) -> bytes:
    """A zip made record by record, apart from the package's own writer."""
    body, central = bytearray(before), bytearray()
    for e in entries:
        packed = e.data if e.packed is None else e.packed
        size = len(e.data) if e.size is None else e.size
        crc = zlib.crc32(e.data) if e.crc is None else e.crc
        offset = len(body) - len(before) if e.offset is None else e.offset
        method = e.method if e.local_method is None else e.local_method
        known = (0, 0, 0) if e.descriptor else (crc, len(packed), size)
        flags = e.flags | (8 if e.descriptor else 0)
        body += struct.pack("<4s5H3I2H", b"PK\x03\x04", 20, flags, method, 0, 33, *known, len(e.name), 0)
        body += e.name + packed + e.descriptor
        central += struct.pack(
            "<4s4B4H3I5H2I", b"PK\x01\x02", 20, e.host, 20, 0, flags, e.method, 0, 33, crc, len(packed), size,
            len(e.name), len(e.extra), 0, 0, 0, e.mode << 16, offset,
        )  # fmt: skip
        central += e.name + e.extra
    total = len(entries) if count is None else count
    end = struct.pack(
        "<4s4H2IH", b"PK\x05\x06", 0, 0, total, total, len(central), len(body) - len(before), len(comment)
    )
    return bytes(body + central + end + comment)


def legacy_entry(data: bytes, password: bytes, *, by_time: bool = False, name: bytes = b"e") -> Raw:
    class Encrypting(LegacyCipher):
        def encrypt(self, plain: bytes) -> bytes:
            out = b""
            for byte in plain:
                mask = Encrypting.__new__(Encrypting)
                mask._keys = self._keys
                stream = mask.decrypt(b"\0")[0]
                out += bytes([byte ^ stream])
                self.decrypt(out[-1:])
            return out

    check_byte = 0 if by_time else zlib.crc32(data) >> 24
    packed = Encrypting(password).encrypt(bytes(range(11)) + bytes([check_byte]) + data)
    return Raw(name, data, packed=packed, flags=0x801, descriptor=b"PK\x07\x08" + bytes(12) if by_time else b"")


def foreign_archives(endings: Sequence[str], most: int = rounds(12, 40)) -> list[Path]:
    """Archives that other people's programs made: a few of the project's own, and those that the machine has."""
    places = [
        Path(__file__).parent / "data" / "foreign",
        Path(sys.base_prefix),
        Path(sys.prefix),
        Path("/usr/share"),
        Path("/usr/lib"),
    ]
    found = []
    for place in places:
        per_place = 0
        for path in _walk(place):
            if path.suffix in endings and path.is_file() and 0 < path.stat().st_size < 30_000_000:
                found.append(path)
                per_place += 1
                if per_place == most:
                    break
    return found


def _walk(place: Path) -> Iterator[Path]:
    for folder, dirs, files in os.walk(place):
        dirs.sort()
        for name in sorted(files):
            yield Path(folder, name)


def contents(reader: ArchiveReader, kinds: Sequence[Kind] = tuple(Kind)) -> dict[str, bytes]:
    """Every entry's content, or an error's words in its place."""
    found = {}
    for unit in reader.units(np.flatnonzero(np.isin(reader.catalog.kind, kinds))):
        for row, chunks in unit.stream():
            try:
                found[reader.catalog.path(row)] = b"".join(chunks)
            except RundletError as error:
                found[reader.catalog.path(row)] = b"!" + str(error).encode()
    return found


def xz_in_blocks(parts: list[bytes], *, claims: list[int] | None = None) -> bytes:
    """One xz stream with a block for each part that is not empty, put together by hand (the .xz file format, sections 2 to 4).

    Args:
        claims: what the index says of the blocks' sizes, where that is not to be true.
    """
    filled = [part for part in parts if part]
    flags = b"\0\x01"  # with CRC-32
    out = b"\xfd7zXZ\0" + flags + struct.pack("<I", zlib.crc32(flags))
    index = b"\0" + _xz_number(len(filled))
    for part, claim in zip(filled, claims or map(len, filled), strict=True):
        alone = lzma.compress(part, check=lzma.CHECK_CRC32, preset=0)
        index_size = (int.from_bytes(alone[-8:-4], "little") + 1) * 4
        block = alone[12 : -12 - index_size]
        out += block
        index += _xz_number(_first_number(alone[-12 - index_size + 2 :])) + _xz_number(claim)
    index += bytes(-len(index) % 4)
    index += struct.pack("<I", zlib.crc32(index))
    rest = struct.pack("<I", len(index) // 4 - 1) + flags
    return out + index + struct.pack("<I", zlib.crc32(rest)) + rest + b"YZ"


def _first_number(data: bytes) -> int:
    end = next(i for i, byte in enumerate(data) if not byte & 0x80) + 1
    return sum((byte & 0x7F) << 7 * i for i, byte in enumerate(data[:end]))


def _xz_number(value: int) -> bytes:
    out = b""
    while value >= 0x80:
        out, value = out + bytes([value & 0x7F | 0x80]), value >> 7
    return out + bytes([value])


def held(path: Path, password: str = "") -> dict[str, bytes | None]:
    """What an archive holds: content by path, None for folders, links as their targets."""
    with closing(open_archive(path, Opening(password=password or None))) as reader:
        if password and not reader.unlocked:
            reader.unlock(password)
        assert not [notice for notice in reader.notices if notice.problem]
        found: dict[str, bytes | None] = {}
        rows = np.flatnonzero(reader.catalog.kind == Kind.FILE)
        data = {row: b"".join(chunks) for unit in reader.units(rows) for row, chunks in unit.stream()}
        for entry in reader.catalog:
            name = entry.path.rstrip("/")
            assert name not in found, name
            if entry.kind == Kind.LINK:
                found[name] = reader.link_target(entry.row).encode()
            elif entry.kind == Kind.HARD:
                target = reader.hard_target(entry.row)
                assert target is not None
                found[name] = data[target]
            else:
                found[name] = data.get(entry.row)
        return found


def some_tree(folder: Path) -> Path:
    """A folder with files of several kinds and sizes."""
    top = folder / "tree"
    (top / "deep" / "er").mkdir(parents=True)
    (top / "empty").mkdir()
    for name, data in (
        ("a.txt", b"first " * 3000),
        ("b.bin", os.urandom(70_000)),
        ("deep/c.txt", b"third " * 50),
        ("deep/er/d.txt", b""),
        ("deep/er/e.csv", b"1;2;3\n" * 4000),
    ):
        (top / name).write_bytes(data)
    (top / "link").symlink_to("a.txt")
    os.link(top / "b.bin", top / "deep" / "twin.bin")
    return top


def packed(folder: Path, fmt: str, password: str = "") -> Path:
    target = folder / f"x{by_id(fmt).info.ending}"
    options = WriteOptions(1, password=password)
    pack(plan_pack([some_tree(folder)], target=target, info=by_id(fmt).info, options=options))
    return target


def tar_header(
    name: bytes,
    *,
    kind: bytes = b"0",
    size: int = 0,
    magic: bytes = b"",
    extra: tuple[int, bytes] = (0, b""),
    signed: bool = False,
) -> bytes:
    block = bytearray(512)
    block[0 : len(name)] = name
    block[100:108] = b"0000644\0"
    block[124:136] = b"%011o\0" % size
    block[136:148] = b"%011o\0" % 1_000_000_000
    block[156:157] = kind
    block[257 : 257 + len(magic)] = magic
    block[extra[0] : extra[0] + len(extra[1])] = extra[1]
    block[148:156] = b" " * 8
    total = sum(b - 256 if signed and b > 127 else b for b in block)
    block[148:156] = b"%06o\0 " % total
    return bytes(block)


def tar_padded(data: bytes) -> bytes:
    return data + bytes(-len(data) % 512)


def pax_records(*pairs: str) -> bytes:
    """pax records; the lengths count their own digits."""
    out = b""
    for pair in pairs:
        length = next(n for n in range(len(pair), 99) if len(f"{n} {pair}\n") == n)
        out += f"{length} {pair}\n".encode()
    return out


def rare_tar() -> bytes:
    """A tar with headers that few writers make, put together by hand."""
    sparse_map = b"".join(b"%011o\0%011o\0" % pair for pair in [(1024, 3), (4096, 2)])
    gnu_sparse = tar_header(
        b"gnu sparse",
        kind=b"S",
        size=5,
        magic=b"ustar  \0",
        extra=(386, sparse_map.ljust(97, b"\0") + b"%011o\0" % 5000),
    )
    records = pax_records(
        "GNU.sparse.major=1", "GNU.sparse.minor=0", "GNU.sparse.name=real!", "GNU.sparse.realsize=6000"
    )
    old_map = pax_records(
        "GNU.sparse.numblocks=1", "GNU.sparse.size=2000", "GNU.sparse.offset=1000", "GNU.sparse.numbytes=4"
    )
    shape01 = pax_records("GNU.sparse.size=2000", "GNU.sparse.map=1000,4,1990,1")
    everywhere = pax_records("mtime=123456789")
    base256 = tar_header(b"far future", extra=(136, b"\x80" + (1 << 33).to_bytes(11, "big")))
    return b"".join(
        [
            tar_header(b"v7 folder/", kind=b"\0"),
            tar_header(b"v7 file", kind=b"\0", size=3) + tar_padded(b"abc"),
            tar_header("\u00fc signed".encode("latin-1"), signed=True),
            base256,
            gnu_sparse + tar_padded(b"xyzuv"),
            tar_header(b"x", kind=b"x", size=len(records)) + tar_padded(records),
            tar_header(b"GNUSparseFile.0/real!", size=512 + 4)
            + tar_padded(b"2\n0\n2\n5998\n2\n")
            + tar_padded(b"abyz"),
            tar_header(b"x", kind=b"x", size=len(old_map))
            + tar_padded(old_map)
            + tar_header(b"old map", size=4)
            + tar_padded(b"1234"),
            tar_header(b"x", kind=b"x", size=len(shape01))
            + tar_padded(shape01)
            + tar_header(b"map 0.1", size=5)
            + tar_padded(b"12345"),
            tar_header(b"g", kind=b"g", size=len(everywhere)) + tar_padded(everywhere),
            tar_header(b"with global"),
            tar_header(b"pipe", kind=b"6"),
            tar_header(b"unknown type", kind=b"Q", size=2) + tar_padded(b"ok"),
            bytes(1024),
        ]
    )
