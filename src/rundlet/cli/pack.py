"""Pack files and folders into an archive. Each is stored under its own name, a folder with everything in it."""

from __future__ import annotations

import argparse
import sys
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.archives import given_password
from rundlet.cli.reading import STDIN, add_files_from, add_password, named_items, size_argument
from rundlet.cli.render import Output, issue_values, note, outcome_value, with_progress
from rundlet.core.errors import PlanError
from rundlet.core.formats.detect import WRITABLE, by_ending, by_id
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.model.format_info import FormatInfo, WriteOptions
from rundlet.core.plans.pack_plan import PackClash, PackPlan, plan_pack, plan_stream
from rundlet.core.sentences import fill
from rundlet.core.settings import PACK_FORMAT
from rundlet.core.text import shown, size
from rundlet.core.userdata.presets import SavedSettings
from rundlet.core.userdata.settings_file import Settings
from rundlet.core.work.packer import pack, pack_to
from rundlet.core.work.trial import Point, predicted
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Packed


_PACKED = {
    (False, False): "Packed {files:file|files} into {target}: {bytes_out:size} from {bytes_in:size}.",
    (
        False,
        True,
    ): "Packed {files:file|files} into {target}: {bytes_out:size} from {bytes_in:size}, {saved:size} saved.",
    (
        True,
        False,
    ): "Packed {files:file|files} into {target} in {parts:part|parts}: {bytes_out:size} from {bytes_in:size}.",
    (True, True): (
        "Packed {files:file|files} into {target} in {parts:part|parts}: "
        "{bytes_out:size} from {bytes_in:size}, {saved:size} saved."
    ),
}
"""By whether there are parts, and whether anything was saved."""


def add_making(parser: argparse.ArgumentParser) -> None:
    """Add what all verbs take that make an archive."""
    parser.add_argument("--format", help="the format; otherwise it follows the extension of OUT")
    parser.add_argument("--level", type=int, choices=range(10), metavar="0-9", help="0 (uncompressed) to 9 (smallest)")
    parser.add_argument(
        "--on-clash",
        choices=[c.value for c in PackClash],
        default=PackClash.REFUSE.value,
        help="what happens when the name is taken",
    )
    parser.add_argument(
        "--part-size", type=size_argument, default=0, metavar="SIZE", help="numbered parts of SIZE, such as 20MB"
    )
    parser.add_argument("--hide-names", action="store_true", help="lock the names too, where the format can")
    parser.add_argument("--dry-run", action="store_true", help="say what would be done and do nothing")


