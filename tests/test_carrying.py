"""Files and entries on their way: dragged out, copied and pasted, opened as copies; archives within archives; places."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from PySide6.QtCore import QMimeData, QObject, QPointF, Qt, QUrl
from PySide6.QtGui import QDrag, QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractItemView, QApplication

from rundlet.core.errors import Cancelled
from rundlet.core.formats.detect import by_id
from rundlet.core.fs.disk_space import disk_rules
from rundlet.core.fs.extensions import better_name
from rundlet.core.fs.moving import copy_into, move_into
from rundlet.core.fs.private_folders import IN_MEMORY
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Copied, Moved
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.plans.unpack_plan import Afterwards
from rundlet.core.userdata.places import Drive, Places, drives
from rundlet.core.work.packer import pack
from rundlet.desktop import file_actions as shelf_module
from rundlet.desktop.dragging import local_files
from rundlet.desktop.locations.place import Place
from rundlet.desktop.temp_copies import Copy
from rundlet.presentation.findings import issue_line
from support import Raw, make_tree, pack_to, raw_zip, snapshot
from windows import CTRL, LEFT, NONE, Settle, Stand, chosen, click, files_in, middle, row

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.desktop.window import Window


def uris(mime: QMimeData) -> list[Path]:
    """The files of a drag or of the clipboard, as another program reads them from its bytes."""
    lines = bytes(mime.data("text/uri-list").data()).decode().split("\r\n")
    return [Path(QUrl(line).toLocalFile()) for line in lines if line]


def taken_hold_of(window: Window) -> QDrag:
    """A drag of the chosen rows."""
    begun: list[QDrag] = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(QDrag, "exec", lambda drag, *_: begun.append(drag))
        page = window.source.pages.page
        assert isinstance(page, QAbstractItemView)
        page.startDrag(window.source.model.supportedDragActions())
    return begun[0]


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar.gz"])
def test_entries_are_dragged_out_and_copied(window: Window, settle: Settle, stand: Stand, home: Path, fmt: str) -> None:
    """U2, P11: what is dropped elsewhere is unpacked there, as files with the bytes of the entries."""
    tree = make_tree(home)
    pack_to(home / f"x.{fmt}", [tree], fmt=fmt)
    stand(home / f"x.{fmt}")
    click(window, "tree/in")
    click(window, "tree/plain.txt", CTRL)
    settle()
    drag = taken_hold_of(window)
    mime = drag.mimeData()
    assert drag.source() is window.source.pages.page and not drag.pixmap().isNull()
    assert mime.hasUrls()
    assert not window.workspace.temp_copies.folders  # nothing is unpacked before it is asked for
    dragged = uris(mime)
    assert (
        uris(mime) == dragged and len(window.workspace.temp_copies.folders) == 1
    )  # unpacked once, however often asked for
    assert sorted(path.name for path in dragged) == ["in", "plain.txt"]
    target = home / "target"
    target.mkdir()
    for path in dragged:
        shutil.move(path, target)
    assert snapshot(target / "in") == snapshot(tree / "in")
    assert (target / "plain.txt").read_bytes() == (tree / "plain.txt").read_bytes()
    QTest.keyClick(window.source.view, Qt.Key.Key_C, CTRL)
    settle()
    copied = uris(QGuiApplication.clipboard().mimeData())
    assert sorted(path.name for path in copied) == ["in", "plain.txt"]
    stand(target)
    QTest.keyClick(window.source.view, Qt.Key.Key_V, CTRL)
    settle()
    assert sorted(p.name for p in target.iterdir()) == ["in", "in (2)", "plain (2).txt", "plain.txt"]
    assert snapshot(target / "in (2)") == snapshot(tree / "in")
    folders = list(window.workspace.temp_copies.folders)
    assert folders and all(folder.stat().st_mode & 0o077 == 0 for folder in folders)
    window.close()
    assert not any(folder.exists() for folder in folders)


def test_files_are_copied_moved_and_moved_back(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """A1: by keyboard and by drag, nothing replaced, and all of it taken back."""
    work = home / "work"
    files_in(work, "a.txt b.txt")
    files_in(work / "into", "a.txt")
    tree = make_tree(work)
    before = snapshot(work)
    stand(work)
    view = window.source.view
    QGuiApplication.clipboard().clear()
    QTest.keyClick(view, Qt.Key.Key_V, CTRL)  # nothing to paste is nothing to do
    assert not window.jobs.running
    click(window, "a.txt")
    click(window, "tree", CTRL)
    QTest.keyClick(view, Qt.Key.Key_X, CTRL)
    stand(work / "into")
    QTest.keyClick(view, Qt.Key.Key_V, CTRL)
    settle()
    assert sorted(p.name for p in (work / "into").iterdir()) == ["a (2).txt", "a.txt", "tree"]
    assert not tree.exists()
    assert window.strip.last.text() == "Moved 2 items into “into”."
    window.history.undo_last()
    settle()
    assert {k: v.content for k, v in snapshot(work).items()} == {k: v.content for k, v in before.items()}
    stand(work)
    click(window, "b.txt")
    drag = taken_hold_of(window)
    mime = drag.mimeData()
    at = window.source.mapFromGlobal(view.viewport().mapToGlobal(view.visualRect(row(window, "into")).center()))

    class Drop(QDropEvent):
        def source(self) -> QObject:
            return view

    for keys, names in ((CTRL, ["a.txt", "b.txt"]), (NONE, ["a.txt", "b (2).txt", "b.txt"])):
        event = Drop(QPointF(at), Qt.DropAction.MoveAction, mime, Qt.MouseButton.LeftButton, keys)
        window.source.dropEvent(event)
        settle()
        assert sorted(p.name for p in (work / "into").iterdir()) == names
    assert not (work / "b.txt").exists()
    window.history.open_log()
    settle()
    assert window.history.log.model.rowCount() == 3


def test_copying_and_moving_by_themselves(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    os.mkfifo(tree / "pipe")
    into = tmp_path / "into"
    into.mkdir()
    outcome = Copied(into)
    copy_into([tree, tmp_path / "gone", tree / "link", tree / "pipe"], into, outcome, Job())
    assert {issue_line(issue) for issue in outcome.problems} == {
        "gone: no longer exists",
        "pipe: was left out: it is a device or a pipe",
    }
    (tree / "pipe").unlink()
    assert snapshot(into / "tree") == snapshot(tree)
    assert (into / "link").is_symlink()
    moved = Moved(tree)
    move_into([tree], tree / "in", moved, Job())
    assert [issue_line(issue) for issue in moved.problems] == ["tree: can't go into itself"]

    class Ended(Job):
        def advance(self, amount: int = 0, *, entries: int = 0) -> None:
            super().advance(amount, entries=entries)
            if amount > 100_000:
                self.cancel()
            self.checkpoint()

    before = sorted(into.iterdir())
    with pytest.raises(Cancelled):
        copy_into([tree / "plain.txt", tree / "in"], into, Copied(into), Ended())
    assert sorted(into.iterdir()) == before


def test_a_double_click_opens_files_in_their_programs_and_archives_here(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A document that is a zip inside is a document; a name that says nothing is told by the content."""
    work = home / "work"
    files_in(work, "notes.txt plain.xyz")
    for name in ("x.zip", "report.docx", "unnamed"):
        (work / name).write_bytes(raw_zip([Raw(b"in.txt")]))
    opened: list[Path] = []
    monkeypatch.setattr(shelf_module, "open_in_its_program", lambda path: not opened.append(path))
    for name, is_entered in (
        ("notes.txt", False),
        ("plain.xyz", False),
        ("report.docx", False),
        ("x.zip", True),
        ("unnamed", True),
    ):
        stand(work)
        opened.clear()
        click(window, name)
        QTest.mouseDClick(window.source.view.viewport(), LEFT, pos=middle(window, name))
        settle()
        assert (window.workspace.place.archive == work / name, opened == [work / name]) == (is_entered, not is_entered)
    stand(work)
    click(window, "report.docx")
    window.file_actions.actions["look_inside"].trigger()
    settle()
    assert window.workspace.place.archive == work / "report.docx"


