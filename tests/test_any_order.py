"""Whatever a person does in whatever order: nothing leaves the disk that was not proven packed, and nothing of others."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

import hypothesis.strategies as st
import pytest
from hypothesis import HealthCheck, settings
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    rule,
    run_state_machine_as_test,
)
from PySide6.QtCore import QItemSelectionModel
from PySide6.QtTest import QTest
from shiboken6 import delete

from rundlet.core.errors import RundletError
from rundlet.core.formats.detect import open_archive
from rundlet.core.model.entry import Kind
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.desktop.app import make_app
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from support import at_length_too, contents, pack_to, rounds

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

NAMES = ("rent.txt", "river.csv", "notes.md", "deep/heron.txt", "deep/er/weir.txt")
FINDS = ("", "r", "rent", "*.csv", "zip", "nothing")
FORMATS = ("zip", "7z", "tar.gz")
ARCHIVES = (".zip", ".7z", ".gz")
PLACES = st.integers(0, 30)  # among as many rows as there are: what is drawn must not depend on what is there
_NAP_MS, _PATIENCE = 5, 4000


def _digest(data: bytes) -> str:
    return hashlib.sha1(data).hexdigest()


def _held(folder: Path) -> Iterator[str]:
    """Digests of all contents below a folder, within archives too."""
    for path in folder.rglob("*") if folder.exists() else ():
        if path.is_file() and not path.is_symlink():
            yield _digest(path.read_bytes())
            if path.suffix in ARCHIVES:
                yield from _packed(path)


def _plain(folder: Path) -> set[str]:
    """Digests of the files below a folder that are no archives."""
    files = (path for path in folder.rglob("*") if path.is_file() and not path.is_symlink())
    return {_digest(path.read_bytes()) for path in files if path.suffix not in ARCHIVES}


def _archives(folder: Path) -> dict[Path, set[str]]:
    """What each archive below a folder holds."""
    return {path: set(_packed(path)) for path in folder.rglob("*") if path.suffix in ARCHIVES}


def _packed(archive: Path) -> list[str]:
    stat = archive.stat()
    return _packed_as(archive, (stat.st_ino, stat.st_size, stat.st_mtime_ns, stat.st_ctime_ns))


@lru_cache(1000)
def _packed_as(archive: Path, state: tuple[int, ...]) -> list[str]:
    """Digests of what an archive holds, read once for each state of its file: every step asks for all of them."""
    try:
        reader = open_archive(archive)
    except RundletError:
        return []
    try:
        return [_digest(data) for data in contents(reader, [Kind.FILE]).values()]
    finally:
        reader.close()


class Person(RuleBasedStateMachine):
    """Somebody in front of the window.

    Attributes:
        qtbot, home, trash: of the test.
    """

    qtbot: QtBot
    home: Path
    trash: Path

    @initialize(fmt=st.sampled_from(["", *FORMATS]))
    def begin(self, fmt: str) -> None:
        """A folder with files, and the window in it, or in an archive that lies there."""
        self.work = self.home / "work"
        for stale in (self.work, self.home / ".data", self.trash.parent):
            shutil.rmtree(stale, ignore_errors=True)
        self.window = Window(self.home / ".data")
        self.window.trials.enabled = False
        self.window.workspace.follower.enabled = False
        self.window.show()
        self.dear = set()
        self.count = 0
        for name in NAMES:
            path = self.work / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(os.urandom(40) + name.encode())
            self.dear.add(_digest(path.read_bytes()))
        if fmt:
            pack_to(self.work / f"old.{fmt}", [self.work / "deep", self.work / "rent.txt"], fmt=fmt)
        self._stand(self.work / f"old.{fmt}" if fmt else self.work)

    def teardown(self) -> None:
        """The window is closed."""
        if hasattr(self, "window"):
            self.window.close_now()
            delete(self.window)  # here, and not on whatever thread looks for garbage

    def settle(self) -> None:
        """Wait until nothing is under way."""
        window = self.window
        for _ in range(_PATIENCE):
            busy = window.background.busy or window.jobs.running or window._press_timer.isActive()
            if not busy and window.workspace.at_rest:
                return
            QTest.qWait(_NAP_MS)
        raise AssertionError("something never ends")

    def _stand(self, path: Path) -> None:
        self.window.workspace.open([path])
        self.settle()

    @property
    def _rows(self) -> int:
        return self.window.source.model.rowCount()

    @rule(place=PLACES, more=st.booleans())
    def select(self, place: int, more: bool) -> None:
        """A click on a row, or one with Ctrl."""
        if self._rows:
            view = self.window.source.pages.rows
            index = self.window.source.model.index(place % self._rows, 0)
            flag = QItemSelectionModel.SelectionFlag
            if not more:
                self.window.source.view.replaced.emit()
            how = (flag.Toggle if more else flag.ClearAndSelect) | flag.Rows
            view.selectionModel().select(index, how)
            view.selectionModel().setCurrentIndex(index, flag.NoUpdate)
            self.settle()

    @rule()
    def select_all(self) -> None:
        """Ctrl+A."""
        self.window.source.view.selectAll()
        self.settle()

    @rule(words=st.sampled_from(FINDS))
    def find(self, words: str) -> None:
        """Narrow the list."""
        self.window.finder.setText(words)
        self.settle()

    @rule()
    def delete(self) -> None:
        """To the trash: exactly what is selected and shown."""
        on_disk = isinstance(self.window.workspace.listing, DiskListing)
        before = set(self.work.rglob("*"))
        expected = {Path(path) for path in self.window.workspace.selector.shown_here()} if on_disk else set()
        self.window.file_actions.actions["trash"].trigger()
        self.settle()
        gone = {path for path in before if not os.path.lexists(path)}
        assert {path for path in gone if path.parent not in gone} == expected

    @rule(
        trash=st.booleans(),
        clash=st.sampled_from([IfTaken.RENAME, IfTaken.REPLACE]),
        fmt=st.sampled_from(FORMATS),
        name=st.sampled_from(["", "rent", "x"]),
    )
    def pack(self, trash: bool, clash: IfTaken, fmt: str, name: str) -> None:
        """The one button, on the disk."""
        ws = self.window.workspace
        if not isinstance(ws.listing, DiskListing):
            return
        ws.packing.set_format(fmt)
        ws.packing.set_level(1 if fmt != "7z" else 0)
        if name:
            ws.packing.set_stem(name)
        ws.packing.set_clash(clash)
        self.window.how.pack.options.trash.setChecked(trash)
        self.window.how.what.chosen.emit("pack")
        before = _plain(self.work)
        self._press()
        gone = before - _plain(self.work)
        assert trash or not gone
        assert gone <= set().union(*_archives(self.work).values()), "an original went that is in no archive"

    @rule(after=st.sampled_from(list(Afterwards)), clash=st.sampled_from(list(UnpackClash)))
    def unpack(self, after: Afterwards, clash: UnpackClash) -> None:
        """The one button, in an archive."""
        if isinstance(self.window.workspace.listing, ArchiveListing):
            self.window.workspace.changing.want(False)
            self.window.how.unpack.after[after].click()
            self.window.how.unpack.clash[clash].click()
            self.settle()
            before = _archives(self.work)
            self._press()
            archive = self.window.workspace.place.archive
            for path, held in before.items():
                if not path.exists() and (archive is None or path.parent == self.work):
                    assert after != Afterwards.STAYS or clash == UnpackClash.REPLACE
                    there = _plain(self.work) | set().union(*_archives(self.work).values())
                    assert held <= there | set(_held(self.trash)) and (clash == UnpackClash.REPLACE or held <= there), (
                        "an archive went of which not everything came out"
                    )

    @rule(
        place=PLACES,
        what=st.sampled_from(["remove", "rename", "move", "folder", "add"]),
        name=st.sampled_from(["rent.txt", "deep", "new name"]),
    )
    def change_within(self, place: int, what: str, name: str) -> None:
        """Something is staged in an archive, and nothing is written."""
        listing, changing = self.window.workspace.listing, self.window.workspace.changing
        if not isinstance(listing, ArchiveListing) or not self._rows:
            return
        before = {path: path.read_bytes() for path in _archives(self.work)}
        node = self.window.source.model.node(self.window.source.model.index(place % self._rows, 0))
        files = sorted(path for path in self.work.iterdir() if path.is_file())
        if what == "remove":
            changing.remove([node])
        elif what == "rename":
            changing.rename(node, name)
        elif what == "move":
            changing.move([node], name)
        elif what == "folder":
            changing.new_folder(self.window.workspace.place.inner, 0)
        elif files:
            changing.add([files[place % len(files)]], self.window.workspace.place.inner)
        self.settle()
        assert {path: path.read_bytes() for path in _archives(self.work)} == before
        assert (changing.plan is not None) == (changing.count > 0)

    @rule(undone=PLACES)
    def save_changes(self, undone: int) -> None:
        """What is staged, but for one change, becomes the archive as it is shown."""
        window, changing = self.window, self.window.workspace.changing
        if changing.staging is None or not isinstance(window.workspace.listing, ArchiveListing):
            return
        if undone < len(changing.staging.changes):
            changing.discard([changing.staging.changes[undone]])
            self.settle()
        changing.want(True)
        changing.as_new = False
        listing, archive = window.workspace.listing, window.workspace.place.archive
        assert isinstance(listing, ArchiveListing) and archive is not None
        if not changing.count:
            return
        shown, gone = listing.tree, listing.staged.removed if listing.staged is not None else frozenset()
        expected = {
            shown.path(row + 1)
            for row in range(len(shown.catalog))
            if row not in gone and shown.catalog.kind[row] == Kind.FILE
        }
        self._press()
        assert changing.count == 0, window.strip.last.text()
        reader = open_archive(archive)
        try:
            assert {path.rstrip("/") for path in contents(reader, [Kind.FILE])} == expected
        finally:
            reader.close()

    def _press(self) -> None:
        self.window.window_actions["go"].trigger()
        self.window.window_actions["go"].trigger()
        self.settle()

    @rule(place=PLACES)
    def go_in(self, place: int) -> None:
        """Into a folder or an archive."""
        if self._rows:
            node = self.window.source.model.node(self.window.source.model.index(place % self._rows, 0))
            self.window.workspace.enter(node)
            self.settle()

    @rule()
    def go_up(self) -> None:
        """One step up, never out of the folder."""
        place = self.window.workspace.place
        if place.in_archive or place.folder != self.work:
            self.window.window_actions["up"].trigger()
            self.settle()

    @rule()
    def undo(self) -> None:
        """Ctrl+Z: what goes is in the trash, or in the archive that it came from."""
        before = _plain(self.work)
        self._undo()
        gone = before - _plain(self.work)
        assert gone <= set(_held(self.trash)) | set().union(*_archives(self.work).values())

    def _undo(self) -> None:
        self.window.window_actions["undo"].trigger()
        self.settle()

    @rule()
    def another_program_writes(self) -> None:
        """A file of somebody else, which no job put there."""
        self.count += 1
        for folder in [self.work, *(path for path in self.work.iterdir() if path.is_dir())]:
            path = folder / f"foreign {self.count}.txt"
            path.write_bytes(os.urandom(40))
            self.dear.add(_digest(path.read_bytes()))
        self.window.window_actions["refresh"].trigger()
        self.settle()

    @invariant()
    def nothing_is_lost(self) -> None:
        """Everything is on the disk, in the trash, or in an archive that can be read."""
        if hasattr(self, "dear"):
            missing = self.dear - {*_held(self.work), *_held(self.trash)}
            assert not missing
            assert not list(self.work.rglob(".rundlet-*"))


@at_length_too
@pytest.mark.timeout(1200)  # at length it is many windows, one after the other
def test_any_order(qtbot: QtBot, home: Path, trash: Path) -> None:
    app = make_app()
    theme.apply(app, dark=False)
    before = app.doubleClickInterval()
    app.setDoubleClickInterval(1)
    Person.qtbot, Person.home, Person.trash = qtbot, home, trash
    how = settings(
        max_examples=rounds(6, 40),
        stateful_step_count=20,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        derandomize=bool(os.environ.get("CI")),
    )
    try:
        run_state_machine_as_test(Person, settings=how)
    finally:
        app.setDoubleClickInterval(before)
