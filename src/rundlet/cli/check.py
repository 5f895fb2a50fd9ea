"""Read every entry of an archive and judge it."""

from __future__ import annotations

import argparse
from pathlib import Path

from rundlet.cli.opening import add_reading, given_password, open_given
from rundlet.cli.render import Output, report_value, with_progress
from rundlet.core.text import plural, quoted
from rundlet.core.work.check import check


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
        output.value(report_value(report))
    bad = len([issue for issue in report.problems if issue not in reader.notices])
    if report.problems:
        whole = f"{plural(report.files, 'entry')} of {quoted(options.archive.name)} {'is' if report.files == 1 else 'are'} whole"
        output.say(f"{whole}, {bad} not." if bad else f"{whole}; the archive itself is not.")
    else:
        output.say(f"{quoted(options.archive.name)} is whole: {plural(report.files, 'entry')} read.")
    return int(output.issues(report.issues))
