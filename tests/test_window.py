"""The real window, driven as a person would drive it, on real files."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QModelIndex, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QLineEdit, QPushButton, QSlider
from pytestqt.qtbot import QtBot

from rundlet.core.files.types import Sort
from rundlet.core.formats.base import WriteOptions
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.plans.pack import plan_pack
from rundlet.core.plans.unpack import UnpackClash
from rundlet.core.work.pack import pack
from rundlet.desktop import window as window_module
from rundlet.desktop.app import make_app
from rundlet.desktop.models.listing import ArchiveListing, DiskListing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from rundlet.desktop.workspace import Place
from support import Raw, make_tree, pack_to, raw_zip, snapshot

CTRL, SHIFT, NONE = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.NoModifier,
)
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def window(qtbot: QtBot, home: Path) -> Iterator[Window]:
    theme.apply(make_app(), dark=False)
    made = Window()
    qtbot.addWidget(made)
    made.show()
    yield made
    made.close()


@pytest.fixture
def settle(window: Window, qtbot: QtBot) -> Callable[[], None]:
    """Wait until nothing is under way."""

    def wait() -> None:
        qtbot.waitUntil(
            lambda: not window.background.busy and window.workspace.at_rest and not window.jobs.running, timeout=20_000
        )

    return wait


@pytest.fixture
def stand(window: Window, settle: Callable[[], None]) -> Callable[[Path], None]:
    """Open something and wait for it."""

    def go(path: Path) -> None:
        window.workspace.open([path])
        settle()

    return go


def row(window: Window, name: str) -> QModelIndex:
    """The index of a row, by its name or path."""
    listing = window.workspace.listing
    node = listing.node_of(name) if isinstance(listing, ArchiveListing) else listing.node_of(listing.folder / name)
    index = window.source.model.index_of(node)
    window.source.view.scrollTo(index)
    return index


def middle(window: Window, name: str) -> QPoint:
    return window.source.view.visualRect(row(window, name)).center()


def click(window: Window, name: str, keys: Qt.KeyboardModifier = NONE, *, tick: bool = False) -> None:
    view = window.source.view
    rect = view.visualRect(row(window, name))
    at = QPoint(rect.left() + theme.sizes.gap + 3, rect.center().y()) if tick else rect.center()
    QTest.mouseClick(view.viewport(), LEFT, keys, at)


def chosen(window: Window) -> list[str]:
    return sorted(path.name for path in window.workspace.chosen_paths())


def files_in(folder: Path, names: str) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name in names.split():
        (folder / name).write_bytes(name.encode() * 1000)


def test_the_whole_sentence(window: Window, settle, stand, home: Path) -> None:
    """Choose five items, pack, go in, choose three entries, watch the landing tree, unpack, compare the bytes."""
    work = home / "Spring"
    tree = make_tree(work)
    files_in(work, "one.txt two.txt three.csv four.md five.png")
    stand(work)
    click(window, "tree")
    for name in ("one.txt", "two.txt", "three.csv", "four.md"):
        click(window, name, CTRL)
    settle()
    assert window.source.summary.text().startswith("5 of 6 items chosen · 11 files · ")
    assert window.target.pack.name.text() == "Spring"
    assert window.target.pack.ending.text() == ".zip"
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
    assert window.workspace.plan.files == 11
    click(window, "one.txt")
    click(window, "three.csv", CTRL)
    click(window, "tree", CTRL)
    settle()
    assert window.target.go.text() == "Unpack 3 entries"
    assert window.how.unpack.statement.text() == "3 chosen entries"
    landing = window.target.unpack.model
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
    assert "taken, both kept" in notes


def test_all_ways_of_choosing(window: Window, settle, stand, home: Path) -> None:
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
    assert window.source.again.text() == "Choose the 3 from before again"
    window.source.again.click()
    assert chosen(window) == ["c.txt", "d.png", "e.txt"]
    view = window.source.view
    QTest.mouseClick(view.viewport(), LEFT, NONE, QPoint(200, view.viewport().height() - 5))
    assert len(chosen(window)) == 3
    window.source.chips[Sort.TEXT].click()
    QTest.keyClick(view, Qt.Key.Key_A, CTRL)
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


def test_dragging_in(window: Window, settle, stand, home: Path) -> None:
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
    assert chosen(window) == ["folder"]
    drop(home / "x.zip")
    assert window.workspace.place.in_archive


def test_naming_placing_and_replacing(window: Window, settle, stand, home: Path) -> None:
    files_in(home / "f", "a.txt b.txt")
    (home / "other").mkdir()
    stand(home / "f")
    click(window, "a.txt")
    page = window.target.pack
    assert page.name.text() == "a"
    page.name.selectAll()
    QTest.keyClicks(page.name, "sent.zip")
    assert window.workspace.asked_target == home / "f" / "sent.zip"
    click(window, "b.txt", CTRL)
    assert window.workspace.asked_target.name == "sent.zip"
    page.folder.edit.setText("~/other")
    page.folder.edit.editingFinished.emit()
    window.window_actions["go"].trigger()
    settle()
    assert (home / "other" / "sent.zip").exists()
    assert page.clash.text() == "That name is taken; this one will be “sent (2).zip”."
    window.how.pack.level.setValue(0)
    assert "Level 0: as is" in window.how.pack.words.text()
    page.replace.click()
    window.window_actions["go"].trigger()
    settle()
    assert sorted(p.name for p in (home / "other").iterdir()) == ["sent.zip"]
    reader = open_archive(home / "other" / "sent.zip")
    assert [(e.path, e.packed) for e in reader.catalog] == [("a.txt", 5000), ("b.txt", 5000)]
    reader.close()
    page.folder.edit.setText("/no/such/folder")
    page.folder.edit.editingFinished.emit()
    assert not page.go.isEnabled()
    assert page.facts.text() == "There is no such folder."


def test_clash_and_folder_rules_show_at_once(window: Window, settle, stand, home: Path) -> None:
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
        UnpackClash.SKIP: "1 name already taken, left alone",
        UnpackClash.REPLACE: "1 name already taken, replaced",
    }
    for rule, words in expected.items():
        window.how.unpack.clash[rule].click()
        settle()
        assert words in window.target.unpack.facts.text()
    QTest.keyClicks(window.finder, "RUN.sh")
    assert window.source.model.rowCount() == 1
    node = window.workspace.listing.node_of("tree/in/deep/er/run.sh")
    assert window.source.model.index_of(node).isValid()
    window.finder.clear()
    window.how.unpack.just_files.click()
    settle()
    assert window.workspace.plan.taken == 0
    window.how.unpack.with_folders.click()
    settle()
    window.target.go.click()
    settle()
    assert snapshot(home / "out" / "tree") == snapshot(tree)


def test_a_locked_archive_asks_in_place(window: Window, settle, stand, home: Path) -> None:
    (home / "a.txt").write_bytes(b"secret " * 500)
    options = WriteOptions(5, password="right")
    pack(plan_pack([home / "a.txt"], target=home / "x.zip", info=by_id("zip").info, options=options))
    stand(home / "x.zip")
    lock = window.how.unpack.lock
    assert lock.isVisible()
    assert not window.target.go.isEnabled()
    QTest.keyClicks(lock.edit, "wrong")
    QTest.keyClick(lock.edit, Qt.Key.Key_Return)
    assert lock.words.text() == "The password does not open “x.zip”."
    lock.edit.setText("right")
    lock.open.click()
    settle()
    assert not lock.isVisible()
    window.target.go.click()
    settle()
    assert (home / "x" / "a.txt").read_bytes() == (home / "a.txt").read_bytes()


def test_formats_and_a_compressed_tar_that_fills_in(
    window: Window, qtbot: QtBot, settle, stand, home: Path, monkeypatch
) -> None:
    tree = make_tree(home / "f")
    stand(home / "f")
    click(window, "tree")
    for fmt in ("tar", "tar.zst"):
        next(b for b in window.how.pack.formats.findChildren(QPushButton) if b.text() == fmt).click()
        assert window.target.pack.ending.text() == f".{fmt}"
        assert window.how.pack.level.isEnabled() == (fmt != "tar")
        window.target.go.click()
        settle()
        assert (home / "f" / f"tree.{fmt}").exists()
    monkeypatch.setattr("rundlet.desktop.workspace._PARTIAL_SECONDS", 0)
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


def test_going_about(window: Window, settle, stand, home: Path) -> None:
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
    assert [b.text() for b in window.crumbs.findChildren(QPushButton)][-2:] == ["y.zip", "deep"]
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
    assert window.source.shows_message
    assert window.source.message.text() == "“bad.txt” is not an archive that Rundlet can read."
    window.source.message_back.click()
    assert chosen(window) == ["bad.txt"]
    window.workspace.go(Place(home / "gone"))
    settle()
    assert "Could not open the folder" in window.source.message.text()


def test_running_pausing_cancelling(window: Window, qtbot: QtBot, settle, stand, home: Path) -> None:
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
    assert window.target.go.isEnabled()  # the window stays usable
    strip_row.cancel.click()
    settle()
    assert window.strip.last.text().endswith("was cancelled; nothing of it was left behind.")
    assert sorted(p.name for p in (home / "f").iterdir()) == ["big.bin", "small.txt"]
    assert window.workspace.choice.items == 2


def test_failures_and_problems_are_said(
    window: Window, settle, stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (home / "x.zip").write_bytes(raw_zip([Raw(b"a", crc=1), Raw(b"b")]))
    stand(home / "x.zip")
    window.target.go.click()
    settle()
    assert window.strip.last.text().endswith("1 problem: a: was left out: its content fails its checksum.")
    assert "a: was left out: its content fails its checksum" in window.strip.last.toolTip()
    shown = []
    monkeypatch.setattr(window_module, "show_in_file_manager", shown.append)
    window.strip.show_wanted.disconnect()
    window.strip.show_wanted.connect(shown.append)
    window.strip.show_button.click()
    assert shown == [home / "x"]

    def broken(job: Job) -> Report:
        raise ZeroDivisionError("oh")

    window.jobs.start("Trying", broken)
    settle()
    assert "a fault in Rundlet itself" in window.strip.last.text()


def test_models_keep_qts_rules(window: Window, settle, stand, home: Path, qtmodeltester) -> None:
    tree = make_tree(home)
    pack_to(home / "x.zip", [tree])
    stand(home / "x.zip")
    window.source.view.expandAll()
    window.source.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    qtmodeltester.check(window.source.model)
    qtmodeltester.check(window.target.unpack.model)
    window.source.chips[Sort.TEXT].click()
    qtmodeltester.check(window.source.model)
    stand(home)
    listing = window.workspace.listing
    assert isinstance(listing, DiskListing)
    window.source.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    qtmodeltester.check(window.source.model)
    assert [listing.record(n).name for n in listing.children(0)] == ["tree", "x.zip"]


def test_every_order_is_to_be_had(window: Window, settle, stand, home: Path) -> None:
    files_in(home / "f", "b.txt x.csv c.txt a10.md a9.md")
    (home / "f" / "z.txt").write_bytes(b"small")
    os.utime(home / "f" / "b.txt", (10, 10))
    stand(home / "f")
    names = lambda: [window.source.model.data(window.source.model.index(i, 0)) for i in range(6)]  # noqa: E731
    assert names() == ["a9.md", "a10.md", "b.txt", "c.txt", "x.csv", "z.txt"]
    expected = {"kind": "x.csv a9.md a10.md b.txt c.txt z.txt", "size": "a10.md", "time of change": "b.txt"}
    actions = {action.text(): action for action in window.source.order_menu().actions()}
    actions["Sort by kind"].trigger()
    assert names() == expected["kind"].split()
    actions["Sort by size"].trigger()
    assert (names()[0], names()[-1]) == (expected["size"], "z.txt")
    actions["Sort by time of change"].trigger()
    assert names()[-1] == expected["time of change"]
    header = window.source.view.header()
    QTest.mouseClick(header.viewport(), LEFT, NONE, QPoint(20, header.height() // 2))
    assert names()[0] in ("a9.md", "z.txt")


def test_light_dark_large_and_small(window: Window, settle, stand, home: Path) -> None:
    make_tree(home)
    stand(home)
    for dark, scale, width, height in ((True, 1.0, 900, 600), (False, 2.0, 1280, 800)):
        theme.apply(make_app(), dark=dark, text_scale=scale)
        window.resize(width, height)
        assert not window.grab().isNull()
    assert window.minimumSizeHint().width() <= 1280
    theme.apply(make_app(), dark=False)
    window.resize(900, 600)
    assert window.right.orientation() == Qt.Orientation.Vertical


def test_every_control_has_a_name(window: Window, stand, home: Path) -> None:
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
