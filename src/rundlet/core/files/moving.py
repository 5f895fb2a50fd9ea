"""Copying and moving files and folders on the disk. Nothing is ever replaced: a name that is taken is numbered."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import uuid
from collections.abc import Sequence
from pathlib import Path

from rundlet.core.errors import FileProblem, file_problem
from rundlet.core.files.names import first_free
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.limits import CHUNK
from rundlet.core.text import shown


def copy_into(paths: Sequence[Path], folder: Path, report: Report, job: Job) -> None:
    """Copy things into a folder; what can't be copied is named in the report. Cancelled work leaves nothing."""
    made: list[Path] = []
    try:
        for path in paths:
            target = _copied(path, folder, report, job)
            if target is not None:
                made.append(target)
            job.advance(entries=1)
    except BaseException:
        for target in made:
            _remove(target, report)
        raise
    for target in made:
        report.created += _everything(target)


def copy_as(path: Path, target: Path, report: Report, job: Job) -> None:
    """Copy one file under a name, numbered when it is taken; as :func:`copy_into`."""
    made = _copied(path, target.parent, report, job, name=target.name)
    report.created += [str(made)] if made is not None else []


def move_into(paths: Sequence[Path], folder: Path, report: Report, job: Job) -> None:
    """Move things into a folder; what can't be moved stays and is named in the report.

    Work that is cancelled moves back what it moved on the same disk.
    """
    try:
        for path in paths:
            job.checkpoint()
            if path.parent != folder:
                _move_one(path, folder, report, job)
    except BaseException:
        for before, after in reversed(report.moved):
            with contextlib.suppress(FileProblem):
                move_to(Path(after), Path(before))
        raise


def _move_one(path: Path, folder: Path, report: Report, job: Job) -> None:
    why = _refused(path, folder)
    if why:
        report.add(shown(path.name), why)
        return
    try:
        target = move_to(path, free_path(folder / path.name))
    except FileProblem as error:
        report.add(shown(path.name), f"stays where it is ({error.reason})")
        return
    if target is None:  # another disk
        before = len(report.problems)
        target = _copied(path, folder, report, job)
        if target is None or len(report.problems) > before:
            return
        _remove(path, report)
    report.moved.append((str(path), str(target)))
    job.advance(entries=1)


def move_to(path: Path, target: Path) -> Path | None:
    """Move one thing to a free place on the same disk; None when that is on another one.

    Raises:
        FileProblem: when the system refuses or the place is taken.
    """
    if os.path.lexists(target):
        raise FileProblem(f"The place of {shown(str(target))} is taken.", errno=0, reason="its place is taken")
    try:
        path.rename(target)
    except OSError as error:
        if error.errno == errno.EXDEV:
            return None
        raise file_problem(error, "move", path) from error
    return target


def free_path(path: Path) -> Path:
    """The path itself, or the first numbered one beside it that is not taken."""
    return path.with_name(first_free(path.name, lambda name: os.path.lexists(path.with_name(name))))


def _refused(path: Path, folder: Path) -> str:
    if not os.path.lexists(path):
        return "is not there any more"
    if path.is_dir() and not path.is_symlink() and folder.resolve().is_relative_to(path.resolve()):
        return "can't go into itself"
    return ""


def _copied(path: Path, folder: Path, report: Report, job: Job, *, name: str = "") -> Path | None:
    """A copy under a free name; it is made under another name first, so that no half of it ever has its own."""
    why = _refused(path, folder)
    if why:
        report.add(shown(path.name), why)
        return None
    half = folder / f".{uuid.uuid4().hex}.part"
    try:
        if path.is_symlink():
            half.symlink_to(path.readlink())
        elif path.is_dir():
            shutil.copytree(
                path, half, symlinks=True, copy_function=lambda a, b: _copy_file(Path(a), Path(b), report, job)
            )
        elif path.is_file():
            _copy_file(path, half, report, job)
        else:
            report.add(shown(path.name), "was left out: it is a device or a pipe")
            return None
        target = free_path(folder / (name or path.name))
        half.rename(target)
        return target
    except shutil.Error as error:
        for which, _, why in error.args[0]:
            report.add(shown(Path(which).name), f"could not be copied ({why})")
        target = free_path(folder / (name or path.name))
        half.rename(target)
        return target
    except OSError as error:
        report.add(shown(path.name), f"could not be copied ({file_problem(error, 'copy', path).reason})")
        return None
    finally:
        if half.is_dir() and not half.is_symlink():
            shutil.rmtree(half, ignore_errors=True)
        else:
            half.unlink(missing_ok=True)


def _copy_file(path: Path, target: Path, report: Report, job: Job) -> None:
    if not path.is_file():
        raise OSError("it is a device or a pipe")
    with path.open("rb") as source, target.open("xb") as out:
        while data := source.read(4 * CHUNK):
            out.write(data)
            report.bytes_out += len(data)
            job.advance(len(data))
    shutil.copystat(path, target)
    report.files += 1


def _remove(path: Path, report: Report) -> None:
    try:
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path)
        else:
            path.unlink()
    except OSError as error:
        report.add(shown(path.name), f"was copied, but stays here too ({file_problem(error, 'remove', path).reason})")


def _everything(path: Path) -> list[str]:
    found = [str(path)]
    if path.is_dir() and not path.is_symlink():
        for folder, dirs, files in os.walk(path):
            found += [os.path.join(folder, name) for name in (*dirs, *files)]  # noqa: PTH118 - may be very many
    return found
