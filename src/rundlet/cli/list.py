"""Say what is in an archive."""

from __future__ import annotations

import argparse
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from rundlet.cli.archives import add_reading, given_password, open_given
from rundlet.core.errors import RundletError
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Entry, Kind
from rundlet.core.text import iso_time, plural, shown, size

if TYPE_CHECKING:
    from rundlet.cli.render import Output
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.catalog import Catalog


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet list`` takes."""
    parser.add_argument("archive", type=Path)
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Print the entries; 1 when something is wrong with the table of contents."""
    printer = _Printer(output)
    found = None if output.json else printer.show
    reader = open_given(options.archive, options, given_password(options), found, keeps=False)
    try:
        if output.json:
            entries = [_value(reader, entry) for entry in reader.catalog]
            output.value({"format": reader.info.id, "entries": entries})
        else:
            printer.finish(reader)
        return int(output.issues(reader.notices))
    finally:
        reader.close()


def _value(reader: ArchiveReader, entry: Entry) -> dict[str, Any]:
    return {
        "path": entry.path.rstrip("/") or entry.path,
        "size": None if entry.size == UNKNOWN else entry.size,
        "packed": None if entry.packed == UNKNOWN else entry.packed,
        "kind": entry.kind.word,
        "mtime": None if entry.mtime_ns == NO_TIME else iso_time(entry.mtime_ns),
        "mode": entry.mode or None,
        "encrypted": entry.encrypted,
        "target": _target(reader, entry),
    }


def _target(reader: ArchiveReader, entry: Entry) -> str | None:
    if entry.kind not in (Kind.LINK, Kind.HARD):
        return None
    try:
        return reader.link_target(entry.row)
    except RundletError:
        return None


class _Printer:
    """Prints entries as they are found, and the rest when the archive is open."""

    def __init__(self, output: Output) -> None:
        self._output = output
        self._printed = 0

    def show(self, catalog: Catalog) -> None:
        """Print some more entries; where links point is not known yet."""
        for entry in catalog:
            self._line(entry, None)

    def finish(self, reader: ArchiveReader) -> None:
        """Print the entries that were not printed yet, and what they are all together."""
        for row in range(self._printed, len(reader.catalog)):
            entry = reader.catalog.entry(row)
            self._line(entry, _target(reader, entry))
        total = int(np.maximum(reader.catalog.size, 0).sum())
        entries = plural(len(reader.catalog), "entry")
        self._output.say(f"{entries}, {size(total)}, packed to {size(reader.source.size)}")

    def _line(self, entry: Entry, target: str | None) -> None:
        self._printed += 1
        when = ""
        if entry.mtime_ns != NO_TIME:
            when = datetime.fromtimestamp(entry.mtime_ns // 1_000_000_000, UTC).astimezone().strftime("%Y-%m-%d %H:%M")
        arrow = f" → {shown(target)}" if target is not None else ""
        how_large = "folder" if entry.kind == Kind.DIR else size(entry.size)
        self._output.say(f"{how_large:>10}  {when:16}  {shown(entry.path)}{arrow}")
