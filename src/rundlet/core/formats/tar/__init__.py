"""The tar format, plain and within compressed streams."""

from __future__ import annotations

from collections.abc import Iterator

from rundlet.core.codecs.packers import PACKERS
from rundlet.core.codecs.side_by_side import cores
from rundlet.core.errors import Corrupt, FormatError, MissingPart, RundletError, Unsupported
from rundlet.core.formats.base import FormatInfo, Opening, Sink, WriteOptions
from rundlet.core.formats.packed import PACKINGS, Notes, Packing, decoded, packing_of
from rundlet.core.formats.tar import index as cache
from rundlet.core.formats.tar.headers import BLOCK, may_be_header
from rundlet.core.formats.tar.index import Index
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.formats.tar.resuming import ResumingFeed
from rundlet.core.formats.tar.walk import Walker
from rundlet.core.formats.tar.writer import TarWriter
from rundlet.core.jobs.report import Issue
from rundlet.core.limits import CHUNK, DEFAULT, INDEX_FROM, KEPT_PLAIN
from rundlet.core.streams.exact import read_there
from rundlet.core.streams.feed import SourceFeed
from rundlet.core.streams.sources import ByteSource, MemorySource
from rundlet.core.text import lower, plural

_ABOUT = {
    "": "Puts files together without making them smaller.",
    "gz": "The usual one between Linux computers.",
    "bz2": "Smaller than gzip and slower; for those who ask for it.",
    "xz": "Very small and slow to pack; opens on every Linux computer.",
    "zst": "Quick and small; opens where programs are not too old.",
}
_EMPTY_AT_MOST = 20 * BLOCK  # a tar with nothing in it is one record of zeros; a larger file of zeros is just that
_MOST_SEARCHED = 1 << 30  # decoded bytes in search of a header behind a damaged beginning; a few seconds
_SHORT_ENDINGS = {"gz": (".tgz",), "bz2": (".tbz2", ".tbz"), "xz": (".txz",), "zst": (".tzst",)}


