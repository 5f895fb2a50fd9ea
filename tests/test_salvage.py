"""What is intact in a damaged archive comes out of it, all of it and nothing else."""

from __future__ import annotations

import gzip
import io
import itertools
import json
import os
import random
import tarfile
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

import second_reader
from rundlet.cli.main import main
from rundlet.core.codecs.zstd_library import zstd
from rundlet.core.errors import PasswordNeeded, RundletError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.formats.sevenz.reader import SevenReader
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.checker import check
from rundlet.core.work.packer import pack
from rundlet.core.work.salvager import salvage
from support import at_length_too, contents, pack_to, read_whole, rounds, scratch, xz_in_blocks

FORMATS = ("zip", "7z", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst")
_STEP = 512
_PIECE = 100_000
_CHECKED = {int(zstd.CompressionParameter.checksum_flag): 1}
PIECES: dict[str, Callable[[list[bytes]], bytes]] = {
    "tar.gz": lambda pieces: b"".join(map(gzip.compress, pieces)),
    "tar.xz": xz_in_blocks,
    "tar.zst": lambda pieces: b"".join(zstd.compress(piece, options=_CHECKED) for piece in pieces),
}
"""Ours begin anew only after megabytes."""


def tree(folder: Path, seed: int = 1) -> dict[str, bytes]:
    """Files of many sizes, some of them text and some of them noise, by their paths in an archive of the folder."""
    chance = random.Random(seed)
    found = {}
    words = [chance.randbytes(4).hex() for _ in range(400)]
    for number in range(70):
        size = int(2 ** chance.uniform(3, 17.5))
        text = " ".join(chance.choices(words, k=size // 9 + 1)).encode()[:size]
        data = chance.randbytes(size) if number % 3 == 0 else text
        name = f"tree/{number % 4}/{number:02}.{'bin' if number % 3 == 0 else 'txt'}"
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        found[name] = data
    (folder / "tree/link").symlink_to("0/00.bin")
    os.link(folder / "tree/1/01.txt", folder / "tree/twin.txt")
    found["tree/twin.txt"] = found["tree/1/01.txt"]
    return found


@dataclass(frozen=True)
class Damage:
    """What is done to an archive.

    Attributes:
        how: flip a bit, write noise or zeros over a stretch, cut off what is behind it, or take it out.
        begin, end: the stretch.
    """

    how: str
    begin: int
    end: int

    def of(self, data: bytes, chance: random.Random) -> bytes:
        """The damaged bytes."""
        begin, end = self.begin, self.end
        if self.how == "flip":
            return data[:begin] + bytes([data[begin] ^ 1 << chance.randrange(8)]) + data[begin + 1 :]
        if self.how == "cut off":
            return data[:begin]
        between = {"zeros": bytes(end - begin), "noise": chance.randbytes(end - begin), "taken out": b""}[self.how]
        return data[:begin] + between + data[end:]

    def hits(self, begin: int, end: int) -> bool:
        """Whether any of these bytes is touched."""
        return self.begin < end and begin < self.end


def damages(chance: random.Random, size: int) -> Damage:
    how = chance.choice(["flip", "zeros", "noise", "cut off", "taken out"])
    begin = chance.randrange(6, size)  # what begins with something else is no archive of any format
    length = 1 if how == "flip" else size - begin if how == "cut off" else int(2 ** chance.uniform(2, 16))
    return Damage(how, begin, min(begin + length, size))


def pieces_of(archive: Path, fmt: str) -> tuple[list[tuple[str, list[tuple[int, int]]]], list[tuple[int, int]]]:
    """For each file the stretches of an intact archive that it can't do without, and those that nothing can do without."""
    with closing(open_archive(archive)) as reader:
        rows = np.flatnonzero(np.isin(reader.catalog.kind, (Kind.FILE, Kind.HARD))).tolist()
        size = archive.stat().st_size
        paths = [reader.catalog.path(row) for row in rows]
        vital: list[tuple[int, int]] = []
        needs: list[list[tuple[int, int]]] = []
        if isinstance(reader, SevenReader):
            ends = [end for row in rows if (place := reader.raw_range(row)) is not None for end in [place[1]]]
            vital = [(max(ends), size)]
            needs = [[reader.raw_range(row) or (0, 0)] for row in rows]
        elif isinstance(reader, TarReader):
            index = reader.index
            for row in rows:
                at = [row, *([reader.hard_target(row) or row] if reader.catalog.kind[row] == Kind.HARD else [])]
                stretches = []
                for one in at:
                    begin = int(index.data_at[one - 1] + -(-index.stored[one - 1] // _STEP) * _STEP) if one else 0
                    stretches.append((begin, int(index.data_at[one] + index.stored[one])))
                needs.append(stretches)
            if fmt != "tar":
                points = [point for point in index.points if not point.window]
                bounds = [(p.packed, q.packed, p.plain, q.plain) for p, q in itertools.pairwise(points)]
                bounds.append((points[-1].packed, size, points[-1].plain, 1 << 60))
                needs = [
                    [
                        (max(a - 8, 0), b + 8)
                        for a, b, plain, stop in bounds
                        for begin, end in stretches
                        if begin < stop and plain < end
                    ]
                    for stretches in needs
                ]
        else:
            starts = (reader.extents(np.array(rows)) or ((),))[0]
            for row, start in zip(rows, starts, strict=True):
                place = reader.raw_range(row)
                needs.append([(int(start), place[1] if place else int(start))])
        return list(zip(paths, needs, strict=True)), vital


def read(archive: Path, fmt: str) -> Iterator[tuple[str, bytes]]:
    """What a second reader finds in an archive."""
    if fmt == "zip":
        with zipfile.ZipFile(archive) as zipped:
            assert read_whole(zipped)
            for info in zipped.infolist():
                if not info.is_dir() and info.external_attr >> 28 != 0o12:
                    yield info.filename, zipped.read(info)
    elif fmt == "7z":
        for entry in second_reader.read(archive.read_bytes()):
            is_link = (entry.attributes or 0) >> 28 == 0o12
            if not entry.is_folder and not is_link:
                yield entry.name, entry.data
    else:
        data = archive.read_bytes()
        if fmt == "tar.zst":
            data = zstd.decompress(data)
        with tarfile.open(fileobj=io.BytesIO(data)) as tar:
            for member in tar.getmembers():
                if member.isfile() or member.islnk():
                    file = tar.extractfile(member)
                    assert file is not None
                    yield member.name, file.read()


@at_length_too
@pytest.mark.timeout(1800)
@pytest.mark.parametrize("fmt", FORMATS)
def test_all_that_is_intact_comes_out(fmt: str, tmp_path: Path, record_property: Callable[[str, object], None]) -> None:
    """Against the best that is possible, which is known from where the damage lies."""
    original = tree(tmp_path)
    whole = tmp_path / f"whole.{fmt}"
    if fmt in PIECES:
        pack_to(tmp_path / "whole.tar", [tmp_path / "tree"], fmt="tar")
        plain = (tmp_path / "whole.tar").read_bytes()
        whole.write_bytes(PIECES[fmt]([plain[at : at + _PIECE] for at in range(0, len(plain), _PIECE)]))
    else:
        pack_to(whole, [tmp_path / "tree"], fmt=fmt)
    needs, vital = pieces_of(whole, fmt)
    data = whole.read_bytes()
    best = saved = more = 0
    middle = len(data) // 2
    always = [
        Damage("taken out", middle, middle + 333),
        Damage("zeros", middle, middle + 2048),
        Damage("zeros", 8, 32),  # what leads to the list of a 7z
    ]
    for seed in range(rounds(7, 200)):
        chance = random.Random(f"{fmt} {seed}")
        damage = always[seed] if seed < len(always) else damages(chance, len(data))
        required = {
            path for path, stretches in needs if not any(damage.hits(*stretch) for stretch in [*stretches, *vital])
        }
        with scratch() as folder:
            broken = folder / f"broken.{fmt}"
            broken.write_bytes(damage.of(data, chance))
            found = saved_of(broken, fmt)
        wrong = {path for path, held in found.items() if held != original.get(path)}
        wrong -= {path for path in wrong if "(may be damaged)" in path}  # which says so
        wrong -= {"tree/link"}  # that an item is a link is said nowhere but in a zip's file list
        if fmt == "tar":  # which keeps no checksums of contents
            wrong &= required
        assert not wrong, (seed, damage, wrong)
        missing = required - set(found)
        best += len(required)
        saved += len(required) - len(missing)
        more += len(set(found) - required)
        assert not missing, (seed, damage, sorted(missing))
    assert best and saved == best
    record_property("saved", f"{saved} of {best} that could be, and {more} more")


@pytest.mark.parametrize("mode", ["gz", "xz", "bz2"])
def test_what_stands_before_the_damage_in_one_stream_is_saved(mode: str, tmp_path: Path) -> None:
    """C4: one checksum at the end vouches for all, so nothing is proven; it is saved all the same and named so, and what is
    damaged is not."""
    chance = random.Random(mode)
    contents = {f"f{number:02}": chance.randbytes(200_000) for number in range(40)}
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode=f"w:{mode}") as writing:  # type: ignore[call-overload]
        for name, data in contents.items():
            member = tarfile.TarInfo(name)
            member.size = len(data)
            writing.addfile(member, io.BytesIO(data))
    whole = packed.getvalue()
    for place in (20, 35, 50, 65, 80):
        begin = len(whole) * place // 100
        broken = tmp_path / f"broken{place}.tar.{mode}"
        broken.write_bytes(whole[:begin] + chance.randbytes(40) + whole[begin + 40 :])
        out = tmp_path / f"saved{place}.tar.{mode}"
        with closing(open_archive(broken)) as reader:
            checked = check(reader)
            outcome = salvage(reader, out, by_id(f"tar.{mode}").info)
        found = dict(read(out, f"tar.{mode}"))
        proven = {name: data for name, data in found.items() if "(may be damaged)" not in name}
        doubted = {name.replace(" (may be damaged)", ""): data for name, data in found.items() if name not in proven}
        assert len(found) >= 40 * place // 100 - 6 and outcome.doubtful == len(doubted) == checked.doubtful
        assert proven.items() <= contents.items() and checked.intact == len(proven)
        right = sum(contents.get(name) == data for name, data in doubted.items())
        assert len(doubted) - right <= 2 and checked.problems  # what was met before the damage was noticed


def saved_of(broken: Path, fmt: str) -> dict[str, bytes]:
    """What salvaging gives, as a second reader sees it."""
    out = broken.with_name(f"saved.{fmt}")
    try:
        with closing(open_archive(broken)) as reader:
            salvage(reader, out, by_id(fmt).info)
    except RundletError:
        assert not list(broken.parent.glob("saved*")) and len(list(broken.parent.iterdir())) == 1
        return {}
    return dict(read(out, fmt))


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """C4: a report beside the new archive, damaged files as far as they can be read, and nothing where all is lost."""
    original = tree(tmp_path)
    big = random.Random(3).randbytes(300_000)
    (tmp_path / "tree/big.bin").write_bytes(big)
    (tmp_path / "tree/long.txt").write_bytes(b"".join(b"%d\n" % number for number in range(60_000)))
    pack_to(tmp_path / "whole.zip", [tmp_path / "tree"])
    data = bytearray((tmp_path / "whole.zip").read_bytes())
    with closing(open_archive(tmp_path / "whole.zip")) as reader:
        for row in range(len(reader.catalog)):
            if reader.catalog.path(row) in ("tree/big.bin", "tree/long.txt", "tree/0/00.bin"):
                begin, end = reader.raw_range(row) or (0, 0)
                data[(begin + end) // 2 : end] = bytes(end - (begin + end) // 2)
    broken, out = tmp_path / "broken.zip", tmp_path / "saved.zip"
    broken.write_bytes(data)
    assert main(["salvage", str(broken), str(out)]) == 1
    said, told = capsys.readouterr()
    assert "Saved" in said and "3 items are lost or damaged." in said and "big.bin" in told
    lost = {"tree/0/00.bin"}
    found = dict(read(out, "zip"))
    assert found == {path: held for path, held in original.items() if path not in lost}
    report = (tmp_path / "saved report.txt").read_text()
    assert str(broken) in report and "✗ damaged  tree/big.bin" in report and "✓ intact  tree/1/01.txt" in report
    assert main(["salvage", str(broken), str(out)]) == 2  # its name is taken
    capsys.readouterr()
    assert main(["salvage", "--json", "--damaged-too", "--on-clash", "rename", str(broken), str(out)]) == 1
    value = json.loads(capsys.readouterr().out)["result"]
    assert (value["parts"], value["damaged"], value["files"]) == (3, 3, len(found))
    first, second = (Path(path) for path in value["created"])
    assert second.name == f"{first.stem} report.txt" and first != out and value["taken_over"] == len(found)
    more = dict(read(first, "zip"))
    assert more.pop("tree/big (damaged).bin")[:150_000] == big[:150_000]
    beginning = more.pop("tree/long (damaged).txt")
    assert len(beginning) > 60_000 and (tmp_path / "tree/long.txt").read_bytes()[:60_000] == beginning[:60_000]
    assert more.pop("tree/0/00 (damaged).bin") and more == found
    assert main(["salvage", str(broken), str(tmp_path / "saved.tar.gz")]) == 1  # another format
    assert dict(read(tmp_path / "saved.tar.gz", "tar.gz")) == found
    (tmp_path / "cut.7z").write_bytes(b"7z\xbc\xaf\x27\x1c" + bytes(100))
    assert main(["salvage", str(tmp_path / "cut.7z"), str(tmp_path / "x.7z")]) == 2
    single = tmp_path / "only.zip"
    with zipfile.ZipFile(single, "w") as zipped:
        zipped.writestr("a.txt", b"content")
    single.write_bytes(single.read_bytes().replace(b"content", b"CONTENT"))
    capsys.readouterr()
    assert main(["salvage", str(single), str(tmp_path / "x.zip")]) == 2
    assert "Nothing in “only.zip” is intact" in capsys.readouterr().err and not (tmp_path / "x.zip").exists()


@pytest.mark.parametrize("fmt", ["zip", "tar"])
def test_a_missing_part(tmp_path: Path, fmt: str) -> None:
    """A file with a hole where a part is missing keeps what stands on both sides of it."""
    (tmp_path / "tree").mkdir()
    noise = random.Random(1).randbytes(100_000)
    (tmp_path / "tree/big.bin").write_bytes(noise)
    (tmp_path / "tree/small.txt").write_bytes(b"small")
    (tmp_path / "parts").mkdir()
    info = by_id(fmt).info
    target = tmp_path / "parts" / f"x{info.ending}"
    pack(plan_pack([tmp_path / "tree"], target=target, info=info, options=WriteOptions(0), part_size=40_000))
    (tmp_path / "parts" / f"{target.name}.002").unlink()
    with closing(open_archive(tmp_path / "parts" / f"{target.name}.001")) as reader:
        outcome = salvage(reader, tmp_path / f"out.{fmt}", info, parts_too=True)
    assert (outcome.files, outcome.parts, outcome.missing) == (1, 1, 1)
    found = dict(read(tmp_path / f"out.{fmt}", fmt))
    held = found["tree/big (damaged).bin"]
    zeros = bytes(40_000)
    assert found["tree/small.txt"] == b"small" and len(held) == len(noise)
    at = held.find(zeros[:30_000])
    assert at > 30_000 and at < 40_000 and held[:at] == noise[:at] and held[at + 40_000 :] == noise[at + 40_000 :]


def test_a_link_goes_with_what_it_leads_to(tmp_path: Path) -> None:
    """A further name of a file that another one of the same name hides has what the first one had."""
    broken, out = tmp_path / "broken.tar", tmp_path / "out.tar"
    with tarfile.open(broken, "w") as theirs:
        for name, data in (("a", b"first"), ("b", None), ("a", b"other")):
            info = tarfile.TarInfo(name)
            info.size = len(data or b"")
            if data is None:
                info.type, info.linkname = tarfile.LNKTYPE, "a"
            theirs.addfile(info, io.BytesIO(data or b""))
    with closing(open_archive(broken)) as reader:
        salvage(reader, out, by_id("tar").info)
    with tarfile.open(out) as saved:
        assert {name: (saved.extractfile(name) or io.BytesIO()).read() for name in ("a", "b")} == {
            "a": b"other",
            "b": b"first",
        }


def test_what_is_more_than_it_says_is_not_written(tmp_path: Path) -> None:
    """What is saved of a damaged file never takes more room than the file."""
    with zipfile.ZipFile(tmp_path / "x.zip", "w", zipfile.ZIP_DEFLATED) as theirs:
        theirs.writestr("a.bin", bytes(5_000_000))
        theirs.writestr("b.txt", b"intact")
    data = (tmp_path / "x.zip").read_bytes()
    assert data.count((5_000_000).to_bytes(4, "little")) == 2
    (tmp_path / "x.zip").write_bytes(data.replace((5_000_000).to_bytes(4, "little"), (3000).to_bytes(4, "little")))
    with closing(open_archive(tmp_path / "x.zip")) as reader:
        outcome = salvage(reader, tmp_path / "out.zip", by_id("zip").info, parts_too=True)
    assert (outcome.files, outcome.parts, outcome.bytes_in) == (1, 1, (tmp_path / "x.zip").stat().st_size)
    assert dict(read(tmp_path / "out.zip", "zip")) == {"b.txt": b"intact", "a (damaged).bin": bytes(3000)}


@pytest.mark.parametrize("fmt", ["zip", "7z"])
def test_a_locked_archive(tmp_path: Path, fmt: str) -> None:
    """What is locked is taken over under its lock; without the password nothing is."""
    original = tree(tmp_path)
    whole = tmp_path / f"whole.{fmt}"
    options = WriteOptions(5, password="word")
    pack(plan_pack([tmp_path / "tree"], target=whole, info=by_id(fmt).info, options=options))
    data = bytearray(whole.read_bytes())
    data[3000] ^= 1
    whole.write_bytes(data)
    out = tmp_path / f"out.{fmt}"
    with closing(open_archive(whole)) as reader:
        with pytest.raises(PasswordNeeded):
            salvage(reader, out, by_id(fmt).info)
        reader.unlock("word")
        outcome = salvage(reader, out, by_id(fmt).info, options=options)
        assert 0 < outcome.taken_over <= outcome.files < len(original) and not outcome.unreadable
        plain = salvage(reader, tmp_path / f"plain.{fmt}", by_id(fmt).info)
        assert plain.files == outcome.files and not plain.taken_over
    with closing(open_archive(out)) as again:
        assert again.catalog.encrypted[again.catalog.size > 0].all()
        again.unlock("word")
        held = contents(again, [Kind.FILE])
    assert held == {path: original[path] for path in held} and len(held) >= outcome.files - 1
    assert dict(read(tmp_path / f"plain.{fmt}", fmt)).keys() >= held.keys()
