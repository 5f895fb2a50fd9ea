"""Undoing what a job did: its files go, as far as nobody changed them since, and what it moved away comes back."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from rundlet.core.errors import FileProblem, PlanError, RundletError, file_problem
from rundlet.core.fs.moving import move_into, move_to
from rundlet.core.fs.replaced import settle_backup
from rundlet.core.fs.trash import from_trash, in_trash, trash_one
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.streams.replacing import hidden_name, identity, put_in_place
from rundlet.core.streams.sinks import open_folder
from rundlet.core.text import plural, quoted, shown
from rundlet.core.userdata.journal import Put, Record, boot_id, stamp

_PACKED = ("pack", "add")


def undo(record: Record, puts: Sequence[Put], job: Job | None = None, report: Report | None = None) -> Report:
    """Undo a job. It can be tried again when not all of it could be undone.

    Originals that went to the trash come back first. An archive goes to the trash, and what it replaced comes back, in one
    step. What was unpacked or copied goes to the trash when what it came from is gone or was changed since; otherwise it is
    there still, so it is deleted. What was changed since stays and is named, and so does a folder with something else in it.

    Args:
        puts: what the job put on the disk.
        report: filled as the work goes on; a new one by default.

    Raises:
        PlanError: when it was undone already.
    """
    if record.undone:
        raise PlanError("That was undone already.")
    job = job or Job()
    started = time.monotonic()
    report = report if report is not None else Report("undo", Path(record.target))
    job.begin("Undoing", total_entries=len(puts) + len(record.trashed) + len(record.moved))
    _move_back(record, job, report)
    if record.verb in _PACKED:
        _undo_packing(record, puts, job, report)
    else:
        _Taken(record, report, job, to_trash=not deletes(record)).take(puts)
        _give_back(record, job, report)
    report.seconds = time.monotonic() - started
    return report


def deletes(record: Record) -> bool:
    """Whether undoing a job deletes files for good: those that are still in the archive that they came from."""
    if record.verb != "unpack" or not record.stamps:
        return False
    same_boot = record.boot == boot_id()
    for path, before in zip(record.source, record.stamps, strict=False):
        now = stamp(path)
        if now[1:] != before[1:] or now[1] < 0 or (same_boot and now[0] != before[0]):
            return False
    return True


def _undo_packing(record: Record, puts: Sequence[Put], job: Job, report: Report) -> None:
    _give_back(record, job, report)
    if report.problems:
        report.add(record.target, "stays, as not all of the originals could be given back")
    elif record.replaced:
        with noted([Path(record.replaced[0]).parent]):
            _put_back(record, puts, job, report)
    else:
        _Taken(record, report, job, to_trash=True).take(puts)


def _move_back(record: Record, job: Job, report: Report) -> None:
    for before, after in reversed(record.moved):
        if before in record.back:
            continue
        if not os.path.lexists(after):
            report.add(shown(after), "is not there any more, so it can't be moved back")
        elif os.path.lexists(before):
            report.add(shown(after), "stays, as its place is taken")
        else:
            _move_one_back(Path(after), Path(before), report, job)
        job.advance(entries=1)


def _move_one_back(path: Path, before: Path, report: Report, job: Job) -> None:
    try:
        before.parent.mkdir(parents=True, exist_ok=True)
        if move_to(path, before) is None:
            there = Report("move", before.parent)
            move_into([path], before.parent, there, job)
            report.issues += there.issues
            if there.problems:
                return
    except (OSError, FileProblem) as error:
        reason = error.reason if isinstance(error, FileProblem) else error.strerror
        report.add(shown(str(path)), f"could not be moved back ({reason})")
        return
    report.created.append(str(before))


def _give_back(record: Record, job: Job, report: Report) -> None:
    for path in record.trashed:
        if path in record.back:
            continue
        try:
            from_trash(Path(path), record.bins.get(path, ""))
            report.created.append(path)
        except FileProblem as error:
            report.add(shown(path), f"could not be given back ({error.reason})")
        job.advance(entries=1)


def _put_back(record: Record, puts: Sequence[Put], job: Job, report: Report) -> None:
    """What stood in the places of an archive before comes back, all of it in one step; what is there now goes to the trash."""
    same_boot = record.boot == boot_id()
    places = [Path(path) for path in record.replaced]
    folder = open_folder(places[0].parent)
    borrowed: list[
        tuple[Path, Path, Path]
    ] = []  # what lies in the trash, its hidden name beside its place, its info file
    try:
        now = {Path(put.path).name: put for put in puts if identity(Path(put.path).name, folder) is not None}
        for name, put in now.items():
            if not put.is_still(os.stat(name, dir_fd=folder, follow_symlinks=False), same_boot=same_boot):
                report.add(shown(put.path), "was changed since and stays")
        if report.problems:
            return
        for place in places:
            try:
                content, info = in_trash(place, record.bins.get(str(place), ""))
                beside = place.with_name(hidden_name(".tmp"))
                _borrow(content, beside)
            except (FileProblem, OSError) as error:
                problem = (
                    error if isinstance(error, FileProblem) else file_problem(error, "take out of the trash", place)
                )
                report.add(
                    shown(str(place)), f"stays, as what was there before could not be given back ({problem.reason})"
                )
                continue
            borrowed.append((content, beside, info))
        if not report.problems:
            new = {
                place.name: (beside.name, os.lstat(beside).st_ino)
                for place, (_, beside, _) in zip(places, borrowed, strict=True)
            }
            seen = {name: identity(name, folder) for name in now}
            backup = put_in_place(folder, places[0].parent, new, old=list(now), seen=seen)
            swapped = Report("undo", report.target)
            settle_backup(backup, swapped, keep=True)
            report.issues += swapped.issues
            report.created += map(str, places)
            for content, _, info in borrowed:
                content.unlink(missing_ok=True)
                info.unlink(missing_ok=True)
            job.advance(entries=len(puts))
    except (RundletError, OSError) as error:
        failure = file_problem(error, "undo", record.target) if isinstance(error, OSError) else error
        report.add(record.target, f"stays as it is: {failure.message.rstrip('.')}")
    finally:
        for _, beside, _ in borrowed:
            beside.unlink(missing_ok=True)
        os.close(folder)


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

    def __init__(self, record: Record, report: Report, job: Job, *, to_trash: bool) -> None:
        self._report = report
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
                    self._leave(
                        put, "was changed since and stays" if not put.is_folder else "is another folder now and stays"
                    )
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
            reason = error.reason if isinstance(error, FileProblem) else file_problem(error, "remove", put.path).reason
            self._leave(put, f"could not be removed ({reason})")

    def _remove_folder(self, put: Put, name: str, fd: int) -> None:
        try:
            os.rmdir(name, dir_fd=fd)
        except FileNotFoundError:
            return
        except OSError:
            if not any(path.startswith(put.path + "/") for path in self._stays):
                self._leave(put, "stays, as something else is in it")

    def _leave(self, put: Put, why: str) -> None:
        self._stays.add(put.path)
        self._report.add(shown(put.path), why)

    def _count(self, put: Put) -> None:
        self._report.files += 1
        self._report.bytes_out += put.size


@contextlib.contextmanager
def _opened(folder: str) -> Iterator[int]:
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield fd
    finally:
        os.close(fd)


def undo_label(record: Record) -> str:
    """What the button says that undoes a job; what can't be undone itself is said there."""
    return f"Delete {plural(record.files, 'unpacked file')}" if record.files and deletes(record) else "Undo"


def undo_words(record: Record) -> str:
    """What undoing a job does, in a few words."""
    name = quoted(Path(record.target).name)
    if record.verb in ("pack", "add"):
        back = " and give the originals back" if record.trashed else ""
        if record.replaced:
            return f"Give back {name} as it was before{' and the originals' if back else ''}"
        return (
            f"Move {name} to the trash{back}"
            if record.verb == "pack"
            else "Give the originals back; what was added stays"
        )
    if record.verb == "rename":
        return f"Give {name} its name from before"
    if record.verb == "folder":
        return f"Take the folder {name} away, if nothing is in it"
    if record.verb == "move":
        return f"Move {plural(len(record.moved), 'item')} back"
    if record.verb == "copy":
        return f"Move what was copied into {name} to the trash"
    if record.verb == "trash":
        return f"Give {plural(len(record.trashed), 'item')} back from the trash"
    back = " and give back what was replaced" if record.trashed else ""
    back += " and move the archive back" if record.moved else ""
    where = f"what was unpacked into {name}"
    return f"Delete {where}{back}" if deletes(record) else f"Move {where} to the trash{back}"
