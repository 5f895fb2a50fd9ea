"""The entries of an open archive as what is packed into another one."""

from __future__ import annotations

import os
import tempfile
import threading
from collections.abc import Iterator, Sequence
from typing import IO, TYPE_CHECKING

import numpy as np

from rundlet.core.errors import RundletError
from rundlet.core.limits import MIB, SMALL
from rundlet.core.model.contents import ContentSource, OpenBytes, OpenContent
from rundlet.core.streams.private import cache_root, private_folder

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader

_KEPT_AHEAD = 64 * MIB  # decoded bytes of entries that were passed and not asked for yet


class _Spooled:
    """Decoded content of any size: in memory while it is small, else in a nameless private file."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self.size = file.seek(0, os.SEEK_END)

    def read(self, length: int, offset: int) -> bytes:
        self._file.seek(offset)
        return self._file.read(length)

    def close(self) -> None:
        self._file.close()


class ArchiveContents:
    """The contents of selected items of an open archive.

    They are decoded once, front to back, as long as they are asked for about in the archive's own order, which the
    writers do. What is passed on the way is kept until it is asked for, up to a bound; anything else is decoded anew by
    itself.

    Args:
        reader: stays open and unlocked as long as this is used.
        rows: the entries that will be asked for.
    """

    def __init__(self, reader: ArchiveReader, rows: Sequence[int]) -> None:
        self._reader = reader
        self._folder = str(private_folder(cache_root()))
        self._lock = threading.Lock()
        self._ahead = set(rows)  # still to come in the stream
        self._stream = self._decoded(rows)
        self._passed: dict[int, _Spooled | RundletError] = {}
        self._passed_bytes = 0

    def source(self, row: int) -> ContentSource:
        """The content of one of the entries."""
        return _EntryContent(self, row)

    def open(self, row: int) -> OpenContent:
        """The decoded content of an entry. Raises ``RundletError`` or ``OSError``."""
        with self._lock:
            while row in self._ahead:
                if not self._step(row):
                    break
            found = self._passed.pop(row, None)
            if found is None:
                found = next((content for _, content in self._decoded([row])), None)
            elif isinstance(found, _Spooled):
                self._passed_bytes -= found.size
        if isinstance(found, RundletError):
            raise found
        return found if found is not None else OpenBytes(b"")

    def close(self) -> None:
        """Let go of what was kept."""
        with self._lock:
            for content in self._passed.values():
                if isinstance(content, _Spooled):
                    content.close()
            self._passed.clear()
            self._ahead.clear()

    def _step(self, wanted: int) -> bool:
        """Decode one more entry of the stream; whether there was one."""
        step = next(self._stream, None)
        if step is None:
            self._ahead.clear()
            return False
        row, content = step
        self._ahead.discard(row)
        if isinstance(content, _Spooled) and row != wanted and self._passed_bytes + content.size > _KEPT_AHEAD:
            content.close()
            return True
        if isinstance(content, _Spooled):
            self._passed_bytes += content.size
        self._passed[row] = content
        return True

    def _decoded(self, rows: Sequence[int]) -> Iterator[tuple[int, _Spooled | RundletError]]:
        """Entries with their contents, in the archive's order, or what keeps one from being decoded."""
        for unit in self._reader.units(np.array(rows, np.int64)):
            for row, chunks in unit.stream():
                file = tempfile.SpooledTemporaryFile(SMALL, dir=self._folder)  # noqa: SIM115 - it outlives this
                try:
                    for data in chunks:
                        file.write(data)
                except RundletError as error:
                    file.close()
                    yield row, error
                except BaseException:
                    file.close()
                    raise
                else:
                    yield row, _Spooled(file)


class _EntryContent(ContentSource):
    def __init__(self, contents: ArchiveContents, row: int) -> None:
        self._contents = contents
        self._row = row

    def open(self) -> OpenContent:
        return self._contents.open(self._row)
