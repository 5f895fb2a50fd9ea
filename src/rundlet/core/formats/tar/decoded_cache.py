"""What is decoded to list a compressed tar, kept so that it need not be decoded again to be unpacked."""

from __future__ import annotations

import os
import shutil
import tempfile
import weakref
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import file_problem
from rundlet.core.formats.tar.index import cache_folder
from rundlet.core.limits import KEPT_ON_DISK, KEPT_PLAIN
from rundlet.core.streams.private import private_folder
from rundlet.core.streams.sources import ByteSource, MemorySource

if TYPE_CHECKING:
    from rundlet.core.formats.compressed_stream import Packing

_SLOW = ("xz", "bz2", "lzma", "Z")
"""Packings that decode so much more slowly than a disk writes that it is worth its room."""

_SHARE = 4  # of the free room on the disk, one such part at the most

_open: weakref.WeakValueDictionary[Path, NamelessFile] = weakref.WeakValueDictionary()


class NamelessFile:
    """A file without a name, which is gone as soon as nothing holds it or the program ends; a source once it is written."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        with tempfile.TemporaryFile(dir=folder) as file:
            self._fd = os.dup(file.fileno())
        weakref.finalize(self, os.close, self._fd)
        self.name = ""
        self.size = 0

    def write(self, data: bytes) -> None:
        """Write at the end."""
        view = memoryview(data)
        while view:
            step = os.write(self._fd, view)
            self.size += step
            view = view[step:]

    def read_at(self, offset: int, length: int) -> bytes:
        pieces = []
        try:
            while length > 0 and (data := os.pread(self._fd, length, offset)):
                pieces.append(data)
                offset += len(data)
                length -= len(data)
        except OSError as error:
            raise file_problem(error, "read what is kept in", self._folder) from error
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def fingerprint(self) -> tuple[int, ...]:
        return ()

    def close(self) -> None:
        """Others may read it still."""


class Kept:
    """The decoded bytes that went by: in memory while they are few, then on the disk where they are worth it.

    Args:
        on_disk: whether they may be kept there.
    """

    def __init__(self, packing: Packing, *, on_disk: bool) -> None:
        self._pieces: list[bytes] | None = []
        self._file: NamelessFile | None = None
        self._size = 0
        self._most = KEPT_PLAIN
        if on_disk and packing.id in _SLOW:
            self._most = max(self._most, min(KEPT_ON_DISK, _room(cache_folder())))

    def passed(self, chunks: Iterator[bytes]) -> Iterator[bytes]:
        """Pass chunks on."""
        for data in chunks:
            if self._pieces is not None or self._file is not None:
                try:
                    self._keep(data)
                except OSError:  # the disk is full or closed: it will be decoded again
                    self._pieces = self._file = None
            yield data

    def _keep(self, data: bytes) -> None:
        self._size += len(data)
        if self._size > self._most:
            self._pieces = self._file = None
        elif self._size <= KEPT_PLAIN and self._pieces is not None:
            self._pieces.append(data)
        else:
            if self._file is None:
                self._file = NamelessFile(cache_folder())
                for piece in self._pieces or ():
                    self._file.write(piece)
                self._pieces = None
            self._file.write(data)

    def source(self, name: str, place: Path | None) -> ByteSource | None:
        """All that went by, or None when it was too much.

        Args:
            place: where the index of the same archive is kept; whoever opens it while this is open may share it.
        """
        if self._pieces is not None:
            return MemorySource(b"".join(self._pieces), name)
        if self._file is not None:
            self._file.name = name
            if place is not None:
                _open[place] = self._file
        return self._file


def _room(folder: Path) -> int:
    """Bytes that may be kept in a folder, which is made; 0 where it can't be."""
    try:
        private_folder(folder)
        return shutil.disk_usage(folder).free // _SHARE
    except OSError:
        return 0


def kept_elsewhere(place: Path | None) -> ByteSource | None:
    """What another reader that is still open keeps on the disk of the archive whose index is kept here."""
    return _open.get(place) if place is not None else None
