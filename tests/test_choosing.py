"""Choosing what to pack or unpack: over several folders, by patterns, the others instead, among very many."""

from __future__ import annotations

import shutil
import time
import zipfile
from fnmatch import fnmatch
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from rundlet.core.formats.detect import open_archive, open_source
from rundlet.core.jobs import interface_priority as turns
from rundlet.core.model.entry import ROOT, UNKNOWN
from rundlet.core.model.file_type import FileType
from rundlet.core.model.find import Wanted
from rundlet.core.model.find_rows import rows_named
from rundlet.core.model.natural import NATURAL_AT_MOST
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.streams.sources import MemorySource
from rundlet.desktop.locations.archive import ArchiveListing, file_types_of
from rundlet.desktop.locations.listing import COLUMNS, TOP
from rundlet.desktop.views.long_view import LongView
from support import Raw, make_tree, pack_to, raw_zip, rounds
from windows import CTRL, LEFT, NONE, SHIFT, Settle, Stand, chosen, click, files_in, middle, row

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.desktop.window import Window


def go_in(window: Window, settle: Settle, name: str) -> None:
    usual = QApplication.doubleClickInterval()
    QApplication.setDoubleClickInterval(5000)  # however slow the machine is
    try:
        click(window, name)
        QTest.mouseDClick(window.source.view.viewport(), LEFT, NONE, middle(window, name))
    finally:
        QApplication.setDoubleClickInterval(usual)
    settle()


