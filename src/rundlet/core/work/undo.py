"""Undoing what a job did: its files go, as far as nobody changed them since, and what it moved away comes back."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from rundlet.core.errors import FileProblem, PlanError, RundletError, file_problem
from rundlet.core.fs.moving import move_into, move_to
from rundlet.core.fs.replaced import settle_backup
from rundlet.core.fs.trash import from_trash, in_trash, trash_one
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import (
    Changed,
    Copied,
    FolderMade,
    Joined,
    Moved,
    Outcome,
    Packed,
    Renamed,
    Salvaged,
    Trashed,
    Undone,
    Unpacked,
)
from rundlet.core.streams.replacing import hidden_name, identity, put_in_place
from rundlet.core.streams.sinks import open_folder
from rundlet.core.userdata.journal import Put, Record, boot_id, stamp


def undo(record: Record, puts: Sequence[Put], job: Job | None = None, outcome: Undone | None = None) -> Undone:
    """Undo a job. It can be tried again when not all of it could be undone.

    Originals that went to the trash come back first. An archive goes to the trash, and what it replaced comes back, in one
    step. What was unpacked or copied goes to the trash when what it came from is gone or was changed since; otherwise it is
    there still, so it is deleted. What was changed since stays and is named, and so does a folder with something else in it.

    Args:
        puts: what the job put on the disk.
        outcome: filled as the work goes on; a new one by default.

    Raises:
        PlanError: when it was undone already.
    """
    if record.undone:
        raise PlanError("That was undone already.")
    job = job or Job()
    started = time.monotonic()
    outcome = outcome if outcome is not None else Undone(record.outcome.target)
    job.begin("Undoing", total_entries=len(puts) + len(record.outcome.trashed) + len(record.outcome.moved))
    HANDLERS[type(record.outcome)](record, puts, job, outcome)
    outcome.seconds = time.monotonic() - started
    return outcome


def deletes(record: Record) -> bool:
    """Whether undoing a job deletes files for good: those that are still in the archive that they came from."""
    if not isinstance(record.outcome, Unpacked) or not record.stamps:
        return False
    same_boot = record.boot == boot_id()
    for path, before in zip(record.source, record.stamps, strict=False):
        now = stamp(path)
        if now[1:] != before[1:] or now[1] < 0 or (same_boot and now[0] != before[0]):
            return False
    return True


def _undo_packing(record: Record, puts: Sequence[Put], job: Job, outcome: Undone) -> None:
    """Originals come back; the archive goes to the trash, or what was in its place comes back."""
    _give_back(record, job, outcome)
    if outcome.problems:
        outcome.add(str(record.outcome.target), Reason.ORIGINALS_NOT_BACK)
    elif record.outcome.replaced:
        with noted([Path(record.outcome.replaced[0]).parent]):
            _put_back(record, puts, job, outcome)
    else:
        _Taken(record, outcome, job, to_trash=True).take(puts)


def _undo_putting(record: Record, puts: Sequence[Put], job: Job, outcome: Undone) -> None:
    """What was moved comes back, what was put there goes, and what was in its place or in the trash comes back."""
    _move_back(record, job, outcome)
    _Taken(record, outcome, job, to_trash=not deletes(record)).take(puts)
    _give_back(record, job, outcome)


HANDLERS: dict[type[Outcome], Callable[[Record, Sequence[Put], Job, Undone], None]] = {
    Packed: _undo_packing,
    Changed: _undo_packing,
    Salvaged: _undo_packing,
    Joined: _undo_packing,
    Unpacked: _undo_putting,
    Copied: _undo_putting,
    Moved: _undo_putting,
    Renamed: _undo_putting,
    FolderMade: _undo_putting,
    Trashed: _undo_putting,
}
"""How each kind of job is undone; a kind that is not here leaves nothing to undo."""


def _move_back(record: Record, job: Job, outcome: Undone) -> None:
    for before, after in reversed(record.outcome.moved):
        if before in record.back:
            continue
        if not os.path.lexists(after):
            outcome.add(after, Reason.GONE_SINCE)
        elif os.path.lexists(before):
            outcome.add(after, Reason.PLACE_TAKEN)
        else:
            _move_one_back(Path(after), Path(before), outcome, job)
        job.advance(entries=1)


def _move_one_back(path: Path, before: Path, outcome: Undone, job: Job) -> None:
    try:
        before.parent.mkdir(parents=True, exist_ok=True)
        if move_to(path, before) is None:
            there = Moved(before.parent)
            move_into([path], before.parent, there, job)
            outcome.issues += there.issues
            if there.problems:
                return
    except (OSError, FileProblem) as error:
        why = error if isinstance(error, FileProblem) else file_problem(error, "move back", path)
        outcome.add_error(str(path), why, Reason.NOT_MOVED_BACK)
        return
    outcome.created.append(str(before))


def _give_back(record: Record, job: Job, outcome: Undone) -> None:
    for path in record.outcome.trashed:
        if path in record.back:
            continue
        try:
            from_trash(Path(path), record.outcome.bins.get(path, ""))
            outcome.created.append(path)
        except FileProblem as error:
            outcome.add_error(path, error, Reason.NOT_BACK)
        job.advance(entries=1)


def _put_back(record: Record, puts: Sequence[Put], job: Job, outcome: Undone) -> None:
    """What stood in the places of an archive before comes back, all of it in one step; what is there now goes to the trash."""
    same_boot = record.boot == boot_id()
    places = [Path(path) for path in record.outcome.replaced]
    folder = open_folder(places[0].parent)
    borrowed: list[
        tuple[Path, Path, Path]
    ] = []  # what lies in the trash, its hidden name beside its place, its info file
    try:
        now = {Path(put.path).name: put for put in puts if identity(Path(put.path).name, folder) is not None}
        for name, put in now.items():
            if not put.is_still(os.stat(name, dir_fd=folder, follow_symlinks=False), same_boot=same_boot):
                outcome.add(put.path, Reason.CHANGED_SINCE)
        if outcome.problems:
            return
        for place in places:
            try:
                content, info = in_trash(place, record.outcome.bins.get(str(place), ""))
                beside = place.with_name(hidden_name(".tmp"))
                _borrow(content, beside)
            except (FileProblem, OSError) as error:
                problem = (
                    error if isinstance(error, FileProblem) else file_problem(error, "take out of the trash", place)
                )
                outcome.add_error(str(place), problem, Reason.BEFORE_NOT_BACK)
                continue
            borrowed.append((content, beside, info))
        if not outcome.problems:
            new = {
                place.name: (beside.name, os.lstat(beside).st_ino)
                for place, (_, beside, _) in zip(places, borrowed, strict=True)
            }
            seen = {name: identity(name, folder) for name in now}
            backup = put_in_place(folder, places[0].parent, new, old=list(now), seen=seen)
            swapped = Undone(outcome.target)
            settle_backup(backup, swapped, keep=True)
            outcome.issues += swapped.issues
            outcome.created += map(str, places)
            for content, _, info in borrowed:
                _remove_from_trash(content, info, outcome)
            job.advance(entries=len(puts))
    except (RundletError, OSError) as error:
        failure = file_problem(error, "undo", record.outcome.target) if isinstance(error, OSError) else error
        outcome.add_error(str(record.outcome.target), failure, Reason.STAYS_AS_IT_IS)
    finally:
        for _, beside, _ in borrowed:
            with contextlib.suppress(OSError):  # the next start removes it then
                beside.unlink(missing_ok=True)
        os.close(folder)


def _remove_from_trash(content: Path, info: Path, outcome: Undone) -> None:
    """Remove what has come back to its place from the trash; that it could not be is no fault of undoing."""
    try:
        content.unlink(missing_ok=True)
        info.unlink(missing_ok=True)
    except OSError as error:
        outcome.add_error(str(content), file_problem(error, "remove", content), Reason.STILL_IN_TRASH)


def _borrow(content: Path, beside: Path) -> None:
    """Have a file of the trash under another name too, so that it is there still when something goes wrong. Raises ``OSError``."""
    try:
        os.link(content, beside, follow_symlinks=False)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK, errno.EXDEV):
            raise
        try:
            shutil.copy2(content, beside, follow_symlinks=False)
            fd = os.open(beside, os.O_RDONLY | os.O_CLOEXEC)
            try:
                os.fsync(fd)
            finally:
                os.close(fd)
        except OSError:
            beside.unlink(missing_ok=True)
            raise


class _Taken:
    """Takes away what a job put on the disk, through descriptors of the folders, and nothing that only has its place.

    Args:
        to_trash: whether it goes to the trash rather than for good.
    """

    def __init__(self, record: Record, outcome: Undone, job: Job, *, to_trash: bool) -> None:
        self._outcome = outcome
        self._job = job
        self._to_trash = to_trash
        self._same_boot = record.boot == boot_id()
        self._stays: set[str] = set()

    def take(self, puts: Sequence[Put]) -> None:
        """Take away files, then the folders that are empty by then."""
        for put in puts:
            if not put.is_folder:
                self._take(put)
                self._job.advance(entries=1)
        folders = [put for put in puts if put.is_folder]
        for put in sorted(folders, key=lambda put: put.path.count("/"), reverse=True):
            self._take(put)
            self._job.advance(entries=1)

    def _take(self, put: Put) -> None:
        folder, name = os.path.split(put.path)
        try:
            with _opened(folder) as fd:
                status = os.stat(name, dir_fd=fd, follow_symlinks=False)
                if not put.is_still(status, same_boot=self._same_boot):
                    self._leave(put, Reason.ANOTHER_FOLDER if put.is_folder else Reason.CHANGED_SINCE)
                elif put.is_folder:
                    self._remove_folder(put, name, fd)
                elif self._to_trash:
                    trash_one(Path(put.path))
                    self._count(put)
                else:
                    os.unlink(name, dir_fd=fd)
                    self._count(put)
        except FileNotFoundError:
            return
        except (OSError, FileProblem) as error:
            why = error if isinstance(error, FileProblem) else file_problem(error, "remove", put.path)
            self._stays.add(put.path)
            self._outcome.add_error(put.path, why, Reason.NOT_REMOVED)

    def _remove_folder(self, put: Put, name: str, fd: int) -> None:
        try:
            os.rmdir(name, dir_fd=fd)
        except FileNotFoundError:
            return
        except OSError:
            if not any(path.startswith(put.path + "/") for path in self._stays):
                self._leave(put, Reason.FOLDER_NOT_EMPTY)

    def _leave(self, put: Put, why: Reason) -> None:
        self._stays.add(put.path)
        self._outcome.add(put.path, why)

    def _count(self, put: Put) -> None:
        self._outcome.files += 1
        self._outcome.bytes_out += put.size


@contextlib.contextmanager
def _opened(folder: str) -> Iterator[int]:
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield fd
    finally:
        os.close(fd)
