"""Put Rundlet into the menu and make it known to the desktop, take it away again, or say what is there."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.text import shown
from rundlet.integration.archive_types import Part
from rundlet.integration.installer import Presence, install, remove, status, write_files
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.cli.render import Output

_WORDS = {
    Presence.THERE: "{path}: is there",
    Presence.CHANGED: "{path}: is somebody else's, or was changed, and is left as it is",
    Presence.OLD: "{path}: is of another version",
    Presence.MISSING: "{path}: is missing",
}

EXAMPLES = (
    ("Into the menu", "rundlet desktop install"),
    ("Away again, without a trace", "rundlet desktop remove"),
    ("For those who make packages", "rundlet desktop files --into share"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet desktop`` takes."""
    parser.add_argument("what", choices=["install", "remove", "status", "files"], help="what is to be done")
    parser.add_argument(
        "--part",
        action="append",
        choices=[part.value for part in Part],
        help="only this part of it: the menu of programs, the menus of file managers, or manual pages and completions",
    )
    parser.add_argument(
        "--into", type=Path, metavar="DIR", help="with files: the folder for what packages put into share"
    )


def run(options: argparse.Namespace, output: Output) -> int:
    """Do it; 1 when not all of it is there, or not all of it could go."""
    if options.what == "files":
        if options.into is None:
            raise PlanError("Say where the files are to be written, with --into.")
        written = write_files(options.into)
        output.say(say("Wrote {count:file|files} into {into}.", count=len(written), into=options.into))
        output.value([{"path": str(path), "presence": Presence.THERE.value} for path in written])
        return 0
    parts = [Part(part) for part in options.part or Part]
    if options.what == "remove":
        stays = remove(parts)
        for path in stays:
            output.say(say("{path}: was changed, and stays", path=shown(str(path))))
        all_gone = "Rundlet is no longer in the menu." if Part.MENU in parts else "It was removed."
        output.say(all_gone if not stays else "The rest was removed.")
        if output.json:
            output.value({"stays": [str(path) for path in stays]})
        return int(bool(stays))
    found = install(parts=parts) if options.what == "install" else [one for one in status() if one.part in parts]
    for each in found:
        output.data(say(_WORDS[each.presence], path=shown(str(each.path))))
    if output.json:
        output.value([{"path": str(each.path), "presence": each.presence.value} for each in found])
    return int(any(each.presence is not Presence.THERE for each in found))
