"""The page of settings in a window, and what comes of changing them there."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from rundlet.core.errors import RundletError
from rundlet.core.settings import (
    LIST_COLUMNS,
    LOOK,
    PACK_FORMAT,
    PACK_LEVEL,
    PACK_VERIFY,
    PLACES,
    RECENT_FILES,
    TEXT_SIZE,
)
from rundlet.core.streams.private import cache_root
from rundlet.core.text import shown, size
from rundlet.desktop.background import Latest
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.theme.theme import theme
from rundlet.integration.archive_types import KINDS, Part
from rundlet.integration.keyring import delete_password, has_keyring, kept_passwords
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.settings import Setting
    from rundlet.desktop.pages.settings_page import PageAction, PageSwitches, SettingsPage
    from rundlet.desktop.window import Window

_STAYS = ("settings", "help", "shortcuts", "about", "log", "new_window", "close")
"""The actions that work while the settings are shown; the others are about what is out of sight then."""


class WindowSettings(QObject):
    """Shows the settings in place of the columns, and applies what is changed at once."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._page: SettingsPage | None = None
        self._installed: _Installed | None = None  # which is not known yet
        self._changes = threading.Lock()
        self._task = Latest(window.background)
        self._kept: list[Path] = []
        self._keyring_task = Latest(window.background)
        window.places_menu.remembers = lambda: window.settings.get(PLACES)
        window.places_menu.tells_desktop = lambda: window.settings.get(RECENT_FILES)
        window.source.show_columns(window.settings.get(LIST_COLUMNS))
        window.source.view.columns_wanted.connect(self._choose_columns)

    @property
    def page(self) -> SettingsPage:
        """The page."""
        if self._page is None:
            from rundlet.desktop.pages.settings_page import SettingsPage

            self._page = SettingsPage(self._window.settings, self._page_actions(), self._switches())
            self._page.changed.connect(self._apply)
            self._page.left.connect(self.toggle)
            self._window.stack.addWidget(self._page)
        return self._page

    @property
    def is_shown(self) -> bool:
        """Whether the page is in sight."""
        return self._page is not None and self._window.stack.currentWidget() is self._page

    def toggle(self) -> None:
        """Show the page, or the columns again."""
        shows = not self.is_shown
        for name, action in self._window.window_actions.items():
            action.setEnabled(not shows or name in _STAYS)
        if shows:
            self.page.refresh()
            self._look_what_is_installed()
            self._look_what_is_kept()
            self._window.stack.setCurrentWidget(self.page)
            self.page.finder.setFocus()
        else:
            self._window.stack.setCurrentIndex(0)
            self._window.source.pages.page.setFocus()

    def _choose_columns(self, chosen: str) -> None:
        self._window.settings.set(LIST_COLUMNS, chosen)
        self._window.source.show_columns(chosen)

    def _apply(self, setting: Setting[object] | None) -> None:
        """One setting has another value, or several may have."""
        settings, workspace = self._window.settings, self._window.workspace
        app = QApplication.instance()
        if setting in (LOOK, TEXT_SIZE, None) and isinstance(app, QApplication):
            theme.prefer(look=settings.get(LOOK), text_size=settings.get(TEXT_SIZE))
            theme.apply(app)
        self._window.source.show_columns(settings.get(LIST_COLUMNS))
        for packing in (workspace.packing, workspace.changing.new):
            if setting in (PACK_FORMAT, PACK_LEVEL, None):  # else what is chosen for the set at hand stays so
                packing.take_settings()
            elif setting is PACK_VERIFY:
                packing.form.read_back = settings.get(PACK_VERIFY)
            packing.changed.emit()
        if setting is None or setting.id.startswith("unpack."):
            workspace.unpacking.take_settings()
            self._window.batch.plan_again()
        workspace.take_settings()

    # What else can be done

    def _page_actions(self) -> list[PageAction]:
        from rundlet.desktop.pages.settings_page import PageAction

        return [
            PageAction("Programs", self._update_words, self._update_about, self._update),
            PageAction(
                "Privacy",
                lambda: "Clear the places",
                lambda: "Forgets recent folders and archives. Favourites stay.",
                self._forget_places,
            ),
            PageAction(
                "Privacy", lambda: "Clear the log", lambda: "After that, no job can be undone.", self._clear_log
            ),
            PageAction(
                "Privacy",
                lambda: "Reset the window",
                lambda: "Forgets format and level, view and order, size and place of the window.",
                self._forget_window,
            ),
            PageAction("Privacy", self._kept_words, self._kept_about, lambda: "", self.kept_choices),
            PageAction(
                "Limits",
                lambda: "Empty the cache",
                lambda: say("{size} of file lists and checksums are kept.", size=size(_cached())),
                self._empty_cache,
            ),
        ]

    def _look_what_is_kept(self) -> None:
        def done(kept: list[Path]) -> None:
            self._kept = kept
            self.page.refresh()

        self._keyring_task.run(lambda _: kept_passwords() if has_keyring() else [], done=done, failed=log_failure)

    def _kept_words(self) -> str:
        return "Delete a password …" if self._kept else ""

    def _kept_about(self) -> str:
        if not self._kept:
            return "No passwords of archives are in the desktop's keyring."
        words = "{count:password of an archive is|passwords of archives are} in the desktop's keyring."
        return say(words, count=len(self._kept))

    def kept_choices(self) -> list[tuple[str, Callable[[], str]]]:
        """The passwords in the keyring, each with what deletes it."""
        return [(shown(str(archive)), partial(self._delete_password, archive)) for archive in self._kept]

    def _delete_password(self, archive: Path) -> str:
        self._window.background.run(
            lambda _: delete_password(archive),
            done=lambda _: self._look_what_is_kept(),
            failed=lambda error: self.page.say(str(error), warns=True),
        )
        return say("Deleting the password of {name:name} …", name=archive.name)

    # What is installed for the desktop

    def _switches(self) -> list[PageSwitches]:
        from rundlet.desktop.pages.settings_page import PageSwitches

        return [
            PageSwitches(
                "Programs",
                "Where Rundlet is offered",
                self._parts_about,
                ("Menu, and programs for archives", "Menus of file managers", "Manual pages and completions"),
                lambda: [self._installed.parts.get(part) if self._installed else None for part in Part],
                self._switch_part,
            ),
            PageSwitches(
                "Programs",
                "Archives that open with Rundlet",
                self._opened_about,
                tuple(kind for kind, _ in KINDS),
                lambda: self._installed.opens if self._installed else [None] * len(KINDS),
                self._switch_opened,
            ),
        ]

    def _opened_about(self) -> str:
        if self._installed is not None and None in self._installed.opens:
            return "That needs Rundlet in the menu."
        return "Rundlet comes first when they are double-clicked in a file manager."

    def _parts_about(self) -> str:
        if self._installed is not None and not self._installed.parts:
            return "Rundlet was started from its folder, so it can't be put into the menu."
        return "Files in your own folders. Turning it off removes them without a trace."

    def _look_what_is_installed(self) -> None:
        def done(found: _Installed) -> None:
            self._installed = found
            self.page.refresh()

        self._task.run(lambda _: _look(), done=done, failed=log_failure)

    def _update_words(self) -> str:
        return "Update" if self._installed is not None and self._installed.outdated else ""

    def _update_about(self) -> str:
        return "Some of these files are missing or of another version." if self._update_words() else ""

    def _update(self) -> str:
        outdated = self._installed.outdated if self._installed is not None else ()

        def work(_: Job) -> str:
            from rundlet.integration.installer import install  # with all that makes the files

            install(parts=outdated)
            return "The files are up to date."

        return self._installing(work, "Updating …")

    def _switch_part(self, number: int, on: bool) -> str:
        part = list(Part)[number]

        def work(_: Job) -> str:
            from rundlet.integration.installer import install, remove  # with all that makes the files

            if on:
                install(parts=[part])
                return _PUT[part]
            if stays := remove([part]):
                return say("{count:file was|files were} changed by somebody else and stayed.", count=len(stays))
            return _TAKEN[part]

        return self._installing(work, "Installing …" if on else "Removing …")

    def _switch_opened(self, number: int, on: bool) -> str:
        kind, types = KINDS[number]

        def work(_: Job) -> str:
            from rundlet.integration.default_programs import set_opened

            set_opened(types, opens=on)
            words = "Now opened with Rundlet: {kind}." if on else "No longer opened with Rundlet first: {kind}."
            return say(words, kind=kind)

        return self._installing(work, "")

    def _installing(self, work: Callable[[Job], str], meanwhile: str) -> str:
        """Do something to the desktop beside the interface; what is said meanwhile."""

        def done(words: str) -> None:
            self.page.say(words)
            self._look_what_is_installed()

        def failed(error: BaseException) -> None:
            log_failure(error)
            self.page.say(str(error), warns=True)
            self._look_what_is_installed()

        def alone(job: Job) -> str:
            with self._changes:  # each of them reads a list that it writes again
                return work(job)

        self._window.background.run(alone, done=done, failed=failed)
        return meanwhile

    def _forget_places(self) -> str:
        self._window.places_menu.forget()
        self._window.recall_archives()
        return "The recent folders and archives are forgotten."

    def _clear_log(self) -> str:
        try:
            self._window.history.clear()
        except RundletError as error:
            return str(error)
        return "The log is empty."

    def _forget_window(self) -> str:
        self._window.memory.forget()
        return "The next window opens as the first one did."

    def _empty_cache(self) -> str:
        before = _cached()
        for path in _cache_files():
            path.unlink(missing_ok=True)
        return say("{size} are free again.", size=size(before - _cached()))


