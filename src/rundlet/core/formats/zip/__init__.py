"""The zip format, after the openly published application note on it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core.errors import FormatError, MissingPart, Truncated
from rundlet.core.formats.known import ZIP
from rundlet.core.formats.zip.directory import read_directory, scanned_directory
from rundlet.core.formats.zip.end_record import find_end, has_end
from rundlet.core.formats.zip.reader import ZipReader
from rundlet.core.formats.zip.records import LocalHeader

if TYPE_CHECKING:
    from rundlet.core.formats.base import Sink
    from rundlet.core.formats.zip.writer import ZipWriter
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.model.opening import Opening
    from rundlet.core.streams.sources import ByteSource


class ZipFormat:
    """See :class:`rundlet.core.formats.base.Format`."""

    info = ZIP

    def probe(self, source: ByteSource) -> bool:
        """A local header in front, or an end record at the back."""
        return source.read_at(0, 4) == LocalHeader.SIGNATURE or find_end(source) is not None or has_end(source)

    def open(self, source: ByteSource, opening: Opening) -> ZipReader:
        end = None
        try:
            end = find_end(source)
            if end is None:
                raise Truncated(
                    "{archive:name} is a zip archive whose end is missing, and with it the file list.",
                    archive=source.name,
                    hint="It was not copied or fetched to its end; fetch it again.",
                )
            directory = read_directory(source, end, opening.limits, opening.job, opening.code_page)
        except (FormatError, MissingPart):
            found = scanned_directory(source, opening.job, opening.code_page)
            if found is None:
                raise
            directory = found
        return ZipReader(source, end, directory, self.info, opening.limits)

    def create(self, sink: Sink, options: WriteOptions) -> ZipWriter:
        from rundlet.core.formats.zip.writer import ZipWriter  # with codecs that readers do without

        return ZipWriter(sink, options)


FORMATS = (ZipFormat(),)
