"""Patterns on the command line, as all verbs take them."""

from __future__ import annotations

import fnmatch
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.text import plain_path, quoted

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader


def matching(reader: ArchiveReader, patterns: list[str], *, needed: bool = True) -> list[int]:
    """The rows whose path, name or one of whose folders matches a pattern.

    Args:
        needed: whether there must be some.

    Raises:
        PlanError: when there are none though there must be.
    """
    rows = [row for row, entry in enumerate(reader.catalog) if _matches(plain_path(entry.path), patterns)]
    if not rows and needed:
        listed = ", ".join(map(quoted, patterns))
        raise PlanError("Nothing in {name:name} matches {patterns}.", name=reader.source.name, patterns=listed)
    return rows


def _matches(path: str, patterns: list[str]) -> bool:
    steps = path.split("/")
    places = [path, steps[-1]] + ["/".join(steps[:i]) for i in range(1, len(steps))]
    return any(fnmatch.fnmatchcase(place, plain_path(pattern)) for place in places for pattern in patterns)