_PUT = {
    Part.MENU: "Rundlet is in the menu now.",
    Part.FILE_MANAGERS: "Rundlet is in the menus of file managers now.",
    Part.COMMAND_LINE: "The manual pages and completions are there now.",
}
_TAKEN = {
    Part.MENU: "Rundlet is no longer in the menu.",
    Part.FILE_MANAGERS: "Rundlet is no longer in the menus of file managers.",
    Part.COMMAND_LINE: "The manual pages and completions are gone.",
}


@dataclass(frozen=True, slots=True)
class _Installed:
    """What is there for the desktop.

    Attributes:
        parts: whether each part is there; empty where there is no program to start.
        outdated: the parts that are there, but not all of it, or of another version.
        opens: whether each kind of archive opens with Rundlet; None where there is no entry that could be named for it.
    """

    parts: dict[Part, bool]
    outdated: tuple[Part, ...]
    opens: list[bool | None]


def _look() -> _Installed:
    from rundlet.integration.default_programs import has_entry, opens_with_rundlet
    from rundlet.integration.installer import Presence, status

    found: dict[Part, set[Presence]] = {part: set() for part in Part}
    try:
        for placed in status():
            found[placed.part].add(placed.presence)
    except RundletError:
        found = {}
    parts = {part: presence != {Presence.MISSING} for part, presence in found.items()}
    whole = {Presence.THERE, Presence.CHANGED}
    outdated = tuple(part for part, presence in found.items() if parts[part] and not presence <= whole)
    can = has_entry()
    return _Installed(parts, outdated, [opens_with_rundlet(types) if can else None for _, types in KINDS])


def _cache_files() -> list[Path]:
    root = cache_root()
    return [path for path in (*root.glob("indexes/*"), root / "checksums.json") if path.is_file()]


def _cached() -> int:
    return sum(path.stat().st_size for path in _cache_files())
