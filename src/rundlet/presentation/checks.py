"""What checking an archive found out: of each item, in a report, and for programs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rundlet.core.text import shown
from rundlet.core.work.checker import Verdict
from rundlet.presentation.findings import issue_line
from rundlet.presentation.outcomes import outcome_words

if TYPE_CHECKING:
    from rundlet.core.jobs.outcomes import Checked

VERDICTS = {
    Verdict.UNREAD: ("", "ink"),
    Verdict.INTACT: ("✓ intact", "moss"),
    Verdict.UNTOLD: ("✓ readable, no checksum", "slate"),
    Verdict.DAMAGED: ("✗ damaged", "amber"),
    Verdict.MISSING: ("✗ part missing", "amber"),
    Verdict.UNREADABLE: ("✗ can't be read", "amber"),
}
"""For each verdict its words, and the token that they are written in."""

_KEYS = {verdict: verdict.name.lower() for verdict in Verdict}


def report_lines(outcome: Checked, verdicts: Mapping[str, Verdict]) -> list[str]:
    """A report for people: what it came to, what is wrong, and a line for each item."""
    lines = [str(outcome.target), outcome_words(outcome), ""]
    lines += map(issue_line, outcome.issues)
    lines += [""] if outcome.issues else []
    return lines + [f"{VERDICTS[verdict][0] or '–'}  {shown(path)}" for path, verdict in verdicts.items()]


def report_values(
    outcome: Checked, verdicts: Mapping[str, Verdict], issues: Sequence[dict[str, Any]]
) -> dict[str, Any]:
    """The same for programs.

    Args:
        issues: what is wrong, as programs read it.
    """
    return {
        "archive": str(outcome.target),
        "intact": outcome.files - min(outcome.unverified, outcome.files),
        "no_checksum": outcome.unverified,
        "damaged": outcome.damaged,
        "missing": outcome.missing,
        "unreadable": outcome.unreadable,
        "issues": list(issues),
        "items": {path: _KEYS[verdict] for path, verdict in verdicts.items()},
    }
