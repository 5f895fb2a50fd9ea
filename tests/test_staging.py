"""Changing an archive in the window: what is staged, shown, saved in one step, and undone."""

from __future__ import annotations

import errno
import os
import shutil
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from PySide6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QCursor, QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QWidget

from rundlet.core import text
from rundlet.core.formats.detect import by_id
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.plans.change_plan import AddClash
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.plans.staging import ChangeKind
from rundlet.core.streams.sources import fingerprint_of
from rundlet.core.work.packer import pack
from rundlet.desktop import file_actions as actions_module
from rundlet.desktop.dragging import items_id, local_files
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.pages.change_page import ChangePage
from rundlet.desktop.pages.change_target import ChangeTarget
from rundlet.desktop.saving import save_changes
from rundlet.desktop.state.changing import same_file_beside
from rundlet.desktop.views.dropdown import Dropdown
from support import held, pack_to, packed, unpack_to
from test_changing import second_look
from windows import CTRL, LEFT, NONE, Settle, Stand, click, files_in, middle, row

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.desktop.window import Window

FORMATS = [("zip", ""), ("zip", "word"), ("7z", ""), ("7z", "word"), ("tar", ""), ("tar.gz", ""), ("tar.zst", "")]


def key(window: Window, which: Qt.Key, keys: Qt.KeyboardModifier = NONE) -> None:
    QTest.keyClick(window.source.pages.page, which, keys)


def drop(window: Window, paths: list[Path], onto: str = "") -> None:
    """Files from another program are dropped on a row of the list, or below all rows."""
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    at = QPointF(60, window.source.height() - 60)
    if onto:
        at = QPointF(window.source.mapFromGlobal(window.source.view.viewport().mapToGlobal(middle(window, onto))))
    for event in (
        QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, mime, LEFT, NONE),
        QDropEvent(at, Qt.DropAction.CopyAction, mime, LEFT, NONE),
    ):
        QApplication.sendEvent(window.source, event)
        assert event.isAccepted()


def type_name(window: Window, name: str) -> None:
    """Type a name where it can be typed, and be done with it."""
    editor = window.source.view.indexWidget(window.source.view.currentIndex().siblingAtColumn(0))
    assert isinstance(editor, QLineEdit) and editor.isVisible()
    editor.setText(name)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QApplication.processEvents()  # as what is typed is taken over once the key was handled


def notes(window: Window) -> dict[str, str]:
    """What the list says of each row that changes."""
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    records = {listing.tree.path(node): listing.record(node) for node in range(1, len(listing.tree))}
    return {path: record.note for path, record in records.items() if record.tone != "ink"}


def pages(window: Window) -> tuple[ChangePage, ChangeTarget]:
    how, to = window.how.page, window.target.page
    assert isinstance(how, ChangePage) and isinstance(to, ChangeTarget)
    return how, to


def opened(window: Window, stand: Stand, settle: Settle, archive: Path, password: str = "") -> None:
    stand(archive)
    if password:
        window.workspace.unlock(password)
        settle()


@pytest.mark.parametrize(("fmt", "password"), FORMATS)
def test_everything_is_staged_and_saved_in_one_step(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, fmt: str, password: str
) -> None:
    """X1, X2: Delete, F2, a new folder, drops, drags and paste are one save, which one key undoes."""
    archive = packed(home, fmt, password)
    raw, expected = archive.read_bytes(), held(archive, password)
    files_in(home / "more" / "sub", "x.txt y.txt")
    (home / "new.txt").write_text("new")
    opened(window, stand, settle, archive, password)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    click(window, "tree/b.bin")
    key(window, Qt.Key.Key_F2)
    type_name(window, "Grüße 川.bin")
    settle()
    click(window, "tree/deep/er")
    key(window, Qt.Key.Key_F2)
    type_name(window, "er2")
    settle()
    drop(window, [home / "more"], onto="tree/deep")
    settle()
    drop(window, [home / "new.txt"])
    settle()
    window.source.moved_within.emit([window.source.model.node(row(window, "tree/deep/c.txt"))], "tree/empty")
    settle()
    click(window, "tree")
    key(window, Qt.Key.Key_N, CTRL | Qt.KeyboardModifier.ShiftModifier)
    settle()
    type_name(window, "made")
    settle()
    assert archive.read_bytes() == raw and window.workspace.changing.count == 7
    assert notes(window) == {
        "tree/a.txt": "– removed",
        "tree/Grüße 川.bin": "✎ was b.bin",
        "tree/deep/er2": "✎ was er",
        "tree/deep/more": "+ new",
        "tree/deep/more/sub": "+ new",
        "tree/deep/more/sub/x.txt": "+ new",
        "tree/deep/more/sub/y.txt": "+ new",
        "new.txt": "+ new",
        "tree/empty/c.txt": "✎ was in “tree/deep”",
        "tree/made": "+ new",
    }
    how, to = pages(window)
    assert how.statement.text() == "7 changes" and how.cost.text()
    assert to.go.text() == "Save 7 changes" and to.go.isEnabled()
    QTest.keyClick(window, Qt.Key.Key_Return, CTRL)
    QTest.keyClick(window, Qt.Key.Key_Return, CTRL)  # one press, one job
    settle()
    for gone in ("tree/a.txt", "tree/deep/er", "tree/deep/er/d.txt", "tree/deep/er/e.csv"):
        data = expected.pop(gone)
        if gone != "tree/a.txt":
            expected[gone.replace("er", "er2")] = data
    expected["tree/Grüße 川.bin"] = expected.pop("tree/b.bin")
    expected["tree/empty/c.txt"] = expected.pop("tree/deep/c.txt")
    expected |= {"tree/deep/more": None, "tree/deep/more/sub": None, "tree/made": None, "new.txt": b"new"}
    expected |= {f"tree/deep/more/sub/{name}": name.encode() * 1000 for name in ("x.txt", "y.txt")}
    assert held(archive, password) == expected
    second_look(archive, fmt, password, expected)
    assert window.workspace.changing.count == 0 and not notes(window)
    assert [path.name for path in trash.rglob(archive.name)] == [archive.name]
    window.window_actions["undo"].trigger()
    settle()
    assert archive.read_bytes() == raw


