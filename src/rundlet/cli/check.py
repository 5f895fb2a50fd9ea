"""Check an archive: read every item in it and name those that are damaged."""

from __future__ import annotations

import argparse
from pathlib import Path

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.reading import add_reading
from rundlet.cli.render import Output, outcome_value, with_progress
from rundlet.core.work.checker import check
from rundlet.presentation.outcomes import verdict


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet check`` takes."""
    parser.add_argument("archive", type=Path)
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Check; 1 when anything is damaged."""
    password = given_password(options)
    reader = open_given(options.archive, options, password)
    try:
        outcome = with_progress(lambda job: check(reader, job))
    finally:
        reader.close()
    if output.json:
        output.value({**outcome_value(outcome), "unverified": outcome.unverified})
    bad = len([issue for issue in outcome.problems if issue not in reader.notices])
    output.say(verdict(outcome, bad))
    return int(output.issues(outcome.issues))
