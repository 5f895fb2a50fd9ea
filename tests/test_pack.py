"""Packing: what goes in, what is said, and that an archive is there whole or not at all."""

from __future__ import annotations

import os
import socket
from pathlib import Path

import pytest

from rundlet.core.errors import Cancelled, Clash, FileProblem, OutOfDate, PlanError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.plans.pack import PackClash, plan_pack, suggested_stem
from rundlet.core.streams import sinks
from rundlet.core.work.pack import pack
from support import make_tree, pack_to

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
    report = pack_to(tmp_path / "x.zip", items)
    assert paths_in(tmp_path / "x.zip") == ["same.txt", "same (2).txt"]
    assert [issue.problem for issue in report.issues] == [True, True]
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
    report = pack(plan)
    assert sorted(str(issue).split(":")[0] for issue in report.problems) == ["f/bad", "f/big", "f/pipe", "f/socket"]
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
@pytest.mark.parametrize("step", [1, 4, 9])
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
