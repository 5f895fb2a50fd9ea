"""Comparing an archive with a folder or another archive, against a naive comparison of unpacked trees."""

from __future__ import annotations

import json
import os
import shutil
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import hypothesis.strategies as st
import numpy as np
from hypothesis import given, settings
from PySide6.QtCore import Qt

from rundlet.cli.main import main
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.compared_sides import ArchiveSide, FolderSide
from rundlet.core.work.comparer import Comparison, Differs, State, compare
from rundlet.core.work.packer import pack
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.pages.compare_page import ComparePage, CompareTarget
from support import at_length_too, held, pack_to, packed, rounds, scratch, unpack_to
from windows import Settle, Stand, click

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    import pytest

    from rundlet.desktop.window import Window

NAMES = st.sampled_from(["a", "b.txt", "c é", "d/a", "d/e.bin", "d/f/g", "h/i", "k", "m/"])
CONTENTS = st.sampled_from([b"", b"one", b"two", b"three", b"x" * 5000, b"y" * 5000, "->a", "->k"])
TIMES = st.sampled_from([10**9, 10**9 + 60])
MODES = st.sampled_from([0o644, 0o755])
ITEM = st.tuples(CONTENTS, TIMES, MODES)
TREES = st.dictionaries(NAMES, ITEM, min_size=1, max_size=8)
Tree = dict[str, tuple[bytes | str, int, int]]


def make(root: Path, tree: Tree) -> None:
    for name, (content, seconds, mode) in tree.items():
        path = root / name
        if name.endswith("/"):
            path.mkdir(parents=True, exist_ok=True)
            continue
        path.parent.mkdir(parents=True, exist_ok=True)
        if isinstance(content, str):
            path.symlink_to(content.removeprefix("->"))
            continue
        path.write_bytes(content)
        path.chmod(mode)
        os.utime(path, (seconds, seconds))


def look(root: Path) -> dict[str, tuple[str, object, int]]:
    """Each item below a folder: its kind, its content, and its permissions."""
    found: dict[str, tuple[str, object, int]] = {}
    for path in root.rglob("*"):
        name = str(path.relative_to(root))
        if path.is_symlink():
            found[name] = ("link", os.readlink(path), 0)
        elif path.is_dir():
            found[name] = ("folder", "", path.stat().st_mode & 0o777)
        else:
            found[name] = ("file", path.read_bytes(), path.stat().st_mode & 0o777)
    return found


def naive(here: Path, there: Path) -> dict[str, set[str]]:
    """Paths by what is so of them; what was moved is on one side each."""
    one, other = look(here), look(there)
    return {
        "same": {name for name in one if one[name] == other.get(name)},
        "differs": {name for name in one if name in other and one[name] != other[name]},
        "here": set(one) - set(other),
        "there": set(other) - set(one),
    }


def as_naive(found: Comparison) -> dict[str, set[str]]:
    states = {state: [row for row in range(len(found)) if found.state[row] == state] for state in State}
    moved = states[State.MOVED]
    return {
        "same": {found.path(row) for row in states[State.SAME]},
        "differs": {found.path(row) for row in states[State.DIFFERS]},
        "here": {found.path(row) for row in [*states[State.ONLY_HERE], *moved]},
        "there": {found.path(row) for row in states[State.ONLY_THERE]} | {found.path_there(row) for row in moved},
    }


@at_length_too
@settings(max_examples=rounds(60, 500), deadline=None)
@given(TREES, TREES, st.sampled_from(["zip", "7z", "tar", "tar.gz"]), st.booleans())
def test_any_two_trees(one: Tree, other: Tree, fmt: str, two_archives: bool) -> None:
    """With all content read, the result is that of comparing what unpacking gives."""
    with scratch() as root:
        for name, tree in (("here", one), ("there", other)):
            (root / name / "tree").mkdir(parents=True)
            make(root / name / "tree", tree)
            pack_to(root / f"{name}.{fmt}", [root / name / "tree"], fmt=fmt)
        with (
            closing(open_archive(root / f"here.{fmt}")) as reader,
            closing(open_archive(root / f"there.{fmt}")) as second,
        ):
            there = ArchiveSide(second) if two_archives else FolderSide(root / "there", (), Job())
            found = compare(ArchiveSide(reader), there, certain=True)
            quick = compare(ArchiveSide(reader), there)
        expected = naive(root / "here", root / "there")
        assert as_naive(found) == expected and not found.issues
        assert found.all_there_is_here == (not expected["differs"] and not expected["there"])
        for row in range(len(found)):
            if found.state[row] == State.MOVED:
                assert look(root / "here")[found.path(row)][1] == look(root / "there")[found.path_there(row)][1]
        # A quick look takes files of one size and one time for the same.
        wrong = as_naive(quick)["differs"] ^ expected["differs"]
        for name in wrong:
            before, after = root / "here" / name, root / "there" / name
            assert before.stat().st_size == after.stat().st_size and before.stat().st_mtime == after.stat().st_mtime
        if not two_archives and found.all_there_is_here:
            assert found.proof().lacks(root / "there" / "tree") is None


