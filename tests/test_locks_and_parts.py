"""Locked zip entries, all methods, odd names, and archives in parts."""

from __future__ import annotations

import hashlib
import hmac
import io
import itertools
import lzma
import os
import random
import re
import struct
import subprocess
import sys
import zipfile
import zlib
from contextlib import closing
from pathlib import Path
from typing import Any

import inflate64
import numpy as np
import pyppmd
import pytest
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from rundlet.cli.main import main
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import MissingPart, PasswordNeeded, PlanError, RundletError, UnknownFormat, WrongPassword
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive, open_source
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_plan import own_folder_name
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams.sources import MemorySource
from rundlet.core.work.checker import check
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.core.work.salvager import salvage
from rundlet.presentation.findings import issue_line
from support import Raw, at_length_too, contents, legacy_entry, make_tree, pack_to, raw_zip, rounds, snapshot, unpack_to

METHODS = ("deflate", "bzip2", "lzma", "zstd", "xz")


def pack_with(target: Path, items: list[Path], *, fmt: str = "zip", part_size: int = 0, **options: Any) -> None:
    made = WriteOptions(**({"level": 5} | options))
    pack(
        plan_pack(
            items, target=target, info=by_id(fmt).info, options=made, part_size=part_size, on_clash=PackClash.REPLACE
        )
    )


def read_all(data: bytes, password: str = "") -> dict[str, bytes]:
    reader = open_source(MemorySource(data, "x.zip"))
    if password:
        reader.unlock(password)
    found = {}
    for unit in reader.units(np.arange(len(reader.catalog))):
        for row, chunks in unit.stream():
            found[reader.catalog.path(row)] = b"".join(chunks)
    return found


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("password", ["", "pass word ü"])
def test_methods_and_locks_come_back(tmp_path: Path, method: str, password: str) -> None:
    tree = make_tree(tmp_path)
    target = tmp_path / "x.zip"
    pack_with(target, [tree], method=method, password=password, level=3)
    reader = open_archive(target)
    if password:
        with pytest.raises(PasswordNeeded, match="is locked with a password"):
            check(reader)
        with pytest.raises(WrongPassword, match=r"does not open “x\.zip”"):
            reader.unlock("another")
        reader.unlock(password)
    elif method in ("deflate", "bzip2", "lzma"):
        with zipfile.ZipFile(target) as theirs:
            names = [name for name in theirs.namelist() if not name.endswith("/")]
            assert {name: theirs.read(name) for name in names} == contents(reader, [Kind.FILE, Kind.LINK])
    unpack(plan_unpack(reader, into=tmp_path / "out"), reader)
    reader.close()
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tree)


