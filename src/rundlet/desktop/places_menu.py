"""Where one can go: the usual folders, drives, favourites, and what was used last."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeDatabase, QObject, QStandardPaths
from PySide6.QtWidgets import QMenu, QWidget

from rundlet.core import text
from rundlet.core.userdata.places import Drive, Places, drives, there
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.locations.place import Place
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import short_path
from rundlet.desktop.views.breadcrumbs import UNSAVED_MARK
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from PySide6.QtGui import QAction

    from rundlet.core.jobs.job import Job
    from rundlet.desktop.state.workspace import Workspace

_USUAL = (
    ("Home", QStandardPaths.StandardLocation.HomeLocation),
    ("Desktop", QStandardPaths.StandardLocation.DesktopLocation),
    ("Documents", QStandardPaths.StandardLocation.DocumentsLocation),
    ("Downloads", QStandardPaths.StandardLocation.DownloadLocation),
    ("Pictures", QStandardPaths.StandardLocation.PicturesLocation),
)


def usual_places() -> list[tuple[str, Path]]:
    """The folders that every desktop has, each once."""
    found: dict[Path, str] = {}
    for words, location in _USUAL:
        path = Path(QStandardPaths.writableLocation(location))
        if os.path.isdir(path):
            found.setdefault(path, words)
    return [(words, path) for path, words in found.items()]


class PlacesMenu(QObject):
    """The menu of places, and the places that a folder field offers.

    Args:
        places: what is kept over restarts.

    Attributes:
        remembers: whether where one is now is remembered.
        tells_desktop: whether archives go into the desktop's own list of recent files.
    """

    def __init__(self, workspace: Workspace, background: Background, places: Places, parent: QWidget) -> None:
        super().__init__(parent)
        self._workspace = workspace
        self._background = background
        self._task = Latest(background)
        self._drives: list[Drive] = []
        self.places = places
        self.remembers: Callable[[], bool] = lambda: True
        self._told: Path | None = None
        self.tells_desktop: Callable[[], bool] = lambda: False
        self.menu = QMenu(parent)
        self.menu.aboutToShow.connect(self._open)

    def _open(self) -> None:
        self.fill()
        self._task.run(lambda _: drives(), done=self._found, failed=log_failure)

    def _found(self, found: list[Drive]) -> None:
        if found != self._drives:
            self._drives = found
            self.fill()

    def fill(self) -> None:
        """Fill the menu anew."""
        self.menu.clear()
        for words, path in usual_places():
            self._add(words, path, "home" if words == "Home" else "folder")
        self._part("Drives", [(drive_words(drive), drive.path, "drive") for drive in self._drives])
        self._part("Favourites", [(_name(p), p, "favourite") for p in there(self.places.favourites)])
        self._part("Recent folders", [(_name(p), p, "folder") for p in there(self.places.folders)])
        recent = there(self.places.archives)
        self._part("Recent archives", [(p.name + self._mark(p), p, "archive") for p in recent])
        here = self._workspace.place.folder
        self.menu.addSeparator()
        kept = str(here) in self.places.favourites
        name = text.shown(_name(here))
        words = (
            say("Remove “{name}” from favourites", name=name) if kept else say("Add “{name}” to favourites", name=name)
        )
        keep = self.menu.addAction(theme.icon("favourite"), words)
        keep.triggered.connect(lambda: self._toggle(here))

    def _mark(self, archive: Path) -> str:
        return UNSAVED_MARK if self._workspace.changing.count_at((str(archive),)) else ""

    def _toggle(self, folder: Path) -> None:
        self.places.toggle_favourite(folder)
        self._save()

    def note_folder(self, folder: Path) -> None:
        """Something is put into a folder."""
        if self.remembers():
            self.places.note_folder(folder)
            self._save()

    def note_archive(self, archive: Path) -> None:
        """An archive was opened."""
        if self.remembers():
            self.places.note_archive(archive)
            self._save()
        if self.tells_desktop() and archive != self._told:  # going about in it is no news
            self._told = archive
            mime_type = QMimeDatabase().mimeTypeForFile(str(archive), QMimeDatabase.MatchMode.MatchExtension).name()

            def work(_: Job) -> None:
                from rundlet.integration.recent_files import (
                    note_recent,  # beside the interface, with what reads the list
                )

                note_recent(archive, mime_type)

            self._background.run(work, done=lambda _: None, failed=log_failure)

    def note_last(self, folder: Path) -> None:
        """The window that stood in a folder is being closed."""
        if self.remembers():
            self.places.note_last(folder)

    def forget(self) -> None:
        """Forget where one was."""
        self.places.forget()
        self._save()

    def _save(self) -> None:
        self._background.run(lambda _: self.places.write(), done=lambda _: None, failed=log_failure)

    def _part(self, title: str, entries: list[tuple[str, Path, str]]) -> None:
        if entries:
            self.menu.addSeparator()
            self.menu.addAction(title).setEnabled(False)
            for words, path, icon in entries:
                self._add(words, path, icon)

    def _add(self, words: str, path: Path, icon: str) -> QAction:
        action = self.menu.addAction(theme.icon(icon, "oak"), text.shown(words))
        action.setData(str(path))
        action.setToolTip(str(path))
        action.triggered.connect(self._chosen)
        return action

    def _chosen(self) -> None:
        path = Path(self.sender().data())  # type: ignore[attr-defined]
        if os.path.isfile(path):
            self._workspace.enter_file(path)
        else:
            self._workspace.go(Place(path))

    def quick(self) -> list[tuple[str, Path]]:
        """Where things can be put: right here, where they were put last, favourites and the usual folders."""
        here = self._workspace.place.folder
        last = [(_name(p), p) for p in (*there(self.places.folders), *there(self.places.favourites))]
        return [("This folder", here), *last, *usual_places()]


def _name(path: Path) -> str:
    short = short_path(path)
    return (
        short
        if len(Path(short).parts) <= 2
        else say("{name} in {folder}", name=path.name, folder=short_path(path.parent))
    )


def drive_words(drive: Drive) -> str:
    """A drive with its free space."""
    name = "Disk" if drive.path == Path("/") else drive.path.name or str(drive.path)
    return say("{name}: {free:size} free of {size:size}", name=name, free=drive.free, size=drive.size)
