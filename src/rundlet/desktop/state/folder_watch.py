"""Follows the folder where the window stands as things come and go in it, and the archive as it is written to."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

_AFTER_MS = 600  # a folder that changes all the time is not looked at all the time


class FolderWatch(QObject):
    """Watches one folder at a time, and the one above it, in which it may be renamed or deleted itself; with an archive, its files, too.

    Attributes:
        enabled: whether anything is watched at all.
        held: asked before it is told; while it holds, as when a name is being typed, telling waits.

    Signals:
        changed: something was put into the folder or taken out of it, or a file that is watched was written to, a moment ago.
    """

    changed = Signal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.enabled = True
        self.held: Callable[[], bool] = bool
        self._watcher = QFileSystemWatcher(self)
        self._watcher.directoryChanged.connect(self._wait)
        self._watcher.fileChanged.connect(self._wait)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_AFTER_MS)
        self._timer.timeout.connect(self._tell)

    def follow(self, folder: Path, files: Iterable[Path] = ()) -> None:
        """Watch this folder and these files in it, and nothing else."""
        watched, wanted = self._watched, [str(folder), str(folder.parent), *map(str, files)]
        if set(watched) != set(wanted):
            if watched:
                self._watcher.removePaths(watched)
            if self.enabled:
                self._watcher.addPaths(wanted)

    def stop(self) -> None:
        """Watch nothing any more."""
        self.enabled = False
        if watched := self._watched:
            self._watcher.removePaths(watched)
        self._timer.stop()

    @property
    def _watched(self) -> list[str]:
        return [*self._watcher.directories(), *self._watcher.files()]

    @property
    def at_rest(self) -> bool:
        """Whether nothing was seen that is still to be told."""
        return not self._timer.isActive()

    def tell_later(self) -> None:
        """Tell of a change in a moment, or as soon as nothing holds that back."""
        self._timer.start()

    def _tell(self) -> None:
        if self.held():
            self._timer.start()
        else:
            self.changed.emit()

    def _wait(self, _: str) -> None:
        if self.enabled and not self._timer.isActive():
            self._timer.start()
