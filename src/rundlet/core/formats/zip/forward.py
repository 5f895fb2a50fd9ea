"""Reading a zip as it comes, by the headers in front of its entries (section 4.3.7), in pieces that are small zips of their own.

Such a header says neither permissions nor whether an entry is a link; the file list does, which comes last.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rundlet.core.errors import RundletError, Truncated
from rundlet.core.formats.forward_reading import ForwardArchive
from rundlet.core.formats.known import ZIP
from rundlet.core.formats.zip import ZipFormat
from rundlet.core.formats.zip.directory import read_directory
from rundlet.core.formats.zip.end_record import End
from rundlet.core.formats.zip.header_scan import ENDS, EndUnknown, header_places, local_entry
from rundlet.core.formats.zip.reader import ZipReader, name_in_front
from rundlet.core.formats.zip.records import CENTRAL_SIZE, DESCRIPTOR_SIGNATURE, Flag, LocalHeader
from rundlet.core.jobs.findings import Issue, Reason, issue, issue_of
from rundlet.core.limits import KIB, MIB, SMALL
from rundlet.core.streams.pipes import NAME, ForwardSource, KeptSource
from rundlet.core.streams.sources import MemorySource

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.feed import Feed
    from rundlet.core.streams.sources import ByteSource

_PIECE = 4 * MIB  # bytes of small entries together
_MOST = 4096  # entries
_LOOK = (
    256 * KIB
)  # bytes from the beginning of an entry that may be looked at more than once; its header takes half of that
_OFFSET = struct.Struct("<I")  # at the end of a record, before the name


class ZipForward(ForwardArchive):
    """A zip that is read as it comes. Where an entry says its size only behind its data, its packed data is kept until then.

    Args:
        feed: its bytes.
    """

    list_comes_last = True

    def __init__(self, feed: Feed, opening: Opening) -> None:
        super().__init__(feed)
        self.info = ZIP
        self._source = KeptSource(feed)
        self._opening = opening
        self._seen: dict[int, bytes] = {}  # the names of the entries that came, by their places
        self._begin = 0  # of the piece that was given last
        self._list_at = -1

    def pieces(self) -> Iterator[ZipReader]:
        source, begin, end = self._source, 0, 0
        records: list[bytes] = []
        for record, place, after in self._entries():
            is_small = after - place <= SMALL and len(source.read_at(place, after - place)) == after - place
            is_near = place == end and after - begin <= _PIECE and len(records) < _MOST
            if records and not (is_small and is_near):
                yield self._opened(
                    MemorySource(source.read_at(begin, end - begin) + b"".join(records), NAME), begin, records
                )
                records = []
            if not records:
                begin = place
                source.forget(begin)
            if is_small:
                records.append(_placed(record, place - begin))
            else:
                yield from self._large(record, place, after - place)
            end = after
        if records:
            yield self._opened(
                MemorySource(source.read_at(begin, end - begin) + b"".join(records), NAME), begin, records
            )
        self._finish()

    def _entries(self) -> Iterator[tuple[bytes, int, int]]:
        """For each entry its record in a file list, as if it stood at the beginning, where it begins, and where the next one does."""
        source, job = self._source, self._opening.job
        at: int | None = 0
        gaps = False
        while at is not None and (head := source.read_at(at, LocalHeader.LAYOUT.size)):
            if head[:4] in ENDS:
                self._list_at = at
                break
            if head[:4] != LocalHeader.SIGNATURE:
                # Parts of a divided archive begin with a mark of their own (section 8.5.4).
                gaps |= at > 0 or head[:4] != DESCRIPTOR_SIGNATURE
                at = next(header_places(source, at + 1, job), None)
                continue
            try:
                record, place, at = local_entry(source, at, at, job)
            except EndUnknown as error:
                self.notices.append(issue(error.name.decode("utf-8", "replace"), Reason.ENTRY_CUT))
                break
            except Truncated:
                break
            length = int.from_bytes(record[28:30], "little")
            self._seen[place] = record[CENTRAL_SIZE : CENTRAL_SIZE + length]
            yield record, place, at
        if gaps:
            self.notices.append(issue(NAME, Reason.GAPS))

    def _large(self, record: bytes, place: int, size: int) -> Iterator[ZipReader]:
        source = self._source
        first = source.read_at(place, min(size, _LOOK))
        source.forget(place + len(first))
        piece = ForwardSource(first, source.take, size - len(first), record, says_cut=True)
        yield self._opened(piece, place, [record])
        piece.skip_rest()

    def _opened(self, source: ByteSource, begin: int, records: Sequence[bytes]) -> ZipReader:
        """A piece whose records stand at its end."""
        self._begin = begin
        length, opening = sum(map(len, records)), self._opening
        end = End(start=source.size - length, size=length, entries=len(records), shift=0, trailing=0)
        directory = read_directory(source, end, opening.limits, opening.job, opening.code_page)
        return ZipReader(source, end, directory, ZIP, opening.limits)

    def places(self, reader: ArchiveReader) -> NDArray[np.int64]:
        assert isinstance(reader, ZipReader)
        return reader.directory.offset + (0 if reader is self.listed else self._begin)

    def _finish(self) -> None:
        """Read the file list, and hold it against what came."""
        source, notices, seen = self._source, self.notices, self._seen
        if self._list_at < 0:
            notices.append(issue(NAME, Reason.LIST_MISSING))
            return
        source.forget(self._list_at)
        source.keep_all()
        try:
            listed = ZipFormat().open(source, self._opening)
        except RundletError as error:
            notices.append(issue_of(NAME, error))
            return
        self.listed = listed
        notices += listed.notices
        places = listed.directory.offset.tolist()
        for reason, count in (
            (Reason.NOT_LISTED, len(seen.keys() - set(places))),
            (Reason.LISTED_ELSEWHERE, sum(place not in seen for place in places)),
        ):
            if count:
                notices.append(issue(NAME, reason, count=count))
        for row, place in enumerate(places):
            raw, is_utf8 = listed.catalog.names.raw(row), bool(listed.directory.flags.item(row) & Flag.UTF8)
            if place in seen and (told := name_in_front(seen[place], raw, is_utf8=is_utf8)) is not None:
                notices.append(Issue(listed.catalog.path(row), told))

    def close(self) -> None:
        self._source.close()


def _placed(record: bytes, offset: int) -> bytes:
    """A record of a small entry that says where in its piece the entry begins."""
    end = CENTRAL_SIZE - _OFFSET.size
    return record[:end] + _OFFSET.pack(offset) + record[CENTRAL_SIZE:]
