"""An archive written anew beside an open one: what stays is taken over as it is packed, and more may be added."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError
from rundlet.core.formats.detect import by_id

if TYPE_CHECKING:
    from rundlet.core.codecs.parallel import Pool
    from rundlet.core.formats.base import ArchiveReader, Sink
    from rundlet.core.formats.edits import Edits
    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.model.item import PackItem


def rewrite(
    reader: ArchiveReader,
    sink: Sink,
    edits: Edits,
    *,
    added: Sequence[PackItem] = (),
    options: WriteOptions,
    pool: Pool,
    job: Job,
    outcome: Outcome,
) -> None:
    """Write an archive of the same format with the edits made.

    Adding, removing and renaming are all cases of this. What is added stands behind everything that was there.

    Args:
        reader: the archive as it is; unlocked where it is locked and something of it must be packed anew.
        sink: takes the new archive.
        added: new entries, under names that are not taken.
        options: how what is added is written, and what must be packed anew.

    Raises:
        PlanError: when the archive says something that would be lost.
        RundletError: when it can't be read, or the sink not be written.
    """
    changes_count = bool(edits.removed or added)
    lost = reader.unkept or (reader.uncounted if changes_count else "")
    if lost:
        raise PlanError(lost, archive=reader.source.name)
    writer = by_id(reader.info.id).create(sink, options)
    writer.keep(reader, edits, pool=pool, job=job, outcome=outcome)
    writer.write(added, pool=pool, job=job, outcome=outcome)
    writer.finish()
