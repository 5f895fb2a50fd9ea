"""The page of settings: every value through its own control, over a restart; and what the window remembers by itself."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QFileDialog, QLineEdit, QSlider

from rundlet.core.settings import (
    HIDDEN_FILES,
    LIST_COLUMNS,
    LOOK,
    PACK_FOLDER,
    PACK_FORMAT,
    PACK_LEVEL,
    PACK_VERIFY,
    PLACES,
    REMEMBER,
    SETTINGS,
    TEXT_SIZE,
    UNPACK_CLASH,
    UNPACK_FOLDER,
    UNPACK_MEMORY,
    UNPACK_OWN,
    UNPACK_SHOW,
    Kind,
)
from rundlet.core.streams.private import cache_root
from rundlet.core.userdata.settings_file import Settings
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from rundlet.integration.archive_types import KINDS, Part
from rundlet.integration.default_programs import opens_with_rundlet
from rundlet.integration.installer import Presence, status
from rundlet.presentation.settings import GROUPS, TOLD
from support import packed

if TYPE_CHECKING:
    from rundlet.desktop.pages.settings_page import SettingsPage
    from rundlet.desktop.views.setting_rows import SettingRow
    from windows import Settle, Stand

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

Again = Callable[[], Window]


@pytest.fixture
def again(qtbot: QtBot, qapp: QApplication, home: Path) -> Iterator[Again]:
    """Opens a window with what the ones before have left."""
    opened: list[Window] = []

    def close() -> None:
        for made in opened:
            made.close_now()
            made.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        opened.clear()

    def open_one() -> Window:
        close()
        made = Window(home / ".data")
        made.trials.enabled = made.workspace.follower.enabled = False
        made.show()
        made.begin([home])
        qtbot.waitUntil(lambda: made.workspace.listing is not None and not made.background.busy)
        opened.append(made)
        return made

    yield open_one
    close()


@pytest.fixture(autouse=True)
def look_as_before() -> Iterator[None]:
    yield
    theme.prefer(look="desktop", text_size=100)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    theme.apply(app, dark=False)


def page_of(window: Window) -> SettingsPage:
    if not window.window_settings.is_shown:
        window.window_actions["settings"].trigger()
    return window.window_settings.page


def change(row: SettingRow, folder: Path) -> Any:
    """Give a setting another value by the control that a person would use; which one."""
    setting, control = row.setting, row.editor.focusProxy()
    assert control is not None
    if setting.kind is Kind.SWITCH:
        QTest.keyClick(control, Qt.Key.Key_Space)
        return not setting.default
    if setting.kind is Kind.SEVERAL:
        QTest.keyClick(control, Qt.Key.Key_Space)
        return ",".join(setting.choices[1:])
    if setting.kind is Kind.CHOICE:
        assert isinstance(control, QComboBox)
        QTest.keyClick(control, Qt.Key.Key_End)
        return setting.choices[-1]
    if setting.kind is Kind.NUMBER:
        QTest.keyClick(control, Qt.Key.Key_End)
        return setting.bounds[1]
    words, value = ("512 MiB", 512 << 20) if setting.kind is Kind.SIZE else (str(folder), str(folder))
    field = control
    assert isinstance(field, QLineEdit)
    field.selectAll()
    QTest.keyClicks(field, "nonsense")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert row.wrong.isVisibleTo(row) and field.property("state") == "bad"
    field.selectAll()
    QTest.keyClicks(field, words)
    QTest.keyClick(field, Qt.Key.Key_Return)
    return value


def test_every_setting_over_a_restart(again: Again, home: Path) -> None:
    """Each is on the page once, is changed there, holds in the next window, and goes back to its default there."""
    assert {setting.id for _, of_group in GROUPS for setting in of_group} == set(TOLD) == {each.id for each in SETTINGS}
    window = again()
    page = page_of(window)
    wanted = {setting.id: change(page.rows[setting.id], home) for setting in SETTINGS}
    assert all(row.back.isVisibleTo(page) for row in page.rows.values())
    window = again()
    assert {each.id: window.settings.get(each) for each in SETTINGS} == wanted
    form = window.workspace.packing.form
    assert (form.info.id, form.level, form.read_back) == (wanted[PACK_FORMAT.id], 0, False)  # plain tar has one level
    assert window.workspace.packing.folder == home and window.workspace.show_hidden
    page = page_of(window)
    for row in page.rows.values():
        row.back.click()
        assert not row.back.isVisibleTo(page)
    window = again()
    assert not any(map(window.settings.is_set, SETTINGS))


def test_what_is_changed_holds_at_once(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    archive = packed(home, "zip")
    (home / ".hidden").touch()
    stand(home)
    page = page_of(window)
    settings = window.settings

    def put(setting: Any, value: Any) -> None:
        page.rows[setting.id].editor.edited.emit(value)
        settle()

    put(LOOK, "dark")
    assert theme.dark
    body = theme.sizes.body
    put(TEXT_SIZE, 200)
    assert theme.sizes.body == 2 * body
    put(TEXT_SIZE, 100)
    put(HIDDEN_FILES, True)
    assert window.workspace.show_hidden
    view = window.source.view
    put(LIST_COLUMNS, "size")
    assert [view.isColumnHidden(column) for column in range(5)] == [False, True, False, True, True]
    put(LIST_COLUMNS, "")
    assert all(view.isColumnHidden(column) for column in range(1, 5))
    next(each for each in view.header_menu().actions() if each.text() == "Show the size").trigger()
    next(each for each in view.header_menu().actions() if each.text() == "Show the share").trigger()
    assert settings.get(LIST_COLUMNS) == "size,share" and not view.isColumnHidden(2) and view.isColumnHidden(4)
    put(LIST_COLUMNS, LIST_COLUMNS.default)
    put(PACK_FORMAT, "7z")
    put(PACK_LEVEL, 9)
    assert window.workspace.packing.form.info.id == "7z" and window.workspace.packing.form.level == 9
    (home / "made").mkdir()
    put(PACK_FOLDER, str(home / "made"))
    put(UNPACK_FOLDER, str(home / "made"))
    put(UNPACK_OWN, "always")
    put(UNPACK_CLASH, "skip")
    put(UNPACK_SHOW, True)
    put(UNPACK_MEMORY, 64 << 20)
    assert window.workspace.packing.folder == home / "made" == window.batch.folder
    window.window_settings.toggle()
    window.workspace.enter_file(archive)
    settle()
    form = window.workspace.unpacking.form
    chosen = home / "chosen"
    chosen.mkdir()
    window.workspace.unpacking.change(lambda form: setattr(form, "folder", chosen))
    window.workspace.packing.set_format_and_level("tar.xz", 1)
    for other, value in ((LOOK, "light"), (PACK_VERIFY, False)):
        put(other, value)
    assert window.workspace.unpacking.folder == chosen and window.workspace.packing.form.info.id == "tar.xz"
    assert not window.workspace.packing.form.read_back
    window.workspace.unpacking.change(lambda form: setattr(form, "folder", None))
    assert (form.own_folder, form.on_clash.value, form.show) == (True, "skip", True)
    assert window.workspace.unpacking.folder == home / "made"
    put(UNPACK_OWN, "never")
    put(UNPACK_FOLDER, str(home / "is not there"))
    assert not window.workspace.unpacking.form.own_folder and window.workspace.unpacking.folder == home
    assert Settings.read(settings.file).get(UNPACK_CLASH) == "skip"


def test_the_page(window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Found by words, left by Escape, saved and read; and what is out of sight is out of reach."""
    stand(home)
    QTest.keyClick(window, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
    page = page_of(window)
    assert window.window_settings.is_shown and page.finder.hasFocus()
    assert not window.window_actions["go"].isEnabled() and window.window_actions["log"].isEnabled()
    slider = page.rows[TEXT_SIZE.id].editor.focusProxy()
    assert isinstance(slider, QSlider)
    where = QPointF(slider.rect().center())
    wheel = QWheelEvent(
        where, where, QPoint(0, 0), QPoint(0, 240), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(slider, wheel)
    assert not window.settings.is_set(TEXT_SIZE) and slider.value() == 100  # it is the page that the wheel moves
    QTest.keyClicks(page.finder, "memory archive")
    assert [row.setting for row in page.rows.values() if row.isVisibleTo(page)] == [UNPACK_MEMORY]
    QTest.keyClicks(page.finder, " nowhere")
    assert page.nothing.isVisibleTo(page)
    QTest.keyClick(page.finder, Qt.Key.Key_Escape)
    assert all(row.isVisibleTo(page) for row in page.rows.values())
    page.rows[PACK_FORMAT.id].editor.edited.emit("tar.zst")
    page.rows[PLACES.id].editor.edited.emit(False)
    file = home / "kept.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(file), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    page.save.click()
    assert json.loads(file.read_text()) == {PACK_FORMAT.id: "tar.zst", PLACES.id: False}
    page.reset.click()
    assert "2 settings are back" in page.told.text() and not window.settings.as_set()
    page.reset.click()  # which undoes it
    assert len(window.settings.as_set()) == 2 and window.workspace.packing.form.info.id == "tar.zst"
    page.reset.click()
    assert not window.settings.as_set() and window.workspace.packing.form.info.id == "zip"
    row = page.rows[UNPACK_MEMORY.id]
    field = row.editor.focusProxy()
    assert isinstance(field, QLineEdit)
    before = field.text()
    for typed, is_wrong in (("nonsense", True), (before, False)):
        field.setText(typed)
        QTest.keyClick(field, Qt.Key.Key_Return)
        assert row.wrong.isVisibleTo(page) is is_wrong and (field.property("state") == "bad") is is_wrong
    assert not window.settings.is_set(UNPACK_MEMORY)
    page.load.click()
    assert "2 settings read" in page.told.text() and window.workspace.packing.form.info.id == "tar.zst"
    for content in ("nonsense", "[]", "{}", '{"pack.format": "odd", "x": 1}'):
        file.write_text(content)
        page.load.click()
        assert "no settings" in page.told.text() and page.told.property("role") == "warn"
    file.unlink()
    page.load.click()
    assert "not there" in page.told.text() and len(window.settings.as_set()) == 2
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(home / "nowhere" / "x"), ""))
    page.save.click()
    assert page.told.property("role") == "warn"
    window.places_menu.note_archive(file)
    assert not window.places_menu.places.archives
    QTest.keyClick(page, Qt.Key.Key_Escape)
    assert not window.window_settings.is_shown and window.window_actions["go"].isEnabled()


