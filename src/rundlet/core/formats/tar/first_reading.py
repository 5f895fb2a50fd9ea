"""Listing a tar: all that is learned of it when it is read through for the first time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.codecs.parallel import cores
from rundlet.core.errors import Corrupt
from rundlet.core.formats.compressed_stream import Notes, Packing, decoded
from rundlet.core.formats.tar.index import Index
from rundlet.core.formats.tar.resumed_stream import ResumingFeed
from rundlet.core.formats.tar.walk import Walker
from rundlet.core.limits import INDEX_FROM
from rundlet.core.streams.feed import Feed, SourceFeed

if TYPE_CHECKING:
    from rundlet.core.formats.tar.decoded_cache import Kept
    from rundlet.core.formats.tar.members import Members
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.sources import ByteSource


def list_plain(source: ByteSource, opening: Opening) -> Index:
    """List a tar that is not compressed."""
    opening.job.begin("Reading the list", total_bytes=source.size)
    return Index.of(_walked(SourceFeed(source), opening), [], 0, shared=False)


def list_packed(source: ByteSource, packing: Packing, opening: Opening, kept: Kept) -> Index:
    """List a compressed one, as far as it can be decoded.

    Args:
        kept: gets what is decoded.
    """
    job, memory, workers = opening.job, opening.limits.memory_bytes, cores()
    job.begin("Reading the list")
    notes = Notes(within=source.size >= INDEX_FROM)
    chunks = kept.passed(decoded(source, packing, notes=notes, memory=memory, workers=workers))
    feed = ResumingFeed(source, packing, notes, chunks, memory=memory, workers=workers, tick=job.checkpoint)
    members = _walked(feed, opening)
    index = Index.of(members, notes.points, notes.trailing, shared=True)
    index.resumed = tuple(feed.resumed)
    faults = [*feed.faults, *([feed.fault] if feed.fault is not None else [])]
    if members.wrong or faults:
        index.sound = notes.sound
        index.wrong = members.wrong or any(isinstance(fault, Corrupt) for fault in faults)
    return index


def _walked(feed: Feed, opening: Opening) -> Members:
    """What a walk finds, told as it is found."""
    done = rows = 0

    def tick(position: int, count: int) -> None:
        nonlocal done, rows
        opening.job.advance(position - done, entries=count - rows)
        if opening.found is not None and count > rows:
            opening.found(walker.members.catalog(shared=True, first=rows))
        done, rows = position, count

    walker = Walker(feed, tick)
    return walker.walk()
