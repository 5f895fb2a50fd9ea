"""Taking back what a job did: its files go, as far as nobody changed them since, and what it moved away comes back."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from rundlet.core.errors import FileProblem, PlanError
from rundlet.core.files.aside import kept_aside
from rundlet.core.files.journal import Put, Record
from rundlet.core.files.moving import move_into, move_to
from rundlet.core.files.trash import from_trash, trash_one
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.text import plural, quoted, shown


def undo(record: Record, puts: Sequence[Put], job: Job | None = None) -> Report:
    """Take a job back.

    Originals that went to the trash come back first. An archive goes to the trash, and what it replaced comes back. What was
    unpacked or copied goes to the trash when what it came from is gone or was changed since; otherwise it is there still, so it
    is deleted. What was changed since stays and is named, and so does a folder with something else in it.

    Raises:
        PlanError: when it was taken back already.
    """
    if record.undone:
        raise PlanError("That was taken back already.")
    job = job or Job()
    started = time.monotonic()
    report = Report("undo", Path(record.target))
    job.begin("Taking it back", total_entries=len(puts) + len(record.trashed) + len(record.moved))
    _move_back(record, job, report)
    packed = record.verb in ("pack", "add")
    if packed:
        _give_back(record, job, report)
        if report.problems:
            report.add(record.target, "stays, as not all of the originals could be given back")
            report.seconds = time.monotonic() - started
            return report
    keep_in_trash = packed or not all(_is_unchanged(path, record) for path in record.source)
    for put in sorted(puts, key=lambda put: put.size < 0):
        if put.size >= 0:
            if put.path in record.replaced:
                _put_back(put, report)
            else:
                _take_away(put, report, to_trash=keep_in_trash)
            job.advance(entries=1)
    for put in sorted((put for put in puts if put.size < 0), key=lambda put: put.path.count("/"), reverse=True):
        _remove_folder(put, report)
        job.advance(entries=1)
    if packed:
        here = {put.path for put in puts}
        _give_back(replace(record, trashed=tuple(path for path in record.replaced if path not in here)), job, report)
    else:
        _give_back(record, job, report)
    report.seconds = time.monotonic() - started
    return report


def _is_unchanged(source: str, record: Record) -> bool:
    """Whether what a job took is there as it was then; nothing else may be there under its name by now."""
    end = datetime.fromisoformat(record.when).timestamp() + 1  # it was written down in whole seconds
    try:
        status = os.lstat(source)
    except OSError:
        return False
    return stat.S_ISREG(status.st_mode) and status.st_mtime < end


def _move_back(record: Record, job: Job, report: Report) -> None:
    for before, after in reversed(record.moved):
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
        try:
            from_trash(Path(path))
            report.created.append(path)
        except FileProblem as error:
            report.add(shown(path), f"could not be given back ({error.reason})")
        job.advance(entries=1)


def _is_as_it_was(put: Put, report: Report) -> bool:
    try:
        status = os.lstat(put.path)
    except FileNotFoundError:
        return False
    except OSError:
        report.add(shown(put.path), "could not be looked at and stays")
        return False
    if (status.st_size, status.st_mtime_ns) != (put.size, put.mtime_ns):
        report.add(shown(put.path), "was changed since and stays")
        return False
    return True


def _put_back(put: Put, report: Report) -> None:
    """What stood in this place before comes back, in one step, and what stands there now goes to the trash."""
    if os.path.lexists(put.path) and not _is_as_it_was(put, report):
        return
    path, swapped = Path(put.path), Report("undo", report.target)
    try:
        with kept_aside([path], swapped):
            from_trash(path, over=True)
    except FileProblem as error:
        report.add(shown(put.path), f"stays, as what was there before could not be given back ({error.reason})")
        return
    report.issues += swapped.issues
    report.created.append(put.path)


def _take_away(put: Put, report: Report, *, to_trash: bool) -> None:
    if not _is_as_it_was(put, report):
        return
    try:
        if to_trash:
            trash_one(Path(put.path))
        else:
            Path(put.path).unlink()
    except (OSError, FileProblem):
        report.add(shown(put.path), "could not be taken away")
        return
    report.files += 1
    report.bytes_out += put.size


def _remove_folder(put: Put, report: Report) -> None:
    try:
        Path(put.path).rmdir()
    except FileNotFoundError:
        return
    except OSError:
        if not any(issue.about.startswith(shown(put.path)) for issue in report.issues):
            report.add(shown(put.path), "stays, as something else is in it")


def undo_words(record: Record) -> str:
    """What taking a job back does, in a few words."""
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
        return f"Take away what was copied into {name}"
    if record.verb == "trash":
        return f"Give {plural(len(record.trashed), 'item')} back from the trash"
    back = " and give back what was replaced" if record.trashed else ""
    back += " and move the archive back" if record.moved else ""
    return f"Take away what was unpacked into {name}{back}"
