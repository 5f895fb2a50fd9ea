"""The desktop's trash, from which things can come back (the FreeDesktop.org Trash specification, version 1.0)."""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import quote, unquote

import platformdirs
from send2trash import TrashPermissionError, send2trash

from rundlet.core.errors import FileProblem, file_problem
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.text import quoted, shown


def to_trash(paths: Sequence[Path], report: Report, job: Job) -> None:
    """Move things to the trash; what can't be moved stays where it is and is named in the report."""
    for path in paths:
        try:
            trash_one(path)
        except FileProblem as error:
            report.add(shown(str(path)), f"stays where it is ({error.reason})")
        else:
            report.trashed.append(str(path))
        job.advance(entries=1)


def trash_one(path: Path) -> None:
    """Move one thing to the trash.

    Raises:
        FileProblem: when it can't be moved; it stays where it is then.
    """
    try:
        send2trash(str(path))
    except TrashPermissionError as error:
        reason = "its disk has no trash"
        raise FileProblem(
            f"Could not move {quoted(str(path))} to the trash: {reason}.", errno=error.errno or 0, reason=reason
        ) from error
    except OSError as error:
        raise file_problem(error, "move to the trash", path) from error


def trash_from_aside(aside: Path) -> None:
    """Move a file to the trash that was set aside in a folder of its own: it can come back to where that folder is.

    Raises:
        FileProblem: when it can't be moved; it stays where it is then.
    """
    trash_one(aside)
    found = max(_entries(aside), key=lambda entry: entry[0], default=None)
    if found is None:
        return
    info = found[1]
    lines = info.read_text("utf-8", "surrogateescape").splitlines()
    for at, line in enumerate(lines):
        if line.startswith("Path="):
            folder, name = os.path.split(line.removeprefix("Path="))
            lines[at] = "Path=" + os.path.join(os.path.dirname(folder), name)  # noqa: PTH118, PTH120 - it is quoted text
    info.write_text("\n".join(lines) + "\n", "utf-8", "surrogateescape")


def from_trash(path: Path, *, over: bool = False) -> None:
    """Give back what was last moved to the trash from this place.

    Args:
        over: whether it takes the place of a file that stands there now, in one step.

    Raises:
        FileProblem: when it is not in the trash any more, its place is taken, or the system refuses.
    """
    if os.path.lexists(path) and not over:
        raise FileProblem(f"The place of {quoted(str(path))} is taken.", errno=0, reason="its place is taken")
    found = max(_entries(path), key=lambda entry: entry[0], default=None)
    if found is None:
        raise FileProblem(f"{quoted(str(path))} is not in the trash any more.", errno=0, reason="not in the trash")
    _, info, content = found
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".rundlet-{secrets.token_hex(8)}.tmp") if over else path
        shutil.move(content, beside)
        if over:
            beside.replace(path)
        info.unlink()
    except OSError as error:
        raise file_problem(error, "take out of the trash", path) from error


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
    yield Path(platformdirs.user_data_dir()) / "Trash", None
    top = path.parent
    while not os.path.ismount(top) and top != top.parent:
        top = top.parent
    user = os.getuid()
    yield top / ".Trash" / str(user), top
    yield top / f".Trash-{user}", top
