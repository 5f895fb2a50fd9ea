"""Helper processes for small files: the same as without them, also when they die or a hostile folder is worked in."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import zipfile
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

import support
from rundlet.core.errors import Cancelled
from rundlet.core.formats import deflate_workers as deflaters
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs import worker_process as helpers
from rundlet.core.jobs.job import Job
from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work import file_writers as file_writers
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line, issue_words
from support import Raw, pack_to, raw_zip, snapshot, unpack_to

if TYPE_CHECKING:
    from rundlet.core.formats.deflate_process import Content
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.plans.pack_plan import PackPlan

_COUNT = 300

_DIES = """
import os, sys
from pathlib import Path
from rundlet.core.work import file_writer_process as hand
undone = hand._undone
def last_one(errands, landing):
    undone(errands[:{written}], landing)
    os._exit(1)
hand._undone = last_one
hand.serve(Path(sys.argv[1]), sys.stdin.buffer, sys.stdout.buffer)
"""
"""A helper that writes some files of its first batch and comes to its end before it can say so."""


@pytest.fixture
def helped(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Have few files be worth a helper; how many files each answer of one says that it wrote."""
    said: list[int] = []
    answered = file_writers._FileWriter.answered

    def noted(hand: file_writers._FileWriter, *, wait: bool) -> file_writers.Done:
        done = answered(hand, wait=wait)
        said.extend(len(written) for written, _ in done)
        return done

    monkeypatch.setattr("rundlet.core.work.extractor.WORTH_IT", 1)
    monkeypatch.setattr(file_writers._FileWriter, "answered", noted)
    return said


def _tree(root: Path) -> Path:
    for number in range(_COUNT):
        place = root / f"folder {number % 7}" / ("deep" if number % 2 else "")
        place.mkdir(parents=True, exist_ok=True)
        path = place / f"Ü{number}.txt"
        path.write_bytes(b"%d " % number * (number % 90))
        path.chmod(0o640 if number % 3 else 0o755)
        os.utime(path, (1_600_000_000, 1_600_000_000 + 2 * number))
    (root / "large").write_bytes(os.urandom(200_000))
    (root / "folder 1" / "link").symlink_to("Ü1.txt")
    os.link(root / "large", root / "large again")
    return root


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar", "tar.gz"])
def test_a_tree_comes_out_the_same(tmp_path: Path, fmt: str, helped: list[int]) -> None:
    tree = _tree(tmp_path / "tree")
    archive = tmp_path / "x"
    pack_to(archive, [tree], fmt=fmt)
    outcome = unpack_to(archive, tmp_path / "out", workers=3)
    assert not outcome.issues
    assert sum(helped) > file_writers.BATCH_FILES
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tree)
    assert sorted(outcome.created) == sorted(str(path) for path in [tmp_path / "out", *(tmp_path / "out").rglob("*")])


