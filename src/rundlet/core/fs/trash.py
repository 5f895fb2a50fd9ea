"""The desktop's trash, from which things can come back (the FreeDesktop.org Trash specification, version 1.0)."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import stat
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote

from rundlet.core.errors import Cancelled, FileProblem, file_problem, refused
from rundlet.core.fs.base_folders import data_home
from rundlet.core.fs.disk_space import existing_parent
from rundlet.core.fs.safe_names import first_free
from rundlet.core.jobs.findings import Reason
from rundlet.core.sentences import Sentence
from rundlet.core.streams.renaming import rename_new
from rundlet.core.streams.replacing import hidden_name
from rundlet.core.streams.sinks import put_file

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome

_TRIES = 100  # to find a free name while others take names too


def to_trash(paths: Sequence[Path], outcome: Outcome, job: Job) -> None:
    """Move things to the trash; what can't be moved stays where it is and is named in the outcome.

    Work that is cancelled has done what it has done, which the outcome says; the rest stays.
    """
    before = len(outcome.trashed)
    for number, path in enumerate(paths):
        try:
            job.checkpoint()
            outcome.bins[str(path)] = trash_one(path)
        except FileProblem as error:
            outcome.add_error(str(path), error, Reason.STAYS)
        except Cancelled:
            if len(outcome.trashed) == before:
                raise
            outcome.add(path.parent.name, Reason.REST_STAYED, count=len(paths) - number)
            return
        else:
            outcome.trashed.append(str(path))
            with contextlib.suppress(Cancelled):  # which the next one meets
                job.advance(entries=1)


def trash_one(path: Path, *, place: Path | None = None) -> str:
    """Move one thing to the trash.

    The info file is there, whole, before the thing moves, so that a job that is killed in between leaves no thing without one
    (section "Contents of a trash directory").

    Args:
        path: the thing; links are not followed.
        place: where the trash shall say that it came from; by default ``path``.

    Returns:
        The path of the info file, which tells it from everything else that ever lay in the trash.

    Raises:
        FileProblem: when it can't be moved or its disk has no trash; it stays where it is then.
    """
    try:
        device = os.lstat(path).st_dev
        for can, top in _cans(path):
            if top is None and os.stat(existing_parent(can)).st_dev != device:
                continue
            if _is_made(can, top) and (info := _moved_into(can, top, path, place or path)):
                return info
    except OSError as error:
        raise file_problem(error, "move to the trash", path) from error
    raise refused("move to the trash", path, Sentence("its disk has no trash"), errno.EACCES)


def _is_made(can: Path, top: Path | None) -> bool:
    """Whether a trash can is there, after it was made where it was not. The shared one of a disk's owner is never made.

    Raises:
        OSError: when the one of the home folder can't be made.
    """
    if top is not None and can.parent != top:
        try:
            status = os.lstat(can.parent)
        except OSError:
            return False
        if not (stat.S_ISDIR(status.st_mode) and status.st_mode & stat.S_ISVTX):  # else others could put links there
            return False
    try:
        if top is not None:
            with contextlib.suppress(FileExistsError):
                can.mkdir(mode=0o700)
            mine = os.lstat(can)
            if not stat.S_ISDIR(mine.st_mode) or mine.st_uid != os.getuid():  # what others put there leads anywhere
                return False
        (can / "info").mkdir(parents=True, exist_ok=True, mode=0o700)
        (can / "files").mkdir(exist_ok=True, mode=0o700)
    except OSError:
        if top is None:
            raise
        return False
    return True


def _moved_into(can: Path, top: Path | None, path: Path, place: Path) -> str:
    """Move a thing into a trash can; the path of its info file, or "" where the can is on another disk."""
    shown = place.relative_to(top) if top is not None and place.is_relative_to(top) else place
    when = datetime.now().astimezone().strftime("%Y-%m-%dT%H:%M:%S")
    words = f"[Trash Info]\nPath={quote(os.fsencode(shown))}\nDeletionDate={when}\n".encode("ascii")
    folder = os.open(can / "info", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for _ in range(_TRIES):
            name = first_free(
                place.name, lambda name: os.path.lexists(can / "files" / name) or os.path.lexists(_info(can, name))
            )
            info = _info(can, name)
            try:
                put_file(folder, info.name, words, mode=0o600, times=None)
            except FileExistsError:
                continue
            try:
                rename_new(path, can / "files" / name)
            except OSError as error:
                info.unlink()
                if error.errno == errno.EXDEV:
                    return ""
                if error.errno != errno.EEXIST:
                    raise
            else:
                return str(info)
    finally:
        os.close(folder)
    raise OSError(errno.EEXIST, os.strerror(errno.EEXIST))


def _info(can: Path, name: str) -> Path:
    return can / "info" / f"{name}.trashinfo"


def from_trash(path: Path, info: str = "") -> None:
    """Give back what was moved to the trash from this place; nothing that stands there now is replaced.

    Args:
        info: what :func:`trash_one` said of it; "" for the last thing that was moved there from this place.

    Raises:
        FileProblem: when it is not in the trash any more, its place is taken, or the system refuses.
    """
    content, found = in_trash(path, info)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        try:
            rename_new(content, path)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            beside = path.with_name(hidden_name(".tmp"))
            shutil.move(content, beside)
            rename_new(beside, path)
        found.unlink()
    except FileExistsError as error:
        raise FileProblem(
            "The place of {path:name} is taken.", errno=0, cause=Sentence("its place is taken"), path=str(path)
        ) from error
    except OSError as error:
        raise file_problem(error, "take out of the trash", path) from error


def in_trash(path: Path, info: str = "") -> tuple[Path, Path]:
    """What was moved to the trash from a place, and its info file.

    Args:
        info: as for :func:`from_trash`.

    Raises:
        FileProblem: when it is not in the trash any more.
    """
    if info:
        content = Path(info).parent.parent / "files" / Path(info).stem
        if os.path.lexists(info) and os.path.lexists(content):
            return content, Path(info)
    else:
        found = max(_entries(path), key=lambda entry: entry[0], default=None)
        if found is not None:
            return found[2], found[1]
    raise FileProblem(
        "{path:name} is not in the trash any more.", errno=0, cause=Sentence("not in the trash"), path=str(path)
    )


def _entries(path: Path) -> Iterator[tuple[tuple[str, int], Path, Path]]:
    """What the trash cans hold of a place: when it came there, its info file, and itself."""
    for can, top in _cans(path):
        names = {quote(os.fsencode(path))}
        if top is not None and path.is_relative_to(top):
            names.add(quote(os.fsencode(path.relative_to(top))))
        try:
            infos = [Path(entry.path) for entry in os.scandir(can / "info") if entry.name.endswith(".trashinfo")]
        except OSError:
            continue
        for info in infos:
            fields = _fields(info)
            content = can / "files" / info.stem
            if quote(unquote(fields.get("Path", ""))) in names and os.path.lexists(content):
                yield (fields.get("DeletionDate", ""), info.stat().st_mtime_ns), info, content


def _fields(info: Path) -> dict[str, str]:
    try:
        lines = info.read_text("utf-8", "surrogateescape").splitlines()
    except OSError:
        return {}
    return dict(line.split("=", 1) for line in lines if "=" in line)


def _cans(path: Path) -> Iterator[tuple[Path, Path | None]]:
    """The trash cans that this place may have gone to, each with the top of its disk where names are kept from there."""
    yield data_home() / "Trash", None
    top = path.parent
    while not os.path.ismount(top) and top != top.parent:
        top = top.parent
    user = os.getuid()
    yield top / ".Trash" / str(user), top
    yield top / f".Trash-{user}", top
