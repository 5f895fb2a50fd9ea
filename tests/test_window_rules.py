"""The rules that no screen may break: what is out of sight, one press, what ends with a job, closing, undoing, results."""

from __future__ import annotations

import logging
import os
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QFontInfo, QSessionManager
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QScrollArea, QWidget

from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.fs.private_folders import new_private_folder, sweep_private_copies
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.outcomes import Outcome, Trashed, Unpacked
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.core.work import extractor as unpack_work
from rundlet.core.work.packer import pack
from rundlet.desktop.app import _ask_before_logging_out, make_app
from rundlet.desktop.error_log import start_error_log
from rundlet.desktop.locations.place import Place
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from rundlet.presentation.outcomes import record_title
from support import Raw, make_tree, pack_to, packed, raw_zip
from windows import CTRL, LEFT, Settle, Stand, chosen, click, files_in

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.core.jobs.job import Job

NAMES = "rent.txt a.txt b.txt c.txt d.txt"


def names_in(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.iterdir())


def test_what_is_not_kept_is_said_before_the_button_is_pressed(
    window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot
) -> None:
    files_in(home / "f", "a.txt")
    os.link(home / "f" / "a.txt", home / "f" / "b.txt")
    window.trials.enabled = True
    stand(home / "f")
    window.source.view.selectAll()
    settle()
    target = window.target.pack
    qtbot.waitUntil(lambda: bool(target.not_kept.text()))
    assert target.not_kept.text().startswith("With zip, 1 hard link becomes a separate file")
    window.workspace.packing.set_format("tar.xz")
    assert "hard link" not in target.not_kept.text()
    window.trials.stop()
    (home / "x.zip").write_bytes(raw_zip([Raw(b"a", mode=0o104755), Raw(b"b", mode=0o101755)]))
    stand(home / "x.zip")
    assert window.how.unpack.not_kept.text().startswith("The set-user-ID, set-group-ID or sticky bits of 2")


# What is out of sight


