"""The 7z format."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.errors import FormatError
from rundlet.core.formats.known import SEVEN
from rundlet.core.formats.sevenz.reader import SevenReader
from rundlet.core.formats.sevenz.records import HEAD_SIZE, MAGIC, SignatureHeader
from rundlet.core.formats.sevenz.writer import SevenWriter
from rundlet.core.limits import MIB
from rundlet.core.streams.exact import read_there
from rundlet.core.streams.sources import ByteSource, SliceSource

if TYPE_CHECKING:
    from rundlet.core.formats.base import Sink
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.model.opening import Opening

_PROGRAMS = (b"MZ", b"\x7fELF", b"#!")
_LARGEST_STUB = 16 * MIB


class SevenFormat:
    """See :class:`rundlet.core.formats.base.Format`."""

    info = SEVEN

    def probe(self, source: ByteSource) -> bool:
        """The signature where the archive begins, or behind a program that opens it."""
        return _start(source) is not None

    def open(self, source: ByteSource, opening: Opening) -> SevenReader:
        start = _start(source) or 0
        return SevenReader(SliceSource(source, start, source.size - start) if start else source, self.info, opening)

    def create(self, sink: Sink, options: WriteOptions) -> SevenWriter:
        return SevenWriter(sink, options)


def _start(source: ByteSource) -> int | None:
    """Where the signature header is; behind a stub only with a right checksum, as its bytes may stand there by chance."""
    head = source.read_at(0, len(MAGIC))
    if head == MAGIC:
        return 0
    if not head.startswith(_PROGRAMS):
        return None
    stub = read_there(source, 0, _LARGEST_STUB)
    at = stub.find(MAGIC)
    while at >= 0:
        try:
            SignatureHeader.unpack(source.read_at(at, HEAD_SIZE))
            return at
        except FormatError:
            at = stub.find(MAGIC, at + 1)
    return None


FORMATS = (SevenFormat(),)
