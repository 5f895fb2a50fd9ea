"""What others ask of a window: to open something, to do something with it, or to do once more what the log tells of."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from rundlet.core.plans.pack_plan import dated_stem
from rundlet.core.userdata.presets import settings_from
from rundlet.desktop.state.archive_batch import Task
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.userdata.journal import Record
    from rundlet.core.userdata.presets import SavedSettings
    from rundlet.desktop.locations.place import Place
    from rundlet.desktop.window import Window


class Requests(QObject):
    """Carries them out in a window."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._wanted: set[Path] = set()
        self._then: Callable[[], object] | None = None
        window.workspace.selector.changed.connect(self._selected)
        window.workspace.moved.connect(self._moved)

    def begin(self, paths: Sequence[Path], task: str = "") -> None:
        """Stand where these paths say.

        Args:
            task: what they are to be selected for: pack, unpack, unpack-here (which begins at once) or check; "" to look at them.
        """
        window = self._window
        if not task or not paths:
            window.workspace.open(paths)
            return

        def selected() -> None:
            if task == "check":
                window.file_actions.check()
            elif task == "unpack-here":
                window.do(Task.UNPACK_SEVERAL)
            else:
                window.how.what.chosen.emit(task)

        self._once_selected(paths, selected)

    def open_again(self, paths: Sequence[Path], task: str, token: str) -> None:
        """Another program, or a second start, wants something opened here.

        Args:
            task: as in :meth:`begin`.
            token: lets the window come to the front.
        """
        self._window.come_to_front(token)
        self.begin(paths, task)

    def show_list(self, path: Path) -> None:
        """Hold the files that a list of checksums names against it."""
        self._once_selected([path], lambda: self._window.file_actions.show_list(path))

    def look_into(self, archive: Path) -> None:
        """Go into an archive, and show what a check finds in it."""
        workspace = self._window.workspace
        workspace.changing.once_open((str(archive),), self._window.file_actions.check)
        workspace.enter_file(archive)

    def compare(self, archive: Path) -> None:
        """Go into an archive, to compare it with what was packed into it."""
        self._leave_log()
        workspace, within = self._window.workspace, self._window.how.within
        workspace.changing.once_open((str(archive),), lambda: within.chosen.emit("compare"))
        workspace.enter_file(archive)

    def repeat(self, record: Record) -> None:
        """Pack the same items in the same way, under a name with today's date; at once, where nothing has to be said first."""
        settings = settings_from(record.how)
        items, target = [Path(path) for path in record.source], record.outcome.target
        gone = next((path for path in (*items, target.parent) if not os.path.lexists(path)), None)
        if settings is None or gone is not None:
            name = gone.name if gone is not None else target.name
            self._window.history.say_in_log(say("{name:name} is gone, so this can't be done again.", name=name))
            return
        self._leave_log()
        self._once_selected(items, lambda: self._pack_again(record, settings))

    def _pack_again(self, record: Record, settings: SavedSettings) -> None:
        window, target = self._window, record.outcome.target
        packing = window.workspace.packing
        packing.change(lambda form: form.take(settings))
        stem = target.name.partition(packing.form.info.ending)[0] or target.stem
        packing.set_folder(target.parent)
        packing.set_stem(dated_stem(stem, date.today()))  # noqa: DTZ011 - the day that it is here
        window.how.choose(Task.PACK)
        if record.how.get("locked"):
            window.how.pack.options.lock.setChecked(True)
            words = "The archive was locked. Type a password for the new one, then press the button."
            window.source.notice.tell(words)
            window.go_how()
        else:
            window.do(Task.PACK)

    def _leave_log(self) -> None:
        if self._window.history.log is not None:
            self._window.history.log.hide()
        self._window.come_to_front()

    def _once_selected(self, paths: Sequence[Path], then: Callable[[], object]) -> None:
        """Select some items and then do something, but not if something else gets selected in their stead."""
        workspace = self._window.workspace
        wanted = {Path(path).absolute() for path in paths}
        if set(workspace.selector.paths()) == wanted:
            then()
            return
        if all(map(os.path.lexists, wanted)):
            self._wanted, self._then = wanted, then
        workspace.choose(paths)

    def _selected(self, _: object) -> None:
        selected = set(self._window.workspace.selector.paths())
        if selected == self._wanted and self._then is not None:
            QTimer.singleShot(0, self, self._then)  # once everybody else knows what is selected
        if not selected < self._wanted:
            self._wanted, self._then = set(), None

    def _moved(self, place: Place) -> None:
        """Somewhere else nothing that was asked for before is begun."""
        if not any(path.parent == place.folder for path in self._wanted):
            self._wanted, self._then = set(), None
