"""What the button says that undoes a job, and what it will do."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.work.undo import deletes
from rundlet.presentation.outcomes import presenter_of
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.userdata.journal import Record


def undo_label(record: Record) -> str:
    """What the button says that undoes a job; what can't be undone itself is said there."""
    files = record.outcome.files
    return say("Delete {files:unpacked file|unpacked files}", files=files) if files and deletes(record) else "Undo"


def undo_words(record: Record) -> str:
    """What undoing a job does, in a few words."""
    return presenter_of(record.outcome).undoing(record, deletes=deletes(record))
