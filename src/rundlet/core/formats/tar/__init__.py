"""The tar format, plain and within compressed streams."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.codecs.packers import PACKERS
from rundlet.core.errors import RundletError, Unsupported
from rundlet.core.formats.compressed_stream import PACKINGS, Notes, Packing, decoded, packing_of
from rundlet.core.formats.known import PACKED_TARS, TAR
from rundlet.core.formats.tar import index as cache
from rundlet.core.formats.tar.decoded_cache import Kept, kept_elsewhere
from rundlet.core.formats.tar.first_reading import list_packed, list_plain
from rundlet.core.formats.tar.headers import BLOCK, may_be_header
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.formats.tar.resumed_stream import ResumingFeed
from rundlet.core.formats.tar.writer import TarWriter
from rundlet.core.jobs.findings import Reason, issue
from rundlet.core.limits import CHUNK, DEFAULT
from rundlet.core.streams.exact import read_there

if TYPE_CHECKING:
    from rundlet.core.formats.base import Sink
    from rundlet.core.formats.tar.index import Index
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.sources import ByteSource

_EMPTY_AT_MOST = 20 * BLOCK  # a tar with nothing in it is one record of zeros; a larger file of zeros is just that
_MOST_SEARCHED = 1 << 30  # decoded bytes in search of a header behind a damaged beginning; a few seconds


class TarFormat:
    """tar in one packing, or plain; see :class:`rundlet.core.formats.base.Format`."""

    def __init__(self, info: FormatInfo, packing: Packing | None) -> None:
        self.info = info
        self._packing = packing

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
        plain: ByteSource | None
        if self._packing is None:
            index, plain = list_plain(source, opening), source
        else:
            index, plain = _listed(source, self._packing, opening)
        notices = []
        if index.lost:
            reason = Reason.ENTRIES_MAY_BE_MISSING if index.resumed else Reason.ENTRIES_MISSING
            notices.append(issue(source.name, reason, cause=index.lost))
        if index.damaged:
            notices.append(issue(source.name, Reason.LIST_ENDS, count=len(index.catalog), cause=index.damaged))
        if index.trailing:
            notices.append(issue(source.name, Reason.JUNK_BEHIND, count=index.trailing))
        reader = TarReader(source, self.info, self._packing, index, notices, opening.limits, plain)
        for count, reason in (
            (len(reader.doubtful), Reason.FILES_DOUBTFUL),
            (len(reader.unchecked), Reason.FILES_UNCHECKED),
        ):
            if count:
                notices.insert(0, issue(source.name, reason, count=count))
        return reader

    def create(self, sink: Sink, options: WriteOptions) -> TarWriter:
        if options.password:
            raise Unsupported("tar can't be locked with a password. zip and 7z can.")
        if self._packing is None:
            return TarWriter(sink, options, None)
        return TarWriter(sink, options, PACKERS[self._packing.id](options.level))


def _listed(source: ByteSource, packing: Packing, opening: Opening) -> tuple[Index, ByteSource | None]:
    """What is known of a compressed archive or learned of it now, and what is kept of it decoded."""
    place = cache.place(source)  # before anything of it changes
    index = cache.load(place)
    if index is not None:
        return index, kept_elsewhere(place)
    kept = Kept(packing, on_disk=opening.keeps)
    index = list_packed(source, packing, opening, kept)
    cache.save(place, index, opening.limits.index_bytes)
    whole = not index.damaged and not index.resumed
    return index, kept.source(source.name, place) if whole else None


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


_BY_ID = {packing.id: packing for packing in PACKINGS}
FORMATS = (
    TarFormat(TAR, None),
    *(TarFormat(info, _BY_ID[info.id.removeprefix("tar.")]) for info in PACKED_TARS),
)
