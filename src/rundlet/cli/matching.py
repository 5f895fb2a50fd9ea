"""Which items of an archive the command line means: by patterns, or by a list of paths."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from rundlet.cli.reading import listed_in
from rundlet.core.errors import PlanError
from rundlet.core.model.patterns import Patterns
from rundlet.core.text import plain_path, quoted

if TYPE_CHECKING:
    import argparse
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader

_MOST_SAID = 3


def matching(reader: ArchiveReader, patterns: Sequence[str], *, needed: bool = True) -> list[int]:
    """The rows that a pattern chooses; see :mod:`rundlet.core.model.patterns`.

    Args:
        needed: whether there must be some.

    Raises:
        PlanError: when there are none though there must be.
    """
    wanted = Patterns(map(plain_path, patterns), partial(_paths_in, reader))
    rows = [row for row, entry in enumerate(reader.catalog) if wanted.choose(plain_path(entry.path))]
    if not rows and needed:
        raise _no_match(reader.source.name, patterns)
    return rows


def _paths_in(reader: ArchiveReader) -> Iterator[str]:
    return (plain_path(entry.path) for entry in reader.catalog)


class Selection:
    """What ``--only`` and ``--files-from`` name, without what ``--exclude`` does; looked for in one archive, or in its pieces.

    Raises:
        RundletError: when a list can't be read.
    """

    def __init__(self, options: argparse.Namespace) -> None:
        self._patterns: Sequence[str] = options.only
        self._exclude: Sequence[str] = getattr(options, "exclude", None) or ()
        self._only = self._excluded = Patterns(())
        self._is_listed = options.files_from is not None
        self._listed = {plain_path(path).rstrip("/") for path in listed_in(options.files_from)}
        self._found: set[str] = set()
        self._any_matched = False

    def __bool__(self) -> bool:
        return bool(self._patterns or self._exclude or self._is_listed)

    def rows(self, reader: ArchiveReader) -> NDArray[np.int64] | None:
        """The rows that are chosen; None for all of them."""
        if not self:
            return None
        self._only = Patterns(map(plain_path, self._patterns), partial(_paths_in, reader))
        self._excluded = Patterns(map(plain_path, self._exclude), partial(_paths_in, reader))
        rows = [row for row, entry in enumerate(reader.catalog) if self._chooses(plain_path(entry.path))]
        return np.array(rows, np.int64)

    def _chooses(self, path: str) -> bool:
        matches = not self._is_listed and not self._only
        if self._only and self._only.choose(path):
            matches = self._any_matched = True
        if self._is_listed and (place := self._listed_above(path.rstrip("/"))) is not None:
            matches = True
            self._found.add(place)
        return matches and not self._excluded.choose(path)

    def _listed_above(self, path: str) -> str | None:
        """What the list names of an item and the folders that it lies in."""
        steps = path.split("/")
        places = ("/".join(steps[:count]) for count in range(len(steps), 0, -1))
        return next((place for place in places if place in self._listed), None)

    def settle(self, name: str) -> None:
        """All of the archive was seen.

        Raises:
            PlanError: when something was named that is not in it.
        """
        if self._patterns and not self._any_matched:
            raise _no_match(name, self._patterns)
        missing = sorted(self._listed - self._found)
        if missing:
            raise PlanError(
                "{count:item of the list is|items of the list are} not in {name:name}: {paths}.",
                count=len(missing),
                name=name,
                paths=", ".join(map(quoted, missing[:_MOST_SAID])) + (" …" if len(missing) > _MOST_SAID else ""),
            )


def _no_match(name: str, patterns: Sequence[str]) -> PlanError:
    return PlanError("Nothing in {name:name} matches {patterns}.", name=name, patterns=", ".join(map(quoted, patterns)))


def chosen_rows(reader: ArchiveReader, selection: Selection) -> NDArray[np.int64] | None:
    """The rows of an archive that are chosen; None for all of them.

    Raises:
        PlanError: when something is named that is not there.
    """
    rows = selection.rows(reader)
    selection.settle(reader.source.name)
    return rows
