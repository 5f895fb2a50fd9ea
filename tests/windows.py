"""The window for tests: fixtures, and the hands of the person in front of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QModelIndex, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from rundlet.desktop.app import make_app
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

Settle = Callable[[], None]
"""Waits until nothing is under way."""

Stand = Callable[[Path], None]
"""Opens something and waits for it."""

CTRL, SHIFT, NONE = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.NoModifier,
)
LEFT = Qt.MouseButton.LeftButton
_DOUBLE_CLICK_MS = 100  # for which the button that starts a job is off; each test would wait for it several times


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    """The application as it is made for people: in its own style, and following the desktop."""
    return make_app()


@pytest.fixture
def window(qtbot: QtBot, home: Path) -> Iterator[Window]:
    theme.apply(make_app(), dark=False)
    QApplication.setDoubleClickInterval(_DOUBLE_CLICK_MS)
    made = Window(home / ".data")
    made.trials.enabled = False  # but where it is what is tested: it takes seconds for every choice
    made.workspace.follower.enabled = False  # but where it is what is tested: it comes when it likes
    made.show()
    _let_go(made)
    yield made
    _let_go(made)
    made.close_now()
    made.deleteLater()
    # A restyled window that is not deleted yet slows every later one.
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def _let_go(window: Window) -> None:
    """No menu is open and no button held any more, which whatever was tested before may have left so."""
    while (popup := QApplication.activePopupWidget()) is not None:
        popup.close()
    if QApplication.mouseButtons() & LEFT:
        QTest.mouseRelease(window, LEFT)


@pytest.fixture
def settle(window: Window, qtbot: QtBot) -> Callable[[], None]:
    """Wait until nothing is under way."""

    def waiting_for() -> list[str]:
        under_way = {
            "work in the background": window.background.busy,
            "jobs": bool(window.jobs.running),
            "the press of a button": window._press_timer.isActive(),
            "a plan": window.workspace.unpacking.plans_soon,
            "a press that waits for its plan": window._press_at is not None,
            "the folder that is followed": not window.workspace.follower.at_rest,
        }
        return [what for what, is_so in under_way.items() if is_so]

    def wait() -> None:
        try:
            qtbot.waitUntil(lambda: not waiting_for(), timeout=20_000)
        except qtbot.TimeoutError as error:
            raise AssertionError(f"still under way: {waiting_for()}") from error

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
    assert node is not None, name
    index = window.source.model.index_of(node)
    window.source.pages.rows.scrollTo(index)
    return index


def middle(window: Window, name: str) -> QPoint:
    index = row(window, name)
    return window.source.pages.rows.visualRect(index).center()


def click(window: Window, name: str, keys: Qt.KeyboardModifier = NONE, *, tick: bool = False) -> None:
    view, index = window.source.pages.rows, row(window, name)
    rect = view.visualRect(index)
    at = QPoint(rect.left() + theme.sizes.gap + 3, rect.center().y()) if tick else rect.center()
    QTest.mouseClick(view.viewport(), LEFT, keys, at)


def chosen(window: Window) -> list[str]:
    return sorted(path.name for path in window.workspace.selector.paths())


def files_in(folder: Path, names: str) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name in names.split():
        (folder / name).write_bytes(name.encode() * 1000)
