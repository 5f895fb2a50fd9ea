"""What is packed is read in the same way wherever it is: in a file on the disk, in memory, or in another archive."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from typing import Protocol

from rundlet.core.streams.files import open_file


class OpenContent(Protocol):
    """Content that is being read, from any thread but from one at a time."""

    @property
    def size(self) -> int:
        """Bytes that there are. Raises ``OSError`` when that can't be told."""

    def read(self, length: int, offset: int) -> bytes:
        """``length`` bytes from a place on; fewer only at the end.

        Raises:
            OSError, RundletError: when they can't be read.
        """

    def close(self) -> None:
        """Read no more."""


class ContentSource(ABC):
    """Content that is no file on the disk. Reading it again gives the same bytes."""

    @abstractmethod
    def open(self) -> OpenContent:
        """Begin to read. Raises ``OSError`` or ``RundletError`` when that can't be."""


class OpenFile:
    """A file on the disk, links not followed. Raises ``OSError`` when it can't be opened."""

    def __init__(self, path: str) -> None:
        self.fd = open_file(path)

    @property
    def size(self) -> int:
        """Bytes that it has now. Raises ``OSError``."""
        return os.fstat(self.fd).st_size

    def read(self, length: int, offset: int) -> bytes:
        data = os.pread(self.fd, length, offset)
        while data and len(data) < length and (more := os.pread(self.fd, length - len(data), offset + len(data))):
            data += more
        return data

    def close(self) -> None:
        os.close(self.fd)


class OpenBytes:
    """Content that is in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    @property
    def size(self) -> int:
        return len(self._data)

    def read(self, length: int, offset: int) -> bytes:
        return self._data[offset : offset + length]

    def close(self) -> None:
        pass


class BytesContent(ContentSource):
    """Bytes that are packed as they are."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    def open(self) -> OpenContent:
        return OpenBytes(self._data)
