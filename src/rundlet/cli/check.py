"""Check archives: read every item in them and name those that are damaged."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.archives import given_password, is_piped, open_given, piped_archive
from rundlet.cli.reading import add_reading
from rundlet.cli.render import Output, issue_values, outcome_value, with_progress
from rundlet.core.errors import RundletError
from rundlet.core.text import plain_path, shown
from rundlet.core.work.checker import Verdict, check
from rundlet.core.work.forward_work import check_forward
from rundlet.presentation.checks import VERDICTS, report_values
from rundlet.presentation.outcomes import verdict

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Checked

Tell = Callable[[str, Verdict], None]
"""Told what is so of an item, by its path."""

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

    def tell(path: str, judged: Verdict) -> None:
        found.append((path, judged))
        output.detail(f"{VERDICTS[judged][0]}  {shown(path)}")

    asked = tell if output.json or options.verbose else None
    if is_piped(archive):
        outcome = with_progress(lambda job: _check_piped(options, password, job, asked))
    else:
        reader, _ = open_given(archive, options, password)
        tell_row = _by_row(reader, asked) if asked is not None else None
        try:
            outcome = with_progress(lambda job: check(reader, job, tell=tell_row))
        finally:
            reader.close()
    output.say(verdict(outcome))
    value = {**outcome_value(outcome), "unverified": outcome.unverified}
    value |= report_values(outcome, found, issue_values(outcome.issues))
    return value, output.issues(outcome.issues)


def _check_piped(options: argparse.Namespace, password: str | None, job: Job, tell: Tell | None) -> Checked:
    with piped_archive(options, job, lambda _: job.checkpoint()) as archive:
        return check_forward(archive, job, password=password, tell=tell)


def _by_row(reader: ArchiveReader, tell: Tell) -> Callable[[int, Verdict], None]:
    return lambda row, judged: tell(plain_path(reader.catalog.path(row)), judged)
