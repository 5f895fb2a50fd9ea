"""Add files and folders to an archive. What is in it stays as it is packed, and the same files are not added twice."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.changing import add_changing, run_change
from rundlet.cli.reading import add_files_from, named_items
from rundlet.core.plans.change_plan import AddClash, Addition, Changes

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (
    ("Add a file", "rundlet add photos.zip new.jpg"),
    (
        "Into a folder in the archive, in place of what is there",
        "rundlet add photos.zip new.jpg --into 2026 --on-clash replace",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet add`` takes."""
    add_changing(parser)
    parser.add_argument("items", type=Path, nargs="*", metavar="ITEM", help="files and folders that go in")
    add_files_from(parser, "also what FILE names")
    parser.add_argument("--into", default="", metavar="FOLDER", help="a folder in the archive; made when it is missing")
    parser.add_argument(
        "--on-clash",
        choices=[c.value for c in AddClash],
        default=AddClash.RENAME.value,
        help="what happens to names that are taken",
    )
    parser.add_argument("--level", type=int, choices=range(10), metavar="0-9", help="0 (uncompressed) to 9 (smallest)")
    parser.add_argument("--exclude", action="append", default=[], metavar="PATTERN", help="leave out what matches")


def run(options: argparse.Namespace, output: Output) -> int:
    """Add; 1 when something was left out."""
    items = named_items(options.items, options.files_from)
    added = [Addition(item, options.into) for item in items]
    return run_change(
        options,
        output,
        lambda reader, job: Changes(added=added),
        level=options.level,
        on_clash=AddClash(options.on_clash),
        exclude=options.exclude,
        source=items,
    )
