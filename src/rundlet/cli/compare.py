"""Compare an archive with a folder or another archive: what is the same, differs, or is on one side only."""

from __future__ import annotations

import argparse
import time
from contextlib import ExitStack, closing
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.reading import add_reading
from rundlet.cli.render import issue_values, with_progress
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.streams.parts import files_of
from rundlet.core.work.compared_sides import ArchiveSide, FolderSide, Side
from rundlet.core.work.comparer import State, compare, names_in, outcome_of
from rundlet.presentation.comparisons import comparison_values, item_line
from rundlet.presentation.outcomes import compared_words

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (
    ("Is all of the folder in the archive?", "rundlet compare photos.zip photos"),
    ("Byte for byte", "rundlet compare --certain photos.zip photos"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet compare`` takes."""
    parser.add_argument("archive", type=Path, metavar="ARCHIVE")
    parser.add_argument("other", type=Path, metavar="OTHER", help="a folder on the disk, or another archive")
    parser.add_argument("--certain", action="store_true", help="read all content and compare it byte for byte")
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Compare; 0 when both are the same, 1 when not."""
    password, started = given_password(options), time.monotonic()
    with ExitStack() as held:
        reader = held.enter_context(closing(open_given(options.archive, options, password)[0]))
        here = ArchiveSide(reader)
        if options.other.is_dir():
            own = files_of(reader.source)
            folder, only = names_in(options.other.absolute(), ArchiveTree(reader.catalog))
            there: Side = with_progress(lambda job: FolderSide(folder, only, job, without=own))
        else:
            there = ArchiveSide(held.enter_context(closing(open_given(options.other, options, password)[0])))
        found = with_progress(lambda job: compare(here, there, job, certain=options.certain))
        outcome = outcome_of(found, options.archive, started)
        states = (State.DIFFERS, State.MOVED, State.ONLY_HERE, State.ONLY_THERE)
        rows = [row for state in states for row in found.rows(state)]
        if output.json:
            facts = ("differing", "only_here", "only_there", "moved_items", "certain", "all_there")
            value = {"archive": str(options.archive), "other": str(options.other), "same": outcome.files}
            value |= {name: getattr(outcome, name) for name in facts}
            output.value(value | {"items": comparison_values(found), "issues": issue_values(found.issues)})
        for row in rows:
            output.data(item_line(found, row))
        output.say(compared_words(outcome))
    return int(bool(rows) | output.issues(found.issues))
