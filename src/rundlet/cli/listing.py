"""Say what is in an archive."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path
from typing import Any

from rundlet.cli.opening import add_reading, given_password, open_given
from rundlet.cli.render import Output
from rundlet.core.errors import RundletError
from rundlet.core.formats.base import NO_TIME, UNKNOWN, ArchiveReader, Entry, Kind
from rundlet.core.text import iso_time, plural, shown, size


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet list`` takes."""
    parser.add_argument("archive", type=Path)
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Print the entries; 1 when something is wrong with the table of contents."""
    reader = open_given(options.archive, options, given_password(options))
    try:
        if output.json:
            entries = [_value(reader, entry) for entry in reader.catalog]
            output.value({"format": reader.info.id, "entries": entries})
        else:
            _print(reader, output)
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


def _print(reader: ArchiveReader, output: Output) -> None:
    total = 0
    for entry in reader.catalog:
        is_folder = entry.kind == Kind.DIR
        total += max(entry.size, 0)
        when = ""
        if entry.mtime_ns != NO_TIME:
            when = datetime.fromtimestamp(entry.mtime_ns // 1_000_000_000).strftime("%Y-%m-%d %H:%M")
        target = _target(reader, entry)
        arrow = f" → {shown(target)}" if target is not None else ""
        output.say(f"{'folder' if is_folder else size(entry.size):>10}  {when:16}  {shown(entry.path)}{arrow}")
    output.say(f"{plural(len(reader.catalog), 'entry')}, {size(total)}, packed to {size(reader.source.size)}")
