"""Putting Rundlet into a person's own folders, taking it away without a trace, and saying what is there."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from rundlet.core.errors import PlanError, file_problem
from rundlet.core.fs.atomic_files import keep_bytes, keep_text
from rundlet.core.fs.base_folders import config_home, data_home, state_folder
from rundlet.integration.archive_types import MIME_TYPES, PART_TYPE, Part
from rundlet.integration.default_programs import set_opened
from rundlet.integration.files import all_files, part_of
from rundlet.integration.menus import with_custom_actions

_LIST = "desktop-files.json"
_TOOLS = (
    ("update-desktop-database", "applications"),
    ("update-mime-database", "mime"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)
_MADE_BY_TOOLS = ("applications/mimeinfo.cache", "icons/hicolor/icon-theme.cache")
_MIME_DATABASE = (
    *("aliases", "generic-icons", "globs", "globs2", "icons", "magic"),
    *("mime.cache", "subclasses", "treemagic", "types", "version", "XMLnamespaces"),
)
_PATIENCE = 60  # seconds


class Presence(StrEnum):
    """What is so of one file."""

    THERE = "there"
    CHANGED = "changed"
    """It was changed since it was put there, or is somebody else's."""
    OLD = "old"
    """It is of another version."""
    MISSING = "missing"


@dataclass(frozen=True, slots=True)
class Placed:
    """One file, and what is so of it."""

    path: Path
    presence: Presence
    part: Part = Part.MENU


def program() -> str:
    """How Rundlet is started: by its name where that is found, else by its whole path.

    Raises:
        PlanError: when it runs from no program of its own.
    """
    here = Path(sys.argv[0]).absolute()
    found = shutil.which("rundlet")
    if found is not None and (not here.name.startswith("rundlet") or Path(found).samefile(here)):
        return "rundlet" if Path(found).parent in _usual_folders() else found
    if here.name == "rundlet" and os.access(here, os.X_OK):
        return str(here)
    beside = Path(sys.executable).with_name("rundlet")
    if beside.exists():
        return str(beside)
    raise PlanError("There is no program named rundlet to start.", hint="Install it first, such as with pip.")


def _usual_folders() -> list[Path]:
    return [Path("/usr/bin"), Path("/usr/local/bin"), Path("/bin")]


def status(command: str | None = None) -> list[Placed]:
    """What is there of each file."""
    known, wanted = _known(), all_files(command or program())
    found = []
    for name in sorted(wanted):
        path = data_home() / name
        try:
            there = path.read_bytes()
        except OSError:
            found.append(Placed(path, Presence.MISSING, part_of(name)))
            continue
        is_ours = known.get(name) == _digest(there)
        presence = Presence.THERE if there == wanted[name] else Presence.OLD if is_ours else Presence.CHANGED
        found.append(Placed(path, presence, part_of(name)))
    return found


def install(command: str | None = None, parts: Collection[Part] = tuple(Part)) -> list[Placed]:
    """Put everything in its place. What somebody else put there, or changed, is left as it is.

    Args:
        parts: what is wanted of it.

    Returns:
        What is there afterwards, of these parts.

    Raises:
        FileProblem: when a file can't be written.
    """
    command = command or program()
    known, wanted = _known(), all_files(command)
    for name, content in wanted.items():
        if part_of(name) not in parts:
            continue
        path = data_home() / name
        if os.path.lexists(path) and known.get(name) != _digest(_content(path)) and _content(path) != content:
            continue
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            half = path.with_name(f".{path.name}.new")
            half.write_bytes(content)
            half.chmod(_mode(name, content))
            half.replace(path)
        except OSError as error:
            raise file_problem(error, "write", path) from error
        known[name] = _digest(content)
        _note(known)
    if Part.FILE_MANAGERS in parts:
        _set_custom_actions(command, there=True)
    _tell_the_desktop()
    return [placed for placed in status(command) if placed.part in parts]


def _mode(name: str, content: bytes) -> int:
    """The permissions of a file: file managers run no scripts and service menus but those that may be run."""
    return 0o755 if content.startswith(b"#!") or name.startswith("kio/") else 0o644


