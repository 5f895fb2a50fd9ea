"""Checksums in words: what was found of each file, and whether a published one is among them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from rundlet.core.model.checksum_list import Algorithm
from rundlet.core.sentences import fill
from rundlet.core.text import shown
from rundlet.core.work.checksums import Match
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from rundlet.core.model.published import Answer, Published
    from rundlet.core.work.checksums import Verified

NAMES = {
    Algorithm.SHA256: "SHA-256",
    Algorithm.SHA512: "SHA-512",
    Algorithm.SHA1: "SHA-1",
    Algorithm.MD5: "MD5",
    Algorithm.BLAKE2B: "BLAKE2b",
    Algorithm.CRC32: "CRC-32",
}
"""What each algorithm is called in the window."""

MATCHES = {
    Match.SAME: ("✓ matches", "moss"),
    Match.DIFFERS: ("✗ differs", "amber"),
    Match.MISSING: ("✗ is missing", "amber"),
    Match.UNREADABLE: ("✗ can't be read", "amber"),
    Match.OUTSIDE: ("✗ leads out of the folder, so it was not looked at", "amber"),
}
"""For each thing that becomes of a line of a list its words, and the token that they are written in."""

_MOST_PLACES = 8
_GROUP = 8


def grouped(digest: str, differing: Collection[int] = ()) -> str:
    """A checksum in groups, so that it can be compared by eye, with brackets around the characters at some places."""
    marked = [f"[{digit}]" if place in differing else digit for place, digit in enumerate(digest)]
    return " ".join("".join(marked[at : at + _GROUP]) for at in range(0, len(marked), _GROUP)).replace("][", "")


def recognized(published: Sequence[Published]) -> str:
    """What was pasted, in a few words."""
    if not published:
        return "This isn't a checksum."
    if len(published) > 1:
        return say("{count:checksum|checksums}", count=len(published))
    (one,) = published
    if not one.algorithms:
        return say("{count:character|characters}; no checksum has as many", count=len(one.digest))
    algorithms = " or ".join(NAMES[algorithm] for algorithm in one.algorithms)
    return fill("{algorithms} of {name:name}", {"algorithms": algorithms, "name": one.name}) if one.name else algorithms


def answer_words(answer: Answer) -> str:
    """What became of a published checksum, in a sentence."""
    facts = {
        "name": answer.path.name if answer.path is not None else "",
        "algorithm": NAMES[answer.algorithm] if answer.algorithm is not None else "",
        "said": answer.published.name,
    }
    if answer.matches:
        return fill("Matches {name:name} ({algorithm}).", facts)
    if answer.differing:
        places = [str(place + 1) for place in answer.differing[:_MOST_PLACES]]
        if len(answer.published.digest) < len(answer.actual):
            words = "Almost the checksum of {name:name}: a character is missing at place {places}."
        elif len(answer.published.digest) > len(answer.actual):
            words = "Almost the checksum of {name:name}: there is one character too many at place {places}."
        elif len(places) > 1:
            words = "Almost the checksum of {name:name}: characters {places} differ. It may have been copied wrongly."
        else:
            words = "Almost the checksum of {name:name}: character {places} differs. It may have been copied wrongly."
        return fill(words, facts | {"places": ", ".join(places)})
    if answer.path is not None:
        return fill("{name:name} is not the published file: its {algorithm} is another one.", facts)
    if answer.published.name:
        return fill("The checksum of {said:name} is that of none of these files.", facts)
    return "No file here has this checksum."


def verified_words(found: Sequence[Verified], extra: int) -> str:
    """What holding files against a list came to, in a sentence or more.

    Args:
        extra: how many files lie there that the list does not name.
    """
    counts = {match: sum(each.match is match for each in found) for match in Match}
    facts = {
        "same": counts[Match.SAME],
        "total": len(found),
        "differs": counts[Match.DIFFERS],
        "missing": counts[Match.MISSING],
        "unread": counts[Match.UNREADABLE] + counts[Match.OUTSIDE],
        "extra": extra,
    }
    if counts[Match.SAME] == len(found):
        said = ["All {same:file|files} of the list match."] if len(found) != 1 else ["The file of the list matches."]
    else:
        said = ["{same:number} of {total:file|files} {same:=matches|match}."]
    said += ["{differs:file differs|files differ}."] if facts["differs"] else []
    said += ["{missing:file is|files are} missing."] if facts["missing"] else []
    said += ["{unread:file|files} could not be read."] if facts["unread"] else []
    said += ["{extra:file here is|files here are} not in the list."] if extra else []
    return joined([fill(each, facts) for each in said])


def verified_line(each: Verified) -> str:
    """A line of a list, and what became of it."""
    return f"{MATCHES[each.match][0]}  {shown(each.line.name)}"
