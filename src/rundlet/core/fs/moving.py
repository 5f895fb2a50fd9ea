"""Copying and moving files and folders on the disk. Nothing is ever replaced: a name that is taken is numbered."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import Cancelled, FileProblem, file_problem
from rundlet.core.fs.safe_names import first_free
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Finding, Reason, cause_of
from rundlet.core.limits import CHUNK
from rundlet.core.sentences import Sentence
from rundlet.core.streams.files import Stamp, open_file, stamp_of
from rundlet.core.streams.renaming import rename_new, sync_disk
from rundlet.core.streams.replacing import hidden_name, hold

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome

_TRIES = 100  # to find a free name while others take names too


def copy_into(paths: Sequence[Path], folder: Path, outcome: Outcome, job: Job) -> None:
    """Copy things into a folder; what can't be copied is named in the outcome. Cancelled work leaves nothing."""
    made: list[_Copy] = []
    try:
        with noted([folder]):
            for path in paths:
                copy = _copied(path, folder / path.name, outcome, job)
                if copy is not None:
                    made.append(copy)
                job.advance(entries=1)
    except BaseException:
        for copy in made:
            copy.remove_target()
        raise
    for copy in made:
        outcome.created += copy.targets()


def copy_as(path: Path, target: Path, outcome: Outcome, job: Job) -> None:
    """Copy one file or folder under a name, numbered when it is taken; else as :func:`copy_into`."""
    copy = _copied(path, target, outcome, job)
    outcome.created += copy.targets() if copy is not None else []


def move_into(paths: Sequence[Path], folder: Path, outcome: Outcome, job: Job) -> None:
    """Move things into a folder; what can't be moved stays and is named in the outcome.

    Work that is cancelled moves back what it moved on the same disk; what it moved to another one stays there, which the outcome
    says.
    """
    before = len(outcome.moved)
    try:
        for path in paths:
            job.checkpoint()
            if path.parent != folder:
                _move_one(path, folder, outcome, job)
    except BaseException as error:
        for source, target in reversed(outcome.moved[before:]):
            with contextlib.suppress(FileProblem):
                if move_to(Path(target), Path(source)) is not None:
                    outcome.moved.remove((source, target))
        if len(outcome.moved) == before or not isinstance(error, Cancelled):
            raise
        outcome.add(folder.name, Reason.MOVED_THOUGH_CANCELLED, count=len(outcome.moved) - before)


def _move_one(path: Path, folder: Path, outcome: Outcome, job: Job) -> None:
    why = _refused(path, folder)
    if why is not None:
        outcome.add(path.name, why)
        return
    try:
        target = _named(folder / path.name, lambda name: _rename(path, name))
    except OSError as error:
        if error.errno == errno.EXDEV:
            _move_to_another_disk(path, folder, outcome, job)
        else:
            outcome.add_error(path.name, file_problem(error, "move", path), Reason.STAYS)
        return
    outcome.moved.append((str(path), str(target)))
    job.advance(entries=1)


def _move_to_another_disk(path: Path, folder: Path, outcome: Outcome, job: Job) -> None:
    """Copy something and, once that is on the disk, remove what was copied and is still what it was."""
    with noted([folder]):
        copy = _copied(path, folder / path.name, outcome, job, whole=True)
    if copy is None:
        return
    left = copy.remove_source()
    if left is not None:
        outcome.created += copy.targets()
        outcome.add(path.name, Reason.COPIED_AND_STAYS, cause=left)
    else:
        outcome.moved.append((str(path), str(copy.target)))
    job.advance(entries=1)


def _rename(path: Path, target: Path) -> None:
    rename_new(path, target)


def move_to(path: Path, target: Path) -> Path | None:
    """Move one thing to a free place on the same disk; None when that is on another one.

    Raises:
        FileProblem: when the system refuses or the place is taken.
    """
    try:
        rename_new(path, target)
    except FileExistsError as error:
        raise FileProblem(
            "The place of {path:name} is taken.", errno=0, cause=Sentence("its place is taken"), path=str(target)
        ) from error
    except OSError as error:
        if error.errno == errno.EXDEV:
            return None
        raise file_problem(error, "move", path) from error
    return target


