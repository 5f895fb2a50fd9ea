"""Unpack archives into DIR. With several archives, each gets a folder of its own in it."""

from __future__ import annotations

import argparse
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.archives import given_password, is_piped, open_given, piped_archive
from rundlet.cli.matching import Selection, chosen_rows
from rundlet.cli.reading import add_only, add_reading
from rundlet.cli.render import Output, issue_values, note, outcome_value, with_progress
from rundlet.core.errors import Cancelled, PlanError, RundletError
from rundlet.core.plans.unpack_plan import Action, UnpackClash, UnpackPlan, own_folder_name
from rundlet.core.plans.unpack_planner import Planner, plan_unpack
from rundlet.core.streams.pipes import NAME
from rundlet.core.text import shown
from rundlet.core.work.extractor import unpack
from rundlet.core.work.forward_work import unlocked_pieces, unpack_forward
from rundlet.presentation.findings import findings_words
from rundlet.presentation.outcomes import otherwise
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.findings import Issue
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Unpacked

EXAMPLES = (
    ("Into a folder named photos, where you are", "rundlet unpack photos.zip"),
    (
        "Some of it into a folder that you choose",
        "rundlet unpack photos.zip --only '*.jpg' --exclude drafts --into pictures",
    ),
    ("See what would be there, without writing anything", "rundlet unpack --dry-run photos.zip"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet unpack`` takes."""
    parser.add_argument(
        "archives",
        type=Path,
        nargs="+",
        metavar="ARCHIVE",
        help="an archive, or any of its parts; “-” for standard input",
    )
    parser.add_argument(
        "--into",
        type=Path,
        metavar="DIR",
        help="the folder, made when it is missing; otherwise one named after the archive, where you are",
    )
    parser.add_argument("--own-folder", action="store_true", help="a folder named after the archive below DIR")
    add_only(parser)
    parser.add_argument("--exclude", action="append", default=[], metavar="PATTERN", help="leave out what matches")
    parser.add_argument(
        "--on-clash",
        choices=[c.value for c in UnpackClash],
        default=UnpackClash.RENAME.value,
        help="what happens to names that are taken",
    )
    parser.add_argument("--leave-same", action="store_true", help="leave alone what is there with the same content")
    parser.add_argument("--dry-run", action="store_true", help="say where everything would land and do nothing")
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Unpack all archives; 1 when something went wrong, 2 when no archive could be unpacked."""
    if any(map(is_piped, options.archives)) and options.into is None:
        raise PlanError("An archive from standard input has no name for its folder.", hint="Say where to with --into.")
    password = given_password(options)
    values: list[dict[str, Any]] = []
    failed = 0
    problems = False
    for archive in options.archives:
        try:
            value, problem = _one(archive, options, output, password)
        except RundletError as error:
            output.line(error)
            failed += 1
        except Cancelled as stopped:
            if values:
                output.value(values)
                words = "Cancelled; {count:archive|archives} before {name:name} stayed unpacked."
                stopped.args = (say(words, count=len(values), name=archive.name),)  # in place of that nothing stayed
            raise
        else:
            values.append(value)
            problems |= problem
    output.value(values)
    if failed == len(options.archives):
        return 2
    return int(problems or failed > 0)


def _one(
    archive: Path, options: argparse.Namespace, output: Output, password: str | None
) -> tuple[dict[str, Any], bool]:
    if is_piped(archive):
        return _one_piped(archive, options, output, password)
    reader, _ = open_given(archive, options, password)
    try:
        selection = Selection(options)
        plan = with_progress(
            lambda job: plan_unpack(reader, chosen_rows(reader, selection), **_where(archive, options), job=job)
        )
        if options.dry_run:
            _show_steps(plan, output)
            value = _plan_value(reader, plan)
            _show_sums(value, output)
            return value, output.issues(plan.issues)
        outcome = with_progress(lambda job: unpack(plan, reader, job))
        note(outcome, [archive])
        _show_written(plan, output)
        _show_outcome(outcome, output)
        return outcome_value(outcome), output.issues(outcome.issues)
    finally:
        reader.close()


def _one_piped(
    archive: Path, options: argparse.Namespace, output: Output, password: str | None
) -> tuple[dict[str, Any], bool]:
    """Unpack what comes through standard input as it comes, or show what would come of it."""
    selection = Selection(options)

    def work(job: Job) -> tuple[Unpacked | None, dict[str, Any], list[Issue]]:
        planner = Planner(**_where(archive, options), job=job, in_pieces=True)
        with piped_archive(options, job, lambda _: job.checkpoint()) as piped, closing(planner):
            if not options.dry_run:
                outcome = unpack_forward(
                    piped,
                    planner,
                    job,
                    choose=selection.rows,
                    chosen=lambda: selection.settle(NAME),
                    password=password,
                    wrote=lambda plan: _show_written(plan, output),
                )
                return outcome, outcome_value(outcome), outcome.issues
            value: dict[str, Any] = {}
            issues: list[Issue] = []
            for reader in unlocked_pieces(piped, password):
                plan = planner.plan(reader, selection.rows(reader))
                _show_steps(plan, output)
                value = _added(value, _plan_value(reader, plan))
                issues += plan.issues
            selection.settle(NAME)
            return None, value, [*piped.notices, *issues]

    outcome, value, issues = with_progress(work)
    if outcome is not None:
        note(outcome, [])
        _show_outcome(outcome, output)
    elif value:
        _show_sums(value, output)
    return value, output.issues(issues)


def _added(value: dict[str, Any], more: dict[str, Any]) -> dict[str, Any]:
    """What programs are told of a plan, with one more piece of it."""
    if not value:
        return more
    added = {
        name: value[name] + more[name]
        for name in ("size", "read_through", "unlock_seconds", "files", "steps", "issues")
    }
    return value | added


def _where(archive: Path, options: argparse.Namespace) -> dict[str, Any]:
    """Where an archive goes, and by which rules."""
    own = options.own_folder or len(options.archives) > 1 or options.into is None
    return {
        "into": Path() if options.into is None else options.into,
        "own_folder": own_folder_name(archive) if own else "",
        "on_clash": UnpackClash(options.on_clash),
        "leave_same": options.leave_same,
    }


def _show_written(plan: UnpackPlan, output: Output) -> None:
    for step in plan.steps:
        if step.action.writes:
            output.detail(shown(str(plan.root.joinpath(*step.target))))


def _show_outcome(outcome: Unpacked, output: Output) -> None:
    said = say(
        "Unpacked {files:file|files} into {target}: {bytes_out:size}.",
        files=outcome.files,
        target=outcome.target,
        bytes_out=outcome.bytes_out,
    )
    output.say(" ".join(filter(None, (said, otherwise(outcome)))))


def _show_steps(plan: UnpackPlan, output: Output) -> None:
    for step in plan.steps:
        output.say(f"{step.action.value:>18}  {shown(str(plan.root.joinpath(*step.target)))}")


def _show_sums(value: dict[str, Any], output: Output) -> None:
    """What a plan comes to.

    Args:
        value: what programs are told of it.
    """
    actions = Counter(Action[step["action"].upper()] for step in value["steps"])
    outcome = say(
        "{counts} new, {taken} taken, {refused} refused",
        counts=actions[Action.MAKE],
        taken=sum(count for action, count in actions.items() if action.taken),
        refused=actions[Action.REFUSE],
    )
    output.say(
        say(
            "Would unpack {files:file|files}, {size:size} into {root}: {outcome}.",
            files=value["files"],
            size=value["size"],
            root=value["root"],
            outcome=outcome,
        )
    )
    if value["read_through"]:
        output.say(say("{read_through:size} beside them must be read through.", read_through=value["read_through"]))
    if value["unlock_seconds"] >= 1:
        output.say(
            say(
                "Their old kind of lock takes {unlock_seconds:about} to undo.",
                unlock_seconds=value["unlock_seconds"],
            )
        )


def _plan_value(reader: ArchiveReader, plan: UnpackPlan) -> dict[str, Any]:
    return {
        "root": str(plan.root),
        "size": plan.size,
        "free": plan.free,
        "read_through": plan.read_through,
        "unlock_seconds": round(plan.unlock_seconds, 1),
        "files": plan.files,
        "steps": [
            {
                "item": reader.catalog.path(s.row),
                "target": None if s.action == Action.REFUSE else str(plan.root.joinpath(*s.target)),
                "action": s.action.name.lower(),
                "note": findings_words(s.notes),
            }
            for s in plan.steps
        ],
        "issues": issue_values(plan.issues),
    }