def test_our_lock_is_the_described_one(tmp_path: Path) -> None:
    """Opened step by step with a cipher and a key derivation that are not ours."""
    (tmp_path / "a.txt").write_bytes(b"secret " * 999)
    pack_with(tmp_path / "x.zip", [tmp_path / "a.txt"], password="key")
    data = (tmp_path / "x.zip").read_bytes()
    _, _, flags, method, _, _, crc, packed, size, name_length, extra_length = struct.unpack("<4s5H3I2H", data[:30])
    assert (flags & 1, method, crc, size) == (1, 99, 0, 6993)
    extra = data[30 + name_length : 30 + name_length + extra_length]
    at = extra.index(b"\x01\x99\x07\x00")
    version, vendor, strength, real = struct.unpack_from("<H2sBH", extra, at + 4)
    assert (version, vendor, strength, real) == (2, b"AE", 3, 8)
    body = data[30 + name_length + extra_length :][:packed]
    salt, verifier, cipher, code = body[:16], body[16:18], body[18:-10], body[-10:]
    keys = hashlib.pbkdf2_hmac("sha1", b"key", salt, 1000, 66)
    assert keys[64:] == verifier
    assert hmac.new(keys[32:64], cipher, "sha1").digest()[:10] == code
    plain = b""
    for number in range(0, len(cipher), 16):
        counter = (number // 16 + 1).to_bytes(16, "little")
        block = Cipher(algorithms.AES(keys[:32]), modes.ECB()).encryptor().update(counter)
        plain += bytes(a ^ b for a, b in zip(cipher[number : number + 16], block, strict=False))
    assert zlib.decompress(plain, -15) == b"secret " * 999


def _aes_entry(data: bytes, *, strength: int, version: int, password: bytes) -> Raw:
    salt = os.urandom(4 + 4 * strength)
    length = 8 + 8 * strength
    keys = hashlib.pbkdf2_hmac("sha1", password, salt, 1000, 2 * length + 2)
    stream = b""
    for number in range(len(data) // 16 + 1):
        encryptor = Cipher(algorithms.AES(keys[:length]), modes.ECB()).encryptor()
        stream += encryptor.update((number + 1).to_bytes(16, "little"))
    locked = bytes(a ^ b for a, b in zip(data, stream, strict=False))
    code = hmac.new(keys[length : 2 * length], locked, "sha1").digest()[:10]
    packed = salt + keys[2 * length :] + locked + code
    extra = struct.pack("<HHH2sBH", 0x9901, 7, version, b"AE", strength, 0)
    crc = zlib.crc32(data) if version == 1 else 0
    return Raw(b"e", data, method=99, packed=packed, flags=0x801, crc=crc, extra=extra)


LOCKED = [
    *(_aes_entry(b"some data " * 30, strength=s, version=v, password=b"pw") for s in (1, 2, 3) for v in (1, 2)),
    legacy_entry(b"some data " * 30, b"pw", by_time=False),
    legacy_entry(b"some data " * 30, b"pw", by_time=True),
]


@given(sizes=st.lists(st.integers(0, 700), min_size=20, max_size=40), bad=st.integers(0, 19), seed=st.integers(0, 9))
@settings(max_examples=25)
def test_many_under_the_old_lock_are_undone_in_step(sizes: list[int], bad: int, seed: int) -> None:
    """However many and however long they are; one that is damaged is the only one that is lost."""
    sizes[bad] += 1
    data = {f"{i:02}": np.random.default_rng(seed + i).bytes(size) for i, size in enumerate(sizes)}
    entries = [legacy_entry(content, b"pw", name=name.encode()) for name, content in data.items()]
    packed = raw_zip([*entries, Raw(b"open", b"not locked")])
    assert read_all(packed, "pw") == data | {"open": b"not locked"}
    reader = open_source(MemorySource(packed, "x.zip"))
    alone = reader.unlock_seconds(np.array([0])) * len(sizes) * 700 / max(sizes[0], 1)
    assert reader.unlock_seconds(np.arange(len(sizes))) <= alone + 0.1
    there = entries[bad].packed or b""
    at = packed.index(there) + len(there) - 1
    reader = open_source(MemorySource(packed[:at] + bytes([packed[at] ^ 1]) + packed[at + 1 :], "x.zip"))
    reader.unlock("pw")
    for unit in reader.units(np.arange(len(sizes))):
        for row, chunks in unit.stream():
            if row == bad:
                with pytest.raises(RundletError):
                    b"".join(chunks)
            else:
                assert b"".join(chunks) == data[f"{row:02}"]


@pytest.mark.parametrize("entry", LOCKED)
def test_locks_of_other_writers(entry: Raw) -> None:
    data = raw_zip([entry])
    assert read_all(data, "pw") == {"e": b"some data " * 30}
    with pytest.raises(WrongPassword):
        read_all(data, "no, not this one")
    with pytest.raises(RundletError, match="locked with a password"):
        read_all(data)
    slow = open_source(MemorySource(data, "x.zip")).unlock_seconds(np.array([0]))
    assert (slow > 0) == (entry.method == 0)  # only the old cipher is slow, and how slow is said beforehand
    if entry.method == 0:
        with zipfile.ZipFile(io.BytesIO(data)) as theirs:
            assert theirs.read("e", b"pw") == b"some data " * 30
    damaged = bytearray(data)
    damaged[31 + len(entry.packed or b"") - 15] ^= 1
    with pytest.raises(RundletError, match="fails its"):
        read_all(bytes(damaged), "pw")


def test_rare_methods(tmp_path: Path) -> None:
    plain = b"the brook was clear today " * 4000
    deflater = inflate64.Deflater()
    deflate64 = deflater.deflate(plain) + deflater.flush()
    encoder = pyppmd.Ppmd8Encoder(6, 4 << 20, 0)
    pieces = [encoder.encode(plain[i : i + 4096]) for i in range(0, len(plain), 4096)]
    ppmd = struct.pack("<H", (6 - 1) | (4 - 1) << 4) + b"".join(pieces) + encoder.flush()
    cases = {9: deflate64, 98: ppmd, 93: zstd.compress(plain)}
    for method, packed in cases.items():
        assert read_all(raw_zip([Raw(b"a", plain, method=method, packed=packed)])) == {"a": plain}, method
        for at in range(3, len(packed), max(len(packed) // 7, 1)):
            broken = bytearray(packed)
            broken[at] ^= 0x55
            try:
                found = read_all(raw_zip([Raw(b"a", plain, method=method, packed=bytes(broken))]))
            except RundletError:
                continue
            assert found == {"a": plain}


def test_a_huge_model_is_refused_and_zeros_stream(tmp_path: Path) -> None:
    lzma_bomb = b"\x09\x14\x05\x00" + b"\x5d" + (0xF0000000).to_bytes(4, "little") + b"\x00" * 20
    with pytest.raises(RundletError, match="of memory, more than"):
        read_all(raw_zip([Raw(b"a", b"x" * 100, method=14, packed=lzma_bomb)]))
    (tmp_path / "b.xz").write_bytes(lzma.compress(b"much memory" * 999, preset=9))
    assert main(["unpack", str(tmp_path / "b.xz"), "--into", str(tmp_path / "out"), "--memory", "10MB"]) == 1
    assert not (tmp_path / "out" / "b").exists()
    assert main(["unpack", str(tmp_path / "b.xz"), "--into", str(tmp_path / "out"), "--memory", "1 GiB"]) == 0
    frames = rounds(40, 150)  # of 64 MiB each, far more than there is room for in memory
    (tmp_path / "z.zst").write_bytes(zstd.compress(bytes(1 << 26)) * frames)
    code = (
        "import sys, resource; resource.setrlimit(resource.RLIMIT_AS, (1 << 30, 1 << 30));"
        "from rundlet.cli.main import main; sys.exit(main(sys.argv[1:]))"
    )
    command = [sys.executable, "-c", code, "unpack", str(tmp_path / "z.zst"), "--into", str(tmp_path / "out")]
    env = os.environ | {"OPENBLAS_NUM_THREADS": "1"}
    done = subprocess.run(command, capture_output=True, text=True, env=env, check=False)
    assert done.returncode == 0, done.stderr
    status = (tmp_path / "out" / "z").stat()
    assert status.st_size == frames << 26 > 2 << 30
    assert status.st_blocks * 512 < 1 << 20


def test_names_of_other_systems() -> None:
    greek, kana = "σημειώσεις για το ποτάμι.txt", "川の記録と写真のフォルダ.txt"
    field = b"\x01" + zlib.crc32("größe".encode("cp850")).to_bytes(4, "little") + "größe ✓".encode()
    unicode_path = struct.pack("<HH", 0x7075, len(field)) + field
    data = raw_zip([Raw("größe".encode("cp850"), flags=0, extra=unicode_path), Raw(b"dir\\file", host=0), Raw(b"a\\b")])
    assert [e.path for e in open_source(MemorySource(data, "x")).catalog] == ["größe ✓", "dir/file", "a\\b"]
    russian = [f"Протокол собрания {i} о состоянии реки.txt" for i in range(5)]
    for names, page in (([kana], "cp932"), (russian, "cp866")):
        data = raw_zip([Raw(n.encode(page), flags=0) for n in names])
        chosen = open_source(MemorySource(data, "x"), Opening(code_page=page))
        assert [e.path for e in chosen.catalog] == names
    assert [e.path for e in open_source(MemorySource(data, "x")).catalog] == russian
    data = raw_zip([Raw(greek.encode(), flags=0)])
    assert next(iter(open_source(MemorySource(data, "x")).catalog)).path == greek


@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE])
def test_names_that_are_no_text_become_some(tmp_path: Path, fmt: str) -> None:
    folder = tmp_path / os.fsdecode(b"caf\xe9")
    folder.mkdir()
    for name in (b"\xfcber.txt", b"\xff", "ÿ".encode(), b"\x81", b"plain"):
        (folder / os.fsdecode(name)).write_bytes(name)
    target = tmp_path / f"x.{fmt}"
    plan = plan_pack([folder], target=target, info=by_id(fmt).info, read_back=True)
    said = "\n".join(map(issue_line, plan.issues))
    assert "caf\\xe9: is called “café” in the archive, as its name is not UTF-8" in said
    assert len(plan.issues) == 4
    pack(plan)
    reader = open_archive(target)
    assert "café/ÿ (2)" in [entry.path for entry in reader.catalog]
    reader.close()
    unpack_to(target, tmp_path / "out")
    came = {path.name: path.read_bytes() for path in (tmp_path / "out" / "café").iterdir()}
    assert came == {"über.txt": b"\xfcber.txt", "ÿ (2)": b"\xff", "ÿ": "ÿ".encode(), "\x81": b"\x81", "plain": b"plain"}


@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE])
def test_parts_of_every_format(tmp_path: Path, fmt: str) -> None:
    tree = make_tree(tmp_path)
    target = tmp_path / "parts" / f"x.{fmt}"
    target.parent.mkdir()
    pack_with(target, [tree], fmt=fmt, part_size=100_000)
    names = sorted(p.name for p in target.parent.iterdir())
    assert names[-1] == f"x.{fmt}.sha256"
    sizes = [(target.parent / n).stat().st_size for n in names[:-1]]
    assert len(sizes) > 3
    assert set(sizes[:-1]) == {100_000} and 0 < sizes[-1] <= 100_000
    for line in (target.parent / names[-1]).read_text().splitlines():
        digest, name = line.split("  ")
        assert hashlib.sha256((target.parent / name).read_bytes()).hexdigest() == digest
    for number in (0, 2, -1):  # the last is the checksum file, which stands for what it lists
        unpack_to(target.parent / names[number], tmp_path / f"out{number}")
        assert snapshot(tmp_path / f"out{number}" / "tree") == snapshot(tree)
        assert own_folder_name(target.parent / names[number]) == "x"
    pack_to(tmp_path / f"whole.{fmt}", [tree], fmt=fmt)
    joined = b"".join((target.parent / n).read_bytes() for n in names[:-1])
    assert joined == (tmp_path / f"whole.{fmt}").read_bytes()
    for name in names[:-1]:
        (target.parent / name).unlink()
    with pytest.raises(MissingPart, match=f"lists the checksums of {len(sizes)} parts, none of which is here"):
        open_archive(target.parent / names[-1])
    (tmp_path / "other.sha256").write_text("no list of parts")
    with pytest.raises(UnknownFormat):
        open_archive(tmp_path / "other.sha256")


