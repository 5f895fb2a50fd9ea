"""Convert an archive to a new one, in any format, level, lock and part size, without unpacking it onto the disk."""

from __future__ import annotations

import argparse
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.matching import Selection, chosen_rows
from rundlet.cli.pack import add_making, format_of, show_packed, show_plan
from rundlet.cli.reading import add_only, add_reading
from rundlet.cli.render import note, with_progress
from rundlet.core.errors import PlanError
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.convert_plan import plan_convert
from rundlet.core.plans.pack_plan import PackClash
from rundlet.core.work.packer import pack

if TYPE_CHECKING:
    from rundlet.cli.render import Output
    from rundlet.core.jobs.job import Job
    from rundlet.core.plans.pack_plan import PackPlan

EXAMPLES = (
    ("The same content as 7z", "rundlet convert photos.zip photos.7z"),
    ("Without its lock", "rundlet convert --unlock diary.7z diary.zip"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet convert`` takes."""
    parser.add_argument("archive", type=Path, metavar="ARCHIVE")
    parser.add_argument("out", type=Path, metavar="OUT", help="the archive to make")
    add_only(parser)
    parser.add_argument(
        "--new-password-stdin",
        action="store_true",
        help="lock the new archive with the next line of standard input; otherwise it keeps the lock of the old one",
    )
    parser.add_argument("--unlock", action="store_true", help="don't lock the new archive")
    parser.add_argument("--verify", action="store_true", help="check the new archive before it is kept")
    add_making(parser)
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Convert; 1 when something was left out."""
    info = format_of(options)
    password = given_password(options)
    new = password or ""
    if options.new_password_stdin:
        new = given_password(argparse.Namespace(password_stdin=True), twice=True) or ""
        if not new:
            raise PlanError("The new password on standard input is empty.")
    write = WriteOptions(
        info.default_level if options.level is None else options.level,
        password="" if options.unlock else new,
        hide_names=options.hide_names,
    )
    reader, password = open_given(options.archive, options, password)
    if not (options.unlock or options.new_password_stdin):
        write = replace(write, password=password or "")
    with closing(reader):
        chosen = chosen_rows(reader, Selection(options))
        rows = list(range(len(reader.catalog))) if chosen is None else chosen.tolist()
        if not (reader.catalog.encrypted[rows].any() or reader.names_hidden or options.new_password_stdin):
            write = replace(write, password="")  # a password that was given, but was not needed
        contents = ArchiveContents(reader, rows)

        def plan(job: Job) -> PackPlan:
            return plan_convert(
                reader,
                contents,
                target=options.out,
                info=info,
                options=write,
                rows=rows,
                part_size=options.part_size,
                read_back=options.verify,
                on_clash=PackClash(options.on_clash),
                job=job,
            )

        try:
            if options.dry_run:
                made = with_progress(plan)
                show_plan(made, output)
                return int(output.issues(made.issues))

            outcome = with_progress(lambda job: pack(plan(job), job))
        finally:
            contents.close()
    note(outcome, [options.archive])
    show_packed(outcome, output)
    return int(output.issues(outcome.issues))
