"""List what is in an archive."""

from __future__ import annotations

import argparse
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.reading import STDIN, add_reading
from rundlet.cli.render import issue_values, with_progress
from rundlet.core.errors import RundletError
from rundlet.core.model.entry import NO_TIME, UNKNOWN, Entry, Kind
from rundlet.core.text import iso_time, shown, size
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.cli.render import Output
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.forward_reading import ForwardArchive
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.catalog import Catalog

EXAMPLES = (
    ("See what is in an archive", "rundlet list photos.zip"),
    ("The same for a program", "rundlet list --json photos.zip"),
    ("What is in an archive that another program sends", "fetch-it | rundlet list -"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet list`` takes."""
    parser.add_argument(
        "archive", type=Path, metavar="ARCHIVE", help="the archive, or any of its parts; “-” for standard input"
    )
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Print the entries; 1 when something is wrong with the file list."""
    if (small := _small(options)) is not None:
        return _list_small(options.archive, small, output)
    from rundlet.cli.archives import given_password, is_piped, open_given  # with all that readers need

    if is_piped(options.archive):
        return _list_piped(options, output)
    printer = _Printer(output)
    found = None if output.json else printer.show
    reader, _ = open_given(options.archive, options, given_password(options), found, keeps=False, names_only=True)
    try:
        if output.json:
            entries = [_value(entry, _target(reader, entry)) for entry in reader.catalog]
            output.value({"format": reader.info.id, "items": entries, "issues": issue_values(reader.notices)})
        else:
            printer.finish(reader)
        return int(output.issues(reader.notices))
    finally:
        reader.close()


def _list_piped(options: argparse.Namespace, output: Output) -> int:
    """Print the entries of what comes through standard input as they come; those of a zip by its file list, which comes last."""
    from rundlet.cli.archives import piped_archive

    printer = _Printer(output)
    values: list[dict[str, Any]] = []
    waiting: list[Catalog] = []

    def tell(catalog: Catalog, reader: ArchiveReader | None) -> None:
        for entry in catalog:
            target = _target(reader, entry) if reader is not None else None
            if output.json:
                values.append(_value(entry, target))
            else:
                printer.line(entry, target)

    def work(job: Job) -> ForwardArchive:
        job.begin("Reading the list")
        with piped_archive(options, job, job.advance) as archive:
            for reader in archive.pieces():
                if archive.list_comes_last:
                    waiting.append(reader.catalog)
                else:
                    tell(reader.catalog, reader)
                reader.close()
            for catalog in waiting if archive.listed is None else [archive.listed.catalog]:
                tell(catalog, archive.listed)
            return archive

    archive = with_progress(work)
    if output.json:
        output.value({"format": archive.info.id, "items": values, "issues": issue_values(archive.notices)})
    else:
        printer.end(archive.raw.position)
    return int(output.issues(archive.notices))


def _small(options: argparse.Namespace) -> list[Entry] | None:
    """The entries, where that takes no more than a look at a small ordinary zip."""
    if options.password_stdin or options.password_fd is not None or options.code_page is not None:
        return None
    if str(options.archive) == STDIN:
        return None
    from rundlet.core.formats.small_zip import list_small_zip

    return list_small_zip(options.archive)


def _list_small(archive: Path, entries: list[Entry], output: Output) -> int:
    printer = _Printer(output)
    if output.json:
        output.value({"format": "zip", "items": [_value(entry, None) for entry in entries], "issues": []})
        return 0
    for entry in entries:
        printer.line(entry, None)
    printer.sums(len(entries), sum(entry.size for entry in entries), archive.stat().st_size)
    return 0


def _value(entry: Entry, target: str | None) -> dict[str, Any]:
    return {
        "path": entry.path.rstrip("/") or entry.path,
        "size": None if entry.size == UNKNOWN else entry.size,
        "packed": None if entry.packed == UNKNOWN else entry.packed,
        "kind": entry.kind.word,
        "mtime": None if entry.mtime_ns == NO_TIME else iso_time(entry.mtime_ns),
        "mode": entry.mode or None,
        "encrypted": entry.encrypted,
        "target": target,
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
        self._printed = self._total = 0

    def show(self, catalog: Catalog) -> None:
        """Print some more entries; where links point is not known yet."""
        for entry in catalog:
            self.line(entry, None)

    def finish(self, reader: ArchiveReader) -> None:
        """Print the entries that were not printed yet, and what they are all together."""
        for row in range(self._printed, len(reader.catalog)):
            entry = reader.catalog.entry(row)
            self.line(entry, _target(reader, entry))
        self.end(reader.source.size)

    def end(self, packed: int) -> None:
        """Print what all entries are together."""
        self.sums(self._printed, self._total, packed)

    def sums(self, count: int, total: int, packed: int) -> None:
        """Print what all entries are together, in bytes."""
        self._output.say(
            say("{count:item|items}, {total:size}, packed to {packed:size}", count=count, total=total, packed=packed)
        )

    def line(self, entry: Entry, target: str | None) -> None:
        """Print one entry, and where it points."""
        self._printed += 1
        self._total += max(entry.size, 0)
        when = ""
        if entry.mtime_ns != NO_TIME:
            when = datetime.fromtimestamp(entry.mtime_ns // 1_000_000_000, UTC).astimezone().strftime("%Y-%m-%d %H:%M")
        arrow = f" → {shown(target)}" if target is not None else ""
        how_large = "folder" if entry.kind == Kind.DIR else size(entry.size)
        self._output.data(f"{how_large:>10}  {when:16}  {shown(entry.path)}{arrow}")