def test_parts_within_what_is_packed_are_not_packed_again(tmp_path: Path) -> None:
    (tmp_path / "tree").mkdir()
    (tmp_path / "tree" / "a").write_bytes(os.urandom(5000))
    for _ in range(2):
        pack_with(tmp_path / "tree" / "x.zip", [tmp_path / "tree"], part_size=2000)
        reader = open_archive(tmp_path / "tree" / "x.zip.001")
        assert [entry.path for entry in reader.catalog] == ["tree/", "tree/a"]
        reader.close()


def test_parts_of_what_repeats_itself_are_alike_and_no_doubles(tmp_path: Path) -> None:
    (tmp_path / "rows").write_bytes(os.urandom(50) * 40_000)
    (tmp_path / "zeros").write_bytes(bytes(500_000))
    for fmt in ("zip", "tar"):
        target = tmp_path / f"x.{fmt}"
        pack_with(target, [tmp_path / "rows", tmp_path / "zeros"], part_size=100_000, fmt=fmt, level=0)
        reader = open_archive(tmp_path / f"x.{fmt}.002")
        assert not reader.notices
        reader.close()


def _notices(archive: Path) -> str:
    reader = open_archive(archive)
    reader.close()
    return "\n".join(map(issue_line, reader.notices))


def test_missing_short_and_doubled_parts(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    folder = tmp_path / "p"
    folder.mkdir()
    for name in "abcdef":
        (tmp_path / name).write_bytes(os.urandom(50_000))
    target = folder / "x.zip"
    pack_with(target, [tmp_path / name for name in "abcdef"], part_size=50_000)
    third = (folder / "x.zip.003").read_bytes()

    (folder / "x.zip.003").unlink()
    assert main(["unpack", str(folder / "x.zip.001"), "--into", str(tmp_path / "out")]) == 1
    said = capsys.readouterr().err
    assert "part 3, “x.zip.003”, is not here; it should have 50,000 bytes and belongs between parts 2 and 4" in said
    came = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert 3 <= len(came) < 6
    for name in came:
        assert (tmp_path / "out" / name).read_bytes() == (tmp_path / name).read_bytes()

    (folder / "x.zip.003").write_bytes(third[:777])
    reader = open_archive(folder / "x.zip.004")
    assert "should have 50,000 bytes and has 777" in issue_line(reader.notices[0])
    reader.close()
    (folder / "x.zip.003").write_bytes((folder / "x.zip.002").read_bytes())
    reader = open_archive(folder / "x.zip.001")
    assert "same content as part 2" in issue_line(reader.notices[0])
    reader.close()
    (folder / "x.zip.003").write_bytes(third)
    (folder / "x.zip.0003").write_bytes(third)
    reader = open_archive(folder / "x.zip.001")
    assert "is there twice" in issue_line(reader.notices[0])
    reader.close()
    (folder / "x.zip.0003").unlink()
    last = max(folder.glob("x.zip.0*"))
    last.rename(folder / "elsewhere")
    assert f"“{last.name}”, the last one, is not here; it should have at most 50,000 bytes" in _notices(
        folder / "x.zip.001"
    )
    (folder / "x.zip.sha256").unlink()
    assert f"part {last.name[-1]} may belong to it, and is not here" in _notices(folder / "x.zip.001")

    pack_with(folder / "x.7z", [tmp_path / name for name in "abcdef"], part_size=50_000, fmt="7z")
    last = max(folder.glob("x.7z.0*"))
    last.rename(folder / "elsewhere")
    with pytest.raises(
        MissingPart, match=rf"here\. Part \d, “{last.name}”, the last one, is not here; it should have at"
    ):
        open_archive(folder / "x.7z.001")
    (folder / "x.7z.sha256").write_text(f"{'0' * 64} *x.7z.012\n")  # of an archive that had more
    with pytest.raises(MissingPart, match=r"parts that are here\. Part 7, .* 3 more are not all here\.$"):
        open_archive(folder / "x.7z.001")
    (folder / "elsewhere").rename(last)
    assert not _notices(folder / "x.7z.001")
    last.unlink()
    (folder / "x.7z.sha256").unlink()
    with pytest.raises(MissingPart, match=r"are not all of it\. Part \d should come next"):
        open_archive(folder / "x.7z.001")
    pack_with(folder / "x.tar", [tmp_path / name for name in "abcdef"], part_size=50_000, fmt="tar")
    damaged = bytearray((folder / "x.tar.001").read_bytes())
    damaged[3] ^= 1
    (folder / "x.tar.001").write_bytes(damaged)
    said = _notices(folder / "x.tar.001")
    assert "items are missing from the file list" in said and "may belong to it" not in said  # the last part is short
    (folder / "x.zip.001").unlink()
    with pytest.raises(MissingPart):
        open_archive(folder / "x.zip.002")
    for name in ("y.zip.9999", "z.zip.002"):
        (tmp_path / name).write_bytes(raw_zip([Raw(b"a")]))
        with pytest.raises(MissingPart, match="the first of them"):
            open_archive(tmp_path / name)
    (tmp_path / "report.2024").write_bytes(raw_zip([Raw(b"a")]))
    reader = open_archive(tmp_path / "report.2024")
    assert len(reader.catalog) == 1
    reader.close()


# Bytes before a gap that can't be decoded without those behind it, or the other way round: a block, for codecs that work in blocks.
BLOCKS = {"tar.bz2": 110_000, "tar.zst": 140_000}


@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE])
@pytest.mark.parametrize("left", [0, 30_000])
def test_what_other_parts_hold_comes_out(tmp_path: Path, fmt: str, left: int) -> None:
    """What lies before the gap of a missing or short part does, and what lies behind it in a zip, a tar, or a later block."""
    part, step = 50_000, 7_700  # bytes of a part; of a file with its headers at most
    datas = {f"{number:02}": os.urandom(7_000) for number in range(60)}
    for name, data in datas.items():
        (tmp_path / name).write_bytes(data)
    target = tmp_path / "p" / f"x.{fmt}"
    target.parent.mkdir()
    pack_with(target, [tmp_path / name for name in datas], fmt=fmt, part_size=part, level=1)
    parts = sorted(target.parent.glob("*.0*"))
    for gap in (1, 4, 7):
        whole = parts[gap].read_bytes()
        parts[gap].write_bytes(whole[:left])
        if not left:
            parts[gap].unlink()
        outcome = unpack_to(parts[0], tmp_path / f"out{gap}")
        parts[gap].write_bytes(whole)
        came = {path.name: path.read_bytes() for path in (tmp_path / f"out{gap}").iterdir()}
        assert came == {name: datas[name] for name in came}
        there = range((gap * part + left - BLOCKS.get(fmt, 0)) // step - 1)
        goes_on = fmt in ("zip", "tar", "tar.bz2")
        behind = range(((gap + 1) * part + BLOCKS.get(fmt, 0)) // 7_000 + 1, 60) if goes_on else ()
        assert {f"{number:02}" for number in (*there, *behind)} <= came.keys()
        said = "".join(map(issue_line, outcome.issues))
        assert parts[gap].name in said
        assert all(f"{name}: was left out" in said for name in datas if name not in came) or re.search(
            "the file list ends after|items (are|may be) missing from the file list|x.tar: was left out", said
        )


def test_a_zip_divided_by_its_own_rules(tmp_path: Path) -> None:
    """Offsets count from the part that an entry begins in (section 8 of the application note)."""
    datas = {b"a": os.urandom(900), b"b": os.urandom(900), b"c": os.urandom(300)}
    body, rows = b"", []
    for name, data in datas.items():
        rows.append((name, data, len(body)))
        body += struct.pack(
            "<4s5H3I2H", b"PK\x03\x04", 20, 0, 0, 0, 33, zlib.crc32(data), len(data), len(data), len(name), 0
        )
        body += name + data
    cut = 1000
    central = b""
    for name, data, offset in rows:
        disk, inside = divmod(offset, cut)
        central += struct.pack(
            "<4s4B4H3I5H2I", b"PK\x01\x02", 20, 3, 20, 0, 0, 0, 0, 33, zlib.crc32(data), len(data), len(data),
            len(name), 0, 0, disk, 0, 0o100644 << 16, inside,
        ) + name  # fmt: skip
    start = len(body)
    end = struct.pack("<4s4H2IH", b"PK\x05\x06", start // cut, start // cut, 3, 3, len(central), start % cut, 0)
    whole = body + central + end
    pieces = [whole[i * cut : (i + 1) * cut] for i in range(start // cut)] + [whole[start // cut * cut :]]
    for number, piece in enumerate(pieces[:-1], 1):
        (tmp_path / f"x.z{number:02}").write_bytes(piece)
    (tmp_path / "x.zip").write_bytes(pieces[-1])
    for part in ("x.zip", "x.z01"):
        outcome = unpack_to(tmp_path / part, tmp_path / f"out {part}")
        assert not outcome.issues
        assert {p.name.encode(): p.read_bytes() for p in (tmp_path / f"out {part}").iterdir()} == datas
    (tmp_path / "x.z01").write_bytes(pieces[0].replace(datas[b"a"][:100], bytes(100)))
    with closing(open_archive(tmp_path / "x.zip")) as reader:
        salvage(reader, tmp_path / "saved.zip", by_id("zip").info)
    with zipfile.ZipFile(tmp_path / "saved.zip") as saved:
        rest = {name: data for name, data in datas.items() if name != b"a"}
        assert {entry.filename.encode(): saved.read(entry) for entry in saved.infolist()} == rest
        assert all(entry.volume == 0 for entry in saved.infolist())
    (tmp_path / "x.zip").unlink()
    with pytest.raises(MissingPart, match="holds the file list"):
        open_archive(tmp_path / "x.z01")


def test_what_a_format_can_not_do_is_said_before(tmp_path: Path) -> None:
    (tmp_path / "a").touch()
    impossible: list[tuple[str, dict[str, Any], str]] = [
        ("tar", {"password": "x"}, "can't be locked"),
        ("zip", {"hide_names": True, "password": "x"}, "can't hide the names"),
        ("tar.gz", {"method": "zstd"}, "no method"),
    ]
    for fmt, options, words in impossible:
        with pytest.raises(PlanError, match=words):
            pack_with(tmp_path / f"x.{fmt}", [tmp_path / "a"], fmt=fmt, **options)


def test_locks_and_parts_on_the_command_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "a").write_bytes(os.urandom(30_000))
    monkeypatch.chdir(tmp_path)

    def run(*words: str, password: str = "") -> tuple[int, str]:
        monkeypatch.setattr("sys.stdin", io.StringIO(password + "\n"))
        status = main(list(words))
        return status, capsys.readouterr().err

    assert run("pack", "x.zip", "a", "--password-stdin", "--part-size", "10kB", password="pw") == (0, "")
    assert (tmp_path / "x.zip.001").stat().st_size == 10_000
    assert run("pack", "x.zip", "a", "--part-size", "10kB")[0] == 2
    assert run("list", "x.zip.002") == (0, "")
    status, err = run("unpack", "x.zip.001", "--into", "out")
    assert (status, err) == (2, "rundlet: “x.zip” is locked with a password. Give its password.\n")
    status, err = run("unpack", "x.zip.001", "--into", "out", "--password-stdin", password="px")
    assert (status, err) == (2, "rundlet: The password does not open “x.zip”.\n")
    assert not (tmp_path / "out").exists()
    assert run("unpack", "x.zip.003", "--into", "out", "--password-stdin", password="pw") == (0, "")
    assert (tmp_path / "out" / "a").read_bytes() == (tmp_path / "a").read_bytes()
    assert run("check", "x.zip.001", "--password-stdin", password="pw")[0] == 0
    assert run("pack", "y.zip", "a", "--password-stdin")[0] == 2
    assert run("pack", "y.tar", "a", "--password-stdin", password="pw")[0] == 2


names = st.text(
    st.characters(exclude_characters="/\0", exclude_categories=("Cs", "Cc")), min_size=1, max_size=20
).filter(lambda n: n not in (".", "..") and len(n.encode()) < 200)
trees = st.recursive(
    st.binary(max_size=3000) | st.just("link"), lambda below: st.dictionaries(names, below, max_size=4), max_leaves=12
)


def _build(place: Path, tree: object) -> None:
    if isinstance(tree, dict):
        place.mkdir()
        for name, below in tree.items():
            _build(place / name, below)
    elif tree == "link":
        place.symlink_to("somewhere")
    else:
        assert isinstance(tree, bytes)
        place.write_bytes(tree)


@at_length_too
@example(tree={}, fmt="7z", level=1, lock="pass", part=4321, depth=40, large=1_300_000)
@example(tree={}, fmt="zip", level=1, lock="pass", part=0, depth=40, large=1_300_000)
@example(
    tree={"0": b"PK\x05\x06"}, fmt="tar", level=0, lock="", part=0, depth=0, large=0
)  # was once taken for a zip with a stub
@given(
    tree=st.dictionaries(names, trees, max_size=4),
    fmt=st.sampled_from([known.info.id for known in WRITABLE]),
    level=st.integers(0, 7),
    lock=st.sampled_from(["", "", "pass"]),
    part=st.sampled_from([0, 0, 1000, 4321]),
    depth=st.sampled_from([0, 0, 0, 40]),
    large=st.sampled_from([0, 0, 0, 70_000, 1_300_000]),
)
@settings(
    max_examples=rounds(25, 120), suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
def test_any_tree_comes_back(
    tmp_path: Path, tree: dict[str, Any], fmt: str, level: int, lock: str, part: int, depth: int, large: int
) -> None:
    """Odd names, empty things, links, deep folders, large files: packed any way it is the same when it comes out."""
    place = tmp_path / str(next(_numbers))
    place.mkdir()
    _build(place / "top", tree)
    if depth or large:
        deepest = place.joinpath("top", "deep and large", *["d"] * depth)
        deepest.mkdir(parents=True)
        words = b"%d drops and %d leaves, " * (large // 24) % tuple(range(large // 24 * 2))
        (deepest / "large").write_bytes(random.Random(large).randbytes(large // 4) + words[: large // 2])
    part = max(part, large // 40) if part else 0
    target = place / f"x.{fmt}"
    password = lock if fmt in ("zip", "7z") else ""
    hide = bool(password) and fmt == "7z" and bool(level % 2)
    pack_with(target, [place / "top"], fmt=fmt, level=level, password=password, hide_names=hide, part_size=part)
    reader = open_archive(place / f"x.{fmt}.001" if part else target, Opening(password=password or None))
    if password and not reader.unlocked:
        reader.unlock(password)
    outcome = unpack(plan_unpack(reader, into=place / "out"), reader)
    reader.close()
    assert not outcome.issues
    assert snapshot(place / "out" / "top") == snapshot(place / "top")


_numbers = itertools.count()
