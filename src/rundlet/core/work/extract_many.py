"""Several archives unpacked one after the other, each in a folder of its own unless it holds a single one already."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import Cancelled, PasswordNeeded, RundletError
from rundlet.core.formats.detect import open_unlocked
from rundlet.core.fs.safe_names import first_free
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Unpacked
from rundlet.core.model.opening import Opening
from rundlet.core.plans.unpack_plan import Afterwards, Steps, UnpackClash, UnpackPlan, own_folder_name
from rundlet.core.plans.unpack_planner import needs_own_folder, plan_unpack
from rundlet.core.work.extractor import put_away, unpack

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader


@dataclass(frozen=True, slots=True)
class Outlook:
    """What would come of one of several archives.

    Attributes:
        path: the archive.
        plan: where it lands; None when it can't be unpacked as it is.
        problem: why, in a sentence, or "".
        locked: whether it can't be unpacked for want of its password.
        password: the one that opens it, or "".
    """

    path: Path
    plan: UnpackPlan | None = None
    problem: str = ""
    locked: bool = False
    password: str = field(default="", repr=False)


Rules = Mapping[Path, Mapping[Steps, UnpackClash]]
"""For each archive its rules for single names; see :func:`plan_unpack`."""


def look_ahead(
    archives: Sequence[Path],
    *,
    into: Path,
    on_clash: UnpackClash,
    rules: Rules | None = None,
    passwords: Mapping[Path, Sequence[str]] | None = None,
    keep_replaced: bool,
    job: Job | None = None,
) -> list[Outlook]:
    """Open each archive and work out where it would land. Nothing is written.

    Args:
        passwords: for each archive those to try in turn, where it is locked.
    """
    job = job or Job()
    landing = _Landing(into, on_clash, rules or {}, keep_replaced, job)
    found = []
    for path in archives:
        job.checkpoint()
        try:
            reader, password = open_unlocked(path, (passwords or {}).get(path, ()), Opening(job=job, keeps=False))
        except PasswordNeeded:
            found.append(Outlook(path, problem="locked", locked=True))
            continue
        except RundletError as error:
            found.append(Outlook(path, problem=str(error)))
            continue
        try:
            found.append(Outlook(path, landing.plan(reader, path), password=password))
        finally:
            reader.close()
    return found


class _Landing:
    """Where one archive after the other lands. What one brings is never mixed with what another one brings."""

    def __init__(self, into: Path, on_clash: UnpackClash, rules: Rules, keep_replaced: bool, job: Job) -> None:
        self._into = into
        self._on_clash = on_clash
        self._rules = rules
        self._keep_replaced = keep_replaced
        self._job = job
        self._tops: set[str] = set()

    def plan(self, reader: ArchiveReader, path: Path) -> UnpackPlan:
        """Plan the next one: in a folder of its own, unless it holds a single one whose name none before it has."""
        top = _top(reader)
        own = own_folder_name(path) if needs_own_folder(reader) or top.casefold() in self._tops else ""
        if own:
            own = first_free(own, lambda name: name.casefold() in self._tops)
        self._tops.add((own or top).casefold())
        return plan_unpack(
            reader,
            into=self._into,
            own_folder=own,
            on_clash=self._on_clash,
            rules=self._rules.get(path),
            leave_same=self._keep_replaced,
            keep_replaced=self._keep_replaced,
            job=self._job,
        )


def _top(reader: ArchiveReader) -> str:
    """The name of what stands at the top of an archive, of the first thing when there are more."""
    return reader.catalog.path(0).partition("/")[0] if len(reader.catalog) else ""


def unpack_several(
    archives: Sequence[Path],
    *,
    into: Path,
    on_clash: UnpackClash = UnpackClash.RENAME,
    rules: Rules | None = None,
    passwords: Mapping[Path, str] | None = None,
    keep_replaced: bool = False,
    after: Afterwards = Afterwards.STAYS,
    job: Job | None = None,
) -> Unpacked:
    """Unpack archives into a folder; one that can't be unpacked is named and the others go on.

    Args:
        passwords: of those that are locked.
        after: what becomes of each archive when everything in it came out.
    """
    job = job or Job()
    whole = Unpacked(into)
    landing = _Landing(into, on_clash, rules or {}, keep_replaced, job)
    try:
        for path in archives:
            try:
                _one(path, (passwords or {}).get(path, ""), whole, landing, after, job)
            except RundletError as error:
                whole.add_error(path.name, error, Reason.LEFT_OUT)
    except Cancelled:
        if not whole.created:
            raise
        whole.add(into.name, Reason.BATCH_CANCELLED)
    return whole


def _one(path: Path, password: str, whole: Unpacked, landing: _Landing, after: Afterwards, job: Job) -> None:
    reader, _ = open_unlocked(path, [password] if password else [], Opening(job=job))
    try:
        plan = landing.plan(reader, path)
        outcome = unpack(plan, reader, job)
        put_away(plan, reader, outcome, job, after)
        whole.include(outcome)
    finally:
        reader.close()
