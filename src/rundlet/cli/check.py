"""Check an archive: read every item in it and name those that are damaged."""

from __future__ import annotations

import argparse
from pathlib import Path

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.reading import add_reading
from rundlet.cli.render import Output, outcome_value, with_progress
from rundlet.core.text import number, plural, quoted
from rundlet.core.work.checker import check


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
    if outcome.problems:
        intact = f"{plural(outcome.files, 'item')} of {quoted(options.archive.name)} {'is' if outcome.files == 1 else 'are'} intact"
        output.say(f"{intact}, {bad} damaged." if bad else f"{intact}; the archive itself is damaged.")
    elif outcome.unverified and outcome.unverified >= outcome.files:
        read = f"{plural(outcome.files, 'item')} of {quoted(options.archive.name)} could be read"
        output.say(f"{read}. It keeps no checksums, so nobody can tell whether they are as they were packed.")
    else:
        output.say(f"{quoted(options.archive.name)} is intact: {plural(outcome.files, 'item')} read.")
        if outcome.unverified:
            have = "has" if outcome.unverified == 1 else "have"
            output.say(f"{number(outcome.unverified)} of them {have} no checksum to compare with.")
    return int(output.issues(outcome.issues))