def _troubled(tmp_path: Path) -> Path:
    """An archive with damage, links, a file in a folder's place and names taken, and where all of that lands."""
    entries = [Raw(b"d%d/%d" % (number // _COUNT, number), b"content %dP" % number) for number in range(_COUNT + 40)]
    entries += [Raw(b"d0/5"), Raw(b"way", b"d0", mode=0o120777), Raw(b"way/through"), Raw(b"d0/6/below")]
    archive = tmp_path / "x.zip"
    archive.write_bytes(re.sub(rb"content (\d*7P)", rb"damaged \1", raw_zip(entries)))
    return archive


@pytest.mark.parametrize("clash", list(UnpackClash))
def test_what_goes_wrong_is_said_as_without_them(tmp_path: Path, clash: UnpackClash, helped: list[int]) -> None:
    archive = _troubled(tmp_path)
    reports: dict[int, Outcome] = {}
    for workers in (1, 2):
        into = tmp_path / f"out{workers}"
        (into / "d0").mkdir(parents=True)
        (into / "d0" / "3").write_bytes(b"mine")
        (into / "d2").write_bytes(b"a file")
        with closing(open_archive(archive)) as reader:
            plan = plan_unpack(reader, into=into, on_clash=clash)
            for number in range(9, _COUNT, 10):
                (into / "d0" / f"{number}").write_bytes(b"made meanwhile")
            (into / "d1").symlink_to(tmp_path)
            reports[workers] = unpack(plan, reader, workers=workers)
    assert helped
    one, two = reports[1], reports[2]
    assert sorted(map(issue_line, two.issues)) == sorted(
        issue_line(issue).replace("out1", "out2") for issue in one.issues
    )
    assert snapshot(tmp_path / "out1", times=False) == snapshot(tmp_path / "out2", times=False)
    assert (two.files, two.bytes_out, len(two.created)) == (one.files, one.bytes_out, len(one.created))
    assert (tmp_path / "out2" / "d0" / "9").read_bytes() == b"made meanwhile"
    assert sorted(p.name for p in tmp_path.iterdir()) == ["out1", "out2", "x.zip"]


@pytest.mark.parametrize("written", [0, 20, 64])
def test_what_a_helper_that_dies_had_is_done_without_it(
    tmp_path: Path, written: int, helped: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    code = _DIES.format(written=written)
    monkeypatch.setattr(file_writers, "command", lambda _, root: [sys.executable, "-c", code, root])
    archive = tmp_path / "x.zip"
    pack_to(archive, [_tree(tmp_path / "tree")])
    outcome = unpack_to(archive, tmp_path / "out", workers=2)
    assert not outcome.issues
    assert helped
    assert not any(helped)
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tmp_path / "tree")
    assert len(outcome.created) == len(set(outcome.created)) == len(list((tmp_path / "out").rglob("*"))) + 1


class _Stopped(Job):
    def __init__(self, after: int) -> None:
        super().__init__()
        self._after = after

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        if self.snapshot().done_entries > self._after:
            self.cancel()
        super().advance(count, entries=entries)


@pytest.mark.parametrize("after", range(0, 200, 25))
def test_what_helpers_wrote_goes_when_the_work_is_cancelled(tmp_path: Path, after: int, helped: list[int]) -> None:
    archive = _troubled(tmp_path)  # what a helper could not do is what the work ends at
    with closing(open_archive(archive)) as reader, pytest.raises(Cancelled):
        unpack(plan_unpack(reader, into=tmp_path / "out"), reader, _Stopped(after), workers=3)
    assert helped
    assert not (tmp_path / "out").exists()


def _packed_twice(tmp_path: Path, items: list[Path], monkeypatch: pytest.MonkeyPatch) -> tuple[Outcome, int]:
    """Pack without helpers and with them, which must give the same; the report, and how many files helpers packed."""
    asked = deflaters.Deflaters.packed
    packed: list[int] = []

    def counted(self: deflaters.Deflaters, files: list[tuple[str, int]], level: int) -> Sequence[Content | None]:
        contents = asked(self, files, level)
        packed.append(sum(content is not None for content in contents))
        return contents

    monkeypatch.setattr(deflaters.Deflaters, "packed", counted)
    reports = []
    for worth_it in (10**9, 1):
        monkeypatch.setattr("rundlet.core.formats.zip.writer.WORTH_IT", worth_it)
        reports.append(pack_to(tmp_path / f"{worth_it}.zip", items, workers=2))
    assert (tmp_path / "1.zip").read_bytes() == (tmp_path / f"{10**9}.zip").read_bytes()
    assert reports[0].issues == reports[1].issues
    return reports[1], sum(packed)


def test_an_archive_has_the_same_bytes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tree = _tree(tmp_path / "tree")
    outcome, packed = _packed_twice(tmp_path, [tree], monkeypatch)
    assert packed == _COUNT + 2
    assert not outcome.problems


def test_what_a_helper_can_not_read_is_said_as_without_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tree = _tree(tmp_path / "tree")
    planned = support.plan_pack

    def late(*items: Any, **options: Any) -> PackPlan:
        (tree / "goes").write_bytes(b"it was there")
        (tree / "grows").write_bytes(b"short")
        (tree / "swells").write_bytes(b"small")
        for path in (tree / "goes", tree / "grows", tree):
            os.utime(path, (1_600_000_000, 1_600_000_000))
        plan = planned(*items, **options)
        (tree / "goes").unlink()
        (tree / "grows").write_bytes(b"longer " * 50_000)
        os.truncate(tree / "swells", 1 << 30)
        return plan

    monkeypatch.setattr(support, "plan_pack", late)
    outcome, packed = _packed_twice(tmp_path, [tree], monkeypatch)
    assert packed == _COUNT + 3
    assert [issue.item for issue in outcome.issues if issue.item != "zip"] == [
        "tree/goes",
        "tree/grows",
        "tree/swells",
    ]
    assert "grown much larger" in issue_words(outcome.issues[-1])
    with zipfile.ZipFile(tmp_path / "1.zip") as archive:
        assert archive.read("tree/grows") == b"longer " * 50_000


@pytest.mark.parametrize("ends", ["at once", "in an answer"])
def test_an_archive_is_made_though_helpers_die(tmp_path: Path, ends: str, monkeypatch: pytest.MonkeyPatch) -> None:
    code = "import sys; sys.stdin.buffer.read(99); sys.stdout.buffer.write(b'\\x80\\x05')" if ends != "at once" else "0"
    monkeypatch.setattr(deflaters, "command", lambda _: [sys.executable, "-c", code])
    outcome, packed = _packed_twice(tmp_path, [_tree(tmp_path / "tree")], monkeypatch)
    assert not packed
    assert not outcome.problems


def test_packing_that_is_cancelled_waits_for_its_helpers(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("rundlet.core.formats.zip.writer.WORTH_IT", 1)
    ended: list[int | None] = []
    end = helpers.Helper.end

    def noted(helper: helpers.Helper) -> None:
        end(helper)
        ended.append(helper._child.poll())

    monkeypatch.setattr(helpers.Helper, "end", noted)
    items = [_tree(tmp_path / "tree")]
    plan = support.plan_pack(items, target=tmp_path / "x.zip", info=by_id("zip").info, level=5)
    with pytest.raises(Cancelled):
        pack(plan, _Stopped(_COUNT // 5), workers=2)
    assert ended == [0, 0]
    assert sorted(path.name for path in tmp_path.iterdir()) == ["tree"]


def test_nothing_is_imported_from_the_folder_that_is_worked_in(tmp_path: Path) -> None:
    for name in ("pickle", "deflate", "pyppmd", "resource"):
        (tmp_path / f"{name}.py").write_text("open('imported', 'w')")
    for module in (
        "rundlet.core.work.file_writer_process",
        "rundlet.core.formats.deflate_process",
        "rundlet.core.codecs.ppmd",
    ):
        words = helpers.command(module, str(tmp_path), "6", "65536", "0", "0")
        subprocess.run(words, cwd=tmp_path, input=b"", capture_output=True, check=False)
    assert not (tmp_path / "imported").exists()
