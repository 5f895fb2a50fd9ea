"""The real window, driven as a person would drive it, on real files."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from PySide6.QtCore import QDate, QMimeData, QPoint, QPointF, QRect, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QApplication,
    QLineEdit,
    QMenu,
    QMessageBox,
    QPushButton,
    QSlider,
    QWidget,
)

import rundlet
from rundlet.cli.main import main
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.fs.create_rename import new_folder
from rundlet.core.jobs.findings import Reason, issue
from rundlet.core.jobs.outcomes import FolderMade, Outcome, Packed
from rundlet.core.model.file_type import FileType
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import dated_stem, plan_pack
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.core.text import quoted
from rundlet.core.userdata.journal import Journal
from rundlet.core.work.packer import pack
from rundlet.desktop import window as window_module
from rundlet.desktop.actions import ACTIONS, LIST_ACTIONS, LIST_KEYS, keys_in_words
from rundlet.desktop.app import close_when_told_to_end, make_app
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.place import Place
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.theme.theme import theme
from support import Raw, held, make_tree, pack_to, raw_zip, snapshot
from windows import CTRL, LEFT, NONE, SHIFT, Settle, Stand, chosen, click, files_in, middle, row

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.core.jobs.job import Job
    from rundlet.desktop.window import Window


def test_the_whole_sentence(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Choose five items, pack, go in, choose three entries, watch the landing tree, unpack, compare the bytes."""
    work = home / "Spring"
    tree = make_tree(work)
    files_in(work, "one.txt two.txt three.csv four.md five.png")
    stand(work)
    click(window, "tree")
    for name in ("one.txt", "two.txt", "three.csv", "four.md"):
        click(window, name, CTRL)
    settle()
    assert window.source.summary.text().startswith("5 of 6 items selected · 11 files · ")
    assert window.target.pack.archive.name.text() == "Spring"
    assert window.target.pack.archive.ending.text() == ".zip"
    assert window.target.go.text() == "Pack 5 items"
    window.window_actions["go"].trigger()
    settle()
    archive = work / "Spring.zip"
    assert window.strip.last.text().startswith("Packed “Spring.zip”: ")
    assert "saved" in window.strip.last.text()
    assert window.strip.show_button.isVisible()
    assert chosen(window) == ["four.md", "one.txt", "three.csv", "tree", "two.txt"]

    click(window, "Spring.zip")
    QTest.mouseDClick(window.source.view.viewport(), LEFT, NONE, middle(window, "Spring.zip"))
    settle()
    assert window.workspace.place == Place(work, archive=archive)
    assert window.target.go.text() == "Unpack everything"
    assert window.workspace.unpacking.plan.files == 11
    click(window, "one.txt")
    click(window, "three.csv", CTRL)
    click(window, "tree", CTRL)
    settle()
    assert window.target.go.text() == "Unpack 3 items"
    assert window.how.unpack.statement.text() == "3 selected items"
    landing = window.target.unpack.view.rows
    top = landing.index(0, 0)
    assert landing.data(top) == "Spring"
    inside = {
        landing.data(landing.index(i, 0, top)): landing.record(landing.index(i, 0, top)).note
        for i in range(landing.rowCount(top))
    }
    assert inside == {"tree": "new", "one.txt": "new", "three.csv": "new"}
    window.window_actions["go"].trigger()
    settle()
    out = work / "Spring"
    assert sorted(p.name for p in out.iterdir()) == ["one.txt", "three.csv", "tree"]
    assert snapshot(out / "tree") == snapshot(tree)
    assert (out / "three.csv").read_bytes() == (work / "three.csv").read_bytes()
    assert window.strip.last.text().startswith("Unpacked 9 files")
    notes = [landing.record(landing.index(i, 0, landing.index(0, 0))).note for i in range(3)]
    assert "already there, unchanged" in notes


