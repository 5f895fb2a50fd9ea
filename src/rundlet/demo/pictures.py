"""Pictures of the window in the demo world: the same scenes every time, in light and dark."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QEventLoop, QLocale
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QDialog

from rundlet.core.jobs.outcomes import Outcome, Packed, Unpacked
from rundlet.core.model.entry import Kind
from rundlet.core.model.item import PackItem
from rundlet.core.settings import PACK_FOLDER, PACK_FORMAT, SETTINGS
from rundlet.desktop.app import make_app
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.place import Place
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.desktop.state.forms import UnpackForm

_PATIENCE_SECONDS = 300.0
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
    window = Window(Path.home() / ".rundlet")
    window.resize(width, height)
    window.show()
    try:
        yield window
    finally:
        window.close_now()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)  # processEvents leaves it for the loop's end


def about_to_pack(window: Window, world: Path) -> None:
    """On the disk with five things chosen."""
    window.workspace.go(Place(world / "2031 spring"))
    settle(window)
    choose_names(window, ["maps", "notes", "readings", "sound", "READ ME FIRST.txt"])
    settle(window)


def nothing_selected(window: Window, world: Path) -> None:
    """What a window says where nothing is selected."""
    for name in ("spring-survey.zip", "Old logbook.zip"):
        window.workspace.enter_file(world / name)
        settle(window)
    window.workspace.go(Place(world))
    settle(window)


def tried(window: Window, world: Path) -> None:
    """The same with a limit that the chosen level does not keep, once the trial is over."""
    about_to_pack(window, world)
    wait_until(lambda: window.trials.at_rest and bool(window.trials.points))
    window.target.pack.other_limit.setText("5 MB")
    window.target.pack.other_limit.textEdited.emit("5 MB")
    settle(window)


def locked_in_parts(window: Window, world: Path) -> None:
    """A 7z archive with a lock, hidden names and parts."""
    about_to_pack(window, world)
    wait_until(lambda: window.trials.at_rest and bool(window.trials.points))
    window.workspace.packing.set_format_and_level("7z", 5)
    options = window.how.pack.options
    options.lock.setChecked(True)
    options.lock_box.first.setText("two herons at the weir")
    options.lock_box.again.setText("two herons at the weir")
    options.lock_box.hide_names.setChecked(True)
    options.split_into(2_000_000)
    options.fold.open()
    settle(window)
    window.how.pack.verticalScrollBar().setValue(window.how.pack.verticalScrollBar().maximum())


def the_log(window: Window, world: Path) -> None:
    """The log after a few jobs; they are taken back again."""
    window.trials.enabled = False
    about_to_pack(window, world)
    window.workspace.packing.set_stem("for the council")
    for _ in range(2):
        window.target.go.click()
        wait_until(lambda: not window.jobs.running)
        settle(window)
    window.history.undo_last()
    wait_until(lambda: not window.jobs.running)
    window.workspace.enter_file(world / "Archives" / "damaged.zip")
    settle(window)
    window.target.go.click()
    wait_until(lambda: not window.jobs.running)
    settle(window)
    window.history.open_log()
    settle(window)


def _go_in(window: Window, archive: Path, entry: str) -> None:
    """Into an archive, and into one of its entries."""
    window.workspace.enter_file(archive)
    settle(window)
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    node = listing.node_of(entry)
    assert node is not None
    window.workspace.enter(node)
    settle(window)


def small_pictures(window: Window, world: Path) -> None:
    """The photos in an archive as small pictures."""
    _go_in(window, world / "spring-survey.zip", "photos")
    window.source.pages.show_as("thumbs")
    choose_names(window, ["photos/heron-bank.jpg", "photos/weir-upstream.jpg"])
    nodes = window.workspace.listing.children(0) if window.workspace.listing is not None else ()
    wait_until(lambda: all(window.thumbs.picture(node) is not None for node in nodes))
    settle(window)


def space_map(window: Window, world: Path) -> None:
    """Where the space goes."""
    window.workspace.go(Place(world))
    settle(window)
    window.source.pages.show_as("map")
    listing = window.workspace.listing
    assert isinstance(listing, DiskListing)
    wait_until(
        lambda: (
            all(item.size >= 0 for item in listing.items) and len(window.source.pages.map.placed) > len(listing.items)
        )
    )
    settle(window)


def inside_another(window: Window, world: Path) -> None:
    """An archive within an archive, with one of its sounds in the preview."""
    _go_in(window, world / "Archives" / "all of it.zip", "hydrophone.7z")
    window.source.set_looking(True)
    choose_names(window, ["sound/hydrophone-b-21h.wav"])
    settle(window)


def about_to_unpack(window: Window, world: Path) -> None:
    """In an archive with three entries chosen, one of whose names is taken where they go."""
    window.workspace.enter_file(world / "spring-survey.zip")
    settle(window)
    choose_names(window, ["photos/weir-downstream.jpg", "photos/heron-bank.jpg", "photos/gauge-board.jpg"])

    def change(form: UnpackForm) -> None:
        form.folder = world / "For the council"

    window.workspace.unpacking.change(change)
    settle(window)


def item_of(file: Path, path: str) -> PackItem:
    """A file on the disk as an item of an archive."""
    status = file.stat()
    return PackItem(path, Kind.FILE, str(file), status.st_size, status.st_mtime_ns, 0o644)


def changed(window: Window, world: Path) -> None:
    """Changes of an archive that are not saved yet, of every kind, and a name that is taken."""
    window.workspace.enter_file(world / "spring-survey.zip")
    settle(window)
    changing = window.workspace.changing

    def node(path: str) -> int:
        listing = window.workspace.listing
        assert isinstance(listing, ArchiveListing)
        found = listing.node_of(path)
        assert found is not None, path
        return found

    changing.remove([node("photos/ford after rain.jpg")])
    settle(window)
    changing.rename(node("photos/footbridge.jpg"), "footbridge, east side.jpg")
    settle(window)
    changing.add([world / "2031 spring" / "notes" / "minutes April.md"], "readings")
    settle(window)
    changing.replace([item_of(world / "2031 spring" / "readings" / "ford-2031.csv", "readings/weir-2031.csv")])
    settle(window)
    taken = item_of(world / "2031 spring" / "notes" / "minutes April.md", "READ ME FIRST.txt")
    changing.stage(lambda staging: staging.add(taken.path, [taken]))
    settle(window)
    changing.move([node("maps/overview.svg")], "photos")
    settle(window)


def several(window: Window, world: Path) -> None:
    """Several archives chosen on the disk, one of them locked."""
    window.workspace.go(Place(world / "Archives"))
    settle(window)
    choose_names(window, ["damaged.zip", "hydrophone-night.zip.001", "members only.zip", "notes.7z", "notes.tar.gz"])
    settle(window)


def running(window: Window, world: Path) -> None:
    """A job half done, and another that waits."""
    window.trials.enabled = False
    about_to_pack(window, world)
    gate = [False]

    def work(job: Job) -> Outcome:
        job.begin("Packing", total_bytes=92_400_000)
        job.advance(57_300_000)
        while not gate[0]:
            time.sleep(0.05)
            job.advance(20_000)
        return Packed(world / "x.zip")

    window.jobs.start(Packed, world / "spring-survey.zip", work)
    paused = window.jobs.start(Unpacked, world, work, source=[world / "Old logbook.zip"])
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


def checked(window: Window, world: Path) -> None:
    """An archive one of whose parts is missing, which is said at once, and what a check finds of it."""
    window.workspace.enter_file(world / "Archives" / "part missing.zip.001")
    settle(window)
    window.window_actions["check"].trigger()
    wait_until(lambda: not window.jobs.running and window.target.go.isEnabled())
    settle(window)


def compared(window: Window, world: Path) -> None:
    """An archive, and a folder in which somebody went on working."""
    folder = world / "On the laptop"
    shutil.rmtree(folder, ignore_errors=True)
    for part in ("readings", "maps", "photos"):
        shutil.copytree(world / "2031 spring" / part, folder / part)
    shutil.copy2(world / "2031 spring" / "READ ME FIRST.txt", folder)
    first, second, third, *_ = sorted((folder / "readings").iterdir())
    first.write_text(first.read_text("utf-8") + "2031-03-31 09:00,footbridge,9.12,5.8,0.412\n", "utf-8")
    os.utime(first, (1_933_000_000, 1_933_000_000))
    second.unlink()
    (folder / "old").mkdir()
    third.rename(folder / "old" / third.name)
    (folder / "weir in April.txt").write_text("The board is straight again.\n")
    window.workspace.enter_file(world / "spring-survey.zip")
    settle(window)
    window.how.within.chosen.emit("compare")
    window.workspace.comparing.choose(folder)
    window.target.go.click()
    wait_until(lambda: not window.jobs.running)
    settle(window)
    window.target.compare.list.setCurrentRow(0)
    settle(window)
    shutil.rmtree(folder)


def summed(window: Window, world: Path) -> None:
    """Checksums of the readings, and one that was pasted with a slip in it."""
    window.workspace.go(Place(world / "2031 spring" / "readings"))
    settle(window)
    window.source.view.selectAll()
    settle(window)
    window.how.what.chosen.emit("sums")
    window.target.go.click()
    wait_until(lambda: not window.jobs.running)
    settle(window)
    found = window.workspace.sums.found
    assert found is not None, "they were computed"
    digest = next(iter(found.sums[2].sums.values()))
    window.how.sums.paste.setPlainText(digest[:20] + digest[21] + digest[20] + digest[22:])
    settle(window)


def settings(window: Window, world: Path) -> None:
    """The settings, two of which are not at their defaults."""
    window.settings.set(PACK_FORMAT, "7z")
    window.settings.set(PACK_FOLDER, str(world / "Archives"))
    window.window_actions["settings"].trigger()
    settle(window)


def dialogs(window: Window, world: Path) -> None:
    """The question whether a password is to be kept, and beside it the keyboard shortcuts and what the program is."""
    archive = world / "Archives" / "members only.zip"
    window.workspace.enter_file(archive)
    settle(window)
    window.workspace.unlock("heron")
    settle(window)
    window.keyring.ask(archive, "heron")
    for name in ("shortcuts", "about"):
        window.window_actions[name].trigger()
    settle(window)


def an_error(window: Window, world: Path) -> None:
    """Going into a file that is not an archive."""
    window.workspace.go(Place(world / "2031 spring"))
    settle(window)
    window.workspace.enter_file(world / "2031 spring" / "READ ME FIRST.txt")
    settle(window)


@dataclass(frozen=True, slots=True)
class Scene:
    """One picture: what it shows, whether in the dark, how large the window is, and how large the text.

    Attributes:
        stage: brings the window to it.
        size: pixels, across and down.
        text_scale: 1.0 for the usual text size.
    """

    stage: Callable[[Window, Path], None]
    dark: bool = False
    size: tuple[int, int] = (1280, 800)
    text_scale: float = 1.0


SCENES: dict[str, Scene] = {
    "pack": Scene(tried),
    "pack-dark": Scene(locked_in_parts, dark=True),
    "unpack": Scene(about_to_unpack),
    "checksums": Scene(summed, dark=True),
    "running": Scene(running),
    "locked": Scene(locked),
    "check": Scene(checked, dark=True),
    "change": Scene(changed),
    "compare": Scene(compared),
    "error": Scene(an_error, dark=True),
    "log": Scene(the_log),
    "several": Scene(several),
    "thumbs": Scene(small_pictures),
    "map": Scene(space_map),
    "inside": Scene(inside_another, dark=True),
    "start": Scene(nothing_selected),
    "large-text": Scene(about_to_unpack, text_scale=2.0),
    "dialogs": Scene(dialogs),
    "settings": Scene(settings),
}
"""The pictures in the documentation."""


def _take_all_back(window: Window) -> None:
    """Leave the demo world as it was."""
    window.memory.forget()
    window.settings.reset(*SETTINGS)
    settle(window)
    for record in window.history.journal.records():
        if record.can_undo and not record.undone:
            window.history.undo(record)
            wait_until(lambda: not window.jobs.running)


def _picture(window: Window) -> QPixmap:
    """The window, or the log, and what stands open in front of it, one beside the other from the right."""
    picture = (window.history.log or window).grab()
    in_front = [
        dialog for dialog in window.findChildren(QDialog) if dialog.isVisible() and dialog is not window.history.log
    ]
    painter = QPainter(picture)
    right, top = picture.width() - theme.sizes.wide, 6 * theme.sizes.wide
    for dialog in sorted(in_front, key=lambda dialog: dialog.height()):
        dialog.resize(dialog.width(), min(dialog.height(), picture.height() * 5 // 8))  # so that notices below are seen
        seen = dialog.grab()
        right -= seen.width()
        painter.drawPixmap(right, top, seen)
        painter.setPen(theme.color("frame"))
        painter.drawRect(right, top, seen.width(), seen.height())
        right -= theme.sizes.wide
    painter.end()
    return picture


def take_pictures(world: Path, folder: Path) -> list[Path]:
    """Take every picture, with the demo world as the home folder; returns the files."""
    os.environ["HOME"] = str(world.parent)
    shutil.rmtree(world.parent / ".rundlet", ignore_errors=True)
    folder.mkdir(parents=True, exist_ok=True)
    made = []
    for name, scene in SCENES.items():
        width, height = scene.size
        with demo_window(dark=scene.dark, width=width, height=height, text_scale=scene.text_scale) as window:
            scene.stage(window, world)
            path = folder / f"{name}.png"
            _picture(window).save(str(path))
            for job in list(window.jobs.running):
                job.job.cancel()
            _take_all_back(window)
        made.append(path)
    return made
