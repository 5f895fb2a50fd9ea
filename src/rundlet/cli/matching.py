"""Which items of an archive the command line means: by patterns, or by a list of paths."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.cli.reading import listed_in
from rundlet.core.errors import PlanError
from rundlet.core.model.patterns import Patterns
from rundlet.core.text import plain_path, quoted

if TYPE_CHECKING:
    import argparse
    from collections.abc import Iterable, Sequence

    from rundlet.core.formats.base import ArchiveReader

_MOST_SAID = 3


def matching(reader: ArchiveReader, patterns: Sequence[str], *, needed: bool = True) -> list[int]:
    """The rows that a pattern chooses; see :mod:`rundlet.core.model.patterns`.

    Args:
        needed: whether there must be some.

    Raises:
        PlanError: when there are none though there must be.
    """
    wanted = Patterns(map(plain_path, patterns))
    rows = [row for row, entry in enumerate(reader.catalog) if wanted.choose(plain_path(entry.path))]
    if not rows and needed:
        listed = ", ".join(map(quoted, patterns))
        raise PlanError("Nothing in {name:name} matches {patterns}.", name=reader.source.name, patterns=listed)
    return rows


def chosen_rows(reader: ArchiveReader, options: argparse.Namespace) -> list[int]:
    """The rows that ``--only`` and ``--files-from`` name, without those that ``--exclude`` does; all by default.

    Raises:
        RundletError: when they name something that is not there.
    """
    rows: Sequence[int] = range(len(reader.catalog))
    if options.only or options.files_from is not None:
        named = set(matching(reader, options.only)) if options.only else set()
        rows = sorted(named | set(listed_rows(reader, listed_in(options.files_from)) if options.files_from else ()))
    if excluded := getattr(options, "exclude", None):
        left_out = set(matching(reader, excluded, needed=False))
        rows = [row for row in rows if row not in left_out]
    return list(rows)


def listed_rows(reader: ArchiveReader, paths: Iterable[str]) -> list[int]:
    """The rows of items that a list names by their whole paths, folders with everything in them.

    Raises:
        PlanError: when one of them is not in the archive.
    """
    wanted = {plain_path(path).rstrip("/") for path in paths}
    found: set[str] = set()
    rows = []
    for row, entry in enumerate(reader.catalog):
        path = plain_path(entry.path).rstrip("/")
        steps = path.split("/")
        here = next((place for count in range(len(steps), 0, -1) if (place := "/".join(steps[:count])) in wanted), None)
        if here is not None:
            found.add(here)
            rows.append(row)
    missing = sorted(wanted - found)
    if missing:
        raise PlanError(
            "{count:item of the list is|items of the list are} not in {name:name}: {paths}.",
            count=len(missing),
            name=reader.source.name,
            paths=", ".join(map(quoted, missing[:_MOST_SAID])) + (" …" if len(missing) > _MOST_SAID else ""),
        )
    return rows
