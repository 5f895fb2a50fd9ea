"""Private copies of entries: for other programs to open, to drag out, to paste, and for archives within archives.

They lie in a folder that only this user can look into, and go when the window is closed.
"""

from __future__ import annotations

import contextlib
import stat
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from rundlet.core.errors import RundletError
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Copied, CopiedOut, Outcome
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.fs.private_folders import PrivateFolder
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.desktop.locations.place import OpenArchive

_LOOK_MS = 1000


@dataclass(frozen=True, slots=True)
class Origin:
    """Where a copy came from, and how it is put back there.

    Attributes:
        archive: the archive on the disk.
        inner: its path in the archive.
        mode: its permission bits there.
        options: how it is written.
    """

    archive: Path
    inner: str
    mode: int
    options: WriteOptions


@dataclass(slots=True)
class Copy:
    """A copy that was opened in another program.

    Attributes:
        path: where the copy lies.
        name: what the entry is called.
        home: the folder on the disk where the archive lies.
        state: size and time of change when it was last looked at.
        unkept: whether it was changed, and the changes are nowhere else.
        origin: the archive that it can be put back into, or None.
    """

    path: Path
    name: str
    home: Path
    state: tuple[int, int] = (0, 0)
    unkept: bool = False
    origin: Origin | None = None

    def now(self) -> tuple[int, int]:
        """Its size and time of change now; zeros when it is not there."""
        try:
            status = self.path.stat()
        except OSError:
            return (0, 0)
        return status.st_size, status.st_mtime_ns


class TempCopies(QObject):
    """Makes such copies and watches those that another program has.

    Signals:
        changed: a :class:`Copy` was changed by another program.
    """

    changed = Signal(object)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._folders: list[PrivateFolder] = []
        self._watched: list[Copy] = []
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_MS)
        self._timer.timeout.connect(self.look)

    def new_folder(self, size: int) -> Path:
        """A private folder for so many bytes; safe to call from any thread. Raises ``OSError``."""
        from rundlet.core.fs.private_folders import new_private_folder  # with archives only

        folder = new_private_folder(size)
        self._folders.append(folder)
        return folder.path

    @property
    def folders(self) -> list[Path]:
        """All private folders."""
        return [folder.path for folder in self._folders]

    def look_now(self) -> list[Copy]:
        """Look at all copies at once; those whose changes are nowhere else."""
        self.look()
        return self.unkept

    @property
    def unkept(self) -> list[Copy]:
        """The copies that were changed, and whose changes are nowhere else."""
        return [copy for copy in self._watched if copy.unkept]

    def _folder_of(self, copy: Copy) -> PrivateFolder | None:
        return next((folder for folder in self._folders if folder.path == copy.path.parent), None)

    def watch(self, copy: Copy) -> None:
        """See when another program changes a copy."""
        copy.state = copy.now()
        self._watched.append(copy)
        folder = self._folder_of(copy)
        if folder is not None:
            with contextlib.suppress(OSError):  # then only a killed window would lose what was changed
                folder.note(copy.path, copy.home, copy.state)
        self._timer.start()

    def look(self) -> None:
        """See whether any copy was changed since the last look."""
        for copy in self._watched:
            now = copy.now()
            if now not in ((0, 0), copy.state):
                copy.state, copy.unkept = now, True
                self.changed.emit(copy)

    def close(self) -> None:
        """All copies go; changes that are nowhere else are kept where the archive lies, or stay if that can't be."""
        self._timer.stop()
        for copy in self._watched:
            if copy.unkept or copy.now() not in ((0, 0), copy.state):
                outcome = Copied(copy.home)
                from rundlet.core.fs.moving import copy_as

                copy_as(copy.path, copy.home / copy.path.name, outcome, Job())
                folder = self._folder_of(copy)
                if not outcome.created and folder is not None:
                    self._folders.remove(folder)  # it is all there is of the changes
                    folder.close()
        self._watched.clear()
        for folder in self._folders:
            folder.remove()
        self._folders.clear()


def lend(opened: OpenArchive, nodes: Sequence[int], folder: Path, job: Job, *, keep_folders: bool = True) -> CopiedOut:
    """Unpack entries into a private folder, as the archive has them.

    Raises:
        RundletError: when none of it can be read.
    """
    from rundlet.core.plans.unpack_planner import plan_unpack
    from rundlet.core.work.extractor import unpack

    reader = opened.reopened()
    try:
        plan = plan_unpack(reader, opened.rows_below(nodes), into=folder, keep_folders=keep_folders, job=job)
        outcome = unpack(plan, reader, job)
        return CopiedOut(
            folder, outcome.files, outcome.bytes_in, outcome.bytes_out, outcome.seconds, outcome.issues, outcome.created
        )
    finally:
        reader.close()


def copy_name(name: str) -> str:
    """What a copy of an entry is called, so that nobody takes it for the entry."""
    return say("copy of {name}", name=name)


def lend_one(opened: OpenArchive, node: int, folder: Path, job: Job) -> Path:
    """One file out of an archive, under a name that says that it is a copy.

    Raises:
        RundletError: when it can't be read whole.
    """
    outcome = lend(opened, [node], folder, job, keep_folders=False)
    made = [Path(path) for path in outcome.created if Path(path).is_file()]
    if outcome.problems or not made:
        raise outcome_error(outcome)
    from rundlet.core.fs.moving import free_path

    target = free_path(made[0].with_name(copy_name(made[0].name)))
    made[0].rename(target)
    target.chmod(stat.S_IMODE(target.stat().st_mode) | stat.S_IRUSR | stat.S_IWUSR)
    return target


def outcome_error(outcome: Outcome) -> RundletError:
    """Why nothing came of a copy."""
    from rundlet.presentation.findings import issue_line

    return RundletError(
        f"{issue_line(outcome.problems[0]).rstrip('.')}." if outcome.problems else "It could not be read."
    )