def test_each_change_is_undone_by_itself(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """With its button, by Ctrl+Z the newest first, or all at once; what builds on it goes with it, and that is said."""
    archive = packed(home, "zip")
    stand(archive)
    raw, changing = archive.read_bytes(), window.workspace.changing
    (home / "new.txt").write_text("new")
    drop(window, [home / "new.txt"], onto="tree/deep")
    settle()
    click(window, "tree/deep/new.txt")
    key(window, Qt.Key.Key_F2)
    type_name(window, "newer.txt")
    settle()
    click(window, "tree/deep")
    key(window, Qt.Key.Key_F2)
    type_name(window, "low")
    settle()
    assert notes(window) == {"tree/low": "✎ was deep", "tree/low/newer.txt": "+ new"}
    window.window_actions["undo"].trigger()
    settle()
    assert notes(window) == {"tree/deep/newer.txt": "+ new"}
    how, _ = pages(window)
    next(button for button in how.lines.buttons if "+" in button.accessibleName()).click()
    settle()
    assert changing.count == 0 and not notes(window)
    drop(window, [home / "tree"], onto="tree/deep")
    settle()
    click(window, "tree/deep/tree/a.txt")
    key(window, Qt.Key.Key_F2)
    type_name(window, "first.txt")
    settle()
    assert changing.count == 2
    changing.discard(changing.staging.changes[:1] if changing.staging else [])
    settle()
    assert changing.count == 0 and "1 change that built on it" in window.source.notice.words.text()
    for name in ("tree/a.txt", "tree/b.bin"):
        click(window, name)
        key(window, Qt.Key.Key_Delete)
        settle()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_F2)
    type_name(window, "gone already")
    settle()
    assert "removed already" in window.source.notice.words.text() and changing.count == 2
    pages(window)[0].discard_all.click()
    settle()
    assert changing.count == 0 and archive.read_bytes() == raw
    chosen = [window.source.model.node(row(window, name)) for name in ("tree/deep/er", "tree/deep/er/e.csv")]
    changing.move(chosen, "")  # what lies in a folder goes along with it
    settle()
    assert changing.count == 1 and notes(window) == {"er": "✎ was in “tree/deep”"}
    changing.discard_all()
    settle()
    drop(window, [home / "new.txt"])
    settle()
    click(window, "new.txt")
    key(window, Qt.Key.Key_Delete)  # what was never saved only goes from the list
    settle()
    assert changing.count == 0 and not notes(window) and not window.target.go.isEnabled()