def test_a_copy_is_opened_watched_and_kept(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """L5: a copy that says it is one; what is changed in it is not lost."""
    work = home / "work"
    files_in(work, "notes.txt setup.exe other.txt")
    pack_to(home / "x.zip", list(work.iterdir()))
    opened: list[Path] = []
    monkeypatch.setattr(shelf_module, "open_in_its_program", lambda path: not opened.append(path))
    stand(home / "x.zip")
    notice = window.source.notice
    click(window, "notes.txt")
    QTest.keyClick(window.source.view, Qt.Key.Key_O, CTRL)
    settle()
    assert [path.name for path in opened] == ["copy of notes.txt"]
    assert opened[0].read_bytes() == (work / "notes.txt").read_bytes()
    assert notice.words.text().startswith("A copy of “notes.txt” is open.")
    opened[0].write_text("edited")
    window.workspace.temp_copies.look()
    assert notice.words.text().startswith("“copy of notes.txt” was changed.")
    stand(work)
    assert notice.isVisible()
    notice.offers[1].click()
    settle()
    assert (home / "notes.txt").read_text() == "edited"
    stand(home / "x.zip")
    click(window, "setup.exe")
    QTest.keyClick(window.source.view, Qt.Key.Key_O, CTRL)
    settle()
    assert len(opened) == 1
    assert "may need the files next to it" in notice.words.text()
    notice.offers[1].click()
    settle()
    assert opened[1].name == "copy of setup.exe"
    click(window, "setup.exe")
    QTest.keyClick(window.source.view, Qt.Key.Key_O, CTRL)
    notice.offers[0].click()
    qtbot.waitUntil(lambda: (home / "x" / "other.txt").exists(), timeout=20_000)
    settle()
    opened[1].write_text("patched")
    window.close()  # which asks in place
    assert window.isVisible() and window.strip.question.isVisible()
    assert "1 opened copy was changed (“setup.exe”)" in window.strip.question_words.text()
    window.strip.close_button.click()
    assert not window.isVisible()
    assert (home / "copy of setup.exe").read_text() == "patched"
    assert not opened[1].exists()


@pytest.mark.parametrize(("fmt", "password"), [("zip", ""), ("7z", "word"), ("tar.gz", "")])
def test_a_changed_copy_is_put_back(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, monkeypatch: pytest.MonkeyPatch,
    fmt: str, password: str,
) -> None:  # fmt: skip
    """X4: the archive has the new content and all else as before, in one step that can be undone."""
    work = home / "work"
    files_in(work, "notes.txt other.txt")
    (work / "notes.txt").chmod(0o640)
    info = by_id(fmt).info
    archive = home / f"x{info.ending}"
    pack(plan_pack([work], target=archive, info=info, options=WriteOptions(1, password=password)))
    before = archive.read_bytes()
    opened: list[Path] = []
    monkeypatch.setattr(shelf_module, "open_in_its_program", lambda path: not opened.append(path))
    stand(archive)
    if password:
        window.workspace.unlock(password)
        settle()
    click(window, "work/notes.txt")
    window.file_actions.actions["open"].trigger()
    settle()
    notice = window.source.notice
    assert notice.words.text().endswith("you can put it back into the archive.")
    for number, words in enumerate(("edited once", "edited again, and longer")):
        opened[0].write_text(words)
        window.workspace.temp_copies.look()
        assert notice.offers[0].text() == f"Put it back into “{archive.name}”"
        notice.offers[0].click()
        settle()
        assert window.target.go.text() == "Save 1 change"  # and nothing is written yet
        QTest.keyClick(window, Qt.Key.Key_Return, CTRL)
        settle()
        assert window.strip.last.text().endswith("1 item replaced."), window.strip.last.text()
        listing = window.workspace.listing
        assert listing is not None and window.workspace.place.archive == archive
        click(window, "work/notes.txt")
        settle()
        window.file_actions.actions["copy"].trigger()
        settle()
        (copied,) = local_files(QApplication.clipboard().mimeData())
        assert copied.read_text() == words
        opened_archive = window.workspace.archive
        assert opened_archive is not None and len(opened_archive.reader.catalog) == 3
        mode = next(entry.mode for entry in opened_archive.reader.catalog if entry.path == "work/notes.txt")
        assert mode & 0o777 == 0o640
        assert number or before != archive.read_bytes()
    for _ in range(2):
        window.window_actions["undo"].trigger()
        settle()
    assert archive.read_bytes() == before
    window.workspace.temp_copies.close()
    assert not list(home.glob("copy of *"))  # what was put back is not kept once more


def test_changes_that_can_be_kept_nowhere_else_stay(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disk without room does not take the changes with it."""
    temp_copies = window.workspace.temp_copies
    (tmp_path / "memory").mkdir()
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / "memory"))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    folders = [temp_copies.new_folder(10), temp_copies.new_folder(IN_MEMORY + 1)]
    assert [folder.parent for folder in folders] == [tmp_path / "memory", tmp_path / "cache" / "rundlet"]
    for folder in folders:
        (folder / "copy of notes.txt").write_text("as it was")
    for folder, place in zip(folders, (tmp_path / "not there", tmp_path), strict=True):
        copy = Copy(folder / "copy of notes.txt", "notes.txt", place)
        temp_copies.watch(copy)
        copy.path.write_text("edited")
    temp_copies.close()
    assert (folders[0] / "copy of notes.txt").read_text() == "edited"
    assert (tmp_path / "copy of notes.txt").read_text() == "edited"
    assert not folders[1].exists()
    shutil.rmtree(folders[0])


def test_everything_is_unpacked_only_where_it_was_asked_for(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """ "Unpack everything" waits for the landing; going elsewhere, or choosing something, calls it off."""
    files_in(home / "work", "setup.exe other.txt")
    for name in ("x.zip", "y.zip"):
        pack_to(home / name, list((home / "work").iterdir()))
    stand(home / "x.zip")
    window.workspace.unpacking._settle.setInterval(3_600_000)  # the landing is never known before the place is left
    window.file_actions.unpack_wanted.emit()
    assert window._press_at is not None
    window.workspace.open([home / "y.zip"])
    assert window._press_at is None  # asking for another archive is enough; it need not be open yet
    window.workspace.unpacking._settle.setInterval(0)
    settle()
    window.file_actions.unpack_wanted.emit()
    click(window, "other.txt")
    settle()
    assert not (home / "x").exists() and not (home / "y").exists()
    window.source.view.clearSelection()
    settle()
    assert not (home / "y").exists()
    window.file_actions.unpack_wanted.emit()
    settle()
    assert sorted(path.name for path in (home / "y").iterdir()) == ["other.txt", "setup.exe"]


@pytest.mark.parametrize("outer", ["7z", "tar.xz"])
def test_archives_within_archives(window: Window, settle: Settle, stand: Stand, home: Path, outer: str) -> None:
    """An archive in an archive is one more step of the path."""
    tree = make_tree(home)
    options = WriteOptions(5, password="right")
    pack(plan_pack([tree], target=home / "inner.7z", info=by_id("7z").info, options=options))
    pack_to(home / "middle.zip", [home / "inner.7z"])
    pack_to(home / f"outer.{outer}", [home / "middle.zip", tree / "plain.txt"], fmt=outer)
    stand(home / f"outer.{outer}")
    ws = window.workspace
    for name in ("middle.zip", "inner.7z"):
        index = row(window, name)
        window.source.view.setCurrentIndex(index)
        QTest.keyClick(window.source.view, Qt.Key.Key_Return)
        settle()
        assert ws.place.archive is not None and ws.place.archive.name == name
    steps = [
        b.accessibleName() for b in window.path_bar.steps.findChildren(type(window.places_button)) if b.isVisible()
    ]
    assert steps[-3:] == [f"Archive outer.{outer}", "Archive middle.zip", "Archive inner.7z"]
    window.how.unpack.lock.edit.setText("right")
    window.how.unpack.lock.open.click()
    settle()
    assert ws.unpacking.folder == home
    window.target.unpack.folder.edit.setText("~/taken out")
    window.target.unpack.folder.edit.editingFinished.emit()
    settle()
    assert not window.how.unpack.after[Afterwards.TRASH].isVisible()
    window.target.go.click()
    settle()
    assert snapshot(home / "taken out" / "tree") == snapshot(tree)
    copies = list(ws.temp_copies.folders)
    ws.up()
    settle()
    assert ws.place.archive.name == "middle.zip"
    ws.back()
    settle()
    assert ws.place.archive.name == "inner.7z"
    assert not ws.needs_password  # it is kept for this window
    ws.up(), settle(), ws.up(), settle()
    assert ws.place.archive == home / f"outer.{outer}"
    ws.up()
    settle()
    assert chosen(window) == [f"outer.{outer}"]
    window.close()
    assert copies and not any(folder.exists() for folder in copies)


def test_a_wrong_ending_is_said_and_mended(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """L1: by content, never by name; and the name can be put right."""
    tree = make_tree(home)
    pack_to(home / "x.7z", [tree], fmt="7z")
    (home / "x.7z").rename(home / "photo.jpg")
    stand(home / "photo.jpg")
    notice = window.source.notice
    assert notice.words.text() == "“photo.jpg” is a 7z archive, but its extension says otherwise."
    assert notice.offers[0].text() == "Rename it to “photo.jpg.7z”"
    notice.offers[0].click()
    settle()
    assert window.workspace.place.archive == home / "photo.jpg.7z"
    assert not notice.isVisible()
    window.window_actions["undo"].trigger()
    settle()
    assert window.workspace.place == Place(home) and (home / "photo.jpg").exists()


def test_an_archive_that_is_not_whole_is_called_so_before_it_is_unpacked(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    pack_to(home / "x.zip", [make_tree(home)])
    cut = home / "cut"
    cut.write_bytes((home / "x.zip").read_bytes()[:-60])
    stand(cut)
    notice = window.source.notice
    assert notice.isVisible() and "its file list is missing" in notice.words.text()
    window.workspace.up()
    settle()
    assert not notice.isVisible()
    stand(home / "x.zip")
    assert not notice.isVisible()


@pytest.mark.parametrize(
    ("name", "fmt", "better"),
    [
        ("a.zip", "zip", None),
        ("a.jar", "zip", None),
        ("a.odt", "zip", None),
        ("a.zip", "7z", "a.7z"),
        ("a.tar.gz", "zip", "a.zip"),
        ("a.tgz", "tar.gz", None),
        ("a.gz", "tar.gz", None),
        ("a.tar", "tar.gz", "a.tar.gz"),
        ("a", "zip", "a.zip"),
        (".a", "zip", ".a.zip"),
        ("a.txt", "tar", "a.txt.tar"),
        ("a.unheard", "tar", None),
    ],
)
def test_endings_that_fit(name: str, fmt: str, better: str | None) -> None:
    assert better_name(name, by_id(fmt).info) == better


@pytest.mark.parametrize("after", list(Afterwards))
def test_what_becomes_of_the_archive(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, after: Afterwards
) -> None:
    """U6: it stays, goes to the trash, or is filed with what came out; and comes back with undo."""
    files_in(home / "work", "a.txt b.txt")
    pack_to(home / "x.zip", list((home / "work").iterdir()))
    stand(home / "x.zip")
    window.how.unpack.after[after].click()
    settle()
    window.target.go.click()
    settle()
    places = {Afterwards.STAYS: home, Afterwards.TRASH: trash, Afterwards.INTO: home / "x"}
    assert [where for where, place in places.items() if (place / "x.zip").exists()] == [after]
    window.history.undo_last()
    settle()
    assert (home / "x.zip").exists()
    assert not (home / "x").exists()


def test_places_one_comes_back_to(window: Window, settle: Settle, stand: Stand, home: Path, tmp_path: Path) -> None:
    """A1, U3: usual places, favourites, what was used last, drives; and right here for what is unpacked."""
    files_in(home / "work", "a.txt b.txt")
    (home / "elsewhere").mkdir()
    pack_to(home / "work" / "x.zip", [home / "work" / "a.txt"])
    stand(home / "work" / "x.zip")
    field = window.target.unpack.folder
    field.edit.setText("~/elsewhere")
    field.edit.editingFinished.emit()
    settle()
    window.target.go.click()
    settle()
    places_menu = window.places_menu

    def words() -> list[str]:
        places_menu.fill()
        return [action.text() for action in places_menu.menu.actions() if action.data()]

    places_menu._drives = [Drive(Path("/"), 5_000_000_000, 9_000_000_000)]
    assert {"Home", "Disk: 5.0 GB free of 9.0 GB", "~/elsewhere", "x.zip"} <= {w.split("/x")[0] for w in words()}
    places_menu.places.toggle_favourite(home / "work")
    assert "~/work" in words()
    field.fill()
    offered = [action.text() for action in field.menu.actions() if action.data()]
    assert offered[0] == "This folder"
    field.menu.actions()[0].trigger()
    settle()
    assert window.workspace.unpacking.folder == home / "work"
    new = next(action for action in field.menu.actions() if action.text() == "New folder here")
    new.trigger()
    assert field.edit.selectedText() == "New folder"
    QTest.keyClicks(field.edit, "spring")
    QTest.keyClick(field.edit, Qt.Key.Key_Return)
    settle()
    window.target.go.click()
    settle()
    assert (home / "work" / "spring" / "x" / "a.txt").exists()
    stand(home / "work")
    click(window, "a.txt")
    to = window.target.pack.archive.folder
    assert not to.make.isVisible()
    to.edit.setText("~/not/there")
    to.edit.editingFinished.emit()
    assert not window.target.go.isEnabled()
    to.make.click()
    settle()
    assert (home / "not" / "there").is_dir()
    assert window.target.go.isEnabled()
    archive = next(a for a in places_menu.menu.actions() if a.text() == "x.zip")
    archive.trigger()
    settle()
    assert window.workspace.place.archive == home / "work" / "x.zip"
    window.close()
    again = Places.read(home / ".data" / "places.json")
    assert again.last == str(home / "work")
    assert again.favourites == [str(home / "work")]
    assert again.archives[0] == str(home / "work" / "x.zip")


def test_drives_and_what_fits_on_them(tmp_path: Path) -> None:
    stick = tmp_path / "my stick"
    stick.mkdir()
    mounts = tmp_path / "mounts"
    escaped = str(stick).replace(" ", "\\040")
    mounts.write_text(f"proc /proc proc rw 0 0\n/dev/sda1 / ext4 rw 0 0\n/dev/sdb1 {escaped} vfat rw 0 0\nshort\n")
    assert [drive.path for drive in drives(mounts)] == [Path("/")]
    assert disk_rules(stick / "new", mounts).largest == 4_294_967_295
    assert disk_rules(stick / "new", mounts).folds_case
    assert not disk_rules(tmp_path, mounts).largest
    assert not disk_rules(tmp_path, tmp_path / "none").forbidden


def test_places_that_cannot_be_read_are_as_good_as_none(tmp_path: Path) -> None:
    for content in (b"", b"[]", b'{"favourites": 3}', b"\xff\xfe", b'{"last": ["x"]}'):
        (tmp_path / "p.json").write_bytes(content)
        places = Places.read(tmp_path / "p.json")
        places.note_folder(tmp_path)
        places.write()
        assert Places.read(tmp_path / "p.json").folders == [str(tmp_path)]
    (tmp_path / "file").touch()
    Places.read(tmp_path / "file" / "p.json").write()
