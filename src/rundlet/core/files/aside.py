"""Keeping what is replaced: it is set aside before, and goes to the trash once the new one stands in its place."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from rundlet.core.errors import FileProblem
from rundlet.core.files.names import first_free
from rundlet.core.files.trash import trash_from_aside
from rundlet.core.jobs.report import Report
from rundlet.core.text import quoted


@contextmanager
def kept_aside(places: Iterable[Path], report: Report) -> Iterator[None]:
    """While this is open, files are put in these places in one step; afterwards what stood there is in the trash.

    What is set aside is one more name of the same file, so that the place is never empty. When what is done meanwhile
    fails, nothing has happened. A disk that keeps no second names, or none of the trash, is said in the report.
    """
    there = [place for place in places if os.path.lexists(place)]
    asides = {place: aside for place in there if (aside := _set_aside(place)) is not None}
    try:
        yield
        for place in there:
            if place in asides:
                _settle(asides[place], place, report)
            else:
                report.add(place.name, "was replaced for good, as its disk does not keep a file twice", problem=False)
    finally:
        for aside in asides.values():
            aside.unlink(missing_ok=True)
            aside.parent.rmdir()


def _set_aside(place: Path) -> Path | None:
    folder = place.parent / f".rundlet-{secrets.token_hex(8)}"
    try:
        folder.mkdir(mode=0o700)
        try:
            os.link(place, folder / place.name, follow_symlinks=False)
        except OSError:
            folder.rmdir()
            return None
    except OSError:
        return None
    return folder / place.name


def _settle(aside: Path, place: Path, report: Report) -> None:
    try:
        trash_from_aside(aside)
    except FileProblem as error:
        name = first_free(place.name, lambda name: os.path.lexists(place.parent / name))
        aside.rename(place.parent / name)
        report.add(place.name, f"the one before is kept as {quoted(name)} ({error.reason})", problem=False)
    else:
        report.replaced.append(str(place))
