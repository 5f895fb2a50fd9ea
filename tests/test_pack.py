"""Packing: what goes in, what is said, and that an archive is there whole or not at all."""

from __future__ import annotations

import os
import socket
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from rundlet.core.errors import Cancelled, Clash, Corrupt, FileProblem, OutOfDate, PlanError
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.formats.zip.writer import ZipWriter
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.jobs.job import Job
from rundlet.core.model.file_type import FileType
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import PackClash, plan_pack, suggested_stem
from rundlet.core.streams import sinks
from rundlet.core.work.packer import pack
from rundlet.core.work.sample import take_sample
from rundlet.core.work.trial import Point, on_cores, predicted, that_fits, trial, try_one, worth_showing
from rundlet.presentation.findings import issue_line
from support import long, make_tree, pack_to, snapshot, unpack_to

ZIP = by_id("zip").info


def paths_in(archive: Path) -> list[str]:
    reader = open_archive(archive)
    try:
        return [entry.path for entry in reader.catalog]
    finally:
        reader.close()


def test_the_plan_counts_and_leaves_out(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    plan = plan_pack([tree], target=tmp_path / "x.zip", info=ZIP, level=5, exclude=["*.bin", "tree/in/deep"])
    names = [item.path for item in plan.items]
    assert names == sorted(names)
    assert not [n for n in names if "deep" in n.split("/") or n.endswith(".bin")]
    assert (plan.files, plan.folders, plan.links) == (3, 3, 1)
    assert plan.size == sum(p.lstat().st_size for p in tree.rglob("*") if p.name in ("empty", "plain.txt", "large.csv"))


def test_items_of_one_name_and_items_that_are_gone(tmp_path: Path) -> None:
    for folder in "ab":
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "same.txt").write_text(folder)
    items = [tmp_path / "a" / "same.txt", tmp_path / "b" / "same.txt", tmp_path / "gone"]
    outcome = pack_to(tmp_path / "x.zip", items)
    assert paths_in(tmp_path / "x.zip") == ["same.txt", "same (2).txt"]
    assert [issue.problem for issue in outcome.issues] == [True, True]
    with pytest.raises(PlanError, match=r"nothing to pack.*gone"):
        plan_pack([tmp_path / "gone"], target=tmp_path / "y.zip", info=ZIP, level=5)


