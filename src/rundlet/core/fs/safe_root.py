"""A folder that is unpacked into, held by descriptors so that nothing is ever written through a link."""

from __future__ import annotations

import contextlib
import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from pathlib import Path

from rundlet.core.errors import FileProblem, UnsafePath, file_problem
from rundlet.core.streams.replacing import hidden_name
from rundlet.core.streams.sinks import NewFile, mark, put_file

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
_OPEN_AT_ONCE = 64

Steps = tuple[str, ...]


class Made:
    """What was put on the disk, in that order; shared by all workers of a job."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.folders: list[str] = []
        self.files: list[str] = []

    def folder(self, path: str) -> None:
        """Note a folder that was not there before."""
        with self._lock:
            self.folders.append(path)

    def take_back(self) -> None:
        """Remove all of it again: the files, then the folders that are empty. Doing so twice does no harm to what came back."""
        files, self.files = self.files, []
        folders, self.folders = self.folders, []
        for path in files:
            try:
                os.unlink(path)  # noqa: PTH108 - kept as strings, as there may be very many
            except OSError:
                continue
        for path in reversed(folders):
            try:
                os.rmdir(path)  # noqa: PTH106
            except OSError:
                continue


def make_root(root: Path, made: Made) -> None:
    """Make the chosen folder with its parents.

    Raises:
        FileProblem: when the system refuses or a file is in the way.
    """
    missing = []
    place = root
    while not os.path.lexists(place):
        missing.append(place)
        place = place.parent
    for folder in reversed(missing):
        try:
            folder.mkdir()
        except FileExistsError:
            continue
        except OSError as error:
            raise file_problem(error, "make the folder", folder) from error
        made.folder(str(folder))


class SafeRoot:
    """One worker's way into the folder. Not to be shared between threads.

    Args:
        root: the chosen folder, which must be there; it may itself be reached through links.

    Raises:
        FileProblem: when it can't be opened.
    """

    def __init__(self, root: Path, made: Made) -> None:
        self._root = root
        self._prefix = f"{root}".rstrip("/") + "/"
        self._made = made
        self._open: OrderedDict[Steps, int] = OrderedDict()
        try:
            self._fd = os.open(root, _FOLDER)
        except OSError as error:
            raise file_problem(error, "unpack into", root) from error

    def path(self, steps: Steps) -> Path:
        """The whole path of a place in the folder."""
        return self._root.joinpath(*steps)

    def path_text(self, steps: Steps) -> str:
        """The same as a string, made quickly."""
        return f"{self._prefix}{'/'.join(steps)}"

    def folder(self, steps: Steps) -> int:
        """A descriptor of a folder below, made where it is missing; valid until the next call.

        Raises:
            UnsafePath: when a link stands in its place.
            FileProblem: when a file does, or the system refuses.
        """
        if not steps:
            return self._fd
        if steps in self._open:
            self._open.move_to_end(steps)
            return self._open[steps]
        known = len(steps) - 1
        while known and steps[:known] not in self._open:
            known -= 1
        fd = self._open[steps[:known]] if known else self._fd
        for length in range(known + 1, len(steps) + 1):
            fd = self._enter(fd, steps[:length])
            self._open[steps[:length]] = fd
            if len(self._open) > _OPEN_AT_ONCE:
                os.close(self._open.popitem(last=False)[1])
        return fd

    def _enter(self, above: int, steps: Steps) -> int:
        flags = _FOLDER | os.O_NOFOLLOW
        try:
            return os.open(steps[-1], flags, dir_fd=above)
        except FileNotFoundError:
            pass
        except OSError as error:
            raise self._blocked(error, above, steps) from error
        try:
            os.mkdir(steps[-1], dir_fd=above)
            self._made.folder(self.path_text(steps))
        except FileExistsError:
            pass  # another worker was quicker
        except OSError as error:
            raise file_problem(error, "make the folder", self.path(steps)) from error
        try:
            return os.open(steps[-1], flags, dir_fd=above)
        except OSError as error:
            raise self._blocked(error, above, steps) from error

    def _blocked(self, error: OSError, above: int, steps: Steps) -> UnsafePath | FileProblem:
        try:
            os.readlink(steps[-1], dir_fd=above)
        except OSError:
            return file_problem(error, "unpack into", self.path(steps))
        return UnsafePath(
            "A link stands where its folder {folder:name} should be; nothing is written through links.",
            folder=steps[-1],
        )

    def new_file(self, steps: Steps) -> NewFile:
        """A file that appears under its name when it is committed. Raises ``OSError`` and what :meth:`folder` does."""
        return NewFile(self.folder(steps[:-1]), steps[-1])

    def put(self, steps: Steps, data: bytes, *, mode: int, times: tuple[int, int] | None) -> bool:
        """A whole small file at once; whether its disk keeps its permission bits and times.

        Raises what :meth:`folder` and :func:`rundlet.core.streams.sinks.put_file` do.
        """
        return put_file(self.folder(steps[:-1]), steps[-1], data, mode=mode, times=times)

    def remove(self, steps: Steps) -> None:
        """Take away a file that was just put there. Raises ``OSError``."""
        os.unlink(steps[-1], dir_fd=self.folder(steps[:-1]))

    def holds(self, steps: Steps, data: bytes) -> bool:
        """Whether a file stands in a place that has these bytes and no others."""
        try:
            return self.content(steps, len(data) + 1) == data
        except OSError:
            return False

    def link(self, steps: Steps, target: str, *, replace: bool, times: tuple[int, int] | None = None) -> None:
        """Make a symbolic link, in one step. Raises ``OSError`` and what :meth:`folder` does.

        Args:
            times: when it was last read and changed, in nanoseconds since 1970, as far as its disk keeps that; None for now.
        """
        folder = self.folder(steps[:-1])
        if replace:
            self._replace(folder, steps[-1], lambda name: os.symlink(target, name, dir_fd=folder))
        else:
            os.symlink(target, steps[-1], dir_fd=folder)
        if times is not None:
            with contextlib.suppress(OSError, OverflowError):
                os.utime(steps[-1], ns=times, dir_fd=folder, follow_symlinks=False)

    def hard_link(self, first: Steps, steps: Steps, *, replace: bool) -> None:
        """Give a landed file one more name, in one step. Raises ``OSError`` and what :meth:`folder` does."""
        there = os.dup(self.folder(first[:-1]))  # the way to the other folder may close this one

        def give(name: str) -> None:
            os.link(first[-1], name, src_dir_fd=there, dst_dir_fd=folder, follow_symlinks=False)

        try:
            folder = self.folder(steps[:-1])
            if replace:
                self._replace(folder, steps[-1], give)
            else:
                give(steps[-1])
        finally:
            os.close(there)

    def _replace(self, folder: int, name: str, make: Callable[[str], None]) -> None:
        """Make something under a hidden name and put it in the place of what is there."""
        hidden = hidden_name(".tmp")
        make(hidden)
        try:
            os.rename(hidden, name, src_dir_fd=folder, dst_dir_fd=folder)
        except OSError:
            os.unlink(hidden, dir_fd=folder)
            raise

    def finish_folder(self, steps: Steps, *, mode: int, times: tuple[int, int] | None) -> bool:
        """Give a folder its permissions (0: as they are) and times, once everything is in it; whether its disk keeps them."""
        return mark(self.folder(steps), mode=mode, times=times)

    def mark_file(self, steps: Steps, *, mode: int, times: tuple[int, int] | None) -> bool:
        """Give a file that was written its permissions (0: as they are) and times; whether its disk keeps them.

        Raises ``OSError`` and what :meth:`folder` does.
        """
        with self._opened(steps) as fd:
            return mark(fd, mode=mode, times=times)

    def content(self, steps: Steps, most: int) -> bytes:
        """The first bytes of a file that was written. Raises ``OSError`` and what :meth:`folder` does."""
        with self._opened(steps) as fd:
            return os.read(fd, most)

    @contextlib.contextmanager
    def _opened(self, steps: Steps) -> Iterator[int]:
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        fd = os.open(steps[-1], flags, dir_fd=self.folder(steps[:-1]))
        try:
            yield fd
        finally:
            os.close(fd)

    def close(self) -> None:
        """Give back all descriptors."""
        for fd in (*self._open.values(), self._fd):
            os.close(fd)
        self._open.clear()