class TarFormat:
    """tar in one packing, or plain; see :class:`rundlet.core.formats.base.Format`."""

    def __init__(self, packing: Packing | None) -> None:
        self._packing = packing
        short = packing.id if packing is not None else ""
        writes = not short or short in PACKERS
        levels = (
            tuple(range(10))
            if short in ("gz",)
            else tuple(range(1, 10))
            if writes and short
            else (0,)
            if writes
            else ()
        )
        self.info = FormatInfo(
            id=f"tar.{short}" if short else "tar",
            ending=f".tar.{short}" if short else ".tar",
            about=_ABOUT.get(short, ""),
            levels=levels,
            default_level=9 if short == "bz2" else 5 if short else 0,
            other_endings=_SHORT_ENDINGS.get(short, ()),
        )

    def probe(self, source: ByteSource) -> bool:
        """A header with a right checksum where the archive begins, or an archive with nothing in it."""
        head = read_there(source, 0, _EMPTY_AT_MOST + 1)
        if self._packing is not None:
            if packing_of(head[:16]) is not self._packing:
                return False
            head = _decoded_head(source, self._packing)
        is_empty = 2 * BLOCK <= len(head) <= _EMPTY_AT_MOST and len(head) % BLOCK == 0 and not any(head)
        return may_be_header(head[:BLOCK]) or is_empty

    def open(self, source: ByteSource, opening: Opening) -> TarReader:
        place = cache.place(source) if self._packing is not None else None  # before anything of it changes
        index = cache.load(place)
        plain = source if self._packing is None else None
        if index is None:
            kept = _Kept()
            index = self._walk(source, opening, kept)
            if self._packing is not None and not index.damaged and not index.resumed:
                plain = kept.source(source.name)
            cache.save(place, index)
        notices = []
        if index.lost:
            why = lower(index.lost).rstrip(".")
            are = "may be" if index.resumed else "are"
            notices.append(
                Issue(source.name, f"entries {are} missing in the list, and those behind may not belong in it: {why}")
            )
        if index.damaged:
            found = plural(len(index.catalog), "entry")
            why = lower(index.damaged).rstrip(".")
            notices.append(Issue(source.name, f"the list ends after {found}: {why}"))
        if index.trailing:
            notices.append(
                Issue(source.name, f"{plural(index.trailing, 'byte')} behind its end don't belong to it", problem=False)
            )
        reader = TarReader(source, self.info, self._packing, index, notices, opening.limits, plain)
        for count, words in (
            (len(reader.doubtful), "may be damaged, which their names will say when they come out"),
            (reader.unchecked, "can't be checked, as their checksum is missing with what is missing"),
        ):
            if count:
                notices.insert(0, Issue(source.name, f"{plural(count, 'file')} {words}"))
        return reader

    def _walk(self, source: ByteSource, opening: Opening, kept: _Kept) -> Index:
        job = opening.job
        job.begin("Reading the list", total_bytes=0 if self._packing else source.size)
        done = rows = 0

        def tick(position: int, count: int) -> None:
            nonlocal done, rows
            job.advance(position - done, entries=count - rows)
            if opening.found is not None and count > rows:
                opening.found(walker.members.catalog(shared=True, first=rows))
            done, rows = position, count

        if self._packing is None:
            walker = Walker(SourceFeed(source), tick)
            return Index.of(walker.walk(), [], 0, shared=False)
        notes = Notes(within=source.size >= INDEX_FROM)
        memory, workers = opening.limits.memory_bytes, cores()
        chunks = decoded(source, self._packing, notes=notes, memory=memory, workers=workers)
        feed = ResumingFeed(
            source, self._packing, notes, kept.passed(chunks), memory=memory, workers=workers, tick=job.checkpoint
        )
        walker = Walker(feed, tick)
        members = walker.walk()
        if not members.damaged:
            try:
                while feed.read(CHUNK):
                    pass  # so that damage behind the last entry and junk behind the stream are seen
            except MissingPart as error:
                members.damaged = error.message
            except FormatError:
                members.damaged = "What follows is damaged, or the checksum of it all is wrong."
        index = Index.of(members, notes.points, notes.trailing, shared=True)
        index.resumed = tuple(feed.resumed)
        faults = [*feed.faults, *([feed.fault] if feed.fault is not None else [])]
        if members.wrong or faults:
            index.sound = notes.sound
            index.wrong = members.wrong or any(isinstance(fault, Corrupt) for fault in faults)
        return index

    def create(self, sink: Sink, options: WriteOptions) -> TarWriter:
        if options.password:
            raise Unsupported("tar can't be locked with a password. zip and 7z can.")
        if self._packing is None:
            return TarWriter(sink, options, None)
        return TarWriter(sink, options, PACKERS[self._packing.id](options.level))


class _Kept:
    """The decoded bytes that went by, as long as they are few enough to be kept."""

    def __init__(self) -> None:
        self._pieces: list[bytes] | None = []
        self._room = KEPT_PLAIN

    def passed(self, chunks: Iterator[bytes]) -> Iterator[bytes]:
        """Pass chunks on."""
        for data in chunks:
            self._room -= len(data)
            if self._room < 0:
                self._pieces = None
            elif self._pieces is not None:
                self._pieces.append(data)
            yield data

    def source(self, name: str) -> MemorySource | None:
        """All that went by, or None when it was too much."""
        return None if self._pieces is None else MemorySource(b"".join(self._pieces), name)


def _decoded_head(source: ByteSource, packing: Packing) -> bytes:
    """The beginning of a compressed stream."""
    head = b""
    try:
        for data in decoded(source, packing):
            head += data
            if len(head) > _EMPTY_AT_MOST:
                break
    except RundletError:  # whoever reads it will say what is wrong
        if len(head) < BLOCK:
            return _head_behind_damage(source, packing)
    return head[: _EMPTY_AT_MOST + 1]


class _Enough(Exception):
    """The search for a header has taken long enough."""


def _head_behind_damage(source: ByteSource, packing: Packing) -> bytes:
    """The first header that can be decoded of a stream whose beginning can't, or nothing."""
    left = _MOST_SEARCHED

    def tick() -> None:
        nonlocal left
        left -= CHUNK
        if left < 0:
            raise _Enough

    notes = Notes()
    chunks = decoded(source, packing, notes=notes)
    feed = ResumingFeed(source, packing, notes, chunks, memory=DEFAULT.memory_bytes, workers=1, tick=tick)
    try:
        return feed.first_header()
    except (RundletError, _Enough):
        return b""


PLAIN = TarFormat(None)
PACKED = tuple(TarFormat(packing) for packing in PACKINGS)
