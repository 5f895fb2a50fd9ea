"""How an archive is opened."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from rundlet.core.jobs.job import Job
from rundlet.core.limits import DEFAULT, Limits

if TYPE_CHECKING:
    from collections.abc import Callable

    from rundlet.core.model.catalog import Catalog


@dataclass(frozen=True, slots=True)
class Opening:
    """How an archive is opened.

    Attributes:
        code_page: how names are written that do not say so themselves; None to guess.
        limits: what reading it may take.
        job: told of the progress where the whole archive must be read for its list; may cancel.
        found: called now and then with the entries found since the last call, where listing takes long.
        password: for archives whose very list is locked; None when there is none.
        keeps: whether the content is likely to be read as well, so that what must be decoded for the list is kept.
    """

    code_page: str | None = None
    limits: Limits = DEFAULT
    job: Job = field(default_factory=Job)
    found: Callable[[Catalog], None] | None = None
    password: str | None = field(default=None, repr=False)
    keeps: bool = True