def test_names_that_are_taken(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Keep both, replace, skip: for all of them, and one by one."""
    archive = packed(home, "zip")
    (home / "other").mkdir()
    for name in ("a.txt", "b.bin"):
        (home / "other" / name).write_text(f"another {name}")
    stand(archive)
    drop(window, [home / "other" / "a.txt", home / "other" / "b.bin"], onto="tree")
    settle()
    how, _ = pages(window)
    assert set(notes(window)) == {"tree/a (2).txt", "tree/b (2).bin"} and how.clash_box.isVisible()
    how.clash[AddClash.REPLACE].click()
    settle()
    assert notes(window) == {"tree/a.txt": "↻ replaced", "tree/b.bin": "↻ replaced"}
    boxes = how.taken.findChildren(Dropdown)
    window.workspace.changing.changed.emit()
    assert how.taken.findChildren(Dropdown) == boxes  # one that is open stays so
    boxes[1].activated.emit(boxes[1].findText("Keep the item in the archive"))
    settle()
    assert notes(window) == {"tree/a.txt": "↻ replaced"}
    before = held(archive)
    window.target.go.click()
    settle()
    assert held(archive) == {**before, "tree/a.txt": b"another a.txt"}
    drop(window, [home / "other" / "a.txt"], onto="tree")  # which it holds by now
    settle()
    assert "already holds all of it" in window.source.notice.words.text()
    assert window.workspace.changing.count == 0
    files_in(home, "fresh.txt")
    drop(window, [home / "other" / "a.txt", home / "fresh.txt"], onto="tree")
    settle()
    assert "“tree/a.txt” is in the archive already" in window.source.notice.words.text()
    assert notes(window) == {"tree/fresh.txt": "+ new"} and window.target.go.text() == "Save 1 change"
    pages(window)[0].lines.buttons[0].click()
    settle()
    for name in ("a.txt", "in/side", "..", ""):
        window.workspace.changing.rename(window.source.model.node(row(window, "tree/b.bin")), name)
        settle()
        assert window.workspace.changing.count == 0 and (not name or name in window.source.notice.words.text())


def test_a_save_that_fails_loses_nothing(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """X3: the archive is as it was, and what was staged still is."""
    archive = packed(home, "7z")
    raw = archive.read_bytes()
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()

    def full(*_: object, **__: object) -> None:
        raise OSError(errno.ENOSPC, "")

    with monkeypatch.context() as patch:
        patch.setattr("rundlet.core.work.changer.read_back", full)
        window.target.go.click()
        settle()
    assert window.workspace.changing.count == 1 and archive.read_bytes() == raw
    assert notes(window) == {"tree/a.txt": "– removed"} and window.target.go.isEnabled()
    asked = []

    def unreadable(*_: object, **__: object) -> None:
        asked.append(1)
        raise OSError(errno.EIO, "")

    with monkeypatch.context() as patch:
        patch.setattr("rundlet.core.plans.change_plan.plan_change", unreadable)
        click(window, "tree/b.bin")
        key(window, Qt.Key.Key_Delete)
        settle()
    assert len(asked) == 2 and "Could not read" in window.source.notice.words.text()
    assert window.workspace.changing.count == 1 and not window.target.go.isEnabled()
    click(window, "tree/b.bin")
    key(window, Qt.Key.Key_Delete)
    settle()
    window.target.go.click()
    settle()
    assert not {"tree/a.txt", "tree/b.bin"} & held(archive).keys()


def test_changes_wait_for_the_archive(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """They are kept for the window when it goes elsewhere, hold for another version of the archive, and closing asks."""
    archive = packed(home, "zip")
    other = home / "other.zip"
    pack_to(other, [home / "tree"])
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    click(window, "tree/b.bin")
    key(window, Qt.Key.Key_Delete)
    settle()
    stand(other)
    assert window.workspace.changing.count == 0 and not notes(window)
    (home / "tree" / "a.txt").unlink()
    archive.unlink()
    pack_to(archive, [home / "tree"])
    stand(archive)
    assert notes(window) == {"tree/b.bin": "– removed"}
    assert "1 change no longer applies: “tree/a.txt”" in window.source.notice.words.text()
    window.workspace.follower.held = lambda: True  # as if it had not been noticed yet
    (home / "another").mkdir()
    raw = packed(home / "another", "tar").read_bytes()
    archive.write_bytes(raw)
    window.target.go.click()
    settle()
    assert "“x.zip” was changed by another program, so nothing was saved." in window.strip.last.text()
    assert archive.read_bytes() == raw and window.workspace.changing.count == 1
    assert "Your changes still apply" in window.source.notice.words.text()
    stand(home)
    window.close()
    assert window.isVisible() and window.strip.question.isVisible()
    assert "not saved (“x.zip”)" in window.strip.question_words.text()
    QTest.keyClick(window.strip.keep_button, Qt.Key.Key_Escape)
    assert not window.strip.question.isVisible()
    window.close()
    window.strip.close_button.click()
    assert not window.isVisible() and "tree/b.bin" in held(archive)


def _append(archive: Path, name: str) -> None:
    """Another program puts a file into an archive in place."""
    with zipfile.ZipFile(archive, "a") as writing:
        writing.writestr(name, name * 100)


def test_an_archive_that_grows_in_place_is_read_anew(
    window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot
) -> None:
    """X1: it is seen, staged changes hold for what it is then, and can be taken back before and after."""
    archive = packed(home, "zip")
    window.workspace.follower.enabled = True
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    for number in range(2):  # and once more: the file is watched still
        _append(archive, f"more {number}.txt")
        qtbot.waitUntil(lambda number=number: f"more {number}.txt" in shown_paths(window), timeout=10_000)  # type: ignore[misc]
        settle()
        assert "Your changes still apply" in window.source.notice.words.text()
    assert notes(window) == {"tree/a.txt": "– removed"} and window.target.go.text() == "Save 1 change"
    window.workspace.follower.stop()
    window.target.go.click()
    settle()
    assert {"more 0.txt", "more 1.txt"} <= set(held(archive)) and "tree/a.txt" not in held(archive)


@pytest.mark.parametrize("then", ["undo", "delete", "save"])
def test_a_change_that_nobody_saw_is_no_dead_end(
    window: Window, settle: Settle, stand: Stand, home: Path, then: str
) -> None:
    """X1: taking back, changing and saving read the archive anew by themselves."""
    archive = packed(home, "zip")
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    _append(archive, "more.txt")
    if then == "undo":
        window._undo()
        settle()
        assert window.workspace.changing.count == 0 and not notes(window)
    elif then == "delete":
        click(window, "tree/b.bin")
        key(window, Qt.Key.Key_Delete)
        settle()
        assert notes(window) == {"tree/a.txt": "– removed", "tree/b.bin": "– removed"}
    else:
        window.target.go.click()
        settle()
        assert "nothing was saved" in window.strip.last.text() and window.target.go.isEnabled()
        window.target.go.click()
        settle()
        assert "tree/a.txt" not in held(archive) and "more.txt" in held(archive)
    assert "more.txt" in shown_paths(window)


def test_an_outer_archive_that_changes_is_no_dead_end(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    inner = packed(home, "zip")
    pack_to(home / "outer.tar", [inner], fmt="tar")
    stand(home / "outer.tar")
    window.workspace.enter(window.source.model.node(row(window, "x.zip")))
    settle()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    _append(inner, "more.txt")
    pack_to(home / "outer.tar", [inner], fmt="tar")
    window.target.go.click()
    settle()
    assert "nothing was saved" in window.strip.last.text()
    assert notes(window) == {"tree/a.txt": "– removed"} and "more.txt" in shown_paths(window)
    window.target.go.click()
    settle()
    (home / "out").mkdir()
    unpack_to(home / "outer.tar", home / "out")
    assert "tree/a.txt" not in held(home / "out" / "x.zip") and "more.txt" in held(home / "out" / "x.zip")


@pytest.mark.parametrize("how", ["renamed here", "renamed outside", "moved with its folder", "trashed"])
def test_changes_stay_with_their_archive(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, how: str
) -> None:
    """X2: wherever it goes; one that is in the trash is not asked about, and comes back with its changes."""
    (home / "in").mkdir()
    archive = packed(home / "in", "zip")
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    stand(archive.parent)
    new = archive.with_name("y.zip")
    if how == "renamed here":
        window.file_actions.rename(archive, "y.zip")
    elif how == "renamed outside":
        archive.rename(new)
    elif how == "moved with its folder":
        (home / "to").mkdir()
        window.file_actions.put_into([home / "in"], home / "to", True)
        new = home / "to" / "in" / "x.zip"
    else:
        click(window, "x.zip")
        key(window, Qt.Key.Key_Delete)
        settle()
        assert "“x.zip” had 1 change that is not saved. Undo brings both back." in window.source.notice.words.text()
        assert not window.workspace.changing.unsaved()
        window._undo()
        new = archive
    settle()
    assert [kept.place.archive for kept in window.workspace.changing.unsaved()] == [new]
    stand(new)
    assert notes(window) == {"tree/a.txt": "– removed"}
    window.target.go.click()
    settle()
    assert "tree/a.txt" not in held(new) and not window.workspace.changing.unsaved()


def test_changes_that_are_not_saved_are_marked_wherever_the_archive_is(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """In the path, in lists, in recent archives, and at folders that are closed."""
    archive = packed(home, "zip")
    stand(archive)
    click(window, "tree/deep/er/d.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    words = {path: listing.record(listing.tree.find(path) or 0).note for path in ("tree", "tree/deep", "tree/empty")}
    assert words == {"tree": "7 files, some changed", "tree/deep": "4 files, some changed", "tree/empty": "0 files"}
    (step,) = [each for each in window.path_bar.steps._steps if each.text().startswith("x.zip")]
    assert step.text() == "x.zip •" and step.toolTip() == "x.zip, 1 change not saved"
    stand(home)
    disk = window.workspace.listing
    assert isinstance(disk, DiskListing) and disk.record(disk.nodes_of([archive])[0]).note == "1 change not saved"
    assert [each.text() for each in window.how.quiet.buttons] == ["x.zip •"]
    window.places_menu.fill()
    assert "x.zip •" in [action.text() for action in window.places_menu.menu.actions()]
    stand(archive)
    window._undo()
    settle()
    assert window.path_bar.steps._steps[-1].text() == "x.zip"


@pytest.mark.parametrize("fails", [False, True])
def test_closing_saves_everything_first_where_that_is_wanted(
    window: Window, settle: Settle, stand: Stand, home: Path, fails: bool
) -> None:
    archives = []
    for name in ("one", "two"):
        (home / name).mkdir()
        archives.append(packed(home / name, "zip"))
        stand(archives[-1])
        click(window, "tree/a.txt")
        key(window, Qt.Key.Key_Delete)
        settle()
    stand(home)
    if fails:
        _append(archives[0], "more.txt")
    window.close()
    assert window.strip.save_button.isVisible()
    window.strip.save_button.click()
    settle()
    QApplication.processEvents()
    assert window.isVisible() == fails
    assert [("tree/a.txt" in held(archive)) for archive in archives] == [fails, False]
    assert len(window.workspace.changing.unsaved()) == fails


@pytest.mark.parametrize(
    ("rule", "notes_then", "names"),
    [
        (AddClash.RENAME, {"tree/deep/a (2).txt": "✎ was tree/a.txt"}, {"tree/deep/a.txt", "tree/deep/a (2).txt"}),
        (AddClash.REPLACE, {}, {"tree/deep/a.txt"}),
        (AddClash.SKIP, {}, {"tree/a.txt", "tree/deep/a.txt"}),
    ],
)
def test_a_move_to_a_name_that_is_taken(
    window: Window,
    settle: Settle,
    stand: Stand,
    home: Path,
    rule: AddClash,
    notes_then: dict[str, str],
    names: set[str],
) -> None:
    """X2: both are kept, one replaces the other, or it stays, as for what is added."""
    packed(home, "zip")
    (home / "tree" / "deep" / "a.txt").write_text("the other one")
    archive = home / "x.zip"
    pack_to(archive, [home / "tree"])
    moved = (home / "tree" / "a.txt").read_bytes()
    stand(archive)
    window.source.moved_within.emit([window.source.model.node(row(window, "tree/a.txt"))], "tree/deep")
    settle()
    how, to = pages(window)
    assert how.clash_box.isVisible() and to.go.text() == "Save 1 change"
    how.clash[rule].click()
    settle()
    assert notes_then.items() <= notes(window).items()
    if rule is AddClash.SKIP:
        assert not to.go.isEnabled() and window.workspace.changing.count == 1
        return
    to.go.click()
    settle()
    there = {name: content for name, content in held(archive).items() if name.endswith(("a.txt", "(2).txt"))}
    assert set(there) == names and moved in there.values()
    assert (b"the other one" in there.values()) == (rule is AddClash.RENAME)


def test_a_folder_that_is_moved_joins_one_of_its_name(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "tree" / "one" / "f", "a b")
    files_in(home / "tree" / "two" / "f", "b c")
    pack_to(home / "x.zip", [home / "tree"])
    stand(home / "x.zip")
    window.source.moved_within.emit([window.source.model.node(row(window, "tree/one/f"))], "tree/two")
    settle()
    window.target.go.click()
    settle()
    assert {name for name in held(home / "x.zip") if "/two/" in name} == {
        "tree/two/f",
        "tree/two/f/a",
        "tree/two/f/b",
        "tree/two/f/b (2)",
        "tree/two/f/c",
    }


@pytest.mark.parametrize("before", ["renamed", "renamed, then undone", "folder moved", "removed"])
def test_an_edited_copy_is_put_back_where_its_file_is_by_now(
    window: Window, settle: Settle, stand: Stand, home: Path, before: str
) -> None:
    """X4: never as a second version beside it; where it is to be removed, that is asked."""
    archive = packed(home, "zip")
    edited = home / "edited.txt"
    edited.write_text("edited")
    stand(archive)
    if before.startswith("renamed"):
        click(window, "tree/a.txt")
        key(window, Qt.Key.Key_F2)
        type_name(window, "z.txt")
    elif before == "folder moved":
        window.source.moved_within.emit([window.source.model.node(row(window, "tree/deep"))], "")
    else:
        click(window, "tree/a.txt")
        key(window, Qt.Key.Key_Delete)
    settle()
    path = "tree/deep/c.txt" if before == "folder moved" else "tree/a.txt"
    where = {"renamed": "tree/z.txt", "folder moved": "deep/c.txt"}.get(before, path)
    changing = window.workspace.changing
    changing.replace([PackItem(path, Kind.FILE, str(edited), 6, 0, 0o644)])
    settle()
    if before == "removed":
        assert "is to be removed" in window.source.notice.words.text() and changing.count == 1
        window.source.notice.offers[0].click()
        settle()
    if before.endswith("undone"):
        changing.discard(changing.staging.changes[:1] if changing.staging is not None else ())
        settle()
    window.target.go.click()
    settle()
    found = held(archive)
    assert found[where] == b"edited"
    other = {"tree/a.txt", "tree/z.txt"} if before != "folder moved" else {"tree/deep/c.txt", "deep/c.txt"}
    assert other & found.keys() == {where}


def test_the_button_rests_after_saving(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """It does not offer something else under the pointer that has just pressed it."""
    archive = packed(home, "zip")
    shutil.rmtree(home / "tree")
    stand(archive)
    click(window, "tree")
    key(window, Qt.Key.Key_Delete)
    settle()
    _, to = pages(window)
    assert "The archive will be empty." in to.facts.text()
    window._undo()
    settle()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    assert "empty" not in to.facts.text()
    QCursor.setPos(to.go.mapToGlobal(to.go.rect().center()))
    QTest.mouseClick(to.go, LEFT)
    settle()
    go = window.target.go
    assert go is not to.go and (go.text(), go.isEnabled()) == ("Saved", False)
    click(window, "tree/b.bin")
    assert go.text() == "Unpack 1 item"
    settle()
    assert go.isEnabled()
    go.rest("Saved")
    QApplication.sendEvent(go, QEvent(QEvent.Type.Leave))
    assert go.text() == "Unpack 1 item" and go.isEnabled()


def test_counts_are_the_same_wherever_they_are_said(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """A folder with everything in it is one item, in the list of changes, on the button and in the result."""
    archive = packed(home, "zip")
    files_in(home / "more", "x y z")
    stand(archive)
    drop(window, [home / "more"])
    settle()
    click(window, "more/x")
    key(window, Qt.Key.Key_Delete)
    settle()
    click(window, "tree/deep")
    key(window, Qt.Key.Key_Delete)
    settle()
    assert window.target.go.text() == "Save 2 changes"
    window.target.go.click()
    settle()
    assert "1 item added (2 files), 1 item removed (4 files)." in window.strip.last.text()


def test_keys_in_an_archive_do_their_work(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Cut and paste move, a new folder goes where the selection is, and undo says when nothing is left."""
    archive = packed(home, "zip")
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_X, CTRL)
    click(window, "tree/deep")
    window.file_actions._paste_within(QApplication.clipboard().mimeData(), "tree/deep")
    settle()
    assert notes(window) == {"tree/deep/a.txt": "✎ was in “tree”"}
    key(window, Qt.Key.Key_V, CTRL)  # there is nothing left to be pasted
    settle()
    assert window.workspace.changing.count == 1
    click(window, "tree/deep/er/d.txt")
    key(window, Qt.Key.Key_N, CTRL | Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert notes(window)["tree/deep/er/New folder"] == "+ new"
    click(window, "tree/deep/er/e.csv")
    window.file_actions._refresh()
    words = [action.text() for action in window.file_actions.menu().actions()]
    assert not window.file_actions.actions["look_inside"].isEnabled() and not any("Check" in each for each in words)
    for _ in range(3):
        window._undo()
        settle()
    assert not notes(window) and window.source.notice.words.text() == "There is nothing left to undo."


def test_what_is_cut_on_the_disk_is_copied_into_an_archive_and_that_is_said(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    archive = packed(home, "zip")
    files_in(home, "more.txt")
    stand(home)
    click(window, "more.txt")
    key(window, Qt.Key.Key_X, CTRL)
    stand(archive)
    key(window, Qt.Key.Key_V, CTRL)
    assert "The originals stay" in window.source.notice.words.text()
    settle()
    assert notes(window) == {"more.txt": "+ new"}


def test_a_folder_that_can_not_be_written_to_is_said_before_the_press(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """P3, U3: packing, unpacking and changing."""
    archive = packed(home, "zip")
    monkeypatch.setattr("rundlet.core.fs.disk_space.os.access", lambda path, how: not how & os.W_OK)
    stand(archive)
    assert "You can't write to this folder" in window.target.unpack.facts.text() and not window.target.go.isEnabled()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    _, to = pages(window)
    assert "Save it as a new archive" in to.facts.text() and not to.go.isEnabled()
    stand(home)
    click(window, "tree")
    settle()
    assert "You can't write to this folder" in window.target.pack.facts.text() and not window.target.go.isEnabled()


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("a\u202egpj.txt", "characters that nobody sees"),
        ("B.BIN", "differs from “b.bin” only in upper and lower case"),
        ("CON.txt", "other systems can't have this name"),
        ("a:b", "other systems can't have this name"),
        ("x" * 300, "longer than the 255 bytes"),
        ("plain.txt", ""),
    ],
)
def test_odd_names_are_accepted_and_said(
    window: Window, settle: Settle, stand: Stand, home: Path, name: str, said: str
) -> None:
    """In place where they are typed, and in the plan."""
    archive = packed(home, "zip")
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_F2)
    type_name(window, name)
    settle()
    how, to = pages(window)
    assert to.go.isEnabled() and (said in how.issues.text()) and bool(said) == how.issues.isVisible()
    assert said in window.source.notice.words.text() and bool(said) == window.source.notice.isVisible()


