"""Save what is intact in a damaged archive as a new one, with a report beside it."""

from __future__ import annotations

import argparse
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.pack import format_of
from rundlet.cli.reading import add_reading
from rundlet.cli.render import note, outcome_value, with_progress
from rundlet.core.errors import NothingIntact
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import PackClash
from rundlet.core.work.salvager import salvage
from rundlet.presentation.checks import salvage_report
from rundlet.presentation.outcomes import presenter_of

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (
    ("Save what is intact", "rundlet salvage broken.zip rescued.zip"),
    ("Damaged files too, as far as they can be read", "rundlet salvage --damaged-too broken.zip rescued.zip"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet salvage`` takes."""
    parser.add_argument("archive", type=Path, metavar="ARCHIVE")
    parser.add_argument("out", type=Path, metavar="OUT", help="the archive to make")
    parser.add_argument(
        "--damaged-too", action="store_true", help="put damaged files into it as far as they can be read"
    )
    parser.add_argument(
        "--format", choices=[each.info.id for each in WRITABLE], help="by default what the extension of OUT stands for"
    )
    parser.add_argument(
        "--on-clash",
        choices=[rule.value for rule in PackClash],
        default=PackClash.REFUSE.value,
        help="what happens when the name is taken",
    )
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Save what is intact; 1 when something is lost."""
    info = format_of(options)
    password = given_password(options)
    reader, password = open_given(options.archive, options, password)
    with closing(reader):
        locked = bool(reader.catalog.encrypted.any()) or reader.names_hidden
        write = WriteOptions(
            info.default_level, password=(password or "") if locked else "", hide_names=reader.names_hidden
        )
        try:
            outcome = with_progress(
                lambda job: salvage(
                    reader,
                    options.out,
                    info,
                    job,
                    options=write,
                    parts_too=options.damaged_too,
                    on_clash=PackClash(options.on_clash),
                    report=partial(salvage_report, options.archive, reader.catalog),
                )
            )
        except NothingIntact as error:
            hint = "Fetch it again, or save what is left of damaged files with --damaged-too."
            raise NothingIntact(error.sentence, hint="" if options.damaged_too else hint) from error
    note(outcome, [options.archive])
    output.say(presenter_of(outcome).summary(outcome))
    if output.json:
        facts = {
            name: getattr(outcome, name)
            for name in ("taken_over", "parts", "doubtful", "damaged", "missing", "unreadable")
        }
        output.value(outcome_value(outcome) | facts | {"created": outcome.created})
    return int(output.issues(outcome.issues))
