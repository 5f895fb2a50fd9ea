"""Originals that go to the trash once they were packed."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import Cancelled
from rundlet.core.fs.trash import to_trash
from rundlet.core.jobs.findings import Reason

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.work.verify import Proof


def clear_up(originals: Sequence[Path], proof: Proof, job: Job, outcome: Outcome) -> None:
    """Move the originals to the trash, each only when all of it was seen in the archive and is still what it was then.

    The archive is in its place by now, so that being cancelled leaves the other originals where they are, and that is said.
    """
    try:
        job.begin("Moving the originals to the trash", total_entries=len(originals))
        for original in originals:
            job.checkpoint()
            why = proof.lacks(original)
            if why is not None:
                outcome.add(original.name, Reason.ORIGINAL_STAYS, cause=why)
            else:
                to_trash([original], outcome, job)
    except Cancelled:
        left = [path for path in originals if str(path) not in outcome.trashed and os.path.lexists(path)]
        outcome.add(outcome.target.name, Reason.ORIGINALS_STAY_CANCELLED, count=len(left))