def test_another_file_is_not_taken_for_the_archive(tmp_path: Path) -> None:
    """A file number may be that of a newer file, once the archive is gone."""
    archive, other = tmp_path / "x.zip", tmp_path / "other.txt"
    archive.write_bytes(b"archive")
    before = fingerprint_of(archive.stat())
    archive.rename(other)
    assert same_file_beside(archive, before) == other
    other.write_bytes(b"something else")
    assert same_file_beside(archive, before) is None


def shown_paths(window: Window) -> set[str]:
    """What the list of an archive holds, folders apart."""
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    return {listing.tree.path(node) for node in range(1, len(listing.tree)) if not listing.tree.is_folder(node)}


def test_what_can_not_be_changed_says_why(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """X6: and becomes a new archive instead, in any format, without a stop on the disk."""
    tree = packed(home, "zip")
    expected = held(tree)
    parts = home / "parts.zip"
    pack(plan_pack([home / "tree"], target=parts, info=by_id("zip").info, options=WriteOptions(0), part_size=100_000))
    stand(home / "parts.zip.001")
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    notice = window.source.notice
    assert "comes in parts" in notice.words.text() and window.workspace.changing.count == 0
    notice.offers[0].click()
    settle()
    how, to = pages(window)
    assert window.workspace.changing.as_new and to.go.text() == "Save as 7z"
    how.formats.chosen.emit("tar.zst")
    to.archive.name.setText("together")
    to.archive.name.textEdited.emit("together")
    to.go.click()
    settle()
    assert held(home / "together.tar.zst") == expected
    assert sorted(path.name for path in home.glob("parts*")) == sorted(path.name for path in home.glob("parts.zip.*"))


@pytest.mark.parametrize(("source", "password"), [("7z", "word"), ("tar.xz", ""), ("zip", "")])
def test_a_new_archive_with_the_changes(
    window: Window, settle: Settle, stand: Stand, home: Path, source: str, password: str
) -> None:
    """From a lock to none and back, with what is staged in it; the old archive stays, and undoing takes the new one away."""
    archive = packed(home, source, password)
    raw, expected = archive.read_bytes(), held(archive, password)
    (home / "new.txt").write_text("new")
    os.mkfifo(home / "pipe")
    opened(window, stand, settle, archive, password)
    drop(window, [home / "pipe", home / "new.txt"], onto="tree/deep")
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    how, to = pages(window)
    assert "pipe" in how.issues.text()
    to.what.chosen.emit("new")
    settle()
    assert ("won't be" in to.facts.text()) == bool(password)
    how.formats.chosen.emit("zip" if source != "zip" else "7z")
    window.window_actions["how"].trigger()
    assert QApplication.focusWidget() in how.findChildren(QWidget)
    window.workspace.refresh()  # which is no reason to begin anew
    settle()
    assert window.workspace.changing.as_new and window.how.page is how and to.archive.isVisible()
    assert to.go.text() == f"Save as {'zip' if source != 'zip' else '7z'}"
    lock = how.options
    if not password:
        lock.lock.setChecked(True)
        settle()
        assert not to.go.isEnabled() and "password" in to.facts.text()
        lock.lock_box.first.setText("secret")
        lock.lock_box.again.setText("secret")
    settle()
    estimate = window.workspace.changing.new_size
    assert estimate is not None and text.size(estimate) in to.gauge.accessibleDescription()
    to.go.click()
    settle()
    assert 0.7 < estimate / window.strip.handle.files[0].stat().st_size < 1.4
    assert window.strip.last.text().startswith("Packed") and window.strip.problems_button.isVisible()
    made = home / ("x.zip" if source != "zip" else "x.7z")
    del expected["tree/a.txt"]
    assert held(made, "" if password else "secret") == {**expected, "tree/deep/new.txt": b"new"}
    assert archive.read_bytes() == raw and window.workspace.changing.count == 0
    window.window_actions["undo"].trigger()
    settle()
    assert not made.exists() and archive.read_bytes() == raw
    to.what.chosen.emit("new")
    settle()
    window.workspace.follower.held = lambda: True  # as if it had not been noticed yet
    archive.write_bytes(packed(home / "later", source, password).read_bytes())
    to.go.click()
    settle()
    assert "changed meanwhile" in window.strip.last.text() and not made.exists()


def test_bringing_up_to_date(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """X5: new and changed files are listed, what is gone if that is wanted; next time with one press."""
    archive, tree = packed(home, "zip"), home / "tree"
    stand(archive)
    window.workspace.changing.want(True)
    settle()
    how, _ = pages(window)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(tree))
    assert list(how.updates.buttons) == []
    how.updates.other.click()
    settle()
    assert "up to date" in window.source.notice.words.text() and how.update_name.edit.text() == "tree"
    how.update_name.edit.setText("the river, each month")
    how.updates.delete_gone.setChecked(True)
    how.updates.other.click()
    settle()
    how.update_name.edit.setText("the river, each month")
    how.update_name.button.click()
    assert not how.update_name.isVisible() and list(how.updates.buttons) == ["the river, each month"]
    how.updates.other.click()
    settle()
    assert not how.update_name.isVisible()  # as that one is saved
    how.updates.delete_gone.setChecked(False)
    how.updates.compare_content.setChecked(True)
    (tree / "a.txt").write_text("changed")
    (tree / "deep" / "new.txt").write_text("new")
    (tree / "b.bin").unlink()
    stand(home)  # next month
    stand(archive)
    window.workspace.changing.want(True)
    settle()
    again = how.updates.buttons["the river, each month"]
    assert again.isVisible() and again.text() == "Compare with “the river, each month”"
    again.click()
    settle()
    assert notes(window) == {"tree/a.txt": "↻ replaced", "tree/deep/new.txt": "+ new", "tree/b.bin": "– removed"}
    assert not how.updates.delete_gone.isChecked()  # a press of one is not said of all others
    window.target.go.click()
    settle()
    assert held(archive)["tree/a.txt"] == b"changed" and "tree/b.bin" not in held(archive)
    assert held(archive)["tree/deep/new.txt"] == b"new"
    window.workspace.changing.want(True)
    settle()
    how.updates.buttons["the river, each month"].click()
    settle()
    assert "up to date" in window.source.notice.words.text() and window.workspace.changing.count == 0
    how.updates.deletes["the river, each month"].click()
    assert not how.updates.buttons
    (home / "x").mkdir()  # a folder of the archive's name beside it is offered by itself
    stand(home)
    stand(archive)
    window.workspace.changing.want(True)
    settle()
    assert list(how.updates.buttons) == ["x"] and not how.updates.deletes["x"].isVisible()


def test_an_archive_within_another(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """A change of the inner one is one save of the outer one, which one key undoes."""
    inner = packed(home / "in", "tar.gz")
    shutil.copytree(home / "in" / "tree", home / "tree")
    inner.rename(home / "tree" / "inner.tar.gz")
    archive = home / "outer.zip"
    pack_to(archive, [home / "tree"])
    raw = archive.read_bytes()
    stand(archive)
    click(window, "tree/inner.tar.gz")
    QTest.mouseDClick(window.source.view.viewport(), LEFT, pos=middle(window, "tree/inner.tar.gz"))
    settle()
    assert window.workspace.place.outer is not None
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    window.workspace.up()
    settle()
    assert not notes(window)
    click(window, "tree/inner.tar.gz")
    QTest.mouseDClick(window.source.view.viewport(), LEFT, pos=middle(window, "tree/inner.tar.gz"))
    settle()
    assert notes(window) == {"tree/a.txt": "– removed"}
    window.target.go.click()
    settle()
    assert not notes(window) and window.workspace.changing.count == 0
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing) and listing.node_of("tree/a.txt") is None
    found = held(archive)["tree/inner.tar.gz"]
    assert found is not None
    (home / "found.tar.gz").write_bytes(found)
    assert "tree/a.txt" not in held(home / "found.tar.gz") and "tree/b.bin" in held(home / "found.tar.gz")
    window.window_actions["undo"].trigger()
    settle()
    assert archive.read_bytes() == raw
    click(window, "tree/b.bin")  # the window still has what was saved
    key(window, Qt.Key.Key_Delete)
    settle()
    window.target.go.click()
    settle()
    assert "“outer.zip” was changed by another program" in window.strip.last.text()
    assert archive.read_bytes() == raw and window.workspace.changing.count == 1
    window.workspace.up()
    settle()
    click(window, "tree/inner.tar.gz")
    QTest.mouseDClick(window.source.view.viewport(), LEFT, pos=middle(window, "tree/inner.tar.gz"))
    settle()
    assert notes(window) == {"tree/b.bin": "– removed"}
    window.target.go.click()
    settle()
    (home / "found.tar.gz").write_bytes(held(archive)["tree/inner.tar.gz"] or b"")
    assert "tree/b.bin" not in held(home / "found.tar.gz") and "tree/a.txt" in held(home / "found.tar.gz")
    parts = plan_pack([home / "tree"], target=home / "parts.zip", info=by_id("zip").info, part_size=100_000)
    pack(parts)
    stand(home / "parts.zip.001")
    click(window, "tree/inner.tar.gz")
    QTest.mouseDClick(window.source.view.viewport(), LEFT, pos=middle(window, "tree/inner.tar.gz"))
    settle()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)  # which the outer archive would have to be changed for
    settle()
    assert "“parts.zip.001” comes in parts" in window.source.notice.words.text()
    assert window.workspace.changing.count == 0


