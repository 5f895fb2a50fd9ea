"""Read every entry of an archive and judge it."""

from __future__ import annotations

import argparse
from pathlib import Path

from rundlet.cli.archives import add_reading, given_password, open_given
from rundlet.cli.render import Output, report_value, with_progress
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
        report = with_progress(lambda job: check(reader, job))
    finally:
        reader.close()
    if output.json:
        output.value({**report_value(report), "unverified": report.unverified})
    bad = len([issue for issue in report.problems if issue not in reader.notices])
    if report.problems:
        intact = f"{plural(report.files, 'item')} of {quoted(options.archive.name)} {'is' if report.files == 1 else 'are'} intact"
        output.say(f"{intact}, {bad} damaged." if bad else f"{intact}; the archive itself is damaged.")
    elif report.unverified and report.unverified >= report.files:
        read = f"{plural(report.files, 'item')} of {quoted(options.archive.name)} could be read"
        output.say(f"{read}. It keeps no checksums, so nobody can tell whether they are as they were packed.")
    else:
        output.say(f"{quoted(options.archive.name)} is intact: {plural(report.files, 'item')} read.")
        if report.unverified:
            have = "has" if report.unverified == 1 else "have"
            output.say(f"{number(report.unverified)} of them {have} no checksum to compare with.")
    return int(output.issues(report.issues))