def free_path(path: Path) -> Path:
    """The path itself, or the first numbered one beside it that is not taken."""
    return path.with_name(first_free(path.name, lambda name: os.path.lexists(path.with_name(name))))


def _named(wanted: Path, name: Callable[[Path], None]) -> Path:
    """Give something the first free name, also when others take names at the same time. Raises ``OSError``."""
    for _ in range(_TRIES):
        target = free_path(wanted)
        try:
            name(target)
        except FileExistsError:
            continue
        return target
    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(wanted))


def _refused(path: Path, folder: Path) -> Reason | None:
    if not os.path.lexists(path):
        return Reason.NOT_THERE
    if os.path.isdir(path) and not os.path.islink(path) and folder.resolve().is_relative_to(path.resolve()):
        return Reason.INTO_ITSELF
    return None


@dataclass(slots=True)
class _Copy:
    """What was copied from where to where.

    Attributes:
        target: where the copy stands.
        files: for each file and link, by its path below the source: what the source was, and the file number of the copy.
        folders: the same for folders, each before what is in it; of their sources only the file numbers.
        held: keeps the copy from being taken for a leftover while it has no name of its own.
    """

    source: Path
    target: Path
    files: dict[str, tuple[Stamp, int]] = field(default_factory=dict)
    folders: dict[str, tuple[int, int]] = field(default_factory=dict)
    held: list[int] = field(default_factory=list)

    def let_go(self) -> None:
        """Let go of the copy, which has its name or is gone."""
        while self.held:
            os.close(self.held.pop())

    def targets(self) -> list[str]:
        """The paths of all copies."""
        return [_at(self.target, below) for below in (*self.folders, *self.files)]

    def remove_source(self) -> Finding | None:
        """Remove what was copied and was not changed since; why not all of it, or None."""
        left: Finding | None = None
        for below, (before, _) in self.files.items():
            path = _at(self.source, below)
            try:
                if stamp_of(os.lstat(path)) == before:
                    os.unlink(path)  # noqa: PTH108 - there may be very many
                else:
                    left = left or Finding.of(Reason.SOURCE_CHANGED, path=path)
            except FileNotFoundError:
                continue
            except OSError as error:
                cause = cause_of(file_problem(error, "remove", path))
                left = left or Finding.of(Reason.SOURCE_NOT_REMOVED, path=path, cause=cause)
        for below in reversed(self.folders):
            try:
                os.rmdir(_at(self.source, below))  # noqa: PTH106
            except FileNotFoundError:
                continue
            except OSError:
                left = left or Finding.of(Reason.SOURCE_HOLDS_MORE, path=_at(self.source, below))
        return left

    def remove_target(self) -> None:
        """Remove the copies, and nothing that was put beside them meanwhile."""
        for below, (_, number) in self.files.items():
            with contextlib.suppress(OSError):
                path = _at(self.target, below)
                if os.lstat(path).st_ino == number:
                    os.unlink(path)  # noqa: PTH108
        for below in reversed(self.folders):
            with contextlib.suppress(OSError):
                os.rmdir(_at(self.target, below))  # noqa: PTH106


def _at(root: Path, below: str) -> str:
    return os.path.join(root, below) if below else str(root)  # noqa: PTH118