def test_each_difference_is_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """C5: newer here or there, size, content, kind, permissions, where a link leads, what moved, empty folders."""
    folder = tmp_path / "tree"
    names = ("same", "newer", "older", "kind", "mode", "gone", "before/moved", "unread")
    make(folder, {name: (name.encode() * 3, 10**9, 0o644) for name in names})
    (folder / "link").symlink_to("same")
    (folder / "hollow").mkdir()
    archive = tmp_path / "x.zip"
    pack_to(archive, [folder])
    assert main(["compare", str(archive), str(folder)]) == 0
    assert "Both hold the same 9 files, as far as sizes, times and checksums tell." in capsys.readouterr().out
    assert main(["compare", "--certain", str(archive), str(folder)]) == 0
    assert "All 9 files of the folder are in the archive, byte for byte." in capsys.readouterr().out
    for name, seconds in (("newer", 10**9 + 100), ("older", 10**9 - 100)):
        (folder / name).write_bytes(b"other")
        os.utime(folder / name, (seconds, seconds))
    (folder / "kind").unlink()
    (folder / "kind").mkdir()
    (folder / "mode").chmod(0o755)
    (folder / "gone").unlink()
    (folder / "after").mkdir()
    (folder / "before/moved").rename(folder / "after/moved")
    (folder / "before").rmdir()
    (folder / "link").unlink()
    (folder / "link").symlink_to("elsewhere")
    (folder / "empty").mkdir()
    (folder / "new").write_bytes(b"new")
    with (folder / "unread").open("r+b") as file:  # same size and time, other content
        file.write(b"X")
    os.utime(folder / "unread", (10**9, 10**9))
    assert main(["compare", "--json", str(archive), str(folder)]) == 1
    value = json.loads(capsys.readouterr().out)["result"]
    found = {item["path"]: (item["result"], item["differs"], item["newer"]) for item in value["items"]}
    assert found == {
        "tree/newer": ("differs", ["size"], "there"),
        "tree/older": ("differs", ["size"], "here"),
        "tree/kind": ("differs", ["kind"], None),
        "tree/mode": ("differs", ["mode"], None),
        "tree/link": ("differs", ["target"], None),
        "tree/gone": ("only_here", [], None),
        "tree/before/moved": ("moved", [], None),
        "tree/empty": ("only_there", [], None),
        "tree/new": ("only_there", [], None),
    }
    assert not value["all_there"] and value["same"] == 2
    assert main(["compare", "--certain", str(archive), str(folder)]) == 1
    said = capsys.readouterr().out
    assert "≠ newer there  tree/newer  (other size)" in said and "≠ differs  tree/unread  (other content)" in said
    assert "→ moved  tree/before/moved  (there as “tree/after/moved”)" in said
    assert main(["compare", str(archive), str(tmp_path / "nowhere")]) == 2
    shutil.copy(archive, tmp_path / "y.zip")
    assert main(["compare", "--certain", str(archive), str(tmp_path / "y.zip")]) == 0
    assert "byte for byte" in capsys.readouterr().out