def test_a_plain_click_selects_that_item_alone(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """Select all, find one, click it, delete: one item is in the trash, and no other."""
    files_in(home / "f", NAMES)
    stand(home / "f")
    window.source.view.selectAll()
    window.finder.setText("rent")
    assert len(chosen(window)) == 5 and window.workspace.selection.unseen == 4
    click(window, "rent.txt")
    settle()
    assert chosen(window) == ["rent.txt"]
    window.file_actions.actions["trash"].trigger()
    settle()
    assert names_in(trash) == ["rent.txt"]
    assert names_in(home / "f") == ["a.txt", "b.txt", "c.txt", "d.txt"]


@pytest.mark.parametrize("what", ["trash", "cut", "copy"])
def test_what_is_hidden_is_neither_deleted_nor_cut(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, what: str
) -> None:
    files_in(home / "f", NAMES)
    (home / "g").mkdir()
    stand(home / "f")
    window.source.view.selectAll()
    window.finder.setText("rent")
    assert window.target.go.text() == "Pack 5 items (4 hidden)"  # packing them is named on the button
    assert window.file_actions.actions["trash"].text() == "Move 1 item to the trash"
    window.file_actions.actions[what].trigger()
    settle()
    if what == "trash":
        assert names_in(trash) == ["rent.txt"]
        return
    stand(home / "g")
    window.file_actions.actions["paste"].trigger()
    settle()
    assert names_in(home / "g") == ["rent.txt"]
    assert len(names_in(home / "f")) == (4 if what == "cut" else 5)


def test_unpacking_names_what_is_hidden(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", NAMES)
    pack_to(home / "x.zip", sorted((home / "f").iterdir()))
    stand(home / "x.zip")
    window.source.view.selectAll()
    window.finder.setText("rent")
    settle()
    assert window.target.go.text() == "Unpack 5 items (4 hidden)"
    window.source.offers.only_shown.click()
    settle()
    assert window.target.go.text() == "Unpack 1 item"


# One press, one job


def test_a_double_click_on_the_button_starts_one_job(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt b.txt")
    stand(home / "f")
    window.source.view.selectAll()
    settle()
    started: list[object] = []
    window.jobs.started.connect(started.append)
    go = window.target.go
    QTest.mouseClick(go, LEFT)
    QTest.mouseDClick(go, LEFT)
    window.window_actions["go"].trigger()  # and the key is no way around it
    window.job_starter.start_pack()
    settle()
    assert len(started) == 1 and names_in(home / "f") == ["a.txt", "b.txt", "f.zip"]
    stand(home / "f" / "f.zip")
    go = window.target.go
    assert go.isEnabled()
    QTest.mouseClick(go, LEFT)
    assert not go.isEnabled()
    QTest.mouseDClick(go, LEFT)
    window.job_starter.start_unpack()
    settle()
    assert len(started) == 2 and names_in(home / "f" / "f") == ["a.txt", "b.txt"]


def test_one_archive_is_not_unpacked_twice_at_once(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """However much later the second press comes; other archives can be unpacked meanwhile."""
    files_in(home / "f", "a.txt")
    for name in ("x.zip", "y.zip"):
        pack_to(home / name, [home / "f" / "a.txt"])
    let = threading.Event()
    real = unpack_work._run
    monkeypatch.setattr(unpack_work, "_run", lambda run, workers: (let.wait(20), real(run, workers)))
    stand(home / "x.zip")
    window.target.go.click()
    QTest.qWait(QApplication.doubleClickInterval() + 100)
    assert not window.target.go.isEnabled() and len(window.jobs.running) == 1
    window.workspace.open([home / "y.zip"])
    qtbot.waitUntil(window.target.go.isEnabled)
    window.target.go.click()
    assert len(window.jobs.running) == 2
    let.set()
    settle()
    assert (home / "x" / "a.txt").exists() and (home / "y" / "a.txt").exists()


# What belongs to one job, and choices that can't be kept


def test_a_lock_that_a_format_can_not_give_stops_the_button(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    files_in(home / "f", "a.txt b.txt")
    stand(home / "f")
    window.source.view.selectAll()
    how, to = window.how.pack, window.target.pack
    how.options.lock.setChecked(True)
    how.options.lock_box.first.setText("secret")
    how.options.lock_box.again.setText("secret")
    window.workspace.packing.set_format("7z")
    how.options.lock_box.hide_names.setChecked(True)
    assert to.go.isEnabled()
    window.workspace.packing.set_format("zip")
    assert not to.go.isEnabled() and to.facts.text() == "zip can't hide file names. Choose 7z, or turn off hiding."
    how.options.lock_box.hide_names.setChecked(False)
    assert to.go.isEnabled()
    window.workspace.packing.set_format("tar.gz")
    assert not to.go.isEnabled() and "can't be locked" in to.facts.text()
    assert how.options.lock.isChecked() and how.options.lock.isEnabled()
    how.options.lock.setChecked(False)
    assert to.go.isEnabled()


def test_what_belongs_to_one_set_ends_with_it(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    """With the job, and with a selection that has nothing in common with the one before."""
    files_in(home / "f", "a.txt b.txt c.txt")
    stand(home / "f")
    options = window.how.pack.options

    def set_up() -> None:
        options.lock.setChecked(True)
        options.lock_box.first.setText("secret")
        options.lock_box.again.setText("secret")
        options.trash.setChecked(True)
        window.target.pack.archive.name.selectAll()
        QTest.keyClicks(window.target.pack.archive.name, "mine")

    def nothing_is_left() -> bool:
        form = window.workspace.packing.form
        nothing = not (form.password or form.lock_wanted or form.trash or form.hide_names)
        return nothing and form.stem != "mine" and not options.lock.isChecked() and not options.lock_box.first.text()

    click(window, "a.txt")
    set_up()
    click(window, "b.txt", CTRL)  # more of the same set
    assert window.workspace.packing.form.stem == "mine" and window.workspace.packing.form.password == "secret"
    click(window, "c.txt")
    assert nothing_is_left()
    set_up()
    window.target.go.click()
    assert nothing_is_left()
    settle()
    assert (home / "f" / "mine.zip").exists() and names_in(trash) == ["c.txt"]


@pytest.mark.parametrize(("words", "fine"), [("8 MB", True), ("8", False), ("zzz", False), ("", True), ("700k", True)])
def test_a_size_that_can_not_be_read_stops_the_button(
    window: Window, settle: Settle, stand: Stand, home: Path, words: str, fine: bool
) -> None:
    files_in(home / "f", "a.txt")
    stand(home / "f")
    window.source.view.selectAll()
    QTest.keyClicks(window.target.pack.other_limit, words)
    assert window.target.go.isEnabled() == fine
    assert (window.target.pack.other_limit.property("state") == "bad") != fine
    window.target.pack.other_limit.clear()
    window.target.pack.other_limit.textEdited.emit("")
    options = window.how.pack.options
    options.parts.setChecked(True)
    options.part_size.setEditText(words)
    assert window.target.go.isEnabled() == (fine and bool(words))


def test_a_name_that_is_too_long_is_said(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt")
    stand(home / "f")
    window.source.view.selectAll()
    window.target.pack.archive.name.selectAll()
    QTest.keyClicks(window.target.pack.archive.name, "x" * 300)
    assert not window.target.go.isEnabled() and window.target.pack.facts.text() == "The name is too long."


# Archives that stay


def test_that_an_archive_stays_is_said_where_it_is_ticked(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    files_in(home / "f", "a.txt b.txt")
    pack_to(home / "x.zip", sorted((home / "f").iterdir()))
    stand(home / "x.zip")
    page = window.how.unpack
    page.after[Afterwards.TRASH].click()
    settle()
    assert not page.stays.isVisible()
    click(window, "a.txt")
    settle()
    assert page.stays.text() == "The archive stays where it is, as only some of it is unpacked."
    window.target.go.click()
    settle()
    assert (home / "x.zip").exists() and not trash.exists()
    assert window.strip.last.text().endswith("“x.zip” stays where it is, as only some of it is unpacked.")
    window.source.view.clearSelection()
    window.how.unpack.clash[UnpackClash.SKIP].click()
    (home / "x" / "a.txt").write_text("mine")
    window.workspace.unpacking.plan_again()
    settle()
    assert page.stays.text() == "The archive stays where it is, as 1 file is skipped."


# Closing


def _slow(window: Window, let: threading.Event, target: Path = Path("/")) -> None:
    def work(job: Job) -> Outcome:
        while not let.wait(0.01):
            job.checkpoint()
        return Trashed(Path("/"))

    window.jobs.start(Trashed, target, work)


def test_closing_asks_in_place_while_work_is_under_way(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    let = threading.Event()
    _slow(window, let)
    window.close()
    assert window.isVisible() and window.strip.question.isVisible()
    assert window.strip.question_words.text() == "1 job is still running. Close Rundlet and cancel?"
    assert window.strip.close_button.text() == "Cancel and close"
    window.strip.keep_button.click()
    assert not window.strip.question.isVisible() and window.jobs.running
    window.close()
    let.set()
    settle()
    assert not window.strip.question.isVisible()  # there is nothing to ask any more
    stand(packed(home, "zip"))
    window.workspace.changing.new_folder("", 0)
    settle()
    let.clear()
    _slow(window, let, home)
    window.close()
    words = window.strip.question_words.text()
    assert words.startswith(
        "1 job is still running and would be cancelled. Changes in 1 archive are not saved (“x.zip”)"
    )
    assert window.strip.close_button.text() == "Discard and close"
    window.strip.close_button.click()
    assert not window.isVisible()
    record = window.history.journal.records()[0]
    assert (record.result, record_title(record)) == ("cancelled", "Moving 0 items to the trash")


def test_logging_out_asks_too(window: Window, settle: Settle) -> None:
    said: list[str] = []

    class Session:
        def __init__(self, asks: bool) -> None:
            self.asks = asks

        def allowsInteraction(self) -> bool:
            return self.asks

        def release(self) -> None:
            said.append("release")

        def cancel(self) -> None:
            said.append("cancel")

    _ask_before_logging_out(window, cast(QSessionManager, Session(True)))
    assert not said
    let = threading.Event()
    _slow(window, let)
    _ask_before_logging_out(window, cast(QSessionManager, Session(False)))  # there is no time for it
    assert not said and not window.strip.question.isVisible()
    _ask_before_logging_out(window, cast(QSessionManager, Session(True)))
    assert said == ["release", "cancel"] and window.strip.question.isVisible()
    let.set()
    settle()


def test_failed_and_cancelled_jobs_stay_in_the_log(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt")
    pack_to(home / "x.zip", [home / "f" / "a.txt"])
    stand(home / "x.zip")
    (home / "x.zip").write_bytes(b"another")
    window.target.go.click()
    let = threading.Event()
    _slow(window, let)
    window.jobs.cancel(window.jobs.running[-1])
    settle()
    results = {(record.outcome.kind, record.result) for record in window.history.journal.records()}
    assert results == {("unpack", "failed"), ("trash", "cancelled")}


# Results and undoing


def test_a_result_with_problems_stays_until_it_is_read(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    problems = [f"problem {number}" for number in range(150)]

    def bad(_: Job) -> Outcome:
        outcome = Unpacked(home)
        for words in problems:
            outcome.add("x", Reason.SAID, problem=words)
        return outcome

    for _ in range(2):
        window.jobs.start(Unpacked, home, bad)
        settle()
    assert len(window.strip.unread) == 1
    window.jobs.start(Unpacked, home, lambda _: Unpacked(home))
    settle()
    assert len(window.strip.unread) == 2 and not window.strip.problems_button.isVisible()
    window.strip.unread[0].show_button.click()
    settle()
    log = window.history.log
    assert log.problems.toPlainText().splitlines() == [f"x: {words}" for words in problems]
    log.copy_button.click()
    assert QApplication.clipboard().text().count("\n") == 149
    window.strip.unread[0].close_button.click()
    assert not window.strip.unread
    log.close()


def test_undo_goes_back_step_by_step_and_over_a_restart(
    window: Window, settle: Settle, stand: Stand, home: Path, qtbot: QtBot, trash: Path
) -> None:
    files_in(home / "f", "a.txt b.txt")
    stand(home / "f")
    for name in ("a.txt", "b.txt"):
        click(window, name)
        window.target.go.click()
        settle()
    assert names_in(home / "f") == ["a.txt", "a.zip", "b.txt", "b.zip"]
    again = Window(home / ".data")
    qtbot.addWidget(again)
    qtbot.waitUntil(lambda: again.history.last_record is not None)
    assert again.strip.last.text().startswith("Packed “b.zip”")
    for left in (["a.txt", "a.zip", "b.txt"], ["a.txt", "b.txt"]):
        again.window_actions["undo"].trigger()
        qtbot.waitUntil(lambda: not (again.jobs.running or again.background.busy))
        assert names_in(home / "f") == left
    assert again.history.last_record is None
    again.close_now()
    assert window.history.last_record is not None  # this window has not looked since
    window.window_actions["undo"].trigger()
    settle()
    assert window.strip.last.text() == "That was undone already." and names_in(home / "f") == ["a.txt", "b.txt"]


def test_the_button_says_that_undoing_deletes(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path
) -> None:
    files_in(home / "f", "a.txt b.txt")
    pack_to(home / "x.zip", sorted((home / "f").iterdir()))
    stand(home / "x.zip")
    window.target.go.click()
    settle()
    assert window.strip.undo_button.text() == "Delete 2 unpacked files"
    (home / "x" / "a.txt").write_text("changed")
    window.strip.undo_button.click()
    settle()
    assert names_in(home / "x") == ["a.txt"] and window.history.last_record is not None
    (home / "x" / "a.txt").unlink()
    window.window_actions["undo"].trigger()  # what stood in the way is gone, so it can be tried again
    settle()
    assert not (home / "x").exists() and not trash.exists()
    assert window.history.last_record is None


def test_looking_does_not_wait_for_working(window: Window, qtbot: QtBot, stand: Stand, home: Path) -> None:
    """Any number of long jobs; and a small job does not wait behind large ones."""
    files_in(home / "f", "a.txt")
    let = threading.Event()
    for _ in range(20):
        _slow(window, let)
    window.workspace.open([home / "f"])
    qtbot.waitUntil(lambda: window.workspace.place.folder == home / "f" and window.workspace.listing is not None)
    done: list[object] = []
    window.jobs.ended.connect(lambda running, _: done.append(running))
    small = window.jobs.start(Trashed, home, lambda _: Trashed(home))
    qtbot.waitUntil(lambda: small in done)
    let.set()
    qtbot.waitUntil(lambda: not window.jobs.running)


# What changes outside


@pytest.fixture
def followed(window: Window) -> Window:
    window.workspace.follower.enabled = True
    return window


def test_a_folder_that_goes_is_left(followed: Window, qtbot: QtBot, stand: Stand, home: Path) -> None:
    files_in(home / "f" / "g", "a.txt")
    stand(home / "f" / "g")
    (home / "f" / "g").rename(home / "f" / "h")
    qtbot.waitUntil(lambda: followed.workspace.place == Place(home / "f"), timeout=10_000)
    assert "“g” was moved or deleted" in followed.source.notice.words.text()


def test_a_missing_part_that_arrives_is_seen(
    followed: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path
) -> None:
    (home / "noise").write_bytes(os.urandom(9000))
    how: dict[str, Any] = {
        "target": home / "x.zip",
        "info": by_id("zip").info,
        "options": WriteOptions(0),
        "part_size": 3000,
    }
    pack(plan_pack([home / "noise"], **how))
    (home / "x.zip.002").rename(home / "kept")
    stand(home / "x.zip.001")
    assert followed.source.notice.isVisible()
    (home / "kept").rename(home / "x.zip.002")
    qtbot.waitUntil(lambda: not followed.workspace.archive.reader.notices, timeout=10_000)
    settle()
    (home / "x.zip.002").rename(home / "kept")
    followed.workspace.follower.enabled = False
    followed.window_actions["refresh"].trigger()  # by hand, too
    settle()
    assert followed.workspace.archive.reader.notices


def test_an_empty_folder_can_be_filled(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "f", "a.txt")
    (home / "empty").mkdir()
    stand(home / "f")
    window.source.view.setFocus()
    click(window, "a.txt")
    window.file_actions.actions["copy"].trigger()
    stand(home / "empty")
    message = window.source.pages.message
    assert window.source.pages.shows_message and window.file_actions.actions["paste"] in message.actions()
    assert message.contextMenuPolicy() == Qt.ContextMenuPolicy.CustomContextMenu
    message.setFocus()
    QTest.keyClick(message, Qt.Key.Key_V, CTRL)
    settle()
    assert names_in(home / "empty") == ["a.txt"] and not window.source.pages.shows_message


def test_files_of_several_folders_are_all_selected(window: Window, settle: Settle, home: Path) -> None:
    files_in(home / "f", "a.txt b.txt")
    files_in(home / "g", "c.txt")
    window.workspace.open([home / "f" / "a.txt", home / "g" / "c.txt"])
    settle()
    assert chosen(window) == ["a.txt", "c.txt"]


def test_letters_and_spaces_go_to_a_name_and_backspace_stays_in_a_slider(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    for name in ("river north.txt", "river south.txt"):
        (home / name).write_text(name)
    make_tree(home)
    stand(home)
    view = window.source.view
    view.setFocus()
    QTest.keyClicks(view, "river s")
    assert view.currentIndex().data() == "river south.txt" and not window.source.view_buttons["look"].isChecked()
    window.source.view.selectAll()
    window.how.pack.level.setFocus()
    QTest.keyClick(window.how.pack.level, Qt.Key.Key_Backspace)
    settle()
    assert window.workspace.place == Place(home)


def test_icons_follow_a_change_between_light_and_dark(window: Window) -> None:
    def ink() -> set[int]:
        image = window.back_button.icon().pixmap(32, 32).toImage()
        found = [image.pixelColor(x, y) for x in range(32) for y in range(32)]
        return {color.rgb() for color in found if color.alpha() == 255}

    before = ink()
    try:
        theme.apply(make_app(), dark=True)
        assert ink() and ink().isdisjoint(before)
    finally:
        theme.apply(make_app(), dark=False)
    assert ink() == before


def test_the_desktops_text_size_is_followed(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path
) -> None:
    """Text, and the room that it needs, grow at once when the desktop's text does; nothing is cut at twice the size."""
    app = make_app()
    files_in(home / "work", "a.txt b.txt")
    for name in "xy":
        pack_to(home / "work" / f"{name}.zip", [home / "work" / "a.txt", home / "work" / "b.txt"])
        files_in(home / "work" / name, "a.txt b.txt")
        for file in (home / "work" / name).iterdir():
            file.write_text("mine")
    stand(home / "work")
    click(window, "a.txt")
    settle()
    window.resize(1280, 800)
    usual, before = QFont(app.font()), (window.log_button.height(), window.source.view.header().sectionSize(2))
    large = QFont(usual)
    large.setPixelSize(26)
    try:
        app.setFont(large)
        qtbot.waitUntil(lambda: window.log_button.height() > before[0] * 1.5, timeout=5000)
        assert QFontInfo(window.log_button.font()).pixelSize() == theme.sizes.body == 26
        assert window.source.view.header().sectionSize(2) > before[1] * 1.5
        assert (window.width(), window.height()) == (1280, 800)
        assert window.right.orientation() == Qt.Orientation.Vertical

        def cut() -> list[str]:
            """Buttons without room for their words; and the large one, where not all of it is seen."""
            buttons = [b for b in window.findChildren(QPushButton) if b.isVisible() and b.text()]
            narrow = [b.text() for b in buttons if b.width() < b.sizeHint().width()]
            go = window.target.go
            return narrow + [go.text()] * (go.visibleRegion().boundingRect() != go.rect())

        qtbot.waitUntil(lambda: not cut(), timeout=5000)
        stand(home / "work" / "x.zip")  # whose names are taken
        assert window.target.go.text() == "Unpack everything" and window.target.unpack.hint.isVisible()
        window.right.setSizes([window.height(), 1])  # as little as a person can leave to it
        qtbot.waitUntil(lambda: not cut(), timeout=5000)
        stand(home / "work")
        click(window, "x.zip")
        click(window, "y.zip", CTRL)
        settle()
        assert window.target.go.text() == "Unpack 2 archives" and window.target.batch.hint.isVisible()
        qtbot.waitUntil(lambda: not cut(), timeout=5000)
    finally:
        app.setFont(usual)
    qtbot.waitUntil(lambda: window.log_button.height() == before[0], timeout=5000)
    assert theme.sizes.body == 13


def test_every_control_shows_that_it_has_the_focus(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """The ring is seen on each kind of control: at least a frame's worth of its pixels changes."""
    files_in(home / "work", "a.txt b.txt")
    pack_to(home / "work" / "x.zip", [home / "work" / "a.txt"])
    stand(home / "work")
    window.source.view.selectAll()
    settle()
    window.activateWindow()
    window.how.pack.options.parts.setChecked(True)
    window.how.pack.options.fold.open()
    settle()
    unseen, kinds = [], set()
    for control in window.findChildren(QWidget):
        if not (control.isVisible() and control.isEnabled() and control.focusPolicy() & Qt.FocusPolicy.TabFocus):
            continue
        if isinstance(control, QScrollArea) or control.focusProxy() is not None:
            continue
        (window.finder if control is not window.finder else window.places_button).setFocus()
        QTest.qWait(0)
        before = control.grab().toImage()
        control.setFocus(Qt.FocusReason.TabFocusReason)
        QTest.qWait(0)
        after = control.grab().toImage()
        kinds.add(type(control).__name__)
        wide, high = after.width(), after.height()
        assert before.size() == after.size()  # nothing moves when the focus comes
        strong = {QColor(theme.palette.wine).rgb(), QColor(theme.palette.ink).rgb()}
        changed = sum(
            before.pixel(x, y) != after.pixel(x, y) and after.pixel(x, y) in strong
            for x in range(0, wide, 2) for y in range(high)
        )  # fmt: skip
        if changed < min(wide, high) // 2:
            unseen.append(
                (type(control).__name__, control.accessibleName() or getattr(control, "text", str)(), changed)
            )
    assert len(kinds) >= 6, kinds
    assert not unseen, unseen


def test_private_copies_of_a_killed_window_go_and_changed_ones_are_kept(
    home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    folders = [new_private_folder(10) for _ in range(3)]
    for number, folder in enumerate(folders):
        copy = folder.path / f"copy {number}.txt"
        copy.write_text("secret")
        status = copy.stat()
        folder.note(copy, home, (status.st_size, status.st_mtime_ns))
        assert folder.path.stat().st_mode & 0o777 == 0o700
    (folders[1].path / "copy 1.txt").write_text("edited")
    for folder in folders[:2]:
        folder.close()  # as when its window is killed
    assert sweep_private_copies() == [str(home / "copy 1.txt")]
    assert [folder.path.exists() for folder in folders] == [False, False, True]
    assert (home / "copy 1.txt").read_text() == "edited"
    folders[2].remove()
    assert (tmp_path / "cache" / "rundlet").stat().st_mode & 0o777 == 0o700


def test_faults_in_the_background_are_kept_in_a_bounded_file(
    window: Window, settle: Settle, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also those that nothing catches; what is a matter of course, such as a file that can't be read, is none."""
    hooks = sys.excepthook, threading.excepthook
    monkeypatch.setattr("rundlet.desktop.error_log._LARGEST", 4000)
    monkeypatch.setattr(sys, "__excepthook__", lambda *_: None)
    handler = start_error_log(tmp_path / "state")
    assert handler is not None
    try:

        def work(_: Job) -> None:
            raise ValueError("nobody thought of this")

        heard: list[BaseException] = []
        window.background.run(work, done=lambda _: None, failed=heard.append)
        window.background.run(lambda _: open_archive(tmp_path / "gone"), done=lambda _: None, failed=heard.append)
        settle()
        file = tmp_path / "state" / "errors.log"
        assert len(heard) == 2 and "nobody thought of this" in file.read_text() and "gone" not in file.read_text()
        assert file.stat().st_mode & 0o777 == 0o600 and file.parent.stat().st_mode & 0o777 == 0o700
        thread = threading.Thread(target=lambda: 1 // 0)
        thread.start()
        thread.join()
        assert "ZeroDivisionError" in file.read_text()
        for number in range(300):
            logging.getLogger("rundlet").warning("line %d of many", number)
        kept = sorted(path.name for path in file.parent.iterdir())
        assert kept == ["errors.log", "errors.log.1"] and sum(p.stat().st_size for p in file.parent.iterdir()) <= 8000
    finally:
        logging.getLogger().removeHandler(handler)
        handler.close()
        sys.excepthook, threading.excepthook = hooks
    (tmp_path / "file").touch()
    assert start_error_log(tmp_path / "file") is None
