"""What checking an archive found out: of each item, in a report, and for programs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rundlet.core.text import plain_path, shown
from rundlet.core.work.checker import Verdict
from rundlet.presentation.findings import issue_line
from rundlet.presentation.outcomes import outcome_words, presenter_of
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from pathlib import Path

    from rundlet.core.jobs.outcomes import Checked, Salvaged
    from rundlet.core.model.catalog import Catalog
    from rundlet.core.work.salvager import Condition

VERDICTS = {
    Verdict.UNREAD: ("", "ink"),
    Verdict.INTACT: ("✓ intact", "moss"),
    Verdict.UNTOLD: ("? no checksum", "slate"),
    Verdict.DAMAGED: ("✗ damaged", "amber"),
    Verdict.MISSING: ("✗ part missing", "amber"),
    Verdict.UNREADABLE: ("✗ can't be read", "amber"),
    Verdict.DOUBTFUL: ("? may be damaged", "amber"),
}
"""For each verdict its words, and the token that they are written in."""


def report_lines(outcome: Checked, verdicts: Sequence[tuple[str, Verdict]]) -> list[str]:
    """A report for people: what it came to, what is wrong, and a line for each item."""
    lines = [str(outcome.target), outcome_words(outcome), ""]
    lines += map(issue_line, outcome.issues)
    lines += [""] if outcome.issues else []
    return lines + [f"{VERDICTS[verdict][0]}  {shown(path)}" for path, verdict in verdicts]


def salvage_report(archive: Path, catalog: Catalog, outcome: Salvaged, condition: Condition) -> str:
    """What is written beside an archive of what was intact: what it came to, what is lost and why, and each item.

    Args:
        archive: the damaged one.
        catalog: its items.
        condition: what is so of them.
    """
    lines = [
        say("What could be saved of {archive}", archive=archive),
        presenter_of(outcome).summary(outcome),
        "",
        *map(issue_line, outcome.issues),
        *([""] if outcome.issues else []),
        *(
            f"{VERDICTS[verdict][0]}  {shown(plain_path(catalog.path(row)))}"
            for row, verdict in sorted(condition.verdicts.items())
        ),
    ]
    return "\n".join(lines) + "\n"


def report_values(
    outcome: Checked, verdicts: Sequence[tuple[str, Verdict]], issues: Sequence[dict[str, Any]]
) -> dict[str, Any]:
    """The same for programs.

    Args:
        verdicts: the path of each item and what is so of it; a path may come more than once.
        issues: what is wrong, as programs read it.
    """
    return {
        "archive": str(outcome.target),
        "intact": outcome.intact,
        "no_checksum": outcome.unverified,
        "may_be_damaged": outcome.doubtful,
        "damaged": outcome.damaged,
        "missing": outcome.missing,
        "unreadable": outcome.unreadable,
        "issues": list(issues),
        "items": [{"path": path, "result": verdict.name.lower()} for path, verdict in verdicts],
    }
