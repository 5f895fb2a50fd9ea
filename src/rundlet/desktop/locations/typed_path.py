"""A place as a path that can be typed: on the disk, and on into an archive as if it were a folder."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from urllib.parse import unquote, urlsplit

from rundlet.core.errors import PlanError, file_problem
from rundlet.desktop.locations.place import Place


def path_words(place: Place) -> str:
    """The path of a place; of an archive within another one, that of the outermost, as only that lies on the disk."""
    while place.outer is not None:
        place = place.outer
    path = place.archive or place.folder
    return str(path / place.inner)


def typed_place(words: str, at: Path) -> Place:
    """The place that a typed path means.

    Args:
        words: a path, one that starts with ``~``, or a ``file`` address.
        at: the folder that a path without a beginning is in.

    Raises:
        PlanError: when nothing is there.
        FileProblem: when the system does not let it be looked at.
    """
    words = words.strip()
    if words.startswith("file://"):
        words = unquote(urlsplit(words).path)
    whole = at / os.path.expanduser(words)  # noqa: PTH111 - a Path raises where there is no such person
    path = Path(os.path.abspath(whole))
    for candidate in (path, *path.parents):
        try:
            mode = candidate.stat().st_mode
        except (FileNotFoundError, NotADirectoryError, ValueError):  # the last for what no path can hold
            continue
        except OSError as error:
            raise file_problem(error, "open", candidate) from error
        if candidate == path and stat.S_ISDIR(mode):
            return Place(path)
        if stat.S_ISREG(mode):
            inner = path.relative_to(candidate).as_posix()
            return Place(candidate.parent, archive=candidate, inner="" if inner == "." else inner)
        break
    raise PlanError("There is no {path:name}. Check the path.", path=str(path))
