"""What changing an archive costs, in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rundlet.core.sentences import fill
from rundlet.core.text import quoted
from rundlet.presentation.sentences import joined

if TYPE_CHECKING:
    from rundlet.core.plans.change_plan import ChangePlan
    from rundlet.core.work.change_cost import ChangeCost


_STREAMS = "tar."


def cost_words(
    plan: ChangePlan | None, cost: ChangeCost | None, outer: Sequence[str] = (), outer_bytes: int = 0
) -> str:
    """What saving costs, in a sentence.

    Args:
        outer: the names of the archives that this one lies in, the innermost first, which are written anew, too.
        outer_bytes: of the outermost.
    """
    if plan is None or cost is None:
        return ""
    if outer:
        words = "Then {names}, {bytes:size}, {count:=is|are} written anew with it."
        more = fill(words, {"names": " and ".join(map(quoted, outer)), "bytes": outer_bytes, "count": len(outer)})
        return joined([cost_words(plan, cost), more])
    facts = {
        "packed": cost.packed,
        "files": cost.files,
        "again": cost.again,
        "seconds": cost.seconds,
        "format": plan.info.id,
    }
    if cost.again and plan.info.id.startswith(_STREAMS):
        return fill("A {format} is one stream: {again:size} are packed again, {seconds:about}.", facts)
    if cost.again:
        return fill("{again:size} share a block with what changes and are packed again, {seconds:about}.", facts)
    if cost.packed:
        return fill(
            "{packed:number} of {files:file|files} {packed:=is|are} packed, the rest is copied as it is: {seconds:duration}.",
            facts,
        )
    return fill("Nothing is packed again; what stays is copied as it is: {seconds:duration}.", facts)
