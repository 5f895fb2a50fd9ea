"""Converting an archive: its items become those of a new one, in any format, level, lock and part size."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.errors import PlanError, RundletError
from rundlet.core.formats.edits import NOTHING
from rundlet.core.jobs.findings import Finding, Issue, Reason, issue, issue_of
from rundlet.core.jobs.job import Job
from rundlet.core.model.entry import NO_TIME, Kind
from rundlet.core.model.item import PackItem
from rundlet.core.plans.pack_plan import PackClash, PackPlan, plan_of_items
from rundlet.core.text import plain_path

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.edits import Edits
    from rundlet.core.formats.entry_contents import ArchiveContents
    from rundlet.core.model.format_info import FormatInfo, WriteOptions

_USUAL_MODE = {Kind.DIR: 0o755, Kind.FILE: 0o644}


def items_in(
    reader: ArchiveReader, contents: ArchiveContents, rows: Sequence[int], job: Job, edits: Edits = NOTHING
) -> tuple[list[PackItem], list[Issue]]:
    """The items of an archive as what is packed into another one, and what is to be said of those that can't be.

    Args:
        contents: of the same reader, for these rows; stays open until they are packed.
        edits: other paths, times and permissions than they have in the archive.
    """
    catalog = reader.catalog
    items: list[PackItem] = []
    issues: list[Issue] = []
    wanted = set(rows)
    firsts = {
        target for row in rows if catalog.kind[row] == Kind.HARD and (target := reader.hard_target(row)) is not None
    }
    seen: set[str] = set()
    for row in rows:
        job.checkpoint()
        entry = catalog.entry(row)
        path, kind, at = plain_path(edits.renamed.get(row, entry.path)), entry.kind, row
        steps = path.split("/")
        why = Reason.NAME_MORE_THAN_ONCE if path in seen else Reason.OUTSIDE_BY_DOTS if ".." in steps else None
        if why is not None or not path:
            issues.append(issue(entry.path, Reason.LEFT_OUT, cause=Finding(why or Reason.NO_NAME)))
            continue
        if kind == Kind.OTHER:
            issues.append(issue(entry.path, Reason.IS_DEVICE))
            continue
        inode = (-1, row) if row in firsts else None
        if kind == Kind.HARD:
            target = reader.hard_target(row)
            if target is None:
                issues.append(issue(entry.path, Reason.LEFT_OUT, cause=Finding(Reason.HARD_LINK_NOWHERE)))
                continue
            kind, at, inode = Kind.FILE, target, (-1, target) if target in wanted else None
        seen.add(path)
        try:
            link = reader.link_target(row) if kind == Kind.LINK else ""
        except RundletError as error:
            issues.append(issue_of(entry.path, error, Reason.LEFT_OUT))
            continue
        items.append(
            PackItem(
                path=path,
                kind=kind,
                source="",
                size=int(catalog.size[at]) if kind == Kind.FILE else 0,
                mtime_ns=edits.times.get(row, entry.mtime_ns if entry.mtime_ns != NO_TIME else 0),
                mode=edits.modes.get(row, entry.mode or _USUAL_MODE.get(kind, 0o777)),
                target=link,
                inode=inode,
                content=contents.source(at) if kind == Kind.FILE else None,
            )
        )
    return items, issues


def plan_convert(
    reader: ArchiveReader,
    contents: ArchiveContents,
    *,
    target: Path,
    info: FormatInfo,
    options: WriteOptions,
    rows: Sequence[int] | None = None,
    edits: Edits = NOTHING,
    added: Sequence[PackItem] = (),
    part_size: int = 0,
    read_back: bool = False,
    on_clash: PackClash = PackClash.REFUSE,
    keep_replaced: bool = False,
    job: Job | None = None,
) -> PackPlan:
    """Work out a new archive of what another one holds. Nothing is written, and nothing is unpacked onto the disk but what a
    private spool of a bounded size takes.

    Args:
        reader: stays open, and unlocked where it is locked, until the plan was run.
        contents: of this reader, for the rows that are wanted.
        rows: what goes in; None for everything.
        edits: what is to be another than in the old archive; what goes from it is not in the new one.
        added: what is put in besides.
        read_back, on_clash, keep_replaced: as in :func:`~rundlet.core.plans.pack_plan.plan_pack`.

    Raises:
        PlanError: when there is nothing to convert, or the format can't do what is asked.
        Clash: when the name is taken and the rule is to refuse.
    """
    job = job or Job()
    wanted = [row for row in (range(len(reader.catalog)) if rows is None else rows) if row not in edits.removed]
    if bool(reader.catalog.encrypted[np.array(wanted, np.int64)].any()) and not reader.unlocked:
        raise PlanError(
            "{archive:name} is locked with a password.", hint="Give its password.", archive=reader.source.name
        )
    items, issues = items_in(reader, contents, wanted, job, edits)
    notices = [notice for notice in reader.notices if notice.problem]
    return plan_of_items(
        [*items, *added],
        [*notices, *issues],
        target=target,
        info=info,
        options=replace(options, level=info.level_for(options.level)),
        part_size=part_size,
        read_back=read_back,
        on_clash=on_clash,
        keep_replaced=keep_replaced,
    )
