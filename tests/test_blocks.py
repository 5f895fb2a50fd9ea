"""Compressed streams made of blocks: read side by side, gone on with from any block, damaged anywhere."""

from __future__ import annotations

import bz2
import lzma
import random
import struct
import zlib
from collections.abc import Callable

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rundlet.core.codecs import bzip2_blocks, xz_blocks
from rundlet.core.errors import Corrupt, RundletError, Truncated
from rundlet.core.formats import compressed_stream as packed
from rundlet.core.formats.compressed_stream import Notes, Point, decoded, packing_of
from rundlet.core.streams.sources import MemorySource
from support import xz_in_blocks


def pieces(seed: int, sizes: list[int]) -> list[bytes]:
    rng = random.Random(seed)
    return [(rng.randbytes(size // 2) + b"brook " * (size // 12 + 1))[:size] for size in sizes]


def bzip2_stream(parts: list[bytes]) -> bytes:
    return bz2.compress(b"".join(parts), 1)  # a block for each 100 kB


def bzip2_streams(parts: list[bytes]) -> bytes:
    return b"".join(bz2.compress(part, 1) for part in parts)


def xz_streams(parts: list[bytes]) -> bytes:
    return xz_in_blocks(parts[:2]) + bytes(8) + xz_in_blocks(parts[2:]) + lzma.compress(b"")


WRITERS: dict[str, Callable[[list[bytes]], bytes]] = {
    "bzip2": bzip2_stream,
    "bzip2, several": bzip2_streams,
    "xz": xz_in_blocks,
    "xz, several": xz_streams,
}


BEGINNING = Point(0, 0)


def read(data: bytes, *, start: Point = BEGINNING, notes: Notes | None = None, workers: int = 1) -> bytes:
    packing = packing_of(data[:16])
    assert packing is not None
    source = MemorySource(data, "x")
    return b"".join(decoded(source, packing, start=start, notes=notes or Notes(within=True), workers=workers))


@pytest.fixture(autouse=True)
def a_place_at_every_block(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(packed, "_BLOCK_SPACING", 1)


@pytest.mark.parametrize("writer", WRITERS)
@given(seed=st.integers(0, 9), sizes=st.lists(st.sampled_from([0, 1, 5, 900, 99_999, 250_000]), max_size=5))
@settings(max_examples=12)
def test_any_block_is_a_place_to_go_on_from(writer: str, seed: int, sizes: list[int]) -> None:
    parts = pieces(seed, sizes)
    plain, data = b"".join(parts), WRITERS[writer](parts)
    if not data:
        return
    for workers in (1, 3):
        notes = Notes(within=True)
        assert read(data, notes=notes, workers=workers) == plain
        assert [point.plain for point in notes.points] == sorted(point.plain for point in notes.points)
        assert writer != "xz" or len(notes.points) == max(sum(size > 0 for size in sizes), 1)
        for point in notes.points:
            assert read(data, start=point, workers=workers) == plain[point.plain :]


SAMPLES = {
    name: (b"".join(parts), write(parts)) for name, write in WRITERS.items() for parts in [pieces(3, [120_000] * 4)]
}


def survives(plain: bytes, data: bytes) -> None:
    """Right data with the fault named at its end, or all of it when nothing that counts was hit."""
    packing = packing_of(data[:16])
    if packing is None:
        return
    found = b""
    try:
        for chunk in decoded(MemorySource(data, "x"), packing, notes=Notes(within=True), workers=2):
            found += chunk
    except RundletError:
        pass
    assert plain.startswith(found)


@pytest.mark.parametrize("writer", WRITERS)
@given(at=st.integers(0, 1 << 30), change=st.integers(0, 255), cut=st.booleans())
@settings(max_examples=60)
def test_damaged_anywhere(writer: str, at: int, change: int, cut: bool) -> None:
    plain, data = SAMPLES[writer]
    at %= len(data)
    survives(plain, data[:at] if cut else data[:at] + bytes([data[at] ^ change]) + data[at + 1 :])


def test_what_only_looks_like_a_block_is_read_over(monkeypatch: pytest.MonkeyPatch) -> None:
    plain, data = SAMPLES["bzip2"]
    real = bzip2_blocks.marks
    monkeypatch.setattr(bzip2_blocks, "marks", lambda *a: sorted([*real(*a), (200_000, False), (900_003, False)]))
    for workers in (1, 3):
        assert read(data, workers=workers) == plain
    monkeypatch.setattr(bzip2_blocks, "marks", lambda *a: sorted([*real(*a), (200_000, False), (200_008, False)]))
    with pytest.raises(Corrupt, match="“x” is damaged within its packed data"):
        read(data)


def test_lies_of_streams_are_said() -> None:
    data = SAMPLES["bzip2"][1]
    for wrong, error in (
        (data[:-2] + bytes([data[-2] ^ 1]) + data[-1:], Corrupt),  # the checksum of it all
        (data[:-6], Truncated),
        (data[:3] + b"0" + data[4:], Corrupt),
        (data[:4] + b"123456" + data[10:], Corrupt),
        (data[:7], Truncated),
    ):
        with pytest.raises(error):
            read(wrong)
    longer = xz_in_blocks([b"a" * 1000, b"b" * 1000], claims=[1000, 999])
    assert len(xz_blocks.streams(MemorySource(longer, "x").read_at, len(longer))[0].blocks) == 2
    with pytest.raises(Corrupt):
        read(longer)
    with pytest.raises(Corrupt, match="is not what it was when it was listed"):
        read(SAMPLES["xz"][1], start=Point(40, 40, 0, b""))


def test_a_hostile_index_ends_at_once() -> None:
    flags = b"\0\x01"
    head = b"\xfd7zXZ\0" + flags + struct.pack("<I", zlib.crc32(flags))
    endless = b"\0\x01" + b"\x80" * 2_000_000 + b"\0\0"
    endless += struct.pack("<I", zlib.crc32(endless))
    rest = struct.pack("<I", len(endless) // 4 - 1) + flags
    foot = struct.pack("<I", zlib.crc32(rest)) + rest + b"YZ"
    for data in (head + endless + foot, head + bytes(4_000_000), bytes(4_000_000), b""):
        assert xz_blocks.streams(MemorySource(data, "x").read_at, len(data)) == []