def write_files(folder: Path, command: str = "rundlet") -> list[Path]:
    """Write all files below another folder, for a package that has them in its ``share``; what stands there is replaced.

    Raises:
        FileProblem: when a file can't be written.
    """
    written = []
    for name, content in all_files(command).items():
        path = folder / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
            path.chmod(_mode(name, content))
        except OSError as error:
            raise file_problem(error, "write", path) from error
        written.append(path)
    return written


def remove(parts: Collection[Part] = tuple(Part)) -> list[Path]:
    """Take everything away that was put there, but what was changed since; and the folders that are empty then.

    Args:
        parts: what is to go.

    Returns:
        What stays, as it was changed.
    """
    stays = []
    known = _known()
    for name, digest in sorted(known.items()):
        if part_of(name) not in parts:
            continue
        path = data_home() / name
        del known[name]
        if not os.path.lexists(path):
            continue
        if _digest(_content(path)) != digest:
            stays.append(path)
            continue
        try:
            path.unlink()
        except OSError as error:
            raise file_problem(error, "remove", path) from error
        _remove_empty(path.parent)
    if Part.FILE_MANAGERS in parts:
        _set_custom_actions("rundlet", there=False)
    if Part.MENU in parts:
        set_opened(MIME_TYPES, opens=False)
    listed = state_folder() / _LIST
    if known:
        _note(known)
    else:
        listed.unlink(missing_ok=True)
        with contextlib.suppress(OSError):
            listed.parent.rmdir()  # where nothing else was ever done
    _tell_the_desktop()
    _remove_what_tools_left()
    return stays


def _set_custom_actions(command: str, *, there: bool) -> None:
    """Put our entries into the file that one of the file managers keeps them in, or take them out; only where it is used.

    Raises:
        FileProblem: when the file can't be written.
    """
    folder = config_home() / "Thunar"
    file = folder / "uca.xml"
    if not folder.is_dir() or not (there or file.exists()):
        return
    before = _content(file)
    try:
        now = with_custom_actions(before, command, there=there)
    except ValueError:
        return  # it is not what it should be, and not ours to mend
    if not there and b"rundlet-" not in before:
        return
    try:
        keep_bytes(file, now)
    except OSError as error:
        raise file_problem(error, "write", file) from error


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _known() -> dict[str, str]:
    """What was put there, with its checksum."""
    try:
        values = json.loads((state_folder() / _LIST).read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return {str(name): str(digest) for name, digest in values.items()} if isinstance(values, dict) else {}


def _note(known: dict[str, str]) -> None:
    keep_text(state_folder() / _LIST, json.dumps(known, indent=1))


def _remove_empty(folder: Path) -> None:
    """Remove a folder, and those above it, as far as they are empty and below the folder of data."""
    root = data_home()
    while folder != root and folder.is_relative_to(root):
        try:
            folder.rmdir()
        except OSError:
            return
        folder = folder.parent


def _tell_the_desktop() -> None:
    """Let the desktop's own tools make its databases anew, where they are there."""
    for tool, folder in _TOOLS:
        place = data_home() / folder
        found = shutil.which(tool)
        if found is not None and place.is_dir():
            words = [found, "-q", "-t", str(place)] if tool.startswith("gtk") else [found, str(place)]
            with contextlib.suppress(OSError, subprocess.SubprocessError):
                subprocess.run(words, check=False, capture_output=True, timeout=_PATIENCE)


def _remove_what_tools_left() -> None:
    """Databases of nothing go, too."""
    root = data_home()
    for name in _MADE_BY_TOOLS:
        path = root / name
        others = [other for other in path.parent.iterdir() if other != path] if path.parent.is_dir() else []
        if not others:
            path.unlink(missing_ok=True)
            _remove_empty(path.parent)
    mime = root / "mime"
    packages = mime / "packages"
    if mime.is_dir() and not (packages.is_dir() and any(packages.iterdir())):
        for path in (each for each in mime.iterdir() if each.name in _MIME_DATABASE):
            path.unlink()
        ours = mime / f"{PART_TYPE}.xml"
        ours.unlink(missing_ok=True)
        _remove_empty(ours.parent if ours.parent.is_dir() else mime)
