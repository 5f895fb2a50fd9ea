"""The programs of the desktop that open files of a type, by the descriptions that the desktop keeps of them.

What a description holds is laid down in the Desktop Entry Specification, and where they are in the Base Directory Specification.
"""

from __future__ import annotations

import configparser
import os
import shlex
import shutil
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QLocale, QMimeDatabase, QProcess, QStandardPaths

_GROUP = "Desktop Entry"


@dataclass(frozen=True, slots=True)
class Program:
    """A program as the desktop knows it.

    Attributes:
        name: for people.
        command: its words, with field codes for the files.
    """

    name: str
    command: tuple[str, ...]

    def words_for(self, path: Path) -> list[str]:
        """The words that open a file with it (Desktop Entry Specification, section "The Exec key")."""
        words: list[str] = []
        took_file = False
        for word in self.command:
            if word in ("%f", "%F", "%u", "%U"):
                words.append(str(path))
                took_file = True
            elif word == "%c":
                words.append(self.name)
            elif not (len(word) == 2 and word[0] == "%" and word != "%%"):
                words.append(word.replace("%%", "%"))
        return words if took_file else [*words, str(path)]

    def open(self, path: Path) -> bool:
        """Open a file with it; whether it could be started."""
        program, *arguments = self.words_for(path)
        started = QProcess.startDetached(program, arguments)
        return started[0] if isinstance(started, tuple) else bool(started)


def programs_for(path: Path) -> list[Program]:
    """The programs that say they open files like this one, sorted by their names."""
    kind = QMimeDatabase().mimeTypeForFile(str(path))
    kinds = {kind.name(), *kind.aliases(), *kind.allAncestors()} - {"application/octet-stream"}
    found: dict[str, Program | None] = {}
    for folder in QStandardPaths.standardLocations(QStandardPaths.StandardLocation.ApplicationsLocation):
        for file in sorted(Path(folder).glob("**/*.desktop")):
            known_as = "-".join(file.relative_to(folder).parts)
            if known_as not in found:  # the first folder counts; it may also take a program away
                found[known_as] = _read(file, kinds)
    programs = {program.name: program for program in found.values() if program is not None}
    return sorted(programs.values(), key=lambda program: program.name.casefold())


def _read(file: Path, kinds: set[str]) -> Program | None:
    """The program that a file describes; None when it does not open files of these types, or is not there."""
    reader = configparser.RawConfigParser(strict=False, delimiters=("=",), comment_prefixes=("#",))
    reader.optionxform = str  # type: ignore[assignment,method-assign]
    try:
        reader.read(file, "utf-8")
        told = dict(reader[_GROUP])
    except (OSError, UnicodeDecodeError, configparser.Error, KeyError):
        return None
    hidden = "true" in (told.get("Hidden"), told.get("NoDisplay"), told.get("Terminal"))
    if hidden or told.get("Type") != "Application" or not kinds & set(told.get("MimeType", "").split(";")):
        return None
    wanted = told.get("TryExec")
    try:
        command = tuple(shlex.split(told.get("Exec", "")))
    except ValueError:
        return None
    if not command or shutil.which(os.path.expanduser(wanted or command[0])) is None:  # noqa: PTH111
        return None
    return Program(_localized(told, "Name") or file.stem, command)


def _localized(told: dict[str, str], key: str) -> str:
    """A value in the person's language where there is one."""
    language = QLocale.system().name()
    names = (f"{key}[{language}]", f"{key}[{language.partition('_')[0]}]", key)
    return next((told[name] for name in names if name in told), "")
