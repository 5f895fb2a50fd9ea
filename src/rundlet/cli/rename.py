"""Rename or move an item in an archive, a folder with everything in it."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from rundlet.cli.changing import add_changing, rows_or_error, run_change
from rundlet.core.plans.change_plan import Changes, moved_below

if TYPE_CHECKING:
    from rundlet.cli.render import Output
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job

EXAMPLES = (("Give a folder another name", "rundlet rename photos.zip 2026 'summer 2026'"),)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet rename`` takes."""
    add_changing(parser)
    parser.add_argument("old", metavar="OLD", help="its path in the archive")
    parser.add_argument("new", metavar="NEW", help="the path that it gets")


def run(options: argparse.Namespace, output: Output) -> int:
    """Rename."""

    def wanted(reader: ArchiveReader, _: Job) -> Changes:
        renamed = moved_below(reader, options.old, options.new)
        rows_or_error(list(renamed), reader, options.old)
        return Changes(renamed=renamed)

    return run_change(options, output, wanted)
