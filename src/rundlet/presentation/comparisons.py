"""What comparing an archive with something else found out: of each item, and for programs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rundlet.core.model.entry import Kind
from rundlet.core.sentences import fill
from rundlet.core.text import shown
from rundlet.core.work.comparer import Differs, State

if TYPE_CHECKING:
    from rundlet.core.work.comparer import Comparison

STATES = {
    State.SAME: ("= same", "moss"),
    State.DIFFERS: ("≠ differs", "amber"),
    State.ONLY_HERE: ("only in the archive", "slate"),
    State.ONLY_THERE: ("missing from the archive", "amber"),
    State.MOVED: ("→ moved", "slate"),
}
"""For each state its words, and the token that they are written in."""

_INSIDE = ("≠ differs inside", "amber")
_NEWER = {1: "≠ newer there", -1: "≠ newer here"}
_IN_WHAT = {
    Differs.KIND: "one is a folder or a link, the other is not",
    Differs.SIZE: "other size",
    Differs.CONTENT: "other content",
    Differs.MODE: "other permissions",
    Differs.TARGET: "leads elsewhere",
    Differs.UNREAD: "can't be read",
}


def mark(found: Comparison, row: int) -> tuple[str, str]:
    """What is so of an item in a word or two, and the token that it is written in."""
    state = State(int(found.state[row]))
    words, token = STATES[state]
    if state is State.SAME and found.is_mixed(row):
        return _INSIDE
    if state is State.DIFFERS:
        words = _NEWER.get(int(found.newer[row]), words)
    return words, token


def in_what(found: Comparison, row: int) -> str:
    """In what two items differ, or where the other one is; "" where there is nothing to say."""
    state = State(int(found.state[row]))
    if state is State.MOVED:
        return fill("there as {path:name}", {"path": found.path_there(row)})
    differs = Differs(int(found.differs[row]))
    return ", ".join(words for flag, words in _IN_WHAT.items() if flag in differs)


def item_line(found: Comparison, row: int, *, marked: bool = True) -> str:
    """An item in one line.

    Args:
        marked: whether what is so of it is said in front.
    """
    path, detail = shown(found.path(row)), in_what(found, row)
    path = path + "/" if found.kind(row) is Kind.DIR else path
    line = f"{mark(found, row)[0]}  {path}" if marked else path
    return f"{line}  ({detail})" if detail else line


def comparison_values(found: Comparison) -> list[dict[str, Any]]:
    """All items that are not the same, for programs."""
    newer = {1: "there", -1: "here", 0: None}
    return [
        {
            "path": found.path(row),
            "result": state.name.lower(),
            "differs": [
                flag.name.lower() for flag in Differs if flag in Differs(int(found.differs[row])) and flag.name
            ],
            "newer": newer[int(found.newer[row])],
            "path_there": found.path_there(row) or None,
        }
        for state in (State.DIFFERS, State.ONLY_HERE, State.ONLY_THERE, State.MOVED)
        for row in found.rows(state)
    ]
