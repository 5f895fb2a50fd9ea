"""The zip format, after the openly published application note on it."""

from __future__ import annotations

from rundlet.core.errors import Corrupt, Truncated
from rundlet.core.formats.base import FormatInfo, Opening, Sink, WriteOptions
from rundlet.core.formats.zip.directory import find_end
from rundlet.core.formats.zip.reader import ZipReader
from rundlet.core.formats.zip.records import CENTRAL_SIGNATURE, LocalHeader
from rundlet.core.formats.zip.writer import ZipWriter
from rundlet.core.streams.sources import ByteSource
from rundlet.core.text import quoted


class ZipFormat:
    """See :class:`rundlet.core.formats.base.Format`."""

    info = FormatInfo(
        id="zip",
        ending=".zip",
        about="Opens on every computer without another program.",
        levels=tuple(range(10)),
        default_level=5,
        can_lock=True,
        methods=("deflate", "bzip2", "lzma", "zstd", "xz"),
    )

    def probe(self, source: ByteSource) -> bool:
        """A local header in front, or an end record at the back."""
        return source.read_at(0, 4) == LocalHeader.SIGNATURE or find_end(source) is not None

    def open(self, source: ByteSource, opening: Opening) -> ZipReader:
        end = find_end(source)
        if end is None:
            missing = Truncated if source.read_at(0, 4) in (LocalHeader.SIGNATURE, CENTRAL_SIGNATURE) else Corrupt
            raise missing(
                f"{quoted(source.name)} is a zip archive whose end is missing, and with it the table of contents.",
                archive=source.name,
                hint="It was not copied or fetched to its end; fetch it again.",
            )
        return ZipReader(source, end, self.info, opening.limits, opening.code_page)

    def create(self, sink: Sink, options: WriteOptions) -> ZipWriter:
        return ZipWriter(sink, options)


FORMAT = ZipFormat()