def _copied(path: Path, wanted: Path, outcome: Outcome, job: Job, *, whole: bool = False) -> _Copy | None:
    """A copy under a free name; it is made under another name first, so that no half of it ever has its own.

    Args:
        whole: whether it is to be all of it or nothing, and written through to the disk.
    """
    why = _refused(path, wanted.parent)
    if why is not None:
        outcome.add(path.name, why)
        return None
    before = len(outcome.problems)
    half = wanted.with_name(hidden_name(".tmp"))
    copy = _Copy(path, half)
    try:
        _copy_all(copy, outcome, job)
        if not copy.files and not copy.folders:
            return None
        if whole and len(outcome.problems) > before:
            copy.remove_target()
            outcome.add(path.name, Reason.NOT_ALL_COPIED)
            return None
        if whole:
            _write_through(half.parent)
        copy.target = _named(wanted, lambda name: rename_new(half, name))
        if whole:
            _write_through(half.parent)
    except BaseException as error:
        copy.remove_target()
        if not isinstance(error, OSError):
            raise
        outcome.add_error(path.name, file_problem(error, "copy", path), Reason.NOT_COPIED)
        return None
    finally:
        copy.let_go()
    return copy


def _write_through(folder: Path) -> None:
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        sync_disk(fd)
    finally:
        os.close(fd)


def _copy_all(copy: _Copy, outcome: Outcome, job: Job) -> None:
    """Copy everything below the source; what can't be copied is named in the outcome. Raises ``OSError`` for the top itself."""
    pending = [""]
    made: list[tuple[str, os.stat_result]] = []
    while pending:
        below = pending.pop()
        source, target = _at(copy.source, below), _at(copy.target, below)
        try:
            status = os.lstat(source)
            if stat.S_ISDIR(status.st_mode):
                names = sorted(os.listdir(source), reverse=True)
                os.mkdir(target, 0o700)  # noqa: PTH102
                if not below:
                    _hold(copy, target)
                copy.folders[below] = status.st_ino, os.lstat(target).st_ino
                made.append((target, status))
                pending += [os.path.join(below, name) for name in names]  # noqa: PTH118
            elif stat.S_ISLNK(status.st_mode):
                os.symlink(os.readlink(source), target)  # noqa: PTH115, PTH211
                copy.files[below] = stamp_of(status), os.lstat(target).st_ino
            elif stat.S_ISREG(status.st_mode):
                copy.files[below] = _copy_file(source, target, outcome, job)
                if not below:
                    _hold(copy, target)
            else:
                outcome.add(os.path.basename(source), Reason.SPECIAL_NOT_COPIED)  # noqa: PTH119
        except OSError as error:
            if not below or error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
            why = file_problem(error, "copy", source)
            outcome.add_error(os.path.basename(source), why, Reason.NOT_COPIED)  # noqa: PTH119
    for target, status in reversed(made):
        _mark_as(target, status)


def _hold(copy: _Copy, target: str) -> None:
    fd = os.open(target, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    copy.held.append(fd)
    hold(fd)


def _copy_file(source: str, target: str, outcome: Outcome, job: Job) -> tuple[Stamp, int]:
    """Copy one file; what it was when all of it had been read, and the number of the copy. Raises ``OSError``."""
    fd = open_file(source)
    try:
        before = stamp_of(os.fstat(fd))
        out = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        try:
            hold(out)
            number = os.fstat(out).st_ino
            while data := os.read(fd, 4 * CHUNK):
                view = memoryview(data)
                while view:
                    view = view[os.write(out, view) :]
                outcome.bytes_out += len(data)
                job.advance(len(data))
        except BaseException:
            os.unlink(target)  # noqa: PTH108
            raise
        finally:
            os.close(out)
        status = os.fstat(fd)
    finally:
        os.close(fd)
    _mark_as(target, status)
    if stamp_of(status) != before:
        outcome.add(os.path.basename(source), Reason.CHANGED_WHILE_COPIED)  # noqa: PTH119
    outcome.files += 1
    return before, number


def _mark_as(target: str, status: os.stat_result) -> None:
    """Give a copy the permissions and times of its source, as far as the disk keeps them."""
    with contextlib.suppress(OSError):
        os.chmod(target, stat.S_IMODE(status.st_mode))  # noqa: PTH101
    with contextlib.suppress(OSError):
        os.utime(target, ns=(status.st_atime_ns, status.st_mtime_ns))