def test_all_ways_of_choosing(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt b.csv c.txt d.png e.txt")
    stand(home / "f")
    click(window, "a.txt")
    click(window, "d.png", SHIFT)
    assert chosen(window) == ["a.txt", "b.csv", "c.txt", "d.png"]
    click(window, "b.csv", CTRL)
    assert chosen(window) == ["a.txt", "c.txt", "d.png"]
    click(window, "e.txt", tick=True)
    click(window, "a.txt", tick=True)
    assert chosen(window) == ["c.txt", "d.png", "e.txt"]
    click(window, "b.csv")
    assert chosen(window) == ["b.csv"]
    assert window.source.offers.again.text() == "Select the previous 3 items again"
    window.source.offers.again.click()
    assert chosen(window) == ["c.txt", "d.png", "e.txt"]
    view = window.source.view
    QTest.mouseClick(view.viewport(), LEFT, NONE, QPoint(200, view.viewport().height() - 5))
    assert len(chosen(window)) == 3
    rows = {name: view.visualRect(row(window, name)).center() for name in ("b.csv", "d.png")}
    below = QPoint(rows["d.png"].x(), view.viewport().height() - 5)
    QTest.mousePress(view.viewport(), LEFT, NONE, below)  # a band drawn upwards from beside the rows
    for at in (rows["d.png"], rows["b.csv"]):
        QTest.mouseMove(view.viewport(), at)
    QTest.mouseRelease(view.viewport(), LEFT, NONE, rows["b.csv"])
    assert chosen(window) == ["b.csv", "c.txt", "d.png", "e.txt"]
    window.source.view.choose_nodes(
        window.workspace.listing.nodes_of([home / "f" / n for n in ("c.txt", "d.png", "e.txt")])
    )
    window.source.chips[FileType.TEXT].click()
    QTest.keyClick(view, Qt.Key.Key_A, CTRL)
    assert chosen(window) == ["a.txt", "c.txt", "d.png", "e.txt"]  # one of which is not in sight
    assert window.source.offers.only_shown.text() == "Deselect 1 hidden item"
    window.source.offers.only_shown.click()
    assert chosen(window) == ["a.txt", "c.txt", "e.txt"]
    window.source.chips[None].click()
    assert chosen(window) == ["a.txt", "c.txt", "e.txt"]
    QTest.keyClick(view, Qt.Key.Key_A, CTRL)
    assert len(chosen(window)) == 5
    QTest.keyClicks(window.finder, "d.p")
    assert window.source.model.rowCount() == 1
    window.workspace.open([home / "f" / "a.txt", home / "f" / "c.txt"])
    settle()
    assert chosen(window) == ["a.txt", "c.txt"]


def test_dragging_in(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt b.txt c.txt")
    (home / "f" / "folder").mkdir()
    (home / "x.zip").write_bytes(raw_zip([Raw(b"in")]))
    stand(home)

    def drop(*paths: Path) -> None:
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
        buttons, at = Qt.MouseButton.LeftButton, QPointF(50, 50)
        for event in (
            QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, mime, buttons, NONE),
            QDropEvent(at, Qt.DropAction.CopyAction, mime, buttons, NONE),
        ):
            QApplication.sendEvent(window.source, event)
            assert event.isAccepted()
        settle()

    drop(home / "f" / "a.txt", home / "f" / "c.txt")
    assert chosen(window) == ["a.txt", "c.txt"]
    drop(home / "f" / "folder")
    assert chosen(window) == ["a.txt", "c.txt", "folder"]  # beside what was chosen already
    drop(home / "x.zip")
    assert chosen(window) == ["a.txt", "c.txt", "folder", "x.zip"]
    assert window.source.summary.text().startswith("From 2 folders: 4 items selected")
    window.source.offers.only_here.click()
    window.source.view.clearSelection()
    drop(home / "x.zip")
    assert window.workspace.place.in_archive


def test_naming_placing_and_replacing(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt b.txt")
    (home / "other").mkdir()
    stand(home / "f")
    click(window, "a.txt")
    page = window.target.pack
    assert page.archive.name.text() == "a"
    page.archive.name.selectAll()
    QTest.keyClicks(page.archive.name, "sent.zip")
    assert window.workspace.packing.asked_target == home / "f" / "sent.zip"
    click(window, "b.txt", CTRL)
    assert window.workspace.packing.asked_target.name == "sent.zip"
    page.archive.folder.edit.setText("~/other")
    page.archive.folder.edit.editingFinished.emit()
    window.window_actions["go"].trigger()
    settle()
    assert (home / "other" / "sent.zip").exists()
    assert page.archive.name.text() == "f"  # the name belonged to that archive
    page.archive.name.selectAll()
    QTest.keyClicks(page.archive.name, "sent")
    assert page.archive.clash.text() == "That name is taken. This archive will be called “sent (2).zip”."
    window.how.pack.level.setValue(0)
    assert "Level 0: uncompressed" in window.how.pack.words.text()
    page.archive.clashes[IfTaken.REPLACE].click()
    assert page.archive.clash.text() == "The existing “sent.zip” goes to the trash."
    window.window_actions["go"].trigger()
    settle()
    assert sorted(p.name for p in (home / "other").iterdir()) == ["sent.zip"]
    reader = open_archive(home / "other" / "sent.zip")
    assert [(e.path, e.packed) for e in reader.catalog] == [("a.txt", 5000), ("b.txt", 5000)]
    reader.close()
    for words, meant in (
        ("in it/../deeper", home / "other" / "deeper"),
        ("~nobody at all", home / "other" / "deeper" / "~nobody at all"),
    ):
        page.archive.folder.edit.setText(words)  # what has no beginning lies in the folder that was shown
        page.archive.folder.edit.editingFinished.emit()
        assert window.workspace.packing.folder == meant
    page.archive.folder.edit.setText("/no/such/folder")
    page.archive.folder.edit.editingFinished.emit()
    assert not page.go.isEnabled()
    assert page.facts.text() == "This folder doesn't exist."


def test_clash_and_folder_rules_show_at_once(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    tree = make_tree(home)
    pack_to(home / "x.zip", [tree])
    (home / "out" / "tree").mkdir(parents=True)
    (home / "out" / "tree" / "plain.txt").write_bytes(b"mine")
    stand(home / "x.zip")
    assert not window.target.unpack.own.isChecked()  # there is a single folder in it already
    window.target.unpack.folder.edit.setText(str(home / "out"))
    window.target.unpack.folder.edit.editingFinished.emit()
    expected = {
        UnpackClash.RENAME: "1 name already taken, both kept",
        UnpackClash.SKIP: "1 name already taken, existing files kept",
        UnpackClash.REPLACE: "1 name already taken, replaced",
    }
    for rule, words in expected.items():
        window.how.unpack.clash[rule].click()
        settle()
        assert words in window.target.unpack.facts.text()
    assert window.target.unpack.hint.isVisible()
    landing = window.target.unpack

    def menu_of_taken() -> QMenu | None:
        rows = landing.view.rows
        how = Qt.MatchFlag.MatchRecursive | Qt.MatchFlag.MatchStartsWith  # it may have a number
        return landing.view.rules_menu(*rows.match(rows.index(0, 0), Qt.ItemDataRole.DisplayRole, "plain", 1, how))

    menu = menu_of_taken()
    assert menu is not None
    assert [action.text() for action in menu.actions() if action.isChecked()] == ["Same as for the others"]
    menu.actions()[0].trigger()  # keep both, for this one only
    settle()
    assert "1 name already taken, both kept" in landing.facts.text()
    assert landing.view.rules_menu(landing.view.rows.index(0, 0)) is None
    menu_of_taken().actions()[-1].trigger()
    settle()
    assert "1 name already taken, replaced" in landing.facts.text()
    QTest.keyClicks(window.finder, "RUN.sh")
    assert window.source.model.rowCount() == 1
    node = window.workspace.listing.node_of("tree/in/deep/er/run.sh")
    assert window.source.model.index_of(node).isValid()
    window.finder.clear()
    window.how.unpack.just_files.click()
    settle()
    assert window.workspace.unpacking.plan.taken == 0
    window.how.unpack.with_folders.click()
    settle()
    window.target.go.click()
    settle()
    assert snapshot(home / "out" / "tree") == snapshot(tree)


@pytest.mark.parametrize(("fmt", "hide"), [("zip", False), ("7z", False), ("7z", True)])
def test_a_locked_archive_asks_in_place(
    window: Window, settle: Settle, stand: Stand, home: Path, fmt: str, hide: bool
) -> None:
    (home / "a.txt").write_bytes(b"secret " * 500)
    options = WriteOptions(5, password="right", hide_names=hide)
    pack(plan_pack([home / "a.txt"], target=home / f"x.{fmt}", info=by_id(fmt).info, options=options))
    stand(home / f"x.{fmt}")
    lock = window.how.unpack.lock
    assert lock.isVisible()
    assert window.source.pages.shows_message == hide
    assert (window.source.pages.message.message.text() == "The file names are hidden.") == hide
    assert not window.target.go.isEnabled()
    QTest.keyClicks(lock.edit, "wrong")
    QTest.keyClick(lock.edit, Qt.Key.Key_Return)
    settle()
    assert lock.words.text() == f"The password does not open “x.{fmt}”."
    lock.edit.setText("right")
    lock.open.click()
    settle()
    assert not lock.isVisible()
    window.target.go.click()
    settle()
    assert (home / "x" / "a.txt").read_bytes() == (home / "a.txt").read_bytes()


def test_locked_archives_are_unlocked_where_they_are_selected(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """A click on a locked archive leads to its password, asked once for several; keys that type nothing stay the list's."""
    work = home / "work"
    files_in(home, "a.txt b.txt c.txt")
    work.mkdir()
    for stem, fmt, password in (("a", "zip", "one"), ("b", "7z", "one"), ("c", "zip", "other")):
        options = WriteOptions(1, password=password, hide_names=fmt == "7z")
        pack(plan_pack([home / f"{stem}.txt"], target=work / f"{stem}.{fmt}", info=by_id(fmt).info, options=options))
    pack_to(work / "d.zip", [home / "a.txt"])
    stand(work)
    view = window.source.view
    click(window, "a.zip")
    settle()
    lock = window.how.batch.lock
    assert lock.isVisible() and window.focusWidget() is lock.edit and window.how.batch.first is lock.edit
    QTest.keyClick(lock.edit, Qt.Key.Key_Down)
    settle()
    assert window.focusWidget() is view and chosen(window) == ["b.7z"]  # by keys one stays in the list
    click(window, "d.zip")
    settle()
    assert not lock.isVisible() and window.target.go.text() == "Unpack 1 archive"
    click(window, "c.zip")
    settle()
    QTest.keyClick(lock.edit, Qt.Key.Key_Delete)
    settle()
    assert not (work / "c.zip").exists()
    window.window_actions["undo"].trigger()
    settle()
    view.setFocus()
    view.selectAll()
    settle()
    assert lock.words.text() == "3 archives are locked. One password is tried on all."
    assert window.target.go.text() == "Unpack 1 archive"
    for password, words, ready in (("no", "3 of them", 1), ("one", "it", 3), ("other", "", 4)):
        lock.edit.setText(password)
        lock.open.click()
        settle()
        said = f"This password doesn't open {words}. Check it and try again." if words else ""
        assert (lock.words.text(), lock.isVisible()) == (said, bool(words))
        assert window.target.go.text() == f"Unpack {ready} archive{'' if ready == 1 else 's'}"
        view.setFocus()
        window.how.batch.clash[UnpackClash.SKIP].click()
        window.batch.plan_again()
        settle()
        assert window.focusWidget() is view  # what was said of a password is said once
        assert lock.words.text() == said
    click(window, "d.zip")
    settle()
    view.selectAll()
    settle()
    assert window.target.go.text() == "Unpack 4 archives"  # what was right is known
    window.target.go.click()
    settle()
    assert {p.name: p.read_bytes() for p in work.glob("*/*.txt")} == {
        f"{stem}.txt": (home / f"{stem}.txt").read_bytes() for stem in "abc"
    }


@pytest.mark.parametrize(
    ("fmt", "whole", "one"),
    [("zip", "20.0 kB of 30.0 kB", "10.0 kB of 20.0 kB"), ("7z", "10.0 kB of 30.0 kB", "20.0 kB once unpacked")],
)
def test_the_gauge_shows_what_is_chosen(
    window: Window, settle: Settle, stand: Stand, home: Path, fmt: str, whole: str, one: str
) -> None:
    """Entries of a solid block share what they take, so one of them alone has no packed size."""
    noise = os.urandom(10_000)
    for name, data in (("a.txt", noise + bytes(10_000)), ("b.txt", noise)):
        (home / name).write_bytes(data)
    pack_to(home / f"x.{fmt}", [home / "a.txt", home / "b.txt"], fmt=fmt)
    stand(home / f"x.{fmt}")
    gauge = window.how.unpack.gauge

    def about(words: str) -> str:
        return re.sub(r"\b10\.\d", "10.0", re.sub(r"\b20\.\d", "20.0", words))

    assert about(gauge.accessibleDescription()) == whole
    click(window, "a.txt")
    settle()
    assert about(gauge.accessibleDescription()) == one
    window.source.view.selectAll()
    settle()
    assert about(gauge.accessibleDescription()) == whole


def test_names_are_read_as_the_person_says(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """L1: where an old archive does not say how its names are written, and the guess is wrong."""
    names = {"ручей/цапля.txt".encode("cp866"): b"heron", b"plain.txt": b"plain"}  # too few letters for a guess
    (home / "x.zip").write_bytes(raw_zip([Raw(name, data, flags=0, host=0) for name, data in names.items()]))
    pack_to(home / "new.zip", [home / "x.zip"])
    stand(home / "x.zip")
    line = window.source.names_as
    assert line.isVisible() and line.pages.currentText() == "Western, DOS (437)"
    window.workspace.enter(window.workspace.listing.children(0)[0])
    settle()
    line.pages.setFocus()
    QTest.keyClicks(line.pages, "Cyrillic, DOS")
    QTest.keyClick(line.pages, Qt.Key.Key_Return)
    settle()
    assert window.workspace.place.inner == ""  # the folder is called otherwise now
    assert line.pages.currentData() == "cp866"
    window.target.go.click()
    settle()
    assert (home / "x" / "ручей" / "цапля.txt").read_bytes() == b"heron"
    stand(home / "new.zip")
    assert not line.isVisible()
    stand(home / "x.zip")
    assert line.pages.currentData() == "cp866"  # it was said of this archive
    stand(home)
    assert not line.isVisible()


def test_an_archive_is_locked_cut_and_read_back(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """P8, P9, P10: a password typed twice, hidden names, parts with their checksums, originals to the trash."""
    work = home / "work"
    files_in(work, "a.txt b.txt .hidden old.tmp")
    (work / "noise").write_bytes(os.urandom(60_000))
    before = snapshot(work, times=False)
    stand(work)
    window.source.view.selectAll()
    settle()
    options = window.how.pack.options
    options.lock.setChecked(True)
    assert window.target.pack.facts.text() == "Type the password twice, or show it."
    assert not window.target.go.isEnabled()
    box = options.lock_box
    QTest.keyClicks(box.first, "four words of mine")
    assert not window.target.go.isEnabled()
    QTest.keyClicks(box.again, "four words of mimes")
    assert box.words.text() == "The passwords don't match."
    assert not window.target.go.isEnabled()
    box.again.setText("four words of mine")
    assert box.words.text() == "Strong."
    assert not box.hide_names.isEnabled()
    assert window.target.go.isEnabled()
    click_choice(window, "7z")
    assert box.hide_names.isEnabled()
    box.hide_names.setChecked(True)
    options.part_size.setEditText("many")
    options.parts.setChecked(True)
    assert options.part_words.text() == "Type a size such as 20 MB."
    options.part_size.setEditText("25 kB")
    assert window.target.go.text().endswith("into parts")
    options.hidden.setChecked(True)
    options.patterns.setText("*.tmp, build")
    options.patterns.editingFinished.emit()
    assert options.read_back.isChecked()
    name = window.target.pack.archive.name
    name.setText("")
    QTest.keyClicks(name, "sent.7z")
    QTest.keyClick(name, Qt.Key.Key_Return)
    assert (name.text(), window.target.pack.archive.ending.text()) == ("sent", ".7z")
    window.target.go.click()
    settle()
    parts = sorted(path.name for path in work.glob("sent*"))
    assert parts == ["sent.7z.001", "sent.7z.002", "sent.7z.003", "sent.7z.sha256"]
    assert max(path.stat().st_size for path in work.glob("sent.7z.0*")) == 25_000
    stand(work / "sent.7z.002")
    assert window.source.pages.message.message.text() == "The file names are hidden."
    window.how.unpack.lock.edit.setText("four words of mine")
    window.how.unpack.lock.open.click()
    settle()
    window.target.go.click()
    settle()
    there = snapshot(work / "sent", times=False)
    assert there == {n: node for n, node in before.items() if n in ("a.txt", "b.txt", "noise")}

    stand(work)
    options.lock.setChecked(False)
    options.parts.setChecked(False)
    click(window, "noise")
    name.clear()
    QTest.keyClicks(name, "noise")
    options.trash.setChecked(True)
    assert options.read_back.isChecked() and not options.read_back.isEnabled()
    window.target.go.click()
    settle()
    assert "noise.7z" in window.strip.last.text()
    assert not (work / "noise").exists()
    assert (trash / "noise").read_bytes() == before["noise"].content
    assert (work / "noise.7z").exists()


def test_jobs_are_taken_back_and_kept_in_the_log(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """P6, P11, U7, A4: the result in words, the file on the clipboard, undo by key and button, the log over restarts."""
    work = home / "work"
    tree = make_tree(work)
    (work / "tree" / "new name.txt").write_text("x")
    before = snapshot(work, times=False)
    stand(work)
    click(window, "tree")
    window.target.go.click()
    settle()
    archive = work / "tree.zip"
    window.strip.copy_button.click()
    assert QApplication.clipboard().mimeData().urls() == [QUrl.fromLocalFile(str(archive))]
    assert window.strip.undo_button.toolTip() == "Move “tree.zip” to the trash (Ctrl+Z)"
    stand(archive)
    assert window.target.unpack.own.text().startswith("Create the folder")
    window.how.unpack.clash[UnpackClash.REPLACE].click()
    settle()
    (tree / "plain.txt").write_text("edited since")
    window.workspace.unpacking.plan_again()
    settle()
    window.target.go.click()
    settle()
    assert (tree / "plain.txt").read_bytes() == before["tree/plain.txt"].content
    assert (trash / "plain.txt").read_text() == "edited since"
    window.window_actions["undo"].trigger()
    settle()
    assert window.strip.last.text().startswith("Undone: ")
    assert (tree / "plain.txt").read_text() == "edited since"
    assert window.strip.undo_button.isVisible()  # it goes on with the job before
    assert window.strip.undo_button.toolTip() == "Move “tree.zip” to the trash (Ctrl+Z)"

    window.log_button.click()
    settle()
    log = window.history.log
    assert [r.outcome.kind for r in log.model.records] == ["unpack", "pack"]
    assert log.model.records[0].undone
    assert not log.undo_button.isEnabled()
    log.finder.setText("packed tree.zip")
    QTest.keyClicks(log.finder, " nowhere")
    assert log.model.rowCount() == 0
    log.finder.setText("pack")
    log.view.setCurrentIndex(log.model.index(1, 0))
    assert str(log.record.outcome.target) == str(archive)
    assert "Undo will move “tree.zip” to the trash." in log.words.text()
    log.undo_button.click()
    settle()
    assert not archive.exists()
    assert (trash / "tree.zip").exists()
    assert all(record.undone for record in window.history.journal.records())
    told = replace(
        window.history.journal.records()[0],
        problems=tuple(issue(name, Reason.SAID, problem=words) for name, words in (("a", "bad"), ("b", "worse"))),
    )
    log.show_records([told])
    assert log.problems.toPlainText() == "a: bad\nb: worse" and log.copy_button.isVisible()


def test_small_changes_on_the_disk(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """A1: new folder, rename, to the trash and back, hidden files, by keyboard and menu."""
    work = home / "work"
    files_in(work, "a.txt b.txt .hidden")
    stand(work)
    view, file_actions = window.source.view, window.file_actions
    names = [action.text() for action in file_actions.menu().actions() if not action.isSeparator()]
    assert names == ["Paste", "New folder", "Select all", "Invert the selection", "Show hidden files"]
    file_actions.actions["new_folder"].trigger()
    settle()
    assert chosen(window) == ["New folder"]
    editor = view.findChildren(QLineEdit)[-1]  # which can be named at once
    assert editor.selectedText() == "New folder"
    QTest.keyClicks(editor, "Papers")
    made = view.currentIndex()
    window.source.model.dataChanged.emit(made, made)  # as when its size has been counted
    assert editor.text() == "Papers"
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QApplication.processEvents()
    settle()
    assert chosen(window) == ["Papers"] and not (work / "New folder").exists()
    click(window, "a.txt")
    for name, words in (("b.txt", "There is a “b.txt” already."), ("x/y", "“x/y” can't be the name of a file.")):
        file_actions.actions["rename"].trigger()
        editor = view.findChildren(QLineEdit)[-1]
        assert (editor.text(), editor.selectedText()) == ("a.txt", "a")
        editor.setText(name)
        QTest.keyClick(editor, Qt.Key.Key_Return)
        QApplication.processEvents()
        settle()
        assert window.strip.last.text().startswith(words)
    file_actions.actions["rename"].trigger()
    view.findChildren(QLineEdit)[-1].setText("notes.txt")
    QTest.keyClick(view.findChildren(QLineEdit)[-1], Qt.Key.Key_Return)
    QApplication.processEvents()
    settle()
    assert chosen(window) == ["notes.txt"]
    assert (work / "notes.txt").read_bytes() == b"a.txt" * 1000
    for there, gone in (("a.txt", "notes.txt"),):
        window.window_actions["undo"].trigger()
        settle()
        assert (work / there).exists() and not (work / gone).exists()
    (work / "a.txt").rename(work / "notes.txt")
    file_actions.actions["new_folder"].trigger()
    settle()
    assert (work / "New folder").is_dir()
    QTest.keyClick(view.findChildren(QLineEdit)[-1], Qt.Key.Key_Escape)
    window.window_actions["undo"].trigger()
    settle()
    assert not (work / "New folder").exists()
    click(window, "b.txt")
    file_actions.actions["rename"].trigger()
    editor = view.findChildren(QLineEdit)[-1]
    QTest.keyClicks(editor, "c")
    window.jobs.start(FolderMade, work, lambda _: FolderMade(new_folder(work, "Other"), created=[str(work / "Other")]))
    qtbot.waitUntil(lambda: not (window.jobs.running or window.background.busy))
    QTest.qWait(50)
    assert editor.isVisible() and editor.text() == "c.txt"  # a job that ends does not take the row away
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    settle()
    click(window, "Other")
    (work / "Other").rmdir()
    settle()
    file_actions.actions["new_folder"].trigger()
    file_actions.actions["new_folder"].trigger()
    window.workspace.go(Place(home))
    settle()
    window.workspace.go(Place(work / "New folder"))
    settle()
    window.workspace.up()
    settle()
    assert view.state() != QAbstractItemView.State.EditingState  # left meanwhile, they are not named on coming back
    for name in ("New folder", "New folder (2)"):
        (work / name).rmdir()
    settle()
    click(window, "notes.txt")
    click(window, "b.txt", CTRL)
    assert file_actions.actions["trash"].text() == "Move 2 items to the trash"
    file_actions.actions["copy"].trigger()
    assert len(QApplication.clipboard().mimeData().urls()) == 2
    file_actions.actions["trash"].trigger()
    settle()
    assert sorted(path.name for path in work.iterdir()) == [".hidden", "Papers"]
    assert sorted(path.name for path in trash.iterdir()) == ["b.txt", "notes.txt"]
    window.window_actions["undo"].trigger()
    settle()
    assert window.strip.last.text() == "Undone: 2 items restored."
    assert (work / "b.txt").exists()
    assert len(window.workspace.listing.items) == 3
    file_actions.actions["hidden"].trigger()
    settle()
    assert len(window.workspace.listing.items) == 4
    click(window, "b.txt")
    window.finder.setFocus()
    QTest.keyClick(window.finder, Qt.Key.Key_Delete)
    settle()
    assert (work / "b.txt").exists()


@pytest.mark.parametrize("part_size", [0, 20_000])
def test_the_archive_goes_to_the_trash_only_when_all_went_well(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, part_size: int
) -> None:
    """U6: afterwards the archive, or all its parts, in the trash; and back again with undo."""
    work = home / "work"
    files_in(work, "a.txt")
    (work / "noise").write_bytes(os.urandom(50_000))
    items = [work / "a.txt", work / "noise"]
    pack(plan_pack(items, target=work / "x.zip", info=by_id("zip").info, part_size=part_size))
    whole = {path.name: path.read_bytes() for path in work.glob("x.zip*")}
    first = work / ("x.zip.001" if part_size else "x.zip")
    damaged = bytearray(whole[first.name])
    damaged[9000] ^= 1
    first.write_bytes(damaged)
    for name in (first, None):
        stand(first)
        window.how.unpack.after[Afterwards.TRASH].click()
        settle()
        window.target.go.click()
        settle()
        assert first.exists() == (name is not None)
        if name is not None:
            first.write_bytes(whole[first.name])
            shutil.rmtree(work / "x")
            stand(home)
    assert sorted(path.name for path in trash.iterdir()) == sorted(whole)
    assert window.workspace.place == Place(work)
    assert (work / "x" / "noise").read_bytes() == (work / "noise").read_bytes()
    window.window_actions["undo"].trigger()
    settle()
    assert {path.name: path.read_bytes() for path in work.glob("x.zip*")} == whole
    assert not (work / "x").exists()


def test_several_archives_at_once(window: Window, settle: Settle, stand: Stand, home: Path, trash: Path) -> None:
    """U1: loose ones get a folder of their own, others do not; a locked one and one that is none are said."""
    work = home / "work"
    tree = make_tree(home / "from")
    files_in(home / "from", "a.txt b.txt")
    work.mkdir()
    pack_to(work / "loose.zip", [home / "from" / "a.txt", home / "from" / "b.txt"])
    pack_to(work / "one folder.7z", [tree], fmt="7z", level=1)
    locked = WriteOptions(1, password="x")
    pack(plan_pack([tree], target=work / "secret.zip", info=by_id("zip").info, options=locked))
    pack(plan_pack([tree], target=work / "cut.tar", info=by_id("tar").info, part_size=200_000))
    (work / "words.zip").write_bytes(b"\0 no archive")
    stand(work)
    assert not window.how.what.isVisible()
    window.source.view.selectAll()
    settle()
    assert window.how.what.offered == ["pack", "sums"]  # the checksum file is no archive
    window.source.view.choose_nodes(
        [n for n, item in enumerate(window.workspace.listing.items, 1) if item.path.suffix != ".sha256"]
    )
    settle()
    assert window.how.what.offered == ["unpack", "check", "pack", "sums"]
    page = window.target.batch
    model = page.view.rows
    top = model.index(0, 0)
    assert {
        record.name: record.note for i in range(model.rowCount(top)) if (record := model.record(model.index(i, 0, top)))
        if record.note
    } == {
        "loose": "new", "one folder": "new", "tree": "new",  # two that hold a "tree" are not mixed
        "secret.zip": "locked",
        "words.zip": "“words.zip” is not an archive that Rundlet can read.",
    }  # fmt: skip
    assert page.facts.text().endswith(" · 2 archives can't be unpacked")
    assert window.target.go.text() == "Unpack 3 archives"
    click_button(window.how.what, "Pack")
    assert window.target.go.text().startswith("Pack ")
    click_button(window.how.what, "Unpack")
    settle()
    window.how.batch.clash[UnpackClash.SKIP].click()
    window.how.batch.trash.click()
    (work / "loose").mkdir()
    for name in ("a.txt", "b.txt"):
        (work / "loose" / name).write_text("mine")
    window.batch.plan_again()
    settle()
    assert " · 2 names already taken · " in page.facts.text()
    assert page.hint.isVisible()
    index = model.match(top, Qt.ItemDataRole.DisplayRole, "b.txt", 1, Qt.MatchFlag.MatchRecursive)[0]
    page.view.rules_menu(index).actions()[0].trigger()  # keep both, for this one only
    settle()
    page.view.clicked.emit(
        model.match(
            top, Qt.ItemDataRole.DisplayRole, "b (2)", 1, Qt.MatchFlag.MatchRecursive | Qt.MatchFlag.MatchStartsWith
        )[0]
    )
    assert isinstance(QApplication.activePopupWidget(), QMenu)
    click_button(window.how.what, "Pack")
    assert QApplication.activePopupWidget() is None  # what it was opened for is gone
    click_button(window.how.what, "Unpack")
    settle()
    window.target.go.click()
    settle()
    for out in (work / "tree", work / "one folder" / "tree"):
        assert snapshot(out, times=False) == snapshot(tree, times=False)
    assert sorted(path.name for path in (work / "loose").iterdir()) == ["a.txt", "b (2).txt", "b.txt"]
    assert (work / "loose" / "a.txt").read_text() == "mine"
    left = sorted(path.name for path in work.iterdir() if path.is_file())
    assert left == ["loose.zip", "secret.zip", "words.zip"]  # of the first, one file was skipped
    window.window_actions["undo"].trigger()
    settle()
    assert not (work / "tree").exists() and not (work / "one folder").exists()
    assert sorted(path.name for path in (work / "loose").iterdir()) == ["a.txt", "b.txt"]
    assert len([path for path in work.iterdir() if path.is_file()]) > 6


def click_choice(window: Window, fmt: str) -> None:
    click_button(window.how.pack.formats, fmt)


def click_button(inside: QWidget, words: str) -> None:
    next(b for b in inside.findChildren(QPushButton) if b.text() == words).click()


def test_the_trial_shows_what_fits(window: Window, settle: Settle, stand: Stand, qtbot: QtBot, home: Path) -> None:
    """P5, P6, P7: points for every choice, a limit, the way out, and a name that chooses the format."""
    work = home / "work"
    work.mkdir()
    (work / "table.csv").write_bytes(b"".join(b"%d,%d\n" % (i, i * i % 977) for i in range(12_000)))
    (work / "photo.jpg").write_bytes(os.urandom(40_000))
    window.trials.enabled = True
    stand(work)
    click(window, "photo.jpg")
    settle()
    qtbot.waitUntil(lambda: window.trials.at_rest and bool(window.trials.points), timeout=60_000)
    assert window.how.pack.hopeless.text().startswith("All of this is already compressed")
    window.source.view.selectAll()
    settle()
    qtbot.waitUntil(lambda: window.trials.at_rest and bool(window.trials.points), timeout=60_000)
    page, target = window.how.pack, window.target.pack
    assert page.hopeless.text() == "Already compressed, so they won't get smaller: 1 picture."
    zipped = window.trials.points["zip", 5].size
    assert f"About {round(zipped / 1000, 1)} kB in less than 1 s" in page.words.text()
    assert target.gauge.accessibleDescription().startswith("≈ ")
    smallest = min(point.size for point in window.trials.points.values())
    limit = (smallest + zipped) // 2
    QTest.keyClicks(target.other_limit, f"{limit} bytes")
    assert target.verdict.text().startswith("It is larger than")
    assert "fits: " in target.way_out.text()
    target.way_out.click()
    assert target.verdict.text() == "It fits."
    assert window.trials.point.size <= limit
    chart = page.chart
    assert "level" in chart.accessibleDescription()
    point = window.trials.points["zip", 1]
    QTest.mouseClick(chart, LEFT, NONE, chart.place(point).toPoint())
    near = window.trials.point
    assert near is not None
    assert abs(chart.place(near).x() - chart.place(point).x()) < 20
    chart.setFocus()
    QTest.keyClick(chart, Qt.Key.Key_Right)
    target.other_limit.clear()
    QTest.keyClicks(target.other_limit, "30 kB")
    assert target.way_out.text() == "Nothing fits. Split it into parts of 30.0 kB"
    target.way_out.click()
    assert target.verdict.text() == "Each part fits."
    expected = window.trials.point.size
    assert window.target.go.text() == f"Pack 2 items into {-(-expected // 30_000)} parts"
    window.target.go.click()
    settle()
    assert sum(path.stat().st_size for path in work.glob("work.*.0*")) == pytest.approx(expected, rel=0.1)


def test_formats_and_a_compressed_tar_that_fills_in(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tree = make_tree(home / "f")
    stand(home / "f")
    click(window, "tree")
    for fmt in ("tar", "tar.zst"):
        next(b for b in window.how.pack.formats.findChildren(QPushButton) if b.text() == fmt).click()
        assert window.target.pack.archive.ending.text() == f".{fmt}"
        assert window.how.pack.level.isEnabled() == (fmt != "tar")
        window.target.go.click()
        settle()
        assert (home / "f" / f"tree.{fmt}").exists()
    monkeypatch.setattr("rundlet.desktop.locations.partial_listing._PARTIAL_SECONDS", 0)
    partial = []
    window.workspace.opening.connect(lambda listing: partial.append(len(listing.tree.catalog)))
    stand(home / "f" / "tree.tar.zst")
    assert partial and partial[0] <= len(window.workspace.archive.reader.catalog)
    assert window.source.summary.text().startswith("7 files")
    window.target.go.click()
    settle()
    names = {path.name for path in (tree / "in").iterdir()}
    assert {"noise (2).bin", "large (2).csv"} <= names
    assert (tree / "in" / "noise (2).bin").read_bytes() == (tree / "in" / "noise.bin").read_bytes()


def test_going_about(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "a" / "b", "x.txt")
    (home / "a" / "y.zip").write_bytes(raw_zip([Raw(b"deep/er/file.txt"), Raw(b"top")]))
    (home / "a" / "bad.txt").write_text("no archive")
    stand(home / "a")
    QTest.keyClick(window.source.view, Qt.Key.Key_Return)
    window.source.view.entered.emit(window.workspace.listing.node_of(home / "a" / "y.zip"))
    settle()
    view = window.source.view
    view.setCurrentIndex(row(window, "deep"))
    QTest.keyClick(view, Qt.Key.Key_Return)
    settle()
    assert window.workspace.place.inner == "deep"
    assert [b.text() for b in window.path_bar.steps.findChildren(QPushButton)][-2:] == ["y.zip", "deep"]
    window.window_actions["up"].trigger()
    settle()
    assert window.workspace.place == Place(home / "a", archive=home / "a" / "y.zip")
    window.window_actions["up"].trigger()
    settle()
    assert chosen(window) == ["y.zip"]
    window.window_actions["back"].trigger()
    settle()
    assert window.workspace.place.in_archive
    window.workspace.open([home / "a" / "bad.txt"])
    settle()
    assert window.source.pages.shows_message
    assert window.source.pages.message.message.text().replace("Plain", "plain") == (  # as the desktop's version has it
        "“bad.txt” is not an archive that Rundlet can read. Its type is “plain text document”."
    )
    window.source.pages.message.back.click()
    assert chosen(window) == ["bad.txt"]
    window.workspace.go(Place(home / "gone"))
    settle()
    assert "Could not open the folder" in window.source.pages.message.message.text()


def test_everything_is_in_the_menu_and_among_the_shortcuts(window: Window) -> None:
    """A person finds each action by looking, and its keys in one searchable list and in the README."""
    window.menu.aboutToShow.emit()
    window.menu.aboutToShow.emit()
    menus = [window.menu, *window.menu.findChildren(QMenu)]
    offered = [action for menu in menus for action in menu.actions() if not action.isSeparator() and not action.menu()]
    assert len(set(offered)) == len(offered)
    assert {*window.window_actions.values(), *window.file_actions.offered} == set(offered)
    window.window_actions["shortcuts"].trigger()
    shortcuts = window._shortcuts
    assert shortcuts is not None and shortcuts.isVisible()
    told = {spec.words: keys_in_words(spec) for spec in (*ACTIONS, *LIST_KEYS, *LIST_ACTIONS) if spec.keys}
    assert {words for words, _ in shortcuts.shown} == set(told)
    for action in offered:
        spec_keys = [keys.toString() for keys in action.shortcuts()]
        assert not spec_keys or any(", ".join(spec_keys) == keys for _, keys in shortcuts.shown), action.text()
    readme = (Path(__file__).parent.parent / "README.md").read_text("utf-8")
    keys_told = readme[readme.index("## Keys") : readme.index("## Formats")]
    for spec in (*ACTIONS, *LIST_ACTIONS):
        assert not spec.keys or any(keys in keys_told for keys in spec.keys), spec.keys
    shortcuts.finder.setText("ctrl+f FIND")
    assert shortcuts.shown == [("Find", "Ctrl+F")]
    window.window_actions["about"].trigger()
    box = window.findChildren(QMessageBox)[-1]
    assert box.text() == f"Rundlet {rundlet.__version__}"
    box.close()


def test_no_words_on_buttons_are_cut(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """At the size that the window opens in; the words of the one strong button go on two lines where one is too short."""

    def cut() -> list[str]:
        buttons = [button for button in window.findChildren(QAbstractButton) if button.isVisible() and button.text()]
        return [button.text() for button in buttons if button.sizeHint().width() > button.width()]

    files_in(home / "a", "x.txt y.txt")
    files_in(home / "b", "z.txt")
    for name in ("one.zip", "two.7z"):
        pack_to(home / "a" / name, [home / "a" / "x.txt"], fmt=name.rpartition(".")[2])
    window.source.offers.keep.click()
    stand(home / "b")
    click(window, "z.txt")
    stand(home / "a")
    for names in ("x.txt", "x.txt y.txt", "one.zip two.7z"):
        for number, name in enumerate(names.split()):
            click(window, name, CTRL if number else NONE)
        settle()
        assert (names, cut()) == (names, [])
    window.source.view.selectAll()
    window.finder.setText("x")
    settle()
    go = window.target.go
    assert go.text() == "Pack 5 items (2 hidden, 1 in other folders)"
    assert QPushButton.text(go) == "Pack 5 items\n(2 hidden, 1 in other folders)" and go.accessibleName() == go.text()
    assert cut() == []
    stand(home / "a" / "one.zip")
    assert cut() == []


def test_recent_archives_are_offered_where_nothing_is_selected(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """One that was just made is among them; one that is gone is not."""
    files_in(home / "a", "x.txt")
    pack_to(home / "a" / "opened.7z", [home / "a" / "x.txt"], fmt="7z")
    stand(home / "a" / "opened.7z")
    stand(home / "a")
    quiet = window.how.quiet
    assert window.how.page is quiet and [button.text() for button in quiet.buttons] == ["opened.7z"]
    click(window, "x.txt")
    settle()
    assert not quiet.isVisible()
    window.target.go.click()
    settle()
    window.source.view.clearSelection()
    settle()
    assert [button.text() for button in quiet.buttons] == ["x.zip", "opened.7z"]
    (home / "a" / "opened.7z").unlink()
    quiet.buttons[0].click()
    settle()
    assert window.workspace.place.archive == home / "a" / "x.zip"
    stand(home)
    assert [button.text() for button in quiet.buttons] == ["x.zip"]


def test_a_path_is_typed(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """On the disk, and on into an archive; what is not there is said, and what was typed stays."""
    files_in(home / "a" / "b", "x.txt")
    (home / "a" / "y.zip").write_bytes(raw_zip([Raw(b"deep/er/file.txt"), Raw(b"top")]))
    archive = home / "a" / "y.zip"
    field, steps = window.path_bar.field, window.path_bar.steps
    for words, place in (
        ("b", Place(home / "a" / "b")),
        (f"{home}/./a/b/..", Place(home / "a")),
        ((home / "a" / "b").as_uri(), Place(home / "a" / "b")),
        ("~", Place(Path.home())),
        ("y.zip", Place(home / "a", archive=archive)),
        (f"{archive}/deep/er/", Place(home / "a", archive=archive, inner="deep/er")),
        (f"{archive}/gone", Place(home / "a", archive=archive)),
        (f"{archive}/top", Place(home / "a", archive=archive)),
    ):
        stand(home / "a")
        QTest.keyClick(window, Qt.Key.Key_L, CTRL)
        assert (field.isVisible(), steps.isVisible(), field.selectedText()) == (True, False, str(home / "a"))
        QTest.keyClicks(field, words)
        QTest.keyClick(field, Qt.Key.Key_Return)
        settle()
        assert (words, window.workspace.place) == (words, place)
        assert (field.isVisible(), steps.isVisible()) == (False, True)
    odd = Path(os.fsdecode(os.fsencode(home) + b"/caf\xe9"))  # no text in any encoding of today
    files_in(odd, "x.txt")
    stand(odd)
    window.path_bar.type()
    QTest.keyClick(field, Qt.Key.Key_Return)
    settle()
    assert window.workspace.place == Place(odd) and steps.isVisible() and not window.source.notice.isVisible()
    click(window, "x.txt")
    settle()
    window.target.pack.archive.folder.edit.setFocus()
    QTest.keyClick(window.target.pack.archive.folder.edit, Qt.Key.Key_Return)
    assert window.workspace.packing.folder == odd
    window.path_bar.type()
    field.setText(str(home / "a"))
    QTest.keyClick(field, Qt.Key.Key_Return)
    QTest.keyClick(field, Qt.Key.Key_Escape)  # before it was looked at
    settle()
    assert window.workspace.place == Place(odd)
    window.workspace.go(Place(home / "a", archive=archive, inner="deep"))
    settle()
    QTest.mouseClick(steps, Qt.MouseButton.LeftButton, pos=steps.rect().center())
    assert field.text() == str(archive / "deep")
    for words in ("no\0where", "nowhere"):
        field.setText(words)
        QTest.keyClick(field, Qt.Key.Key_Return)
        settle()
        assert window.source.notice.words.text() == f"There is no {quoted(str(home / 'a' / words))}. Check the path."
        assert field.isVisible() and field.text() == words
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert steps.isVisible() and window.workspace.place.inner == "deep"


def test_running_pausing_cancelling(window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path) -> None:
    big = home / "f" / "big.bin"
    files_in(home / "f", "small.txt")
    with big.open("wb") as out:
        for _ in range(60):
            out.write(os.urandom(1 << 20))
    stand(home / "f")
    window.source.view.selectAll()
    window.how.pack.level.setValue(9)
    window.target.go.click()
    running = window.jobs.running[0]
    strip_row = window.strip.rows[running]
    strip_row.pause.click()
    assert running.job.snapshot().paused
    assert strip_row.words.text().endswith("paused")
    qtbot.waitUntil(window.target.go.isEnabled)  # the window stays usable
    strip_row.cancel.click()
    settle()
    assert window.strip.last.text().endswith("was cancelled. Nothing was left behind.")
    assert sorted(p.name for p in (home / "f").iterdir()) == ["big.bin", "small.txt"]
    assert window.workspace.selection.items == 2


def test_failures_and_problems_are_said(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (home / "x.zip").write_bytes(raw_zip([Raw(b"a", crc=1), Raw(b"b")]))
    stand(home / "x.zip")
    window.target.go.click()
    settle()
    assert window.strip.last.text().endswith("1 problem: a: was left out: its content fails its checksum.")
    window.strip.problems_button.click()
    settle()
    assert window.history.log.problems.toPlainText() == "a: was left out: its content fails its checksum"
    window.history.log.close()
    shown: list[Path] = []
    monkeypatch.setattr(window_module, "show_in_file_manager", shown.append)
    window.strip.show_wanted.disconnect()
    window.strip.show_wanted.connect(shown.append)
    window.strip.show_button.click()
    assert shown == [home / "x"]
    window.how.unpack.show_files.click()  # then it needs no press of its own, for the next archive too
    shutil.rmtree(home / "x")
    stand(home)
    stand(home / "x.zip")
    window.target.go.click()
    settle()
    assert shown == [home / "x", home / "x"]

    def broken(job: Job) -> Outcome:
        raise ZeroDivisionError("oh")

    window.jobs.start(FolderMade, home, broken)
    settle()
    assert "an error in Rundlet itself" in window.strip.last.text()


def test_models_keep_qts_rules(window: Window, settle: Settle, stand: Stand, home: Path, qtmodeltester: Any) -> None:
    tree = make_tree(home)
    pack_to(home / "x.zip", [tree])
    stand(home / "x.zip")
    window.source.view.expandAll()
    window.source.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    qtmodeltester.check(window.source.model)
    qtmodeltester.check(window.target.unpack.view.rows)
    window.source.chips[FileType.TEXT].click()
    qtmodeltester.check(window.source.model)
    stand(home)
    listing = window.workspace.listing
    assert isinstance(listing, DiskListing)
    window.source.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    qtmodeltester.check(window.source.model)
    assert [listing.record(n).name for n in listing.children(0)] == ["tree", "x.zip"]


def test_every_order_is_to_be_had(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "b.txt x.csv c.txt a10.md a9.md")
    (home / "f" / "z.txt").write_bytes(b"small")
    os.utime(home / "f" / "b.txt", (10, 10))
    stand(home / "f")

    def names() -> list[object]:
        return [window.source.model.data(window.source.model.index(i, 0)) for i in range(6)]

    assert names() == ["a9.md", "a10.md", "b.txt", "c.txt", "x.csv", "z.txt"]
    expected = {"kind": "x.csv a9.md a10.md b.txt c.txt z.txt", "size": "a10.md", "time of change": "b.txt"}
    actions = {action.text(): action for action in window.source.view.header_menu().actions()}
    actions["Sort by kind"].trigger()
    assert names() == expected["kind"].split()
    actions["Sort by size"].trigger()
    assert (names()[0], names()[-1]) == (expected["size"], "z.txt")
    actions["Sort by time of change"].trigger()
    assert names()[-1] == expected["time of change"]
    header = window.source.view.header()
    QTest.mouseClick(header.viewport(), LEFT, NONE, QPoint(20, header.height() // 2))
    assert names()[0] in ("a9.md", "z.txt")


def test_light_dark_large_and_small(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    make_tree(home)
    stand(home)
    for dark, scale, width, height in ((True, 1.0, 900, 600), (False, 2.0, 1280, 800)):
        theme.apply(make_app(), dark=dark, text_scale=scale)
        window.resize(width, height)
        assert not window.grab().isNull()
        assert window.right.orientation() == Qt.Orientation.Vertical  # there is no room for three columns
    assert window.minimumSizeHint().width() <= 1280
    theme.apply(make_app(), dark=False)
    window.resize(900, 600)
    assert window.right.orientation() == Qt.Orientation.Vertical


def test_nothing_is_cut_in_large_text(window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path) -> None:
    """At 200 % in 1280x800: what does not scroll is seen whole, on each page, with recent archives there are to offer."""

    def cut() -> list[str]:
        found = []
        for control in (*window.findChildren(QAbstractButton), window.target.page):
            scrolls = any(isinstance(above, QAbstractScrollArea) for above in _above(control))
            if control.isVisible() and not scrolls and control.visibleRegion().boundingRect() != control.rect():
                found.append(getattr(control, "text", lambda: "the page")() or control.accessibleName())
        return found

    files_in(home / "a", "x.txt y.txt a file with quite a long name.txt")
    for number in range(6):
        pack_to(home / f"archive {number}.zip", [home / "a"])
        window.places_menu.note_archive(home / f"archive {number}.zip")
    theme.apply(make_app(), dark=False, text_scale=2.0)
    window.resize(1280, 800)
    try:
        for steps in ("quiet", "pack", "several", "unpack", "change", "new archive", "check"):
            stand(home if steps != "unpack" else home / "archive 0.zip")
            if steps == "pack":
                click(window, "a")
            elif steps == "several":
                window.source.view.selectAll()
            elif steps in ("change", "new archive"):
                stand(home / "archive 0.zip")
                window.workspace.changing.remove([window.source.model.node(row(window, "a/x.txt"))])
                window.workspace.changing.as_new = steps == "new archive"
            elif steps == "check":
                stand(home / "archive 1.zip")
                window.window_actions["check"].trigger()
            settle()
            with contextlib.suppress(qtbot.TimeoutError):  # the layout takes a few turns of the loop
                qtbot.waitUntil(lambda: not cut(), timeout=3000)
            assert (steps, cut()) == (steps, [])
    finally:
        theme.apply(make_app(), dark=False)


def _above(widget: QWidget) -> Iterator[QWidget]:
    while (above := widget.parentWidget()) is not None:
        yield above
        widget = above


def test_every_control_has_a_name(window: Window, stand: Stand, home: Path) -> None:
    files_in(home, "a.txt b.csv")
    stand(home)
    for kind in (QAbstractButton, QAbstractItemView, QLineEdit, QSlider):
        for control in window.findChildren(kind):
            if control.isVisible() and not control.objectName().startswith("qt_"):
                assert control.accessibleName() or getattr(control, "text", str)(), control
    index = row(window, "a.txt")
    assert window.source.model.data(index, Qt.ItemDataRole.AccessibleTextRole) == "a.txt, Plain text, 5.0 kB"


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="there is no virtual screen here")
def test_a_real_window_under_xvfb(tmp_path: Path) -> None:
    """Start the command on a screen of its own and see the window come up, with what was asked for in its title."""
    (tmp_path / "sent.zip").write_bytes(raw_zip([Raw(b"a")]))
    read, write = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    try:
        with os.fdopen(read) as numbers:
            display = ":" + numbers.readline().strip()
        env = os.environ | {"DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "HOME": str(tmp_path)}
        command = [sys.executable, "-c", REAL_WINDOW, str(tmp_path / "sent.zip")]
        done = subprocess.run(command, env=env, capture_output=True, text=True, timeout=120, check=False)
        assert done.returncode == 0, done.stderr
        assert json.loads(done.stdout) == {
            "title": "sent.zip – Rundlet",
            "button": "Unpack everything",
            "platform": "xcb",
            "painted": True,
        }
    finally:
        screen.terminate()
        screen.wait()


REAL_WINDOW = """
import json, sys
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from rundlet.desktop import app
def look():
    window = next(w for w in QApplication.topLevelWidgets() if w.windowTitle().endswith("Rundlet"))
    if not window.target.go.isEnabled():
        return QTimer.singleShot(50, look)
    image = window.screen().grabWindow(window.winId()).toImage()
    colours = {image.pixel(x, y) for x in range(0, image.width(), 7) for y in range(0, image.height(), 7)}
    print(json.dumps({"title": window.windowTitle(), "button": window.target.go.text(),
        "platform": QApplication.platformName(), "painted": len(colours) > 10}))
    window.close()
real = app.Window
class Looked(real):
    def __init__(self):
        super().__init__()
        QTimer.singleShot(50, look)
app.Window = Looked
sys.exit(app.main(sys.argv[1:]))
"""


@pytest.mark.parametrize(("width", "stacked"), [(1280, False), (900, True), (700, True)])
def test_it_works_as_narrow_as_it_is(
    window: Window, settle: Settle, stand: Stand, home: Path, width: int, stacked: bool
) -> None:
    pack_to(home / "x.zip", [make_tree(home)])
    stand(home / "x.zip")
    window.source.view.selectAll()
    settle()
    window.resize(width, 600)
    settle()
    assert (window.width(), window.height()) == (width, 600)
    assert (window.right.orientation() == Qt.Orientation.Vertical) == stacked
    seen = QRect(QPoint(), window.size())
    for part in (window.source.view, window.how, window.target.go, window.finder, window.log_button):
        assert seen.contains(QRect(part.mapTo(window, QPoint()), part.size()))
    assert window.source.view.columnWidth(0) >= 120


def test_the_log_shows_how_much_was_gained(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """P6, A4: the gauge stands in the rows of what was packed, and in no others."""
    (home / "a.txt").write_bytes(os.urandom(30_000) + b"the brook was clear " * 2000)
    stand(home)
    window.source.view.selectAll()
    settle()
    for _ in range(2):
        window.target.go.click()
        settle()
    stand(home / "a.zip")
    window.target.go.click()
    settle()
    window.history.open_log()
    settle()
    log = window.history.log
    assert log is not None
    picture = log.view.viewport().grab().toImage()
    verbs = {}
    heads = [log.model.headerData(column, Qt.Orientation.Horizontal) for column in range(log.model.columnCount())]
    for number, record in enumerate(log.model.records):
        cell = log.view.visualRect(log.model.index(number, heads.index("Size")))
        # wine fills the beginning of the cask, oak wash the rest of it
        colours = {picture.pixelColor(cell.left() + x, cell.center().y()).name().upper() for x in range(2, 36)}
        verbs[record.outcome.kind] = theme.palette.oak_wash in colours and theme.palette.wine in colours
    assert verbs == {"pack": True, "unpack": False}


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
@pytest.mark.usefixtures("usual_signals")
def test_told_to_end_it_clears_up(window: Window, qtbot: QtBot, stand: Stand, home: Path, number: int) -> None:
    (home / "zeros").mkdir()
    with (home / "zeros" / "long").open("wb") as file:
        file.truncate(1 << 40)  # hours of work
    try:
        close_when_told_to_end(window)
        stand(home)
        plan = plan_pack([home / "zeros"], target=home / "x.zip", info=by_id("zip").info)
        window.jobs.start(Packed, plan.target, lambda job: pack(plan, job))
        qtbot.waitUntil(lambda: bool(window.jobs.running) and window.jobs.running[0].job.snapshot().done_bytes > 0)
        os.kill(os.getpid(), number)
        qtbot.waitUntil(lambda: not window.isVisible(), timeout=20_000)
        assert [path.name for path in home.iterdir() if not path.name.startswith(".")] == ["zeros"]
    finally:
        os.close(signal.set_wakeup_fd(-1))


def test_done_again_from_the_log(window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot) -> None:
    """A monthly job in one press: the same items in the same way, under a name with the date; a lock is asked for anew."""
    (home / "notes").mkdir()
    for name in ("a.txt", "b.tmp"):
        (home / "notes" / name).write_text(name)
    (home / "made").mkdir()
    window.workspace.packing.set_format_and_level("tar.gz", 3)
    stand(home)
    click(window, "notes")
    settle()
    window.workspace.packing.change(lambda form: setattr(form, "exclude", ("*.tmp",)))
    window.workspace.packing.set_folder(home / "made")
    window.target.go.click()
    settle()
    window.workspace.packing.change(lambda form: setattr(form, "exclude", ()))
    window.workspace.packing.set_format_and_level("zip", 9)
    (home / "notes" / "c.txt").write_text("new")
    today = QDate.currentDate().toString("yyyy-MM-dd")
    for stem in ("notes", "notes 2026-01-31", "notes_2026-01-31 (2)"):
        assert dated_stem(stem, date(2026, 2, 28)) == "notes 2026-02-28"
    assert dated_stem("2026-01-31", date(2026, 2, 28)) == "2026-01-31 2026-02-28"
    for name in (f"notes {today}.tar.gz", f"notes {today} (2).tar.gz"):
        stand(home / "made")
        window.history.open_log()
        settle()
        log = window.history.log
        assert log is not None and log.again_button.isVisible()
        log.again_button.click()
        qtbot.waitUntil((home / "made" / name).exists, timeout=20_000)
        settle()
        assert set(held(home / "made" / name)) == {"notes", "notes/a.txt", "notes/c.txt"}
        assert not log.isVisible()
    assert main(["pack", str(home / "cli.zip"), str(home / "notes"), "--level", "0"]) == 0
    record = Journal().records()[0]
    assert record.how["fmt"] == "zip" and record.can_be_repeated
    window.history.open_log()
    settle()
    shutil.rmtree(home / "notes")
    log.again_button.click()
    settle()
    assert "“notes” is gone, so this" in log.words.text() and log.isVisible()
    (home / "secret").write_text("x")
    log.hide()
    stand(home)
    click(window, "secret")
    settle()
    window.workspace.packing.set_format_and_level("7z", 5)
    options = window.how.pack.options
    options.lock.click()
    options.lock_box.first.setText("word")
    options.lock_box.again.setText("word")
    window.target.go.click()
    settle()
    window.history.open_log()
    settle()
    log.view.setCurrentIndex(log.model.index(0, 0))
    assert "word" not in json.dumps(log.model.records[0].how)
    log.again_button.click()
    settle()
    assert (
        options.lock.isChecked()
        and not window.target.go.isEnabled()
        and "was locked" in window.source.notice.words.text()
    )
    assert window.workspace.packing.form.stem == f"secret {today}"