def test_from_elsewhere_into_an_archive(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Drops onto an archive in the list, paste from the disk and from another archive, and all edited copies put back."""
    archive = packed(home, "zip")
    expected = held(archive)
    pack(plan_pack([home / "tree"], target=home / "other.7z", info=by_id("7z").info))
    files_in(home, "loose.txt")
    stand(home)
    drop(window, [home / "loose.txt"], onto="x.zip")
    settle()
    assert window.workspace.place.archive == archive and notes(window) == {"loose.txt": "+ new"}
    QApplication.clipboard().setMimeData(QMimeData())
    key(window, Qt.Key.Key_V, CTRL)
    assert "no files to paste" in window.source.notice.words.text()
    stand(home / "other.7z")
    click(window, "tree/deep")
    key(window, Qt.Key.Key_C, CTRL)
    settle()
    stand(archive)
    key(window, Qt.Key.Key_V, CTRL)
    settle()
    assert not window.workspace.temp_copies.folders  # without a stop on the disk
    assert notes(window)["deep/er/e.csv"] == "+ new" and notes(window)["loose.txt"] == "+ new"
    files_in(home, "later.txt")
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(home / "later.txt"))])
    QApplication.clipboard().setMimeData(mime)  # in the place of what was copied from the archive
    key(window, Qt.Key.Key_V, CTRL)
    settle()
    assert notes(window)["later.txt"] == "+ new" and window.workspace.changing.count == 3
    copies: list[Path] = []
    monkeypatch.setattr(actions_module, "open_in_its_program", lambda path: not copies.append(path))  # type: ignore[func-returns-value]
    for name in ("tree/a.txt", "tree/b.bin"):
        click(window, name)
        window.file_actions.actions["open"].trigger()
        settle()
    for path in copies:
        path.write_text(f"edited {path.name}")
    window.workspace.temp_copies.look()
    how, _ = pages(window)
    assert [button.text() for button in how.copies.buttons] == ["Put back", "Put back", "Put all back"]
    how.copies.buttons[-1].click()
    settle()
    assert notes(window)["tree/a.txt"] == notes(window)["tree/b.bin"] == "↻ replaced"
    assert not how.copies.buttons and not window.source.notice.isVisible()
    changes = window.workspace.changing.staging
    assert changes is not None
    kinds = [change.kind for change in changes.changes]
    assert kinds == [*[ChangeKind.ADDED] * 3, ChangeKind.REPLACED, ChangeKind.REPLACED]
    (home / "later.txt").write_text("longer by now " * 1000)
    os.utime(home / "later.txt", (10**9, 10**9))
    window.target.go.click()
    settle()
    inside = {path.removeprefix("tree/"): data for path, data in expected.items() if path.startswith("tree/deep")}
    edited = {f"tree/{name}": f"edited copy of {name}".encode() for name in ("a.txt", "b.bin")}
    now = held(archive)
    assert zipfile.ZipFile(archive).getinfo("later.txt").date_time[0] == 2001
    loose = {"loose.txt": b"loose.txt" * 1000, "later.txt": b"longer by now " * 1000}
    assert not window.strip.problems_button.isVisible()
    twins = {"tree/deep/twin.bin"}  # another name of what was replaced
    assert {path: data for path, data in now.items() if path not in twins} == {
        path: data for path, data in {**expected, **inside, **edited, **loose}.items() if path not in twins
    }
    assert not window.workspace.temp_copies.unkept
    copies[0].write_text("edited once more")
    window.workspace.temp_copies.look()
    how.copies.buttons[0].click()
    settle()
    copies[0].write_text("edited before it is saved")
    os.mkfifo(home / "pipe")
    drop(window, [home / "later.txt", home / "pipe"], onto="tree")
    settle()
    window.target.go.click()
    settle()
    assert held(archive)["tree/a.txt"] == b"edited before it is saved" and window.strip.problems_button.isVisible()
    copies[0].write_text("edited after that")
    window.workspace.temp_copies.look()
    how.copies.buttons[0].click()
    settle()
    edited_copy = window.workspace.temp_copies.unkept[0]

    def save_slowly(*given: Any) -> Any:
        outcome = save_changes(*given)
        copies[0].write_text("edited while it is saved")
        edited_copy.state = edited_copy.now()  # as a look at it in between finds
        return outcome

    monkeypatch.setattr("rundlet.desktop.saving.save_changes", save_slowly)
    window.target.go.click()
    settle()
    assert held(archive)["tree/a.txt"] == b"edited after that"
    assert [copy.path for copy in window.workspace.temp_copies.unkept] == copies[:1]
    click(window, "tree/deep/c.txt")
    key(window, Qt.Key.Key_C, CTRL)
    assert items_id(QApplication.clipboard().mimeData())
    window.close()
    assert window.strip.close_button.text() == "Close"  # the copy is kept
    window.strip.close_button.click()
    assert not window.isVisible() and not local_files(QApplication.clipboard().mimeData())


def test_keys_say_why_they_can_not(window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot) -> None:
    """A locked archive without its password, and one that is being saved, are not changed, and that is said."""
    archive = packed(home, "zip", "word")
    stand(archive)
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    assert "Type its password first." in window.source.notice.words.text()
    window.workspace.unlock("word")
    settle()
    click(window, "tree/a.txt")
    key(window, Qt.Key.Key_Delete)
    settle()
    window.target.go.click()
    window.workspace.changing.remove([window.source.model.node(row(window, "tree/b.bin"))])
    assert "is being saved" in window.source.notice.words.text()
    settle()
    found = held(archive, "word")
    assert "tree/a.txt" not in found and "tree/b.bin" in found


def test_what_can_not_be_planned_is_taken_back_also_while_narrowed(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """A folder that was put in just now is moved onto a file: it stays where it was; rows that are gone are not selected."""
    stand(packed(home, "zip"))
    changing = window.workspace.changing
    path = changing.new_folder("", 0)
    settle()
    window.finder.setText("a")
    window.source.view.selectAll()
    settle()
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing) and window.workspace.selection.nodes
    staging = changing.staging
    assert staging is not None
    changing.move([listing.tree.find(path) or 0], "tree/a.txt")
    settle()
    assert [change.path for change in staging.changes] == [path] and changing.plan is not None
    assert "is a file, so nothing can be put into it" in window.source.notice.words.text()
    changing.discard(staging.changes)
    settle()
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing) and changing.count == 0
    assert max(window.workspace.selection.nodes) < len(listing.tree)