def test_a_set_from_three_folders(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """P1: chosen here and there, counted together, packed together."""
    work = home / "work"
    files_in(work / "a", "one.txt two.txt three.txt")
    files_in(work / "b" / "deep", "four.txt five.txt")
    files_in(work, "six.txt")
    stand(work)
    source = window.source
    click(window, "six.txt")
    assert source.offers.keep.isVisible() and not source.offers.keep.isChecked()
    source.offers.keep.click()
    go_in(window, settle, "a")
    click(window, "one.txt")
    click(window, "three.txt", CTRL)
    settle()
    assert source.summary.text().startswith("From 2 folders: 3 items selected · 3 files")
    assert source.offers.elsewhere.text() == "1 item in 1 other folder"
    window.workspace.up()
    settle()
    assert window.source.view.chosen_nodes() == [window.workspace.listing.node_of(work / "six.txt")]
    click(window, "b", CTRL)
    settle()
    assert window.workspace.selection.items == 4
    assert window.workspace.selection.files == 5
    go_in(window, settle, "b")  # to choose in it, and so not all of it
    assert chosen(window) == ["one.txt", "six.txt", "three.txt"]
    click(window, "deep")
    settle()
    assert window.target.go.text() == "Pack 4 items (3 in other folders)"
    assert window.workspace.selection.folders == 3
    window.workspace.packing.set_stem("all of it")
    window.target.go.click()
    settle()
    reader = open_archive(work / "b" / "all of it.zip")
    names = sorted(entry.path.rstrip("/") for entry in reader.catalog)
    reader.close()
    assert names == ["deep", "deep/five.txt", "deep/four.txt", "one.txt", "six.txt", "three.txt"]
    source.offers.only_here.click()
    assert chosen(window) == ["deep"]
    assert not source.offers.elsewhere.isVisible()


def test_a_choice_survives_going_in_and_coming_back(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    work = home / "work"
    files_in(work, "a.txt b.txt c.txt")
    files_in(work / "in", "d.txt")
    pack_to(work / "x.zip", [work / "a.txt"])
    stand(work)
    click(window, "a.txt")
    click(window, "c.txt", CTRL)
    for name in ("in", "x.zip"):
        go_in(window, settle, name)
        assert window.workspace.selection.items == 0
        window.workspace.up()
        settle()
        assert chosen(window) == ["a.txt", "c.txt"]
    for column in range(5):
        window.source.view.sortByColumn(column, Qt.SortOrder.DescendingOrder)
        assert chosen(window) == ["a.txt", "c.txt"]
    QTest.keyClicks(window.finder, "b")
    assert chosen(window) == ["a.txt", "c.txt"]
    assert window.source.offers.only_shown.isVisible()
    window.finder.clear()
    assert len(window.source.view.chosen_nodes()) == 2
    QTest.keyClick(window.source.view, Qt.Key.Key_A, CTRL | Qt.KeyboardModifier.ShiftModifier)
    assert chosen(window) == ["b.txt", "in", "x.zip"]


def test_what_is_open_below_a_closed_folder_stays_open(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """Over any number of other orders, though nobody has asked for those rows meanwhile."""
    files_in(home / "top" / "in" / "deep", "a.txt")
    pack_to(home / "x.zip", [home / "top"])
    stand(home / "x.zip")
    view, model = window.source.view, window.source.model
    view.expandAll()
    view.collapse(row(window, "top"))
    for order in (Qt.SortOrder.DescendingOrder, Qt.SortOrder.AscendingOrder, Qt.SortOrder.DescendingOrder):
        view.sortByColumn(2 if order == Qt.SortOrder.AscendingOrder else 0, order)
        settle()
    view.expand(row(window, "top"))
    assert view.isExpanded(row(window, "top/in")) and view.isExpanded(row(window, "top/in/deep"))
    assert model.rowCount(row(window, "top/in/deep")) == 1


@pytest.mark.parametrize("where", ["disk", "zip"])
def test_by_pattern_and_by_type(window: Window, settle: Settle, stand: Stand, home: Path, where: str) -> None:
    """L3, U2: what was found is chosen with one press, and folders on the way to it bring nothing along."""
    work = home / "work"
    files_in(work, "Weir.csv ford.csv ford.txt photo.png")
    files_in(work / "in", "weir_old.csv weir.md")
    pack_to(home / "work.zip", [work / "in", *(p for p in work.iterdir() if p.is_file())])
    stand(work if where == "disk" else home / "work.zip")
    below = where == "zip"
    cases = {
        "*.csv": 3 if below else 2,
        "weir": 3 if below else 1,
        "weir *.csv": 2 if below else 1,
        "f?rd.*": 2,
        "*.nothing": 0,
    }
    for words, count in cases.items():
        window.finder.setText(words)
        assert window.source.offers.choose_shown.isVisible() == (count > 0), words
        if count:
            window.source.offers.choose_shown.click()
            settle()
            assert window.workspace.selection.items == window.workspace.selection.files == count, words
        else:
            message = window.source.pages.message
            assert message.isVisible() and message.message.text() == f"Nothing here matches “{words}”."
            if not below:
                (work / "other.txt").write_text("came meanwhile")
            window.workspace.refresh()
            settle()
            assert message.message.text() == f"Nothing here matches “{words}”."
            message.back.click()
            settle()
            assert not message.isVisible() and not window.finder.text()
            assert window.source.model.rowCount() > 2
        window.finder.clear()
        window.source.view.clearSelection()
    window.source.chips[FileType.TABLES].click()
    window.source.offers.choose_shown.click()
    window.source.chips[None].click()
    settle()
    assert window.workspace.selection.files == (3 if below else 2)
    if below:
        window.finder.setText("*.csv")
        window.source.view.collapseAll()
        click(window, "in")  # shown as the way to what was found in it, and stands for just that
        settle()
        assert (window.workspace.selection.items, window.workspace.selection.files) == (1, 1)
        window.source.offers.choose_shown.click()
        window.finder.clear()
        settle()
        shutil.rmtree(work)
        window.workspace.unpacking.plan_again()
        settle()
        window.target.go.click()
        settle()
        found = sorted(p.name for p in (home / "work").rglob("*") if p.is_file())
        assert found == ["Weir.csv", "ford.csv", "weir_old.csv"]


def test_a_folder_of_very_many_is_gone_into(tmp_path: Path) -> None:
    """Its rows are put in order only when they are listed, by name and ending, whatever the archive's order."""
    count = NATURAL_AT_MOST + 1
    names = [f"many/Part {i * 7919 % count}.{'ab'[i % 2]}" for i in range(count)]
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(name.encode(), b"") for name in [*names, "few/c.txt"]]))
    reader = open_archive(tmp_path / "x.zip")
    tree = ArchiveTree(reader.catalog)
    reader.close()
    listing = ArchiveListing(tree, ROOT, file_types_of(tree))
    many, few = (listing.node_of(name) or 0 for name in ("many", "few"))
    assert (listing.count(TOP), listing.count(many), listing.count(few)) == (2, 0, 1)
    steps = sorted((name.removeprefix("many/") for name in names), key=lambda name: int(name[5:-2]))
    assert [tree.name(node) for node in listing.children(many)] == steps
    listing.sort("kind", descending=False)
    assert [tree.name(node) for node in listing.children(many)] == sorted(steps, key=lambda name: name[-1])
    listing.narrow("part 20000", None)
    assert listing.count(many) == 1


