"""Packing through the window: several formats and archives one after the other, ways that are kept, links, sending on."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from PySide6.QtCore import Qt, QUrl
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton, QWidget

from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.fs.disk_space import DiskRules
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.jobs.outcomes import Outcome, Packed
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.userdata.presets import Presets, SavedSettings
from rundlet.core.work.trial import Point
from rundlet.desktop.state.forms import IfTaken
from rundlet.presentation.findings import issue_words
from support import contents, make_tree, unpack_to
from windows import CTRL, NONE, Settle, Stand, chosen, click, files_in

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

    from rundlet.core.jobs.job import Job
    from rundlet.desktop.window import Window


def held(archive: Path) -> dict[str, bytes]:
    """What an archive holds of files, by path."""
    reader = open_archive(archive)
    try:
        return {path: data for path, data in contents(reader).items() if not path.endswith("/")}
    finally:
        reader.close()


def test_several_formats_of_one_set_go_one_after_the_other(
    window: Window, settle: Settle, stand: Stand, home: Path
) -> None:
    """P4: the same set in one format after the other; what waits says so and can be called off."""
    work = home / "work"
    files_in(work, "a.txt b.txt c.txt")
    stand(work)
    click(window, "a.txt")
    click(window, "c.txt", CTRL)
    settle()
    gate = [False]

    def slow(job: Job) -> Outcome:
        while not gate[0]:
            job.checkpoint()
        return Packed(work / "slow.zip")

    window.jobs.start(Packed, work / "slow.zip", slow, queued=True)
    for fmt in ("zip", "7z", "tar.gz", "tar.xz"):
        window.workspace.packing.set_format(fmt)
        window.target.go.click()
    rows = list(window.strip.rows.values())
    assert [row.words.text().endswith("waiting") for row in rows] == [False, True, True, True, True]
    rows[-1].cancel.click()
    rows[-1].cancel.click()  # as a second click that was on its way
    assert window.strip.last.text() == "Packing “work.tar.xz” was cancelled. Nothing was left behind."
    gate[0] = True
    settle()
    made = sorted(path.name for path in work.glob("work.*"))
    assert made == ["work.7z", "work.tar.gz", "work.zip"]
    expected = {name: (work / name).read_bytes() for name in ("a.txt", "c.txt")}
    assert all(held(work / name) == expected for name in made)
    assert chosen(window) == ["a.txt", "c.txt"]
    window.history.open_log()
    settle()
    assert window.history.log.model.rowCount() == 5  # the one that was cancelled, too


def test_one_archive_of_each(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    work = home / "work"
    tree = make_tree(work)
    files_in(work, "a.txt b.csv a.zip")
    stand(work)
    click(window, "tree")
    click(window, "a.txt", CTRL)
    click(window, "b.csv", CTRL)
    settle()
    window.how.pack.options.each.click()
    assert window.target.go.text() == "Pack 3 items into 3 archives"
    assert window.how.pack.statement.text() == "Pack 3 items, one archive each"
    window.target.go.click()
    settle()
    assert sorted(path.name for path in work.glob("*.zip")) == ["a (2).zip", "a.zip", "b.zip", "tree.zip"]
    assert held(work / "a (2).zip") == {"a.txt": (work / "a.txt").read_bytes()}
    unpack_to(work / "tree.zip", home / "out")
    assert (home / "out" / "tree" / "plain.txt").read_bytes() == (tree / "plain.txt").read_bytes()


def test_choices_are_kept_under_a_name(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    files_in(home / "work", "a.txt b.txt")
    stand(home / "work")
    window.source.view.selectAll()
    settle()
    ways, options, ws = window.how.pack.saved_settings, window.how.pack.options, window.workspace
    assert not ways.keep.isEnabled()
    ws.packing.set_format_and_level("7z", 9)
    options.split_into(700_000_000)
    options.hidden.click()
    options.patterns.setText("*.tmp, build")
    options.patterns.editingFinished.emit()
    options.follow.click()
    options.each.click()
    way = ws.packing.form.settings
    editor = ways.names.lineEdit()
    assert editor is not None
    QTest.keyClicks(editor, "For the council")
    ways.keep.click()
    ws.packing.change(lambda form: form.take(SavedSettings("zip", 1)))
    assert ws.packing.form.info.id == "zip" and not options.parts.isChecked() and not options.hidden.isChecked()
    assert options.patterns.text() == ""
    ways.names.setCurrentIndex(0)
    ways.names.activated.emit(0)
    assert (
        ws.packing.form.settings
        == way
        == SavedSettings("7z", 9, 700_000_000, 0, True, False, ("*.tmp", "build"), True, True)
    )
    assert options.parts.isChecked() and options.part_size.currentText() == "700.0 MB"
    assert options.hidden.isChecked() and options.patterns.text() == "*.tmp, build" and options.follow.isChecked()
    assert Presets.read(home / ".data" / "ways.json").saved == {"For the council": way}
    ways.forget.click()
    assert Presets.read(home / ".data" / "ways.json").saved == {}


@pytest.mark.parametrize(
    "kept",
    ["", "[]", "{", '{"a": 1}', '{"a": {"fmt": "zip"}}', '{"a": {"fmt": "zip", "level": 99}}',
     '{"a": {"fmt": "odd", "level": 5}}', '{"a": {"fmt": "zip", "level": "5"}}', '{"a": {"fmt": "zip", "level": 5, "hidden": 3}}'],
)  # fmt: skip
def test_ways_that_make_no_sense_are_passed_over(tmp_path: Path, kept: str) -> None:
    (tmp_path / "ways.json").write_text(kept)
    presets = Presets.read(tmp_path / "ways.json")
    assert presets.saved == {}
    presets.keep("good", SavedSettings("zip", 5))
    values = json.loads((tmp_path / "ways.json").read_text())
    assert values["good"]["level"] == 5
    assert Presets.read(tmp_path / "ways.json").saved == {"good": SavedSettings("zip", 5)}


def test_what_links_lead_to_is_packed_in_their_place(tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    outside = tmp_path / "outside"
    files_in(outside, "far.txt .hidden")
    (tree / "to file").symlink_to(outside / "far.txt")
    (tree / "to folder").symlink_to(outside)
    (tree / "nowhere").symlink_to("gone")
    (tree / "in" / "up").symlink_to("..")
    (outside / "back").symlink_to(tree)
    how: dict[str, Any] = {"target": tmp_path / "x.zip", "info": by_id("zip").info, "leave_out": LeaveOut.HIDDEN}
    plan = plan_pack([tree], follow=True, **how)
    found = {item.path: item.kind.word for item in plan.items}
    assert found["tree/to file"] == found["tree/to folder/far.txt"] == "file"
    assert found["tree/link/er/run.sh"] == "file"
    assert found["tree/nowhere"] == found["tree/in/up"] == "link"
    assert not any(".hidden" in path for path in found)
    said = {issue.item: issue_words(issue) for issue in plan.issues}
    assert said["tree/nowhere"] == "leads nowhere and was kept as a link"
    assert said["tree/in/up"] == "leads to a folder that it is in and was kept as a link"
    assert len(found) < 200  # round and round is gone once at most


def test_a_taken_name_can_be_added_to(window: Window, settle: Settle, stand: Stand, home: Path, trash: Path) -> None:
    """X1: what is chosen goes into the archive that has the name, and what was in it stays; it can be taken back."""
    work = home / "work"
    files_in(work, "a.txt b.txt c.txt")
    stand(work)
    click(window, "a.txt")
    window.target.pack.archive.name.selectAll()
    QTest.keyClicks(window.target.pack.archive.name, "all")
    window.target.go.click()
    settle()
    page = window.target.pack
    click(window, "b.txt")
    click(window, "c.txt", CTRL)
    settle()

    def name_it() -> None:
        page.archive.name.selectAll()
        QTest.keyClicks(page.archive.name, "all")
        assert page.archive.clash.text() == "That name is taken. This archive will be called “all (2).zip”."
        page.archive.clashes[IfTaken.ADD].click()

    name_it()
    assert (page.archive.clash.text(), window.target.go.text()) == (
        "Everything already in “all.zip” stays.",
        "Add 2 items",
    )
    window.target.go.click()
    settle()
    assert window.strip.last.text().startswith("Added 2 items to “all.zip” in ")
    assert window.strip.copy_button.isVisible() and window.strip.undo_button.isVisible()

    def names() -> list[str]:
        reader = open_archive(work / "all.zip")
        found = contents(reader)
        reader.close()
        assert found == {name: (work / name).read_bytes() for name in found}
        return sorted(found)

    assert names() == ["a.txt", "b.txt", "c.txt"]
    window.strip.undo_button.click()
    settle()
    assert names() == ["a.txt"]
    name_it()
    window.target.go.click()
    settle()
    assert names() == ["a.txt", "b.txt", "c.txt"]
    assert sorted(path.name for path in work.iterdir()) == ["a.txt", "all.zip", "b.txt", "c.txt"]
    name_it()
    window.target.go.click()
    settle()
    assert window.strip.last.text() == "“all.zip” already holds all of it."
    name_it()
    window.how.pack.options.each.click()  # what was said of one name is not said of many
    assert (
        window.workspace.packing.clash == IfTaken.RENAME and window.target.go.text() == "Pack 2 items into 2 archives"
    )
    window.how.pack.options.each.click()
    assert window.workspace.packing.clash.value == IfTaken.ADD.value
    window.how.pack.options.split_into(1000)  # nothing is added to numbered parts
    assert window.workspace.packing.clash == IfTaken.RENAME
    page.archive.name.selectAll()
    QTest.keyClicks(page.archive.name, "other")
    assert window.workspace.packing.form.clash == IfTaken.RENAME  # what was said of one name is not said of another
    page.archive.name.selectAll()
    QTest.keyClick(page.archive.name, Qt.Key.Key_Delete)  # named after what is chosen again
    window.workspace.packing.set_clash(IfTaken.REPLACE)
    click(window, "a.txt")
    assert (window.workspace.packing.form.stem, window.workspace.packing.form.clash) == ("a", IfTaken.RENAME)


def test_a_finished_archive_is_sent_on(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """P6, P11: what it gained, where it is; shown, copied and dragged, the parts with their checksum file together."""
    work = home / "work"
    files_in(work, "a.txt b.txt")
    (work / "noise").write_bytes(bytes(range(256)) * 400)
    stand(work)
    window.source.view.selectAll()
    settle()
    window.trials._points = {("zip", 5): Point("zip", 5, 4321, 2.0)}
    window.how.pack.options.split_into(1_000)
    window.target.go.click()
    settle()
    files = [Path(path.toLocalFile()) for path in window.strip.handle.mime().urls()]
    assert files == sorted(work.glob("work.zip.*"))
    assert files[-1].name == "work.zip.sha256" and len(files) > 1
    lines = bytes(window.strip.handle.mime().data("text/uri-list").data()).decode().split()
    assert lines == [QUrl.fromLocalFile(str(path)).toString() for path in files]
    words = window.strip.last.text()
    assert "saved, in less than 1 s." in words
    assert "Estimated: 4.3 kB in 2 s." in words
    assert window.strip.handle.isVisible()
    record = window.history.last_record
    assert record is not None and (record.expected_size, record.expected_seconds) == (4321, 2.0)


def test_a_disk_that_keeps_only_small_files_is_said_before(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    files_in(home / "work", "a.txt")
    monkeypatch.setattr("rundlet.desktop.state.packing.disk_rules", lambda _: DiskRules(largest=2_000))
    stand(home / "work")
    click(window, "a.txt")
    settle()
    window.trials._points = {("zip", 5): Point("zip", 5, 4321, 2.0)}
    window.workspace.packing.set_level(5)
    assert window.target.pack.facts.text() == ("This drive can't hold files over 2.0 kB. Split the archive into parts.")
    assert not window.target.go.isEnabled()
    window.how.pack.options.split_into(1_000)
    assert window.target.go.isEnabled()
    assert window.target.go.text() == "Pack 1 item into 5 parts"


def test_everything_by_keyboard_alone(window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path) -> None:
    """A7: choose, set up, pack, go in, look, choose, unpack, take back; no mouse, and every control has its name."""
    work = home / "work"
    files_in(work, "a.txt b.txt c.txt")
    stand(work)
    view = window.source.view

    def press(key: Qt.Key, keys: Qt.KeyboardModifier = NONE) -> None:
        QTest.keyClick(window.focusWidget() or window, key, keys)

    window.window_actions["from"].trigger()
    assert window.focusWidget() is view
    press(Qt.Key.Key_Home)
    press(Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert chosen(window) == ["a.txt", "b.txt"]
    window.window_actions["how"].trigger()
    press(Qt.Key.Key_Right)
    assert window.workspace.packing.form.level == 6
    window.window_actions["to"].trigger()
    press(Qt.Key.Key_A, CTRL)
    QTest.keyClicks(window.focusWidget(), "by keys")
    window.window_actions["go"].trigger()
    settle()
    assert held(work / "by keys.zip").keys() == {"a.txt", "b.txt"}
    window.window_actions["from"].trigger()
    press(Qt.Key.Key_End)
    while window.source.model.record(view.currentIndex()).name != "by keys.zip":
        press(Qt.Key.Key_Up)
    press(Qt.Key.Key_Return)
    settle()
    assert window.workspace.place.in_archive
    press(Qt.Key.Key_Home)
    press(Qt.Key.Key_Space)
    settle()
    assert window.source.preview.text.toPlainText().startswith("a.txta.txt")
    press(Qt.Key.Key_Down)
    settle()
    assert window.target.go.text() == "Unpack 1 item"
    window.window_actions["to"].trigger()
    press(Qt.Key.Key_A, CTRL)
    QTest.keyClicks(window.focusWidget(), "~/taken out")
    press(Qt.Key.Key_Return)
    settle()
    window.window_actions["go"].trigger()
    settle()
    out = [path.name for path in (home / "taken out").rglob("*") if path.is_file()]
    assert out == ["b.txt"]
    window.window_actions["undo"].trigger()
    settle()
    assert not (home / "taken out").exists()
    window.window_actions["up"].trigger()
    settle()
    steps = window.path_bar.steps.findChildren(QPushButton)
    for number, control in enumerate((steps[-1], *window.source.chips.values())):
        control.setFocus()  # which stays when the folder changes
        (work / f"another {number}.txt").write_text("another")
        window.workspace.refresh()
        settle()
        assert window.focusWidget() is control
    reached = _walk_by_tab(window, settle)
    nameless = [widget for widget in reached if not (widget.accessibleName() or getattr(widget, "text", str)())]
    assert not nameless, nameless
    ways, how, to = window.source.view_buttons, window.how.pack, window.target.pack
    wanted = {window.places_button, window.finder, window.log_button, view, ways["list"], ways["look"]}
    wanted |= {how.level, how.options.lock, to.archive.name, to.archive.folder.edit, window.target.go}
    assert {w for w in wanted if w.isEnabled()} <= set(reached)
    # In reading order, also those that are made anew at every place.
    steps = [step for step in window.path_bar.steps.findChildren(QPushButton) if step.isVisible()]
    chips = window.source.chips.values()
    first = [window.places_button, *steps, window.finder, window.log_button, ways["list"], ways["look"], *chips, view]
    met = [widget for widget in reached if widget in first]
    assert met == [widget for widget in first if widget in met] and {steps[-1], *chips} <= set(met)
    stand(work / "by keys.zip")
    assert window.target.go.isEnabled()
    assert window.target.go in _walk_by_tab(
        window, settle
    )  # to pass by the folder changes nothing, so that the plan stands


def _walk_by_tab(window: Window, settle: Settle) -> list[QWidget]:
    """Every control that Tab leads to, in order."""
    reached: list[QWidget] = []
    window.source.view.selectAll()
    settle()
    window.places_button.setFocus()
    for _ in range(300):
        widget = window.focusWidget()
        if widget is None or (reached and widget is reached[0]):
            break
        reached.append(widget)
        QTest.keyClick(widget, Qt.Key.Key_Tab)
    return reached
