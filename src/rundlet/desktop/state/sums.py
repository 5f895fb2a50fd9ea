"""Checksums of what is selected on the disk: which, what was found out, and what was pasted to be held against it."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.model.checksum_list import Algorithm, ChecksumLine, read_checksums
from rundlet.core.model.published import Answer, Published, algorithms_wanted, answers, published_in, readings_of
from rundlet.core.streams.files import stamp_of
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.work.checksums import FileSums, Verified

_LISTS = (".sha256", ".sha512", ".sha1", ".md5", ".sfv", ".b2", ".crc32")
_LONGEST_LIST = 4 << 20  # bytes


@dataclass(slots=True)
class Summed:
    """What was found out of some files.

    Attributes:
        paths: what was selected.
        sums: of each file, in order.
        verified: what became of the lines of a list, where one was selected.
        extra: files beside the list that it does not name.
        running: whether it is being computed.
    """

    paths: tuple[Path, ...]
    sums: list[FileSums] = field(default_factory=list)
    verified: list[Verified] = field(default_factory=list)
    extra: list[str] = field(default_factory=list)
    running: bool = True


def looks_like_a_list(path: Path) -> bool:
    """Whether a file is a list of checksums, by its name."""
    name = path.name.lower()
    return name.endswith(_LISTS) or (name.endswith(("sums", "sums.txt")) and not name.startswith("."))


class Sums(QObject):
    """Follows the choice on the disk.

    Attributes:
        wanted: whether the columns are to show it.
        algorithms: which are computed.
        text: what was pasted.
        listed: the lines of the selected list of checksums; none where something else is selected.

    Signals:
        changed: something of it changed.
    """

    changed = Signal()

    def __init__(self, paths: Callable[[], tuple[Path, ...]], background: Background, parent: QObject) -> None:
        super().__init__(parent)
        self._paths = paths
        self._task = Latest(background)
        self._look = Latest(background)
        self.wanted = False
        self.algorithms = [Algorithm.SHA256]
        self.text = ""
        self.listed: list[ChecksumLine] = []
        self._list: Path | None = None
        self._found: Summed | None = None

    def want(self, on: bool) -> None:
        """Show it, or no longer."""
        if on != self.wanted:
            self.wanted = on
            self.text = "" if not on else self.text
            self.follow()
            self.changed.emit()

    def follow(self, _: object = None) -> None:
        """Something else is selected: find out whether it is a list."""
        paths = self._paths()
        alone = paths[0] if len(paths) == 1 and looks_like_a_list(paths[0]) else None
        if alone == self._list:
            return
        self.listed, self._list = [], alone
        if alone is None:
            self._task.drop()
            self.changed.emit()
            return

        def work(_: Job) -> list[ChecksumLine]:
            return lines_of(alone)

        def done(lines: list[ChecksumLine]) -> None:
            if self._list == alone:
                self.listed = lines
                self.changed.emit()

        self._task.run(work, done=done, failed=log_failure)

    def open_list(self, path: Path, shown: Callable[[], object], otherwise: Callable[[], object]) -> None:
        """Show a list of checksums that was opened.

        Args:
            shown: called when it is shown.
            otherwise: called when it is none after all.
        """

        def done(lines: list[ChecksumLine]) -> None:
            if lines and self._paths() == (path,):
                self.listed, self._list = lines, path
                self.want(True)
                shown()
            else:
                otherwise()

        self._task.run(lambda _: lines_of(path), done=done, failed=log_failure)

    @property
    def paths(self) -> tuple[Path, ...]:
        """What is selected."""
        return self._paths()

    @property
    def list_file(self) -> Path | None:
        """The selected list of checksums, or None."""
        return self._list if self.listed else None

    def set_algorithm(self, algorithm: Algorithm, *, on: bool) -> None:
        """Compute it, or not."""
        chosen = set(self.algorithms) | {algorithm} if on else set(self.algorithms) - {algorithm}
        self.algorithms = [each for each in Algorithm if each in chosen]
        self.changed.emit()

    def paste(self, text: str) -> None:
        """Hold a text against what is found out."""
        self.text = text
        self.changed.emit()

    @property
    def published(self) -> list[Published]:
        """The checksums in what was pasted."""
        return published_in(self.text)

    @property
    def all_algorithms(self) -> list[Algorithm]:
        """Those that are chosen, and those that what was pasted needs."""
        wanted = {each for reading in readings_of(self.text) for each in algorithms_wanted(reading)}
        return [each for each in Algorithm if each in wanted or each in self.algorithms]

    # What was found out

    @property
    def found(self) -> Summed | None:
        """What was found out of what is selected, or None."""
        return self._found if self._found is not None and self._found.paths == self._paths() else None

    @property
    def answers(self) -> list[Answer]:
        """What became of the checksums that were pasted."""
        found = self.found
        if found is None or found.running:
            return []
        return answers(self.text, {each.path: each.sums for each in found.sums})

    @property
    def lacks(self) -> bool:
        """Whether something is asked for that was not computed yet."""
        found = self.found
        if found is None or found.running:
            return found is None
        if self.listed:
            return not found.verified
        return any(each.problem is None and not set(self.all_algorithms) <= set(each.sums) for each in found.sums)

    def look_again(self, _: object = None) -> None:
        """The folder was looked at again: what was found out of files that are others now is no longer shown."""
        found = self._found
        if found is None or found.running:
            return

        def done(still: bool) -> None:
            if not still and self._found is found:
                self._found = None
                self.changed.emit()

        self._look.run(lambda _: all(map(_is_still, found.sums)), done=done, failed=log_failure)

    def begin(self) -> Summed:
        """Files are about to be read."""
        self._found = Summed(self._paths())
        self.changed.emit()
        return self._found

    def end(self, found: Summed, *, done: bool) -> None:
        """They were, or that was cancelled or failed."""
        found.running = False
        if not done and self._found is found:
            self._found = None
        self.changed.emit()


def _is_still(sums: FileSums) -> bool:
    """Whether a file is what it was when it was read; what could not be read then may be another time."""
    try:
        return sums.problem is None and stamp_of(sums.path.stat()) == sums.stamp
    except OSError:
        return sums.problem is not None


def lines_of(path: Path) -> list[ChecksumLine]:
    """The lines of a list of checksums; none where it is none or can't be read."""
    try:
        if path.stat().st_size > _LONGEST_LIST:
            return []
        text = path.read_text("utf-8", "surrogateescape")
    except OSError:
        return []
    lines, odd = read_checksums(text)
    return lines if len(lines) >= len(odd) else []


def files_below(paths: tuple[Path, ...], tick: Callable[[], object]) -> list[Path]:
    """The files that are selected, and those in folders that are; links are left out."""
    found: list[Path] = []
    for path in paths:
        if not path.is_symlink() and path.is_dir():
            for folder, folders, names in os.walk(path):
                tick()
                folders.sort()
                found += [Path(folder, name) for name in sorted(names) if not Path(folder, name).is_symlink()]
        else:
            found.append(path)
    return found


def extra_beside(list_file: Path, lines: list[ChecksumLine]) -> list[str]:
    """The files beside a list that it does not name."""
    named = {line.name for line in lines} | {list_file.name}
    try:
        with os.scandir(list_file.parent) as entries:
            return sorted(
                entry.name
                for entry in entries
                if entry.is_file(follow_symlinks=False) and entry.name not in named and not entry.name.startswith(".")
            )
    except OSError:
        return []
