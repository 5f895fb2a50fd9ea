"""Finding things without a manual: menus that offer what can be done, drops, help, the folded page, and the steps of the path."""

from __future__ import annotations

import os
import re
import sys
import zipfile
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeData, QPointF, QProcess, Qt, QUrl
from PySide6.QtGui import QColor, QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QPushButton, QWidget

from rundlet.core.formats.detect import WRITABLE, by_id
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.plans.pack_plan import items_of, plan_pack
from rundlet.core.work.packer import pack
from rundlet.core.work.sample import take_sample
from rundlet.core.work.trial import trial
from rundlet.desktop.dragging import local_files
from rundlet.desktop.help import pages
from rundlet.desktop.locations.place import Place
from rundlet.desktop.theme.theme import theme
from support import pack_to
from windows import CTRL, NONE, Settle, Stand, chosen, click, files_in, row

if TYPE_CHECKING:
    import pytest
    from pytestqt.qtbot import QtBot

    from rundlet.desktop.window import Window

ROOT = Path(__file__).parent.parent


def words_of(menu: QMenu) -> list[str]:
    return [action.text() for action in menu.actions() if not action.isSeparator()]


def press(menu: QMenu, words: str) -> None:
    next(action for action in menu.actions() if action.text() == words).trigger()


def test_the_context_menu_offers_what_can_be_done(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    work = home / "work"
    files_in(work, "a.txt b.txt")
    pack_to(work / "x.zip", [work / "a.txt", work / "b.txt"])
    stand(work)
    window.source.view.clearSelection()
    settle()
    assert "New folder" in words_of(window.file_actions.menu())
    assert not any(words.startswith(("Pack", "Unpack", "Move")) for words in words_of(window.file_actions.menu()))
    click(window, "a.txt")
    settle()
    menu = window.file_actions.menu()
    assert words_of(menu)[:3] == ["Pack 1 item", "Open in its program", "Open with"]
    assert all(action.isEnabled() for action in menu.actions())
    press(menu, "Pack 1 item")
    settle()
    assert (work / "a.zip").is_file()
    click(window, "x.zip")
    settle()
    assert words_of(window.file_actions.menu())[:3] == ["Unpack 1 archive", "Pack 1 item", "Check 1 archive"]
    press(window.file_actions.menu(), "Pack 1 item")
    settle()
    assert (work / "x (2).zip").is_file()
    click(window, "x.zip")
    settle()
    window.how.what.chosen.emit("pack")
    settle()
    press(window.file_actions.menu(), "Unpack 1 archive")  # which is not what the columns are at
    settle()
    assert (work / "x" / "b.txt").is_file()
    stand(work / "x.zip")
    assert words_of(window.file_actions.menu())[0] == "Unpack everything"
    click(window, "b.txt")
    settle()
    menu = window.file_actions.menu()
    assert words_of(menu)[:2] == ["Unpack 1 item", "Save as a new archive …"]
    assert not {"Open with", "Move 1 item to the trash", "Look inside"} & set(words_of(menu))
    assert {"Cut", "Rename", "New folder", "Remove 1 item"} < set(words_of(menu))
    press(menu, "Unpack 1 item")  # it is there already, which To says
    settle()
    assert window.target.isAncestorOf(window.focusWidget()) and "already there" in window.target.unpack.facts.text()
    (work / "x" / "b.txt").write_text("mine")
    window.workspace.unpacking.plan_again()
    press(window.file_actions.menu(), "Unpack 1 item")  # before it is known where it lands
    settle()
    assert sorted(path.name for path in work.glob("x/b*")) == ["b (2).txt", "b.txt"]


def test_a_file_opens_with_another_program(
    window: Window,
    settle: Settle,
    stand: Stand,
    home: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    qtbot: QtBot,
) -> None:
    """Programs are offered by what they say of themselves, and get the file as its one argument."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "own"))
    monkeypatch.setenv("XDG_DATA_DIRS", str(tmp_path / "all"))
    told = tmp_path / "told"
    script = tmp_path / "reader"
    script.write_text(f'#!/bin/sh\nprintf "%s|" "$@" > "{told}.new"\nmv "{told}.new" "{told}"\n')
    script.chmod(0o755)
    entries = {
        "all/applications/reader.desktop": ("Old reader", "text/plain", str(script), ""),
        "own/applications/reader.desktop": ("Reader & more", "text/plain", f'"{script}" --page %c 100%% %U', ""),
        "own/applications/gone.desktop": ("Gone", "text/plain", "/no/such/program %f", ""),
        "own/applications/hidden.desktop": ("Hidden", "text/plain", str(script), "NoDisplay=true"),
        "own/applications/pictures.desktop": ("Pictures", "image/png", str(script), ""),
        "own/applications/sub/plain.desktop": ("A plain one", "image/png;text/plain;", str(script), ""),
        "own/applications/odd.desktop": ("Odd", "text/plain", "'unfinished", ""),
    }
    for place, (name, types, command, more) in entries.items():
        file = tmp_path / place
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f"[Desktop Entry]\nType=Application\nName={name}\nMimeType={types}\nExec={command}\n{more}\n")
    (tmp_path / "own/applications/broken.desktop").write_bytes(b"\xff\xfe no entry")
    files_in(home / "work", "a.txt")
    stand(home / "work")
    click(window, "a.txt")
    settle()
    menu = window.file_actions.menu()
    programs = next(action.menu() for action in menu.actions() if action.text() == "Open with")
    assert isinstance(programs, QMenu)
    programs.aboutToShow.emit()
    assert words_of(programs) == ["A plain one", "Reader && more"]
    press(programs, "Reader && more")
    qtbot.waitUntil(told.exists, timeout=10_000)
    assert told.read_text() == f"--page|Reader & more|100%|{home / 'work' / 'a.txt'}|"


def test_archives_are_checked(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """From the menus, of those that are selected and of the one that is open; each with its verdict, in the log too."""
    work = home / "work"
    files_in(work, "a.txt b.txt")
    for fmt in ("zip", "tar"):
        pack_to(work / f"x.{fmt}", [work / "a.txt", work / "b.txt"], fmt=fmt, level=0)
    data = bytearray((work / "x.zip").read_bytes())
    data[3000] ^= 1
    (work / "bad.zip").write_bytes(data)
    stand(work)
    window.window_actions["check"].trigger()
    assert window.source.notice.words.text() == "Open an archive, or select one, to check it."
    for name, words in (
        ("x.zip", "“x.zip” is intact: 2 items read."),
        ("x.tar", "2 items of “x.tar” could be read, but can't be verified"),
        ("bad.zip", "1 of 2 items of “bad.zip” is intact. 1 item is damaged."),
    ):
        stand(work)
        click(window, name)
        settle()
        press(window.file_actions.menu(), "Check 1 archive")
        settle()
        assert window.strip.last.text().startswith(words), window.strip.last.text()
        stand(work / name)
        window.window_actions["check"].trigger()
        settle()
        assert window.strip.last.text().startswith(words)
    assert "a.txt" in window.strip.last.text() and window.strip.problems_button.isVisible()
    kinds = [record.outcome.kind for record in window.history.journal.records()]
    assert kinds == ["check"] * 6 and not any(record.can_undo for record in window.history.journal.records())


def drop(on: QWidget, *paths: Path) -> None:
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    at = QPointF(50, 50)
    for event in (
        QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, NONE),
        QDropEvent(at, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, NONE),
    ):
        QApplication.sendEvent(on, event)
        assert event.isAccepted()


def test_drops_work_on_every_column(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """On How as on From; a folder that is dropped on To is where the outcome goes, whatever is to be done."""
    work, there = home / "work", home / "there"
    files_in(work, "a.txt b.txt")
    there.mkdir()
    for name in ("x", "y"):
        pack_to(work / f"{name}.zip", [work / "a.txt", work / "b.txt"])
    stand(work)
    drop(window.target, there)
    settle()
    assert window.source.notice.words.text().startswith("Nothing is selected yet.")
    drop(window.how, work / "a.txt")
    settle()
    assert chosen(window) == ["a.txt"]
    drop(window.target, work / "b.txt")
    assert window.source.notice.words.text().startswith("Drop a single folder on To")
    drop(window.target, there)
    settle()
    window.target.go.click()
    settle()
    assert [path.name for path in there.iterdir()] == ["a.zip"]
    click(window, "x.zip")
    click(window, "y.zip", CTRL)
    settle()
    drop(window.target, there)
    settle()
    window.target.go.click()
    settle()
    assert (there / "x" / "a.txt").is_file() and (there / "y" / "b.txt").is_file()
    stand(work / "x.zip")
    click(window, "b.txt")
    settle()
    drop(window.target, there / "y")
    settle()
    window.target.go.click()
    settle()
    assert len(list((there / "y").rglob("b.txt"))) + len(list((there / "y").glob("b (2).txt"))) == 2
    window.how.within.chosen.emit("change")
    settle()
    drop(window.target, there)
    assert window.source.notice.words.text().startswith("Nothing is saved in a folder here.")
    window.target.change.what.chosen.emit("new")
    settle()
    drop(window.target, there)
    settle()
    window.target.go.click()
    settle()
    assert (there / "x.7z").is_file()


def test_the_guide_is_in_the_window(window: Window) -> None:
    """Every page is there, can be found by its words, and is the very file of the documents."""
    files = sorted((ROOT / "docs" / "guide").iterdir())
    texts = [path.read_text("utf-8") for path in files]
    pictures = [re.findall(r"^!\[.+\]\((.+)\)$", words, re.MULTILINE) for words in texts]
    assert all(len(each) == 1 and (ROOT / "src" / "rundlet" / "guide" / each[0]).is_file() for each in pictures)
    assert [re.sub(r"!\[.*\n\n", "", words) for words in texts] == [words for _, words in pages()]
    window.window_actions["help"].trigger()
    shown = window._help
    assert shown is not None and shown.isVisible()
    titles = [shown.titles.item(i).text() for i in range(shown.titles.count())]
    assert titles == [title for title, _ in pages()] and len(titles) >= 6
    for number, title in enumerate(titles):
        shown.titles.setCurrentRow(number)
        text = shown.text.toPlainText()
        assert text.startswith(title) and "**" not in text and "|" not in text and "`" not in text
    shown.finder.setText("caps lock")
    assert [t for i, t in enumerate(titles) if not shown.titles.item(i).isHidden()] == ["When something is wrong"]
    assert "Caps Lock" in shown.text.toPlainText() and len(shown.text.extraSelections()) >= 2
    shown.finder.setText("no such word anywhere")
    assert all(shown.titles.item(i).isHidden() for i in range(len(titles))) and not shown.text.toPlainText()
    shown.finder.clear()
    assert not any(shown.titles.item(i).isHidden() for i in range(len(titles)))


def test_another_window_opens_at_the_same_place(
    window: Window, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    started: list[tuple[object, ...]] = []

    def start(*words: object) -> bool:
        started.append(words)
        return True

    monkeypatch.setattr(QProcess, "startDetached", start)
    files_in(home / "work", "a.txt")
    pack_to(home / "work" / "x.zip", [home / "work" / "a.txt"])
    for place in (home / "work", home / "work" / "x.zip"):
        stand(place)
        window.window_actions["new_window"].trigger()
        assert started.pop() == (sys.executable, ["-m", "rundlet", "--new-window", str(place)])


def test_what_matters_of_packing_needs_no_scrolling(
    window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot
) -> None:
    """Trial, format, level and lock are in sight; the rest is folded away under a line that says how it is set."""
    files_in(home / "work", "a.txt b.txt")
    stand(home / "work")
    window.resize(1280, 800)
    window.source.view.selectAll()
    settle()
    page = window.how.pack
    page.options.lock.setChecked(True)
    page.chart.setVisible(True)
    QTest.qWait(0)
    for seen in (page.chart, page.formats, page.level, page.options.lock_box, page.options.fold.line):
        assert seen.isVisible()
    qtbot.waitUntil(lambda: page.verticalScrollBar().maximum() == 0, timeout=20_000)
    form, chart = page.widget(), page.chart
    assert form is not None
    others = form.heightForWidth(page.viewport().width()) - chart.sizeHint().height()
    lower = page.viewport().height() - others - 160  # a line more or less of words is to do no harm
    window.resize(1280, 800 - lower)
    settle()
    qtbot.waitUntil(
        lambda: page.verticalScrollBar().maximum() == 0 and chart.height() in range(126, 180), timeout=20_000
    )
    chart.give_way(20)
    assert (
        chart.sizeHint().height() == theme.sizes.chart
    )  # where scrolling is needed all the same, it is as high as ever
    window.resize(1280, 800)
    QTest.qWait(0)
    assert not page.options.parts.isVisible()
    fold = page.options.fold
    assert fold.words.text() == "Checked afterwards · nothing left out"
    fold.line.click()
    assert page.options.parts.isVisible() and page.saved_settings.isVisible()
    page.options.each.click()
    page.options.trash.click()
    page.options.hidden.click()
    page.options.patterns.setText("*.tmp")
    page.options.patterns.editingFinished.emit()
    page.options.follow.click()
    page.options.split_into(20_000_000)
    assert fold.words.text() == (
        "Parts of 20.0 MB · one archive per item · checked afterwards · originals to the trash · "
        "left out: hidden files, *.tmp · links followed"
    )
    fold.line.click()
    page.options.part_size.setEditText("zzz")
    assert page.options.part_size.isVisible()  # what stops the button is not folded away


def test_a_long_path_has_its_last_steps(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Where there is no room for all steps, the first ones become one that leads above those that are shown."""
    deep = home
    for name in ("a long name of a folder", "another long name", "the third long name"):
        deep = deep / name
    files_in(deep, "a.txt")
    pack_to(deep / "an archive with a name.zip", [deep / "a.txt"])
    stand(deep / "an archive with a name.zip")

    def shown() -> list[QPushButton]:
        buttons = window.path_bar.steps.findChildren(QPushButton)
        return sorted((b for b in buttons if b.isVisible()), key=lambda b: b.x())

    window.resize(1600, 800)
    QTest.qWait(0)
    everything = [button.text() for button in shown()]
    assert everything[0] == "Home" and len(everything) == 5
    window.resize(1000, 800)
    QTest.qWait(0)
    few = shown()
    assert few[0].text() == "…" and few[-1].text() == everything[-1] and len(few) < 5
    assert all(one.geometry().right() <= other.x() for one, other in pairwise(few))
    assert few[-1].geometry().right() <= window.path_bar.steps.width()
    above = few[0].toolTip()
    few[0].click()
    settle()
    assert window.workspace.place.folder.name == above and deep.is_relative_to(window.workspace.place.folder)


def test_find_looks_below_when_asked(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Enter looks in all folders below; what is found is a step of the path, and is selected, packed and opened like all else."""
    work = home / "work"
    for place, names in (
        ("", "rent.txt other.txt"),
        ("deep", "rent 2.txt"),
        ("deep/er", "Rent.csv x.txt"),
        (".h", "rent.h"),
    ):
        for name in names.split(" ") if " 2" not in names else [names]:
            (work / place).mkdir(parents=True, exist_ok=True)
            (work / place / name).write_text(name * 100)
    (work / "loop").symlink_to(work)
    stand(work)
    window.finder.setText("rent")
    settle()
    assert window.source.offers.below.isVisible()
    window.finder.setText("csv")
    settle()
    assert window.source.pages.message.message.text() == "Nothing here matches “csv”."
    window.finder.setText("rent")
    QTest.keyClick(window.finder, Qt.Key.Key_Return)
    settle()
    listing = window.workspace.listing
    assert listing is not None
    rows = {(listing.record(n).name, listing.record(n).note) for n in listing.children(0)}
    assert rows == {("rent.txt", ""), ("rent 2.txt", "in deep"), ("Rent.csv", "in deep/er")}
    assert window.source.summary.text() == "3 items found" and not window.source.offers.below.isVisible()
    menu = words_of(window.file_actions.menu())
    assert not {"New folder", "Paste"} & set(menu)
    window.source.view.selectAll()
    settle()
    window.target.go.click()
    settle()
    with zipfile.ZipFile(next(work.glob("*.zip"))) as made:
        assert sorted(made.namelist()) == ["Rent.csv", "rent 2.txt", "rent.txt"]
    window.file_actions.actions["trash"].trigger()
    settle()
    assert not (work / "deep" / "er" / "Rent.csv").exists() and (work / "deep" / "er" / "x.txt").exists()
    window.window_actions["undo"].trigger()
    settle()
    assert (work / "deep" / "er" / "Rent.csv").exists()
    window.window_actions["up"].trigger()
    settle()
    assert window.workspace.place == Place(work)
    window.window_actions["back"].trigger()
    settle()
    assert window.workspace.place.find == "rent"
    window.workspace.go(Place(work, find="no such thing"))
    settle()
    assert window.source.pages.message.message.text() == "Nothing in this folder or below it matches “no such thing”."


def test_rows_and_results_say_where_and_how_many(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    work = home / "work"
    tree = work / "tree"
    files_in(tree, "a.txt b.txt c.txt")
    files_in(work, "d.txt")
    stand(work)

    def note(name: str) -> str:
        record = window.source.model.record(row(window, name))
        assert record is not None
        return record.note

    assert note("tree") == "3 files"
    window.source.view.selectAll()
    settle()
    window.target.pack.limits.chosen.emit("10000000")
    window.target.go.click()
    settle()
    assert window.strip.last.text().endswith("It fits the limit of 10.0 MB.")
    stand(work / "work.zip")
    assert note("tree") == "3 files"
    pack_to(work / "one.zip", [tree])
    stand(work / "one.zip")
    assert not window.target.unpack.own.isChecked()  # all of it lies in a folder of its own
    window.how.unpack.just_files.click()
    settle()
    assert window.target.unpack.own.isChecked()  # else they would all lie loose
    window.how.unpack.with_folders.click()
    settle()
    assert not window.target.unpack.own.isChecked()
    click(window, "tree")
    drop(window.target, home)
    settle()
    window.target.go.click()
    settle()
    assert " into “tree” in “home” in " in window.strip.last.text()
    window.window_actions["log"].trigger()
    settle()
    log = window.history.log
    assert log is not None and not log.send_button.isVisible()
    cell = log.view.viewport().grab(log.view.visualRect(log.view.currentIndex())).toImage()
    assert cell.pixelColor(1, 1) == QColor(theme.palette.wine_wash)
    words = [cell.pixelColor(x, y).lightness() for x in range(cell.width()) for y in range(cell.height())]
    assert min(words) < 100  # dark on it, and not white as the toolkit has it by itself
    log.view.setCurrentIndex(log.model.index(1, 0))  # the archive can still be sent on, after another job
    assert log.send_button.isVisible() and log.handle.files == [work / "work.zip"]
    log.send_button.click()
    assert local_files(QApplication.clipboard().mimeData()) == [work / "work.zip"]
    log.view.setCurrentIndex(log.model.index(0, 0))
    log.close()


def test_what_lies_in_a_missing_part_is_not_promised(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    work = home / "work"
    work.mkdir()
    for name in ("a", "b", "c", "d"):
        (work / f"{name}.bin").write_bytes(os.urandom(30_000))
    for fmt, lost in (("zip", "2 files"), ("tar", "1 file")):  # of a tar a header is lost, too
        items = [work / f"{name}.bin" for name in "abcd"]
        pack(plan_pack(items, target=work / f"x.{fmt}", info=by_id(fmt).info, part_size=40_000))
        (work / f"x.{fmt}.002").unlink()  # with the end of b and the beginning of c
        stand(work / f"x.{fmt}.001")
        assert window.target.unpack.facts.text().endswith(f"2 new files · {lost} in a missing part")


def test_a_trial_ends_where_there_is_nothing_to_learn(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """Of pictures only the quickest levels are tried; of a few bytes nothing is, and that is said in place of a chart."""
    pictures = [home / f"{n}.jpg" for n in range(3)]
    for picture in pictures:
        picture.write_bytes(os.urandom(300_000))
    sample = take_sample(items_of(pictures, exclude=(), leave_out=LeaveOut.NOTHING, follow=False, tick=lambda: None))
    levels = {(point.fmt, point.level) for point in trial(sample)}
    assert {level for fmt, level in levels if fmt == "tar.xz"} <= {0, 1, by_id("tar.xz").info.default_level}
    assert {fmt for fmt, _ in levels} == {known.info.id for known in WRITABLE}
    (home / "tiny").mkdir()
    (home / "tiny" / "a.txt").write_text("few words")
    stand(home / "tiny")
    window.trials.enabled = True
    click(window, "a.txt")
    QTest.qWait(0)
    settle()
    while not window.trials.at_rest:
        QTest.qWait(10)
    page = window.how.pack
    assert not page.chart.isVisible() and page.hopeless.text().startswith("This is so small that every format")
    assert "before packing" in window.target.pack.gauge.accessibleDescription()
