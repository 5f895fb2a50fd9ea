"""The page of settings in a window, and what comes of changing them there."""

from __future__ import annotations

from collections.abc import Callable
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
from rundlet.integration.keyring import delete_password, has_keyring, kept_passwords
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.settings import Setting
    from rundlet.desktop.pages.settings_page import PageAction, SettingsPage
    from rundlet.desktop.window import Window

_STAYS = ("settings", "help", "shortcuts", "about", "log", "new_window", "close")
"""The actions that work while the settings are shown; the others are about what is out of sight then."""


class WindowSettings(QObject):
    """Shows the settings in place of the columns, and applies what is changed at once."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._page: SettingsPage | None = None
        self._presence: str | None = None  # which is not known yet
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

            self._page = SettingsPage(self._window.settings, self._page_actions())
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
            PageAction("Programs", self._menu_words, self._menu_about, self._install_or_remove),
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

    def _look_what_is_installed(self) -> None:
        def done(found: str) -> None:
            self._presence = found
            self.page.refresh()

        self._task.run(lambda _: _installed(), done=done, failed=log_failure)

    def _menu_words(self) -> str:
        return {"there": "Remove", "old": "Update", "missing": "Install"}.get(self._presence or "", "")

    def _menu_about(self) -> str:
        told = {
            "there": "Rundlet is in the menu, in the file managers' menus, and among the programs for archives.",
            "old": "Rundlet is in the menu, but some files are missing or out of date.",
            "missing": "Put Rundlet into the menu, the file managers' menus, and among the programs for archives.",
        }
        if self._presence is None:
            return ""
        return told.get(self._presence, "Rundlet was started from its folder, so it can't be put into the menu.")

    def _install_or_remove(self) -> str:
        takes_away = self._presence == "there"

        def work(_: Job) -> str:
            from rundlet.integration.installer import install, remove  # with all that makes the files

            if not takes_away:
                install()
                return "Rundlet is in the menu now."
            if stays := remove():
                return say("{count:file was|files were} changed by somebody else and stayed.", count=len(stays))
            return "Rundlet is no longer in the menu."

        def done(words: str) -> None:
            self.page.say(words)
            self._look_what_is_installed()

        def failed(error: BaseException) -> None:
            log_failure(error)
            self.page.say(str(error), warns=True)

        self._window.background.run(work, done=done, failed=failed)
        return "Removing …" if takes_away else "Installing …"

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


def _installed() -> str:
    """What is so of the files for the desktop as a whole: there, old, or missing; "" where there is no program to start."""
    from rundlet.integration.installer import Presence, status

    try:
        found = {placed.presence for placed in status()}
    except RundletError:
        return ""
    if found == {Presence.MISSING}:
        return Presence.MISSING.value
    return (Presence.THERE if found <= {Presence.THERE, Presence.CHANGED} else Presence.OLD).value


def _cache_files() -> list[Path]:
    root = cache_root()
    return [path for path in (*root.glob("indexes/*"), root / "checksums.json") if path.is_file()]


def _cached() -> int:
    return sum(path.stat().st_size for path in _cache_files())
