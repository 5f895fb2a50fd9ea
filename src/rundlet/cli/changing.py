"""What the verbs have in common that change an archive."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.cli.archives import asked, at_a_terminal, given_password
from rundlet.cli.reading import add_password
from rundlet.cli.render import Output, issue_values, note, outcome_value, with_progress
from rundlet.core.errors import PasswordNeeded, PlanError
from rundlet.core.formats.detect import open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.plans.change_plan import AddClash, ChangePlan, Changes, plan_change
from rundlet.core.plans.changeable import open_changeable
from rundlet.core.text import plain_path, shown
from rundlet.core.work.change_cost import cost_of
from rundlet.core.work.changer import change
from rundlet.presentation.changes import cost_words
from rundlet.presentation.outcomes import changed_words
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

Wanted = Callable[["ArchiveReader", "Job"], Changes]
"""Says what is to be changed in an open archive."""


def add_changing(parser: argparse.ArgumentParser) -> None:
    """Add what all these verbs take."""
    parser.add_argument("archive", type=Path, metavar="ARCHIVE")
    parser.add_argument(
        "--verify", action="store_true", help="check the new archive before it takes the old one's place"
    )
    parser.add_argument("--dry-run", action="store_true", help="say what would be done and do nothing")
    add_password(parser)


def run_change(
    options: argparse.Namespace,
    output: Output,
    wanted: Wanted,
    *,
    level: int | None = None,
    on_clash: AddClash = AddClash.RENAME,
    exclude: Sequence[str] = (),
    source: Sequence[Path] = (),
) -> int:
    """Change an archive; 1 when something was left out. The old archive goes to the trash.

    Args:
        level: of what is added; None for the format's usual one.
        source: where what is added comes from, for the log.
    """
    archive = Path(os.path.abspath(options.archive)).resolve()
    password = given_password(options) or _asked_if_locked(archive) or ""

    def plan(job: Job) -> ChangePlan:
        with closing(open_changeable(archive, password, job)) as reader:
            changes = wanted(reader, job)
            usual = reader.info.default_level
        return plan_change(
            archive,
            changes,
            options=WriteOptions(usual if level is None else level, password=password),
            on_clash=on_clash,
            exclude=exclude,
            read_back=options.verify,
            keep_replaced=True,
            job=job,
        )

    if options.dry_run:
        made = with_progress(plan)
        _show_plan(made, output)
        return int(output.issues(made.issues))
    outcome = with_progress(lambda job: change(plan(job), job))
    note(outcome, source)
    if output.json:
        counts = {name: getattr(outcome, name) for name in ("added", "new", "removed", "renamed")}
        output.value(outcome_value(outcome) | counts)
    saved = say("Saved {target}: {bytes_out:size}.", target=outcome.target, bytes_out=outcome.bytes_out)
    output.say(joined([saved, changed_words(outcome)]))
    return int(output.issues(outcome.issues))


def _asked_if_locked(archive: Path) -> str | None:
    """The password of an archive that is locked, asked for at the terminal; None where there is none, or it is not locked.

    Raises:
        RundletError: when it can't be opened.
    """
    if not at_a_terminal():
        return None
    try:
        with closing(with_progress(lambda job: open_archive(archive, Opening(job=job)))) as reader:
            locked = bool(reader.catalog.encrypted.any())
    except PasswordNeeded:
        locked = True
    return asked(archive.name) if locked else None


def _show_plan(plan: ChangePlan, output: Output) -> None:
    with closing(open_archive(plan.archive, Opening(password=plan.options.password or None))) as reader:
        steps, cost = _steps(plan, reader), cost_of(plan, reader, Job())
    if output.json:
        output.value(_plan_value(plan, steps) | {"size_after": cost.size, "seconds": round(cost.seconds, 2)})
        return
    for action, path, new in steps:
        output.say(f"{action:>9}  {shown(path)}" + (f" → {shown(new)}" if new else ""))
    output.say(
        say(
            "Would change {count:item|items} of {archive}: about {after:size}, was {before:size}. {cost}",
            count=plan.count,
            archive=plan.archive,
            after=cost.size,
            before=plan.size_before,
            cost=cost_words(plan, cost),
        )
    )


def _steps(plan: ChangePlan, reader: ArchiveReader) -> list[tuple[str, str, str]]:
    """What is done, to what, and what it is called then."""
    steps: list[tuple[str, str, str]] = []
    for row in sorted(plan.edits.removed):
        path = plain_path(reader.catalog.path(row))
        if path not in plan.replaced:
            steps.append(("remove", path, ""))
    steps += [("rename", plain_path(reader.catalog.path(row)), new) for row, new in sorted(plan.edits.renamed.items())]
    steps += [("replace" if item.path in plan.replaced else "add", item.path, "") for item in plan.added]
    return steps


def _plan_value(plan: ChangePlan, steps: list[tuple[str, str, str]]) -> dict[str, Any]:
    return {
        "archive": str(plan.archive),
        "size_before": plan.size_before,
        "packed_anew": plan.packed_anew,
        "needed": plan.needed,
        "free": plan.free,
        "steps": [{"action": action, "path": path} | ({"new_path": new} if new else {}) for action, path, new in steps],
        "issues": issue_values(plan.issues),
    }


def rows_or_error(rows: list[int], reader: ArchiveReader, path: str) -> list[int]:
    """The rows of a path that was named.

    Raises:
        PlanError: when there are none.
    """
    if not rows:
        raise PlanError(
            "There is no {path:name} in {archive:name}.",
            hint="“rundlet list” shows what there is.",
            path=path,
            archive=reader.source.name,
        )
    return rows
