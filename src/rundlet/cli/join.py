"""Join the numbered parts of a file that holds no archive."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.render import note, outcome_value, with_progress
from rundlet.core.errors import PlanError
from rundlet.core.plans.pack_plan import PackClash
from rundlet.core.work.joiner import join, plan_join
from rundlet.presentation.outcomes import presenter_of
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (("Make the file that was split", "rundlet join film.mkv.001 film.mkv"),)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet join`` takes."""
    parser.add_argument("part", type=Path, metavar="PART", help="any one of the parts")
    parser.add_argument("out", type=Path, metavar="OUT", help="the file to make")
    parser.add_argument(
        "--on-clash",
        choices=[rule.value for rule in PackClash],
        default=PackClash.REFUSE.value,
        help="what happens when the name is taken",
    )
    parser.add_argument("--dry-run", action="store_true", help="say what would be done, and do nothing")


def run(options: argparse.Namespace, output: Output) -> int:
    """Join; 1 when something is odd about the parts."""
    plan = plan_join(options.part)
    if plan is None:
        raise PlanError(
            "{name:name} is not one of several parts.",
            hint="Parts end in .001, .002 and so on.",
            name=options.part.name,
        )
    if options.dry_run:
        if output.json:
            parts = [{"name": part.name, "size": part.size, "there": part.there} for part in plan.parts]
            output.value({"name": plan.name, "size": plan.size, "parts": parts})
        words = "Would join {count:part|parts} into {out}, {size:size}."
        output.say(say(words, count=len(plan.parts), out=options.out, size=plan.size))
        for part in plan.lacking:
            said = "Part {number} is not all here: {there:number} of {size:byte|bytes}."
            output.line(say(said, number=part.number, there=part.there, size=part.size))
        return int(output.issues(plan.issues) or bool(plan.lacking))
    outcome = with_progress(lambda job: join(plan, options.out, job, on_clash=PackClash(options.on_clash)))
    note(outcome, [options.part])
    output.say(presenter_of(outcome).summary(outcome))
    if output.json:
        output.value(outcome_value(outcome))
    return int(output.issues(outcome.issues))