def test_what_is_not_counted_yet_counts_as_nothing(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f" / "sub", "a.txt")
    files_in(home / "f", "b.txt")
    stand(home / "f")
    listing = window.workspace.listing
    listing.sizes[listing.folders[0] - 1] = UNKNOWN
    window.workspace.select((1, 2))
    assert (window.workspace.selection.size, window.workspace.selection.counting) == (5000, True)


def test_work_steps_aside_while_the_window_is_busy(monkeypatch: pytest.MonkeyPatch) -> None:
    naps: list[float] = []
    clock = iter(range(10**6))
    monkeypatch.setattr(time, "sleep", naps.append)
    monkeypatch.setattr(time, "monotonic", lambda: 100 + next(clock) * 0.01)
    turns.interface_rests()
    turns.step_aside()
    assert not naps
    turns.interface_wakes()
    turns.step_aside()
    assert 10 < len(naps) < 30  # one that is busy for very long is not waited for
    turns.interface_wakes()
    turns.interface_rests()
    naps.clear()
    turns.step_aside()
    assert not naps
    things, named = list(range(2500)), dict.fromkeys(range(2500))
    turns.let_go(things)
    turns.let_go(named)
    assert not things and not named


def test_of_very_many_rows_only_those_in_sight_are_asked(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All rows are there at once, from the first to the last; finding, sorting and choosing hold for all of them."""
    count = 30_000
    with zipfile.ZipFile(home / "many.zip", "w") as out:
        for number in range(count):
            out.writestr(f"entry {number:05}.txt", b"x" * (number % 7 == 0))
    asked: set[int] = set()
    record = ArchiveListing.record
    monkeypatch.setattr(ArchiveListing, "record", lambda self, node: (asked.add(node), record(self, node))[1])
    stand(home / "many.zip")
    model, view = window.source.model, window.source.pages.page
    assert model.rowCount() == count and isinstance(view, LongView)
    bar = view.verticalScrollBar()
    for at in (bar.maximum() // 2, bar.maximum()):
        bar.setValue(at)
        view.grab()
    last = view.indexAt(view.viewport().rect().bottomLeft() - QPoint(0, 5))
    assert model.record(last).name == f"entry {count - 1}.txt"
    QTest.keyClick(view, Qt.Key.Key_A, CTRL)
    assert window.workspace.selection.items == count
    view.sortByColumn(COLUMNS.index("size"), Qt.SortOrder.DescendingOrder)
    settle()
    assert model.record(model.index(0, 0)).size == 1 and window.workspace.selection.items == count
    QTest.keyClicks(view, "z")  # would have to look through all
    assert len(asked) < 500
    click(window, "entry 00007.txt")
    assert window.workspace.selection.items == 1
    click(window, "entry 00014.txt", tick=True)
    assert window.workspace.selection.items == 2
    for others in (count - 2, 2):
        window.source.view.choose_others()
        assert window.workspace.selection.items == others
        assert window.workspace.selection.size == (2 if others == 2 else count // 7 + 1 - 2)
    QTest.keyClick(view, Qt.Key.Key_Home, SHIFT)  # the run from the row that was ticked to the first one
    assert view.currentIndex().row() == 0 and window.workspace.selection.items == 3
    click(window, "entry 00007.txt")
    view.sortByColumn(0, Qt.SortOrder.AscendingOrder)
    settle()
    assert window.workspace.selection.items == 1
    assert row(window, "entry 00777.txt").row() == 777
    QTest.keyClick(view, Qt.Key.Key_Space)
    assert window.source.preview.isVisible()
    widths = [[list_.columnWidth(c) for c in range(1, 5)] for list_ in (view, window.source.view)]
    assert widths[0] == widths[1]
    window.finder.setText("*10?")
    window.finder.setText("*10?9*")
    settle()
    assert window.source.pages.page is window.source.view
    found = sum(fnmatch(f"entry {number:05}.txt", "*10?9*") for number in range(count))
    assert model.rowCount() == found
    window.source.offers.choose_shown.click()
    window.finder.clear()
    settle()
    shown: object = window.source.pages.page
    assert shown is view and window.workspace.selection.items == found + 1
    window.target.go.click()
    settle()
    assert len(list((home / "many").iterdir())) == found + 1


def test_a_folder_is_followed_as_it_changes(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path
) -> None:
    """A1: what comes and goes is seen; what is chosen, found and counted stays."""
    work = home / "work"
    files_in(work, "a.txt b.txt c.csv")
    files_in(work / "in", "d.txt")
    window.workspace.follower.enabled = True
    stand(work)
    window.finder.setText("t")
    click(window, "b.txt")
    (work / "new.txt").write_bytes(b"new")
    (work / "a.txt").unlink()
    (work / "in" / "e.txt").write_bytes(b"12345")
    model = window.source.model

    def names() -> list[str]:
        return [model.data(model.index(i, 0)) for i in range(model.rowCount())]

    qtbot.waitUntil(lambda: names() == ["b.txt", "new.txt"], timeout=20_000)
    settle()
    assert chosen(window) == ["b.txt"]
    assert window.finder.text() == "t"
    window.finder.clear()
    assert names() == ["in", "b.txt", "c.csv", "new.txt"]
    assert model.record(row(window, "in")).size == 5005
    window.file_actions.actions["rename"].trigger()  # while a name is being typed, nothing is taken away from under it
    editor = window.source.view.findChildren(QLineEdit)[-1]
    (work / "later.txt").touch()
    follower, held = window.workspace.follower, []
    asks = follower.held
    follower.held = lambda: held.append(asks()) or held[-1]
    qtbot.waitUntil(lambda: len(held) > 1, timeout=20_000)
    assert all(held)
    assert editor.isVisible() and "later.txt" not in names()
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: "later.txt" in names(), timeout=20_000)
    before = window.workspace.listing
    window.workspace.refresh()
    settle()
    assert window.workspace.listing is before  # nothing came and nothing went


def test_the_others_in_an_archive(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    tree = make_tree(home)
    pack_to(home / "x.zip", [tree])
    stand(home / "x.zip")
    window.workspace.enter(window.workspace.listing.node_of("tree"))
    settle()
    for name in ("tree/in", "tree/link"):
        click(window, name, CTRL)
    window.source.view.choose_others()
    settle()
    assert window.workspace.selection.items == 3
    landed = {step.target[-1] for step in window.workspace.unpacking.plan.steps}
    assert landed == {"empty", "empty folder", "plain.txt"}


STEPS = st.text("aAbB.77 ü", min_size=1, max_size=9)
WORDS = st.sampled_from(["a", "b", "ab", "77", "7*", "*a", "?b*", "a*.b", "ü", "*ü?", "a/b", ".", "[7*"])


@given(
    paths=st.lists(st.lists(STEPS, min_size=1, max_size=3).map("/".join), min_size=1, max_size=12),
    ends=st.lists(st.sampled_from(["", "", "/", "/.", "//"]), min_size=12, max_size=12),
    begin=st.sampled_from(["", "", "/", "./"]),
    words=st.lists(WORDS, max_size=2),
)
@example(paths=["xxb", "in/bxx", "xx/xab", "b", "xa", "bx"], ends=[""] * 12, begin="", words=["b"])
@example(paths=["xa", "bx", "xab", "77x", "x77"], ends=["", "", "", "/", ""], begin="", words=["ab"])
@example(paths=["x7", "7x", "77x", "x77"], ends=[""] * 12, begin="/", words=["77", "*7"])
@settings(max_examples=rounds(120, 300))
def test_names_are_found_in_columns_as_one_by_one(
    paths: list[str], ends: list[str], begin: str, words: list[str]
) -> None:
    """L3: many names are looked through by their bytes, with the same outcome."""
    raw = [f"{begin}{path}{end}".encode() for path, end in zip(paths, ends, strict=False)]
    tree = ArchiveTree(open_source(MemorySource(raw_zip([Raw(name) for name in raw]), "x.zip")).catalog)
    wanted = Wanted.of(" ".join(words))
    found = rows_named(tree.catalog.names, wanted, lambda row: tree.name(row + 1))
    assert found.tolist() == [wanted.fits(tree.name(row + 1)) for row in range(len(raw))]


@given(st.text("aAbB. ", max_size=12), st.lists(st.sampled_from(["a", "b", "*a", "?b*", "a*.b", "B"]), max_size=3))
def test_what_is_wanted_holds_for_the_quick_look_too(name: str, words: list[str]) -> None:
    wanted = Wanted.of(" ".join(words))
    if wanted.fits(name):
        assert wanted.literal in name.casefold()
    assert wanted.fits(name) == all(Wanted.of(word).fits(name) for word in words)
    assert bool(wanted) == bool(words)