def test_what_else_can_be_done(
    window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    archive = packed(home, "zip")
    stand(home)
    window.workspace.enter_file(archive)
    settle()
    window.target.go.click()
    settle()
    assert window.places_menu.places.archives and window.history.journal.records()
    (cache_root() / "indexes").mkdir(parents=True, exist_ok=True)
    (cache_root() / "indexes" / "x.npz").write_bytes(bytes(5000))
    page = page_of(window)
    settle()

    def press(words: str) -> str:
        next(button for button in page.buttons if button.text() == words).click()
        settle()
        return page.told.text()

    assert press("Clear the places") and not window.places_menu.places.archives
    assert press("Clear the log") and not window.history.journal.records() and window.history.last_record is None
    assert "5.0 kB" in press("Empty the cache") and not list((cache_root() / "indexes").iterdir())
    parts, kinds = page.switches.values()
    assert not any(box.isEnabled() for box in kinds) and all(
        box.isEnabled() for box in parts
    )  # there is nothing to name yet
    for part, box in zip(Part, parts, strict=True):
        box.click()
        settle()
        assert box.isChecked() and page.told.text().endswith(("now.", "there now."))
        presence = {placed.presence for placed in status() if placed.part is part}
        assert presence == {Presence.THERE}, part
    for (_, types), box in zip(KINDS, kinds, strict=True):
        box.click()
        settle()
        assert box.isChecked() and opens_with_rundlet(types)
    kinds[0].click()
    settle()
    assert not kinds[0].isChecked() and not opens_with_rundlet(KINDS[0][1]) and opens_with_rundlet(KINDS[1][1])
    (lost := status()[0].path).unlink()
    window.window_actions["settings"].trigger()
    page_of(window)
    settle()
    assert press("Update") == "The files are up to date." and lost.exists()
    page.finder.setText("menus")
    assert parts[0].isVisibleTo(page) and not kinds[0].isVisibleTo(page)
    page.finder.clear()
    for box in parts:
        box.click()
        settle()
        assert not box.isChecked()
    assert {placed.presence for placed in status()} == {Presence.MISSING} and not opens_with_rundlet(KINDS[1][1])
    for box in parts:  # one after the other, before the first is done
        box.click()
    settle()
    assert {placed.presence for placed in status()} == {Presence.THERE} and all(box.isChecked() for box in parts)
    for box in kinds:
        box.click()
    settle()
    assert all(opens_with_rundlet(types) for _, types in KINDS)
    for box in parts:
        box.click()
    settle()
    assert {placed.presence for placed in status()} == {Presence.MISSING} and not opens_with_rundlet(KINDS[0][1])
    assert press("Reset the window")


def test_the_window_is_as_it_was_left(again: Again, home: Path) -> None:
    """View, order, widths, format and level come back; not where that is turned off, or was forgotten."""
    window = again()
    window.resize(780, 650)
    window.workspace.packing.set_format_and_level("7z", 7)
    window.source.view.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    window.source.pages.show_as("thumbs")
    window.columns.setSizes([450, 300])
    window.source.view.header().resizeSection(2, 133)
    sizes = window.columns.sizes()
    window = again()
    assert (window.width(), window.height(), window.source.pages.way) == (780, 650, "thumbs")
    assert (window.workspace.packing.form.info.id, window.workspace.packing.form.level) == ("7z", 7)
    assert window.source.model.order[1] and window.columns.sizes() == sizes
    assert window.source.view.header().sectionSize(2) == 133
    window.settings.set(PACK_FORMAT, "tar.gz")
    window = again()
    assert window.workspace.packing.form.info.id == "tar.gz"  # what is set goes before what was chosen last
    window.memory.forget()
    window = again()
    assert window.source.pages.way == "list"
    window.source.pages.show_as("map")
    window = again()
    assert window.source.pages.way == "map"
    window.settings.set(REMEMBER, False)
    window = again()
    assert window.source.pages.way == "list"
    window.source.pages.show_as("thumbs")
    assert again().settings.get(REMEMBER) is False and "thumbs" not in (home / ".data" / "window.json").read_text()
    (home / ".data" / "window.json").write_text(
        '{"geometry": "%%", "order": 99, "view": [], "widths": "x", "format": 5}'
    )
    Settings.read(home / ".data" / "settings.json").reset(REMEMBER)
    assert again().source.pages.way == "list"
