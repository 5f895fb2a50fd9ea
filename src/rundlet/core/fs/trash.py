"""The desktop's trash, from which things can come back (the FreeDesktop.org Trash specification, version 1.0)."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote

from rundlet.core.errors import Cancelled, FileProblem, file_problem, refused
from rundlet.core.fs.base_folders import data_home
from rundlet.core.fs.safe_names import first_free
from rundlet.core.jobs.findings import Reason
from rundlet.core.sentences import Sentence
from rundlet.core.streams.renaming import rename_new
from rundlet.core.streams.replacing import hidden_name

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome


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


def trash_one(path: Path) -> str:
    """Move one thing to the trash.

    Returns:
        The path of the info file that the trash keeps of it, which tells it from everything else that ever lay there; "" where
        that can't be found.

    Raises:
        FileProblem: when it can't be moved; it stays where it is then.
    """
    try:
        number = os.lstat(path).st_ino
        if os.path.islink(path) and not os.path.exists(path):
            return _trash_link(path)
        send_to_trash(path)
    except OSError as error:
        raise file_problem(error, "move to the trash", path) from error
    return next(_infos_of(path, number), "")


def send_to_trash(path: Path) -> None:
    """Move one thing to the desktop's trash.

    Raises:
        FileProblem: when its disk has none.
        OSError: when the system refuses.
    """
    from send2trash import TrashPermissionError, send2trash  # the window stands before anything goes to the trash

    try:
        send2trash(str(path))
    except TrashPermissionError as error:
        raise _no_trash(path) from error


def _no_trash(path: Path) -> FileProblem:
    return refused("move to the trash", path, Sentence("its disk has no trash"), errno.EACCES)


def _trash_link(path: Path) -> str:
    """Move a link that leads nowhere to the trash, which the library takes for something that is not there."""
    for can, top in _cans(path):
        try:
            if top is None:
                (can / "files").mkdir(parents=True, exist_ok=True, mode=0o700)
                (can / "info").mkdir(parents=True, exist_ok=True, mode=0o700)
            if os.lstat(can / "files").st_dev != os.lstat(path).st_dev:
                continue
        except OSError:
            continue
        name = first_free(path.name, lambda name, can=can: os.path.lexists(can / "info" / f"{name}.trashinfo"))  # type: ignore[misc]
        info = can / "info" / f"{name}.trashinfo"
        when = datetime.now().astimezone().strftime("%Y-%m-%dT%H:%M:%S")
        with info.open("x", encoding="ascii") as out:
            out.write(f"[Trash Info]\nPath={quote(os.fsencode(path))}\nDeletionDate={when}\n")
        try:
            rename_new(path, can / "files" / name)
        except OSError:
            info.unlink()
            raise
        return str(info)
    raise _no_trash(path)


def _infos_of(path: Path, number: int) -> Iterator[str]:
    """The info file of what was just moved to the trash, told by its file number."""
    for can, _ in _cans(path):
        files, info = can / "files", can / "info"
        try:
            if os.lstat(files / path.name).st_ino == number:
                yield str(info / f"{path.name}.trashinfo")
        except OSError:
            pass
        try:
            with os.scandir(files) as entries:
                yield from (str(info / f"{entry.name}.trashinfo") for entry in entries if entry.inode() == number)
        except OSError:
            continue


def trash_from_backup(backup: Path) -> str:
    """Move a file to the trash that was set aside in a folder of its own: it can come back to where that folder is.

    Returns:
        As :func:`trash_one`.

    Raises:
        FileProblem: when it can't be moved; it stays where it is then.
    """
    found = trash_one(backup)
    if found:
        info = Path(found)
        lines = info.read_text("utf-8", "surrogateescape").splitlines()
        for at, line in enumerate(lines):
            if line.startswith("Path="):
                folder, name = os.path.split(line.removeprefix("Path="))
                lines[at] = "Path=" + os.path.join(os.path.dirname(folder), name)  # noqa: PTH118, PTH120 - it is quoted text
        info.write_text("\n".join(lines) + "\n", "utf-8", "surrogateescape")
    return found


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