EXAMPLES = (
    ("Pack a folder", "rundlet pack photos.zip photos"),
    ("The smallest 7z, locked, names too", "rundlet pack --level 9 --lock --hide-names diary.7z diary"),
    ("Parts of 20 MB, checked before they are kept", "rundlet pack --part-size 20MB --verify film.zip film.mkv"),
    (
        "The files that another program lists",
        "find notes -name '*.md' -print0 | rundlet pack --files-from - notes.tar.gz",
    ),
    (
        "Straight to another machine",
        "rundlet pack --format tar.zst - photos | ssh attic 'rundlet unpack - --into photos'",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet pack`` takes."""
    parser.add_argument(
        "out", type=Path, metavar="OUT", help="the archive to make; “-” writes zip or tar to standard output"
    )
    parser.add_argument("items", type=Path, nargs="*", metavar="ITEM", help="files and folders that go in")
    add_files_from(parser, "also what FILE names")
    parser.add_argument("--exclude", action="append", default=[], metavar="PATTERN", help="leave out what matches")
    parser.add_argument(
        "--method", default="", help="deflate, bzip2, lzma, zstd or xz in zip; lzma2 in 7z, or ppmd for text"
    )
    parser.add_argument("--keep-owners", action="store_true", help="keep who owns the files, where the format can")
    parser.add_argument("--leave-out-hidden", action="store_true", help="leave out hidden files and folders")
    parser.add_argument("--leave-out-empty", action="store_true", help="leave out folders with nothing in them")
    parser.add_argument("--follow-links", action="store_true", help="pack the files that links point to")
    parser.add_argument(
        "--verify",
        action="store_true",
        help="check the archive after packing: compare it with the files before it is kept",
    )
    parser.add_argument(
        "--trash-originals",
        action="store_true",
        help="move the originals to the trash afterwards, once the archive was checked",
    )
    add_making(parser)
    add_password(parser, asks=True)


def run(options: argparse.Namespace, output: Output) -> int:
    """Pack; 1 when something was left out."""
    info = format_of(options)
    if options.files_from == STDIN and options.password_stdin:
        raise PlanError(
            "Standard input can't be the list and the password.", hint="Give the password with --password-fd."
        )
    items = named_items(options.items, options.files_from)
    password = given_password(options, twice=True)
    if password == "":
        raise PlanError("The password is empty.")
    write = WriteOptions(
        level=info.default_level if options.level is None else options.level,
        password=password or "",
        hide_names=options.hide_names,
        method=options.method,
        owners=options.keep_owners,
    )

    if str(options.out) == STDIN:
        return _pack_to_output(options, info, items, write, output)

    def plan(job: Job) -> PackPlan:
        return plan_pack(
            items,
            target=options.out,
            info=info,
            options=write,
            part_size=options.part_size,
            exclude=options.exclude,
            leave_out=_leave_out(options),
            follow=options.follow_links,
            read_back=options.verify,
            trash=options.trash_originals,
            on_clash=PackClash(options.on_clash),
            job=job,
        )

    made = with_progress(plan)
    if options.dry_run:
        return _show_dry(made, output)
    for item in made.items:
        output.detail(shown(item.path))
    outcome = with_progress(lambda job: pack(made, job))
    settings = SavedSettings(
        info.id,
        made.level,
        options.part_size,
        hidden=options.leave_out_hidden,
        empty=options.leave_out_empty,
        exclude=tuple(options.exclude),
        follow=options.follow_links,
        read_back=options.verify,
        trash=options.trash_originals,
    )
    note(outcome, items, asdict(settings) | {"locked": bool(password)})
    show_packed(outcome, output)
    return int(output.issues(outcome.issues))


def _show_dry(plan: PackPlan, output: Output) -> int:
    point = predicted(plan.items, plan.info, plan.level, method=plan.options.method, read_back=plan.read_back)
    show_plan(plan, output, point)
    return int(output.issues(plan.issues))


def _pack_to_output(
    options: argparse.Namespace, info: FormatInfo, items: list[Path], write: WriteOptions, output: Output
) -> int:
    """Write the archive to standard output; what is said of it goes to standard error."""
    output.beside = not options.dry_run
    named = {"--part-size": options.part_size, "--verify": options.verify, "--trash-originals": options.trash_originals}
    if unfit := next((name for name, value in named.items() if value), None):
        raise PlanError("{name} needs an archive in a file, not on standard output.", name=unfit)
    if sys.stdout.isatty() and not options.dry_run:
        raise PlanError("An archive is not written to a terminal.", hint="Send it into a file or to another program.")
    plan = with_progress(
        lambda job: plan_stream(
            items,
            info=info,
            options=write,
            exclude=options.exclude,
            leave_out=_leave_out(options),
            follow=options.follow_links,
            job=job,
        )
    )
    if options.dry_run:
        return _show_dry(plan, output)
    for item in plan.items:
        output.detail(shown(item.path))
    outcome = with_progress(lambda job: pack_to(plan, sys.stdout.buffer, job))
    show_packed(outcome, output)
    return int(output.issues(outcome.issues))


def format_of(options: argparse.Namespace) -> FormatInfo:
    """The format that was asked for, else the one that the extension of OUT stands for, or of the settings for standard output.

    Raises:
        PlanError: when it stands for none.
    """
    if options.format is not None:
        return by_id(options.format).info
    if str(options.out) == STDIN:
        return by_id(Settings.read().get(PACK_FORMAT)).info
    found = by_ending(options.out)
    if found is None:
        known = ", ".join(each.info.ending for each in WRITABLE)
        raise PlanError(
            "The extension of {name:name} stands for no format ({known}). Give it one, or name a --format.",
            name=options.out.name,
            known=known,
        )
    return found.info


def _leave_out(options: argparse.Namespace) -> LeaveOut:
    hidden = LeaveOut.HIDDEN if options.leave_out_hidden else LeaveOut.NOTHING
    return hidden | (LeaveOut.EMPTY_FOLDERS if options.leave_out_empty else LeaveOut.NOTHING)


def show_plan(plan: PackPlan, output: Output, point: Point | None = None) -> None:
    """Print what would be done.

    Args:
        point: what is estimated of it, where that is known.
    """
    if output.json:
        output.value(_plan_value(plan, point))
    for item in plan.items:
        output.say(f"{size(item.size):>10}  {item.path}")
    for path in plan.replaced:
        output.say(f"{'replaced':>10}  {shown(str(path))}")
    words = "Would make {target}: {files:file|files}, {size:size}, {format} at level {level}."
    if plan.replaces:
        words = "Would replace {target}: {files:file|files}, {size:size}, {format} at level {level}."
    output.say(
        say(
            words,
            target=plan.target,
            files=plan.files,
            size=plan.size,
            format=plan.info.id,
            level=plan.level,
        )
    )
    if point is not None:
        output.say(say("About {size:size} in {seconds:duration}.", size=point.size, seconds=point.seconds))


def _plan_value(plan: PackPlan, point: Point | None) -> dict[str, Any]:
    return {
        "target": str(plan.target),
        "replaces": plan.replaces,
        "replaced": [str(path) for path in plan.replaced],
        "format": plan.info.id,
        "level": plan.level,
        "files": plan.files,
        "folders": plan.folders,
        "links": plan.links,
        "size": plan.size,
        "free": plan.free,
        "expected_size": point.size if point is not None else None,
        "expected_seconds": round(point.seconds, 2) if point is not None else None,
        "items": [{"path": i.path, "kind": i.kind.word, "size": i.size} for i in plan.items],
        "issues": issue_values(plan.issues),
    }


def show_packed(outcome: Packed, output: Output) -> None:
    """Print what was done."""
    if output.json:
        output.value(outcome_value(outcome))
    saved = outcome.bytes_in - outcome.bytes_out
    facts = {
        "files": outcome.files,
        "target": outcome.target,
        "parts": len(outcome.created) - 1,
        "bytes_out": outcome.bytes_out,
        "bytes_in": outcome.bytes_in,
        "saved": saved,
    }
    output.say(fill(_PACKED[len(outcome.created) > 1, saved > 0], facts))
