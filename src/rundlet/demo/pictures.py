"""Pictures of the window in the demo world: the same scenes every time, in light and dark."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QEventLoop, QLocale
from PySide6.QtWidgets import QApplication

from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.desktop.app import make_app
from rundlet.desktop.models.listing import ArchiveListing, DiskListing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from rundlet.desktop.workspace import Place, UnpackDesk

_PATIENCE_SECONDS = 60.0
_SETTLED_SECONDS = 0.2


def wait_until(done: Callable[[], bool]) -> None:
    """Let the window live until something is so.

    Raises:
        TimeoutError: when it never is.
    """
    until = time.monotonic() + _PATIENCE_SECONDS
    while not done():
        if time.monotonic() > until:
            raise TimeoutError("the window did not come to rest")
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 20)


def settle(window: Window) -> None:
    """Let the window live until nothing is under way any more."""
    quiet_since = time.monotonic()

    def quiet() -> bool:
        nonlocal quiet_since
        if window.background.busy or not window.workspace.at_rest:
            quiet_since = time.monotonic()
        return time.monotonic() - quiet_since > _SETTLED_SECONDS

    wait_until(quiet)


def choose_names(window: Window, names: list[str]) -> None:
    """Choose rows by their names on the disk, or by their paths in an archive."""
    listing = window.workspace.listing
    if isinstance(listing, ArchiveListing):
        nodes = [listing.node_of(name) for name in names]
    else:
        assert isinstance(listing, DiskListing)
        nodes = [listing.node_of(listing.folder / name) for name in names]
    window.source.view.choose_nodes([n for n in nodes if n is not None])


@contextmanager
def demo_window(
    *, dark: bool = False, width: int = 1280, height: int = 800, text_scale: float = 1.0
) -> Iterator[Window]:
    """A window in one of the themes, closed at the end."""
    app = make_app()
    QLocale.setDefault(QLocale(QLocale.Language.English, QLocale.Country.UnitedKingdom))
    theme.apply(app, dark=dark, text_scale=text_scale)
    window = Window()
    window.resize(width, height)
    window.show()
    try:
        yield window
    finally:
        window.close()
        window.deleteLater()
        QApplication.processEvents()


def about_to_pack(window: Window, world: Path) -> None:
    """On the disk with five things chosen."""
    window.workspace.go(Place(world / "2031 spring"))
    settle(window)
    choose_names(window, ["maps", "notes", "readings", "sound", "READ ME FIRST.txt"])
    settle(window)


def about_to_unpack(window: Window, world: Path) -> None:
    """In an archive with three entries chosen, one of whose names is taken where they go."""
    window.workspace.enter_file(world / "spring-survey.zip")
    settle(window)
    choose_names(window, ["photos/weir-downstream.jpg", "photos/heron-bank.jpg", "photos/gauge-board.jpg"])

    def change(desk: UnpackDesk) -> None:
        desk.folder = world / "For the council"

    window.workspace.change_unpack(change)
    settle(window)


def running(window: Window, world: Path) -> None:
    """A job half done, and another that waits."""
    about_to_pack(window, world)
    gate = [False]

    def work(job: Job) -> Report:
        job.begin("Packing", total_bytes=92_400_000)
        job.advance(57_300_000)
        while not gate[0]:
            time.sleep(0.05)
            job.advance(20_000)
        return Report("pack", world / "x.zip")

    window.jobs.start("Packing “spring-survey.zip”", work)
    paused = window.jobs.start("Unpacking “Old logbook.zip”", work)
    wait_until(lambda: window.jobs.running[0].job.snapshot().elapsed > 1)
    window.strip.rows[paused].pause.click()
    wait_until(lambda: "left" in window.strip.rows[window.jobs.running[0]].words.text())


def locked(window: Window, world: Path) -> None:
    """A locked archive after a wrong password."""
    window.workspace.enter_file(world / "Archives" / "members only.zip")
    settle(window)
    window.how.unpack.lock.edit.setText("otter")
    window.how.unpack.lock.open.click()
    settle(window)


def part_missing(window: Window, world: Path) -> None:
    """What came of unpacking an archive one of whose parts is missing, among archives of every kind."""
    window.workspace.enter_file(world / "Archives" / "part missing.zip.001")
    settle(window)
    window.target.go.click()
    wait_until(lambda: not window.jobs.running)
    shutil.rmtree(world / "Archives" / "sound", ignore_errors=True)
    window.workspace.go(Place(world / "Archives"))
    settle(window)


def an_error(window: Window, world: Path) -> None:
    """Going into a file that is not an archive."""
    window.workspace.go(Place(world / "2031 spring"))
    settle(window)
    window.workspace.enter_file(world / "2031 spring" / "READ ME FIRST.txt")
    settle(window)


SCENES: dict[str, tuple[Callable[[Window, Path], None], bool]] = {
    "pack": (about_to_pack, False),
    "pack-dark": (about_to_pack, True),
    "unpack": (about_to_unpack, False),
    "unpack-dark": (about_to_unpack, True),
    "running": (running, False),
    "locked": (locked, False),
    "finished": (part_missing, False),
    "error": (an_error, True),
}
"""The pictures in the documentation: what they show, and whether in the dark."""


def take_pictures(world: Path, folder: Path) -> list[Path]:
    """Take every picture, with the demo world as the home folder; returns the files."""
    os.environ["HOME"] = str(world.parent)
    folder.mkdir(parents=True, exist_ok=True)
    made = []
    for name, (scene, dark) in SCENES.items():
        with demo_window(dark=dark) as window:
            scene(window, world)
            path = folder / f"{name}.png"
            window.grab().save(str(path))
            for job in list(window.jobs.running):
                job.job.cancel()
        made.append(path)
    return made
