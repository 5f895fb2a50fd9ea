"""Bring an archive up to date with a folder: what is new or newer there is put in, and nothing else is packed again."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.changing import add_changing, run_change
from rundlet.core.errors import PlanError
from rundlet.core.plans.bring_up_to_date import differences
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.cli.render import Output
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.plans.change_plan import Changes

EXAMPLES = (
    ("Put in what is new or newer in the folder", "rundlet update photos.zip photos"),
    ("And take out what the folder no longer has", "rundlet update photos.zip photos --delete-gone"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet update`` takes."""
    add_changing(parser)
    parser.add_argument("folder", type=Path, metavar="FOLDER", help="the folder on the disk")
    parser.add_argument(
        "--into", metavar="PATH", help="the folder in the archive that it stands for; otherwise the one of its name"
    )
    parser.add_argument(
        "--delete-gone", action="store_true", help="remove from the archive what the folder no longer has"
    )
    parser.add_argument("--compare-content", action="store_true", help="compare files of the same size and time, too")
    parser.add_argument("--exclude", action="append", default=[], metavar="PATTERN", help="leave out what matches")


def run(options: argparse.Namespace, output: Output) -> int:
    """Bring up to date; 0 also when there is nothing to do."""
    same = [0]

    def wanted(reader: ArchiveReader, job: Job) -> Changes:
        found = differences(
            reader,
            options.folder,
            into=options.into,
            delete_gone=options.delete_gone,
            compare_content=options.compare_content,
            exclude=options.exclude,
            job=job,
        )
        output.issues(found.issues)
        if not (found.changes.items or found.changes.removed):
            same[0] = found.same
            raise _UpToDate
        return found.changes

    try:
        return run_change(options, output, wanted, source=[options.folder])
    except _UpToDate:
        output.say(say("Nothing to do: {count:file is|files are} up to date.", count=same[0]))
        if output.json:
            output.value({"up_to_date": True, "files": same[0]})
        return 0


class _UpToDate(PlanError):
    """There is nothing to do."""

    def __init__(self) -> None:
        super().__init__("The archive is up to date.")
