"""Small changes on the disk that a person makes while choosing: a new folder, another name."""

from __future__ import annotations

import os
from pathlib import Path

from rundlet.core.errors import Clash, PlanError, file_problem
from rundlet.core.fs.safe_names import first_free
from rundlet.core.limits import MAX_COMPONENT
from rundlet.core.streams.renaming import rename_new


def new_folder(parent: Path, name: str = "New folder") -> Path:
    """Make a folder, numbered when the name is taken.

    Raises:
        FileProblem: when the system refuses.
    """
    while True:
        candidate = parent / first_free(name, lambda other: os.path.lexists(parent / other))
        try:
            candidate.mkdir()
        except FileExistsError:  # somebody made it since the look
            continue
        except OSError as error:
            raise file_problem(error, "make the folder", candidate) from error
        return candidate


def rename(path: Path, name: str) -> Path:
    """Give a file or folder another name in the same place; nothing is ever replaced.

    Raises:
        PlanError: when it is no name for a file.
        Clash: when the name is taken.
        FileProblem: when the system refuses.
    """
    if not name or name in (".", "..") or "/" in name or "\0" in name or len(os.fsencode(name)) > MAX_COMPONENT:
        raise PlanError("{name:name} can't be the name of a file.", name=name)
    target = path.with_name(name)
    if target == path:
        return path
    if os.path.lexists(target) and not (path.name.casefold() == name.casefold() and target.samefile(path)):
        raise Clash("There is a {name:name} already.", name=name)
    try:
        if os.path.lexists(target):
            path.rename(target)  # on a disk that takes both for one name, which changes its case
        else:
            rename_new(path, target)
    except FileExistsError as error:
        raise Clash("There is a {name:name} already.", name=name) from error
    except OSError as error:
        raise file_problem(error, "rename", path) from error
    return target
