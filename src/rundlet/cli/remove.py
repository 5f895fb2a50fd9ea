"""Remove items from an archive: those whose path or name matches a pattern, and everything in folders that do."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from rundlet.cli.changing import add_changing, run_change
from rundlet.cli.matching import matching
from rundlet.core.plans.change_plan import Changes

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (("Remove all files that end in .tmp", "rundlet remove photos.zip '*.tmp'"),)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet remove`` takes."""
    add_changing(parser)
    parser.add_argument("patterns", nargs="+", metavar="PATTERN", help="such as photos, *.tmp or notes/*.txt")


def run(options: argparse.Namespace, output: Output) -> int:
    """Remove what matches."""
    return run_change(options, output, lambda reader, job: Changes(removed=matching(reader, options.patterns)))