def test_what_can_not_be_read_is_not_called_the_same(tmp_path: Path) -> None:
    archive = packed(tmp_path, "zip")
    data = bytearray(archive.read_bytes())
    with closing(open_archive(archive)) as reader:
        row = next(row for row in range(len(reader.catalog)) if reader.catalog.path(row) == "tree/b.bin")
        begin, _ = reader.raw_range(row) or (0, 0)
    data[begin + 10] ^= 0xFF
    archive.write_bytes(data)
    with closing(open_archive(archive)) as reader:
        side = FolderSide(tmp_path, ("tree",), Job())
        found = compare(ArchiveSide(reader), side, certain=True)
        rows = found.rows(State.DIFFERS)
        assert [found.path(row) for row in rows] == ["tree/b.bin"] and found.differs[rows[0]] == Differs.UNREAD
        assert found.issues and not found.all_there_is_here and found.proof().lacks(tmp_path / "tree") is not None


def test_nothing_counts_as_proven_that_changed_after_it_was_compared(tmp_path: Path) -> None:
    folder = tmp_path / "tree"
    make(folder, {"file": (b"one", 10**9, 0o644), "link": ("->file", 0, 0), "d/": (b"", 0, 0)})
    pack_to(tmp_path / "x.tar", [folder], fmt="tar")
    harms: dict[str, Sequence[Callable[[], object]]] = {
        "nothing": [],
        "another link": [(folder / "link").unlink, partial((folder / "link").symlink_to, "elsewhere")],
        "other content": [partial((folder / "file").write_bytes, b"two")],
        "another file": [(folder / "d/new").touch],
        "a folder for a file": [(folder / "file").unlink, (folder / "file").mkdir],
    }
    for harm, steps in harms.items():
        shutil.rmtree(folder)
        unpack_to(tmp_path / "x.tar", tmp_path)
        with closing(open_archive(tmp_path / "x.tar")) as reader:
            found = compare(ArchiveSide(reader), FolderSide(tmp_path, ("tree",), Job()), certain=True)
        assert found.all_there_is_here
        for step in steps:
            step()
        assert (found.proof().lacks(folder) is None) == (harm == "nothing"), harm


def test_locked_files_of_one_size_are_told_apart(tmp_path: Path) -> None:
    """Where an archive has an authentication code in place of a CRC-32, that says nothing of what is the same."""
    for name, content, seconds in (("one", b"one", 10**9), ("two", b"two", 10**9 + 100)):
        (tmp_path / name).mkdir()
        make(tmp_path / name, {"a": (content, seconds, 0o644), "b": (b"same", seconds, 0o644)})
        plan = plan_pack(
            [tmp_path / name / "a", tmp_path / name / "b"],
            target=tmp_path / f"{name}.zip",
            info=by_id("zip").info,
            options=WriteOptions(5, password="word"),
        )
        pack(plan)
    with closing(open_archive(tmp_path / "one.zip")) as one, closing(open_archive(tmp_path / "two.zip")) as two:
        assert not one.lacks_checksum(np.arange(2)).any()
        untold = compare(ArchiveSide(one), ArchiveSide(two))
        assert untold.issues and not untold.rows(State.SAME)
        one.unlock("word")
        two.unlock("word")
        for there in (ArchiveSide(two), FolderSide(tmp_path / "two", (), Job())):
            found = compare(ArchiveSide(one), there)
            states = {found.path(row): State(found.state[row]) for row in range(2)}
            assert states == {"a": State.DIFFERS, "b": State.SAME} and not found.issues


def told(window: Window) -> dict[str, str]:
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    return {listing.tree.path(node): listing.record(node).note for node in range(1, len(listing.tree))}


