"""Joining the numbered parts of a plain file, one that holds no archive, in one step or not at all."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass
from pathlib import Path

from rundlet.core.errors import ChecksumMismatch, MissingPart, OutOfDate, PlanError
from rundlet.core.formats.detect import detect
from rundlet.core.fs.replaced import settle_backup
from rundlet.core.fs.unfinished import noted
from rundlet.core.jobs.findings import Issue, Reason
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Copied, Joined
from rundlet.core.plans.pack_plan import PackClash, settled
from rundlet.core.sentences import several
from rundlet.core.streams.copying import copy_bytes
from rundlet.core.streams.parts import JoinedSource, open_parts
from rundlet.core.streams.sinks import ArchiveSink
from rundlet.core.streams.sources import FileSource
from rundlet.core.work.checksums import parts_that_differ


@dataclass(frozen=True, slots=True)
class PartState:
    """One part of a set.

    Attributes:
        size: bytes that it should have; at most so many where it is the last one and not there.
        there: bytes of it that are there.
    """

    number: int
    name: str
    size: int
    there: int

    @property
    def is_whole(self) -> bool:
        """Whether it is all there."""
        return self.there >= self.size


@dataclass(frozen=True, slots=True)
class JoinPlan:
    """What joining gives.

    Attributes:
        first: one of the parts.
        name: of the file that they make up.
        size: its bytes, as far as the parts tell.
        parts: all of them, in order.
        issues: what is there twice, or is the wrong part.
        holds_archive: whether it is an archive, which need not be joined to be opened.
        fingerprint: what the parts were.
    """

    first: Path
    name: str
    size: int
    parts: tuple[PartState, ...]
    issues: tuple[Issue, ...]
    holds_archive: bool
    fingerprint: tuple[int, ...]

    @property
    def lacking(self) -> list[PartState]:
        """The parts that are not all there."""
        return [part for part in self.parts if not part.is_whole]


def plan_join(path: Path) -> JoinPlan | None:
    """Look at the parts that a file is one of; None where it is none. Reads only.

    Raises:
        FileProblem: when it is not there.
        MissingPart: when so many parts are missing that nothing can be told.
    """
    source = open_parts(path)
    if not isinstance(source, JoinedSource):
        return None
    with contextlib.closing(source):
        parts = tuple(PartState(part.number, part.name, part.size, part.there) for part in source.parts)
        issues = tuple(issue for issue in source.issues if issue.reason is not Reason.MISSING_PART)
        return JoinPlan(
            path,
            source.name,
            source.size,
            parts,
            issues,
            _is_archive(source),
            source.fingerprint(),
        )


def _is_archive(source: JoinedSource) -> bool:
    try:
        return detect(source) is not None
    except MissingPart:
        return False


def join(
    plan: JoinPlan,
    target: Path,
    job: Job | None = None,
    *,
    on_clash: PackClash = PackClash.REFUSE,
) -> Joined:
    """Write the parts into one file. The parts stay as they are.

    On a disk where files can share what they hold, this takes no room of its own.

    Args:
        target: the file to make.
        job: told of the progress; may pause and cancel, which leaves nothing behind.
        on_clash: what happens when the name is taken.

    Raises:
        MissingPart: when a part is not all there.
        OutOfDate: when the parts changed since they were looked at.
        ChecksumMismatch: when a part is not what the checksum file beside the parts says.
        Clash, PlanError: when the name is taken or can't be.
        FileProblem: when the file can't be written.
    """
    job = job or Job()
    started = time.monotonic()
    target, replaces = settled(target, on_clash, in_parts=False)
    source = open_parts(plan.first)
    if not isinstance(source, JoinedSource):
        raise PlanError("{name:name} is no numbered part.", name=plan.first.name)
    outcome = Joined(target, issues=list(plan.issues))
    with contextlib.ExitStack() as held:
        held.callback(source.close)
        if source.fingerprint() != plan.fingerprint:
            raise OutOfDate("The parts of {name:name} changed meanwhile; look at them again.", name=plan.name)
        if wanting := source.wanting():
            raise MissingPart("The parts of {name:name} are not all here.", name=plan.name, hint=several(wanting))
        if differing := parts_that_differ(source, job):
            raise ChecksumMismatch(
                "{part:name} is not what the checksum file beside the parts says.",
                part=differing[0].item,
                hint="Fetch it again.",
            )
        job.begin("Joining", total_bytes=source.size, total_entries=len(source.parts))
        sink = ArchiveSink(target, replace=replaces)
        held.callback(sink.close)
        for part in source.parts:
            assert part.source is not None
            copy_bytes(sink, part.source, 0, part.size, job.advance)
            job.advance(entries=1)
        outcome.files, outcome.bytes_in, outcome.bytes_out = len(source.parts), source.size, sink.tell()
        if source.fingerprint() != plan.fingerprint or sink.tell() != plan.size:
            raise OutOfDate("The parts of {name:name} changed meanwhile; look at them again.", name=plan.name)
        job.checkpoint()
        paths = sink.paths
        with noted([target.parent]):
            settle_backup(sink.commit(), outcome, keep=True)
    outcome.created += map(str, paths)
    outcome.seconds = time.monotonic() - started
    return outcome


def take_part(found: Path, part: Path, job: Job | None = None) -> Copied:
    """Copy a part that was found elsewhere beside the others, under the name that it should have.

    Raises:
        Clash: when something of that name is there by now.
        FileProblem: when it can't be read or written.
    """
    job = job or Job()
    outcome = Copied(part.parent)
    with contextlib.ExitStack() as held:
        source = FileSource(found)
        held.callback(source.close)
        job.begin("Copying", total_bytes=source.size)
        sink = ArchiveSink(settled(part, PackClash.REFUSE, in_parts=False)[0])
        held.callback(sink.close)
        copy_bytes(sink, source, 0, source.size, job.advance)
        job.checkpoint()
        outcome.files, outcome.bytes_in, outcome.bytes_out = 1, source.size, sink.tell()
        paths = sink.paths
        with noted([part.parent]):
            settle_backup(sink.commit(), outcome, keep=True)
    outcome.created += map(str, paths)
    return outcome