def test_special_and_unreadable_files_are_named_and_left_out(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "f"
    folder.mkdir()
    (folder / "good").write_bytes(b"x")
    (folder / "big").write_bytes(os.urandom(3 << 20))
    (folder / "bad").write_bytes(b"y")
    os.mkfifo(folder / "pipe")
    monkeypatch.chdir(folder)
    with socket.socket(socket.AF_UNIX) as sock:
        sock.bind("socket")
    plan = plan_pack([folder], target=tmp_path / "x.zip", info=ZIP, level=5)
    (folder / "bad").unlink()
    (folder / "big").unlink()
    outcome = pack(plan)
    assert sorted(issue_line(issue).split(":")[0] for issue in outcome.problems) == [
        "f/bad",
        "f/big",
        "f/pipe",
        "f/socket",
    ]
    assert paths_in(tmp_path / "x.zip") == ["f/", "f/good"]


def test_names_that_are_taken(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x")
    target = tmp_path / "x.zip"
    target.write_bytes(b"the old one")
    with pytest.raises(Clash, match="already there"):
        plan_pack([tmp_path / "a"], target=target, info=ZIP, level=5)
    plan = plan_pack([tmp_path / "a"], target=target, info=ZIP, level=5, on_clash=PackClash.RENAME)
    assert plan.target.name == "x (2).zip"
    plan.target.write_bytes(b"quicker")
    with pytest.raises(OutOfDate):
        pack(plan)
    pack(plan_pack([tmp_path / "a"], target=target, info=ZIP, level=5, on_clash=PackClash.REPLACE))
    assert paths_in(target) == ["a"]
    (tmp_path / "dir.zip").mkdir()
    with pytest.raises(Clash):
        plan_pack([tmp_path / "a"], target=tmp_path / "dir.zip", info=ZIP, level=5, on_clash=PackClash.REPLACE)
    with pytest.raises(PlanError, match="no folder"):
        plan_pack([tmp_path / "a"], target=tmp_path / "no" / "x.zip", info=ZIP, level=5)


def test_the_archive_does_not_go_into_itself(tmp_path: Path) -> None:
    folder = tmp_path / "f"
    folder.mkdir()
    (folder / "a").touch()
    pack_to(folder / "self.zip", [folder])
    pack_to(folder / "self.zip", [folder])
    assert paths_in(folder / "self.zip") == ["f/", "f/a"]


class _CancelledAt(Job):
    def __init__(self, step: int) -> None:
        super().__init__()
        self._step = step

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        self._step -= 1
        if self._step == 0:
            self.cancel()
        super().advance(count, entries=entries)


@pytest.mark.parametrize("named", [False, True], ids=["without a name", "with a temporary name"])
@pytest.mark.parametrize("step", [1, 3, 5])
def test_cancelled_it_leaves_nothing_and_the_old_one_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: int, named: bool
) -> None:
    tree = make_tree(tmp_path)
    (tmp_path / "out").mkdir()
    target = tmp_path / "out" / "x.zip"
    target.write_bytes(b"the old one")
    if named:
        monkeypatch.setattr(sinks, "_need_names", {tmp_path.stat().st_dev})
    plan = plan_pack([tree], target=target, info=ZIP, level=5, on_clash=PackClash.REPLACE)
    with pytest.raises(Cancelled):
        pack(plan, _CancelledAt(step))
    assert [(p.name, p.read_bytes()) for p in target.parent.iterdir()] == [("x.zip", b"the old one")]
    pack(plan)
    assert len(paths_in(target)) == len(plan.items)
    assert [p.name for p in target.parent.iterdir()] == ["x.zip"]


def test_a_disk_that_refuses(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x")
    plan = plan_pack([tmp_path / "a"], target=Path("/proc/x.zip"), info=ZIP, level=5)
    with pytest.raises((FileProblem, PlanError)):
        pack(plan)


def test_suggested_names(tmp_path: Path) -> None:
    (tmp_path / "spring").mkdir()
    (tmp_path / "spring" / "a.tar").touch()
    assert suggested_stem([tmp_path / "spring"]) == "spring"
    assert suggested_stem([tmp_path / "spring" / "a.tar"]) == "a"
    assert suggested_stem([tmp_path / "spring" / "a.tar", tmp_path / "spring" / "b"]) == "spring"


@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE])
@pytest.mark.parametrize("part_size", [0, 100_000])
def test_what_was_written_is_read_back_and_then_the_originals_go(
    tmp_path: Path, trash: Path, fmt: str, part_size: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    tree = make_tree(tmp_path)
    before = snapshot(tree)
    how: dict[str, Any] = {"info": by_id(fmt).info, "part_size": part_size, "level": 1}
    real = os.pread

    def failing(fd: int, count: int, at: int) -> bytes:
        """A disk on which the archive, which has no name yet, comes back with one bit of a large file changed."""
        data = real(fd, count, at)
        if "#" in os.readlink(f"/proc/self/fd/{fd}") and at <= 90_000 < at + len(data):
            data = data[: 90_000 - at] + bytes([data[90_000 - at] ^ 1]) + data[90_001 - at :]
        return data

    monkeypatch.setattr("rundlet.core.streams.sinks.os.pread", failing)
    with pytest.raises(Corrupt, match=r"No archive was made: .* failed the check"):
        pack(plan_pack([tree], target=tmp_path / "x", read_back=True, **how))
    monkeypatch.setattr("rundlet.core.streams.sinks.os.pread", real)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["tree"]
    with pytest.raises(PlanError, match="go to the trash together"):
        plan_pack([tree], target=tree / "x", trash=True, **how)
    outcome = pack(plan_pack([tree], target=tmp_path / "x", trash=True, **how))
    assert not outcome.issues
    assert outcome.trashed == [str(tree)]
    assert not tree.exists()
    assert snapshot(trash / "tree") == before
    unpack_to(tmp_path / ("x.001" if part_size else "x"), tmp_path / "out")
    assert snapshot(tmp_path / "out" / "tree", times=False) == {
        name: replace(node, seconds=0) for name, node in before.items()
    }


@pytest.mark.parametrize(
    ("how", "left"),
    [
        ({"exclude": ["*.bin"]}, "“tree/b.bin” is not in the archive as it is"),
        ({"leave_out": LeaveOut.HIDDEN}, "“tree/.hidden” is not in the archive as it is"),
        ({"leave_out": LeaveOut.EMPTY_FOLDERS}, "“tree/empty” is not in the archive"),
    ],
)
def test_originals_stay_when_some_of_them_were_left_out(
    tmp_path: Path, trash: Path, how: dict[str, Any], left: str
) -> None:
    (tmp_path / "tree" / "empty").mkdir(parents=True)
    for name in ("a.txt", "b.bin", ".hidden"):
        (tmp_path / "tree" / name).write_text(name)
    outcome = pack(plan_pack([tmp_path / "tree"], target=tmp_path / "x.zip", info=ZIP, trash=True, **how))
    assert [issue_line(issue) for issue in outcome.issues] == [f"tree: stays where it is, as {left}"]
    assert len(list((tmp_path / "tree").iterdir())) == 4 and not trash.exists()


def test_a_file_that_changes_meanwhile_keeps_the_originals(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "a").write_bytes(b"one")
    plan = plan_pack([tmp_path / "a"], target=tmp_path / "x.zip", info=by_id("zip").info, trash=True)
    real = ZipWriter.finish

    def slow(writer: ZipWriter) -> None:
        (tmp_path / "a").write_bytes(b"two")
        real(writer)

    monkeypatch.setattr(ZipWriter, "finish", slow)
    outcome = pack(plan)
    assert [issue_line(issue) for issue in outcome.issues] == [
        "a: was changed while it was packed, so the archive holds it as it was before",
        "a: stays where it is, as “a” is not in the archive as it is",
    ]
    assert (tmp_path / "a").read_bytes() == b"two"


def test_hidden_files_and_empty_folders_can_be_left_out(tmp_path: Path) -> None:
    tree = tmp_path / ".tree"
    for name in ("a", ".b", "full/.c", "full/d", "empty/er", ".git/e"):
        path = tree / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.mkdir() if name == "empty/er" else path.touch()
    how: dict[str, Any] = {"target": tmp_path / "x.zip", "info": by_id("zip").info}

    def paths(leave_out: LeaveOut) -> set[str]:
        return {item.path.removeprefix(".tree/") for item in plan_pack([tree], leave_out=leave_out, **how).items}

    everything = {".tree", "a", ".b", "full", "full/.c", "full/d", "empty", "empty/er", ".git", ".git/e"}
    assert paths(LeaveOut.NOTHING) == everything
    assert paths(LeaveOut.HIDDEN) == {".tree", "a", "full", "full/d", "empty", "empty/er"}
    assert paths(LeaveOut.EMPTY_FOLDERS) == everything - {"empty", "empty/er"}
    assert paths(LeaveOut.HIDDEN | LeaveOut.EMPTY_FOLDERS) == {".tree", "a", "full", "full/d"}


def test_pieces_are_laid_out_on_the_cores_in_order() -> None:
    assert on_cores([], 2) == 0.0
    assert on_cores([(3.0, 3), (2.0, 1)], 2) == 3.0  # the last one is begun when one second is over, on the free core
    assert on_cores([(2.0, 1), (3.0, 3)], 1) == 5.0
    assert 5.0 < on_cores([(10.0, 1000)], 2) < 5.4  # no more than the cores give together


@long
def test_the_trial_foretells_what_neighbours_share(tmp_path: Path) -> None:
    """Files that are like those beside them, which a sample with gaps hardly shows."""
    rng = np.random.default_rng(5)
    tree = tmp_path / "tree"
    tree.mkdir()
    for i in range(20):
        text = b" ".join(b"%d" % n for n in rng.integers(0, 10**6, 30_000))
        for copy in "abc":
            (tree / f"{i:02}{copy}.txt").write_bytes(text)
    seven = by_id("7z").info
    items = plan_pack([tree], target=tmp_path / "x.7z", info=seven).items
    without = try_one(take_sample(items), seven, 3).size
    real = pack_to(tmp_path / "x.7z", [tree], fmt="7z", level=3).bytes_out
    foretold = predicted(items, seven, 3).size
    assert foretold == pytest.approx(real, rel=0.1)
    assert without > 1.3 * real


@long
def test_the_trial_foretells_what_packing_gives(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(2)
    tree = tmp_path / "tree"
    tree.mkdir()
    words = [b"brook", b"weir", b"heron", b"level", b"clear", b"and", b"the", b"low"]
    for i in range(20):
        text = b" ".join(words[j] + b"%d" % (j * i) for j in rng.integers(0, 8, 40_000))
        (tree / f"{i}.txt").write_bytes(text)
        (tree / f"{i}.jpg").write_bytes(rng.bytes(130_000))
    items = plan_pack([tree], target=tmp_path / "x.zip", info=by_id("zip").info).items
    sample = take_sample(items, budget=2 << 20)
    assert 1 << 20 < sample.bytes <= 2 << 20 < sample.total
    assert sample.hopeless == ((FileType.PICTURES, 20),)
    points = {(point.fmt, point.level): point for point in trial(sample)}
    assert set(points) == {(known.info.id, level) for known in WRITABLE for level in known.info.levels}
    for fmt, level in [("zip", 5), ("7z", 3), ("tar", 0), ("tar.gz", 1), ("tar.zst", 5), ("tar.bz2", 9), ("7z", 0)]:
        real = pack_to(tmp_path / "x", [tree], fmt=fmt, level=level).bytes_out
        assert points[fmt, level].size == pytest.approx(real, rel=0.15), (fmt, level)
        assert points[fmt, level].seconds > 0
    seven = by_id("7z").info
    plan = plan_pack([tree], target=tmp_path / "text.7z", info=seven, options=WriteOptions(3, method="ppmd"))
    plain = predicted(items, seven, 3, method="ppmd")
    real = pack(plan).bytes_out
    assert abs(plain.size - real) < abs(points["7z", 3].size - real)
    monkeypatch.setattr("rundlet.core.work.trial.try_one", lambda *_, **__: Point("7z", 3, 1, 5.0))
    assert predicted(items, seven, 3).seconds == 5.0 < predicted(items, seven, 3, read_back=True).seconds
    monkeypatch.undo()
    shown = worth_showing(list(points.values()))  # which of the quick ones is there is up to the clock
    smallest = min(points.values(), key=lambda point: point.size)
    assert min(points[selection].size for selection in shown) <= smallest.size * 1.002
    made_up = [Point("zip", 0, 100, 1.0), Point("zip", 5, 60, 2.0), Point("7z", 5, 60, 3.0), Point("7z", 9, 40, 9.0)]
    assert worth_showing(made_up) == {("zip", 0), ("zip", 5), ("7z", 9)}
    assert that_fits(list(points.values()), 1000) is None
    fitting = that_fits(list(points.values()), sample.total * 4 // 5)
    assert fitting is not None and fitting.size < sample.total * 4 // 5
    nothing = take_sample([])
    assert try_one(nothing, by_id("7z").info, 5).size < 200


@pytest.mark.parametrize("fmt", [known.info.id for known in WRITABLE])
def test_years_far_from_now_come_back(tmp_path: Path, fmt: str) -> None:
    (tmp_path / "tree").mkdir()
    for year in (1890, 1950, 1979, 2039, 2108, 2200):
        file = tmp_path / "tree" / str(year)
        file.touch()
        seconds = int(datetime(year, 7, 2, tzinfo=UTC).timestamp())
        os.utime(file, (seconds, seconds))
    pack_to(tmp_path / f"x.{fmt}", [tmp_path / "tree"], fmt=fmt)
    unpack_to(tmp_path / f"x.{fmt}", tmp_path / "out")
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tmp_path / "tree")