def test_the_page(window: Window, settle: Settle, stand: Stand, home: Path, trash: Path) -> None:
    """C5: marks on the rows, chips, both sides; what is newer goes in, what is missing comes out, and the folder may go."""
    folder = home / "tree"
    make(folder, {name: (name.encode() * 9, 10**9, 0o644) for name in ("same", "newer", "gone", "d/moved")})
    pack_to(home / "x.zip", [folder])
    stand(home / "x.zip")
    window.how.within.chosen.emit("compare")
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, ComparePage) and isinstance(to, CompareTarget)
    assert how.statement.text() == "Compare with what?" and not to.go.isEnabled()
    window.workspace.comparing.choose(folder)
    assert how.statement.text() == "Compare with “tree”" and to.verdict.text() == "Not compared yet"
    to.go.click()
    to.go.click()
    settle()
    assert "as far as sizes, times and checksums tell" in to.verdict.text()
    assert set(told(window).values()) == {"= same"} and to.trash.isHidden()
    (folder / "newer").write_text("new content")
    (folder / "gone").unlink()
    (folder / "e").mkdir()
    (folder / "d/moved").rename(folder / "e/moved")
    (folder / "added").write_text("added")
    to.go.click()
    settle()
    notes = told(window)
    assert notes["tree/newer"] == "≠ newer there" and notes["tree/gone"] == "only in the archive"
    assert notes["tree/d/moved"] == "→ moved" and notes["tree/same"] == "= same"
    assert to.verdict.text() == "1 file is the same, 4 items are not."
    shown = {state: to.chips[state].isVisible() for state in State}
    assert all(shown.values()) and to.chips[State.DIFFERS].isChecked() and to.list.count() == 1
    to.list.setCurrentRow(0)
    settle()
    assert to.there.isVisible() and window.workspace.selection.items == 1
    to.chips[State.ONLY_THERE].click()
    assert [to.list.item(row).text() for row in range(to.list.count())] == ["tree/added"]
    to.unpack.click()
    settle()
    assert window.target.go.text() == "Unpack 1 item"
    window.target.go.click()
    settle()
    assert (folder / "gone").read_bytes() == b"gone" * 9
    window.how.within.chosen.emit("compare")
    settle()
    to.go.click()
    settle()
    assert to.put_in.isVisible() and to.put_in.text() == "Put 2 items into the archive …"
    to.put_in.click()
    settle()
    assert window.target.go.text() == "Save 2 changes"
    window.target.go.click()
    settle()
    assert held(home / "x.zip")["tree/newer"] == b"new content" and held(home / "x.zip")["tree/added"] == b"added"
    (folder / "e/moved").rename(folder / "d/moved")
    (folder / "e").rmdir()
    window.how.within.chosen.emit("compare")
    how.certain.click()
    to.go.click()
    settle()
    assert to.verdict.text() == "All 5 files of the folder are in the archive, byte for byte."
    assert to.trash.isVisible() and to.trash.text() == "Move the folder to the trash"
    (folder / "same").write_text("changed after it was compared")
    to.trash.click()
    settle()
    assert folder.is_dir() and window.strip.problems_button.isVisible()
    (folder / "same").write_bytes(b"same" * 9)
    to.go.click()
    settle()
    (home / "x.zip").rename(home / "kept.zip")  # in the same moment, before the window sees it
    to.trash.click()
    settle()
    assert folder.is_dir()
    (home / "kept.zip").rename(home / "x.zip")
    stand(home / "x.zip")
    window.how.within.chosen.emit("compare")
    to.go.click()
    settle()
    to.trash.click()
    settle()
    assert not folder.exists() and len(list(trash.iterdir())) >= 1
    window.window_actions["undo"].trigger()
    settle()
    assert (folder / "same").read_bytes() == b"same" * 9


def test_from_the_log(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """After packing, the log offers to compare the archive with the originals; another archive is compared, too."""
    for name in ("one.txt", "two.txt", "other.txt"):
        (home / name).write_text(name)
    stand(home)
    click(window, "one.txt")
    click(window, "two.txt", Qt.KeyboardModifier.ControlModifier)
    window.target.go.click()
    settle()
    (archive,) = home.glob("*.zip")
    window.history.open_log()
    settle()
    log = window.history.log
    assert log is not None and log.compare_button.isVisible()
    log.compare_button.click()
    settle()
    to = window.target.page
    assert isinstance(to, CompareTarget) and not log.isVisible()
    other = window.workspace.comparing.other
    assert other is not None and other.tops == [home / "one.txt", home / "two.txt"]
    to.go.click()
    settle()
    assert to.verdict.text() == "Both hold the same 2 files, as far as sizes, times and checksums tell."
    pack_to(home / "second.7z", [home / "two.txt", home / "other.txt"], fmt="7z")
    window.workspace.comparing.choose(home / "second.7z")
    to.go.click()
    settle()
    assert to.chips[State.ONLY_HERE].text() == "Only in the archive 1" and to.chips[State.ONLY_THERE].isVisible()
    assert to.trash.isHidden() and to.unpack.isHidden() and to.put_in.isHidden() and archive.exists()
