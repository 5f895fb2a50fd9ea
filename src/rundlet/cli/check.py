"""Check archives: read every item in them and name those that are damaged."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.reading import add_reading
from rundlet.cli.render import Output, issue_values, outcome_value, with_progress
from rundlet.core.errors import RundletError
from rundlet.core.text import plain_path, shown
from rundlet.core.work.checker import Verdict, check
from rundlet.presentation.checks import VERDICTS, report_values
from rundlet.presentation.outcomes import verdict

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Checked

EXAMPLES = (
    ("Check an archive", "rundlet check photos.zip"),
    ("Check many, and say only what is wrong", "rundlet check -q backups/*.7z"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet check`` takes."""
    parser.add_argument(
        "archive",
        type=Path,
        nargs="+",
        metavar="ARCHIVE",
        help="an archive, or any of its parts; “-” for standard input",
    )
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Check; 1 when anything is damaged, 2 when an archive can't be opened and there is no other."""
    password = given_password(options)
    values: list[dict[str, Any]] = []
    wrong = False
    for archive in options.archive:
        try:
            value, is_wrong = _check(archive, options, password, output)
        except RundletError as error:
            if len(options.archive) == 1:
                raise
            output.line(error)
            is_wrong = True
        else:
            values.append(value)
        wrong |= is_wrong
    if output.json:
        output.value(values)
    return int(wrong)


def _check(
    archive: Path, options: argparse.Namespace, password: str | None, output: Output
) -> tuple[dict[str, Any], bool]:
    """Check one; what programs are told of it, and whether anything is wrong."""
    found: list[tuple[str, Verdict]] = []
    reader, _ = open_given(archive, options, password)

    def tell(row: int, judged: Verdict) -> None:
        path = plain_path(reader.catalog.path(row))
        found.append((path, judged))
        output.detail(f"{VERDICTS[judged][0]}  {shown(path)}")

    def work(job: Job) -> Checked:
        return check(reader, job, tell=tell if output.json or options.verbose else None)

    try:
        outcome = with_progress(work)
    finally:
        reader.close()
    output.say(verdict(outcome))
    value = {**outcome_value(outcome), "unverified": outcome.unverified}
    value |= report_values(outcome, found, issue_values(outcome.issues))
    return value, output.issues(outcome.issues)
