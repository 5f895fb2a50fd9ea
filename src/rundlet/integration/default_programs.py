"""Which archives the desktop opens with Rundlet: the person's own file of associations (Association between MIME types and
applications 1.0.1), of which everything else stays as it is."""

from __future__ import annotations

import os
from pathlib import Path

from rundlet.core.errors import FileProblem, file_problem
from rundlet.core.fs.atomic_files import keep_text
from rundlet.core.fs.base_folders import config_home, data_home
from rundlet.integration.icons import APP_ID

_ENTRY = f"{APP_ID}.desktop"
_DEFAULT, _REMOVED = "[Default Applications]", "[Removed Associations]"


def opens_with_rundlet(types: tuple[str, ...]) -> bool:
    """Whether the person has Rundlet open all these types before every other program."""
    try:
        lines = _lines()
    except FileProblem:
        return False
    first = {type_: programs[:1] for type_, programs in _programs(lines, _DEFAULT).items()}
    return all(first.get(type_) == [_ENTRY] for type_ in types)


def has_entry() -> bool:
    """Whether there is an entry of Rundlet, which is what is named in that file."""
    system = os.environ.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    folders = [data_home(), *map(Path, filter(None, system.split(":")))]
    return any((folder / "applications" / _ENTRY).exists() for folder in folders)


def set_opened(types: tuple[str, ...], *, opens: bool) -> None:
    """Have Rundlet open these types before every other program, or no longer; what was chosen before comes next, or again.

    Raises:
        FileProblem: when the file can't be read or written.
    """
    before = _lines()
    now = _changed(before, _DEFAULT, types, first=opens)
    if opens:
        now = _changed(now, _REMOVED, types, first=False)
    if now == before:
        return
    file = _file()
    try:
        if any(line.strip() and not line.startswith("[") for line in now):
            keep_text(file, "".join(f"{line}\n" for line in now))
        else:
            file.unlink(missing_ok=True)  # nothing is left in it that somebody has written
    except OSError as error:
        raise file_problem(error, "write", file) from error


def _file() -> Path:
    file = config_home() / "mimeapps.list"
    return Path(os.path.realpath(file))  # it may be kept somewhere else and linked to


def _lines() -> list[str]:
    """The lines of the file, of which there are none where it is missing. Raises ``FileProblem`` when it can't be read."""
    file = _file()
    try:
        return file.read_text("utf-8", "surrogateescape").splitlines()
    except FileNotFoundError:
        return []
    except OSError as error:
        raise file_problem(error, "read", file) from error


def _programs(lines: list[str], group: str) -> dict[str, list[str]]:
    """The programs for each type in a group."""
    found: dict[str, list[str]] = {}
    inside = False
    for line in lines:
        if line.startswith("["):
            inside = line.strip() == group
        elif inside and "=" in line and not line.startswith("#"):
            type_, _, programs = line.partition("=")
            found[type_.strip()] = [each for each in programs.strip().split(";") if each]
    return found


def _changed(lines: list[str], group: str, types: tuple[str, ...], *, first: bool) -> list[str]:
    """The lines with Rundlet as the first program for some types in a group, or nowhere there."""
    missing = list(types) if first else []
    changed: list[str] = []
    inside, end = False, -1
    for line in lines:
        if line.startswith("["):
            inside = line.strip() == group
        type_ = line.partition("=")[0].strip()
        if inside and type_ in types and "=" in line:
            others = [each for each in _programs([group, line], group)[type_] if each != _ENTRY]
            programs = [_ENTRY, *others] if first else others
            missing = [each for each in missing if each != type_]
            if not programs:
                continue
            line = f"{type_}={';'.join(programs)};"
        changed.append(line)
        if inside and line.strip():
            end = len(changed)
    if missing and end < 0:
        changed += ["", group] if changed else [group]
        end = len(changed)
    changed[end:end] = [f"{type_}={_ENTRY};" for type_ in missing] if missing else []
    return changed
