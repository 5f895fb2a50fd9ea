"""An archive that comes through a pipe, kept in a file without a name so that it can be read by position."""

from __future__ import annotations

import os
import select
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from rundlet.core.errors import file_problem
from rundlet.core.limits import CHUNK
from rundlet.core.streams.sources import FileSource, Held

NAME = "standard input"
"""What such an archive is called."""

_PATIENCE = 0.2  # seconds that cancelling may take


class _Spooled(FileSource):
    """A file without a name; see :class:`FileSource`."""

    def __init__(self, held: Held) -> None:
        self.path = Path(f"/proc/self/fd/{held.fd}")  # where other code that wants a path finds it
        self.name = NAME
        self._held = held
        self.size = os.fstat(held.fd).st_size

    def fingerprint(self) -> tuple[int, ...]:
        return ()


def spooled(stream: BinaryIO, tick: Callable[[], object]) -> FileSource:
    """Read a stream to its end into a file without a name, which goes when it is closed. Memory stays small.

    The file lies where ``TMPDIR`` says, otherwise in ``/var/tmp``, which is on a disk where ``/tmp`` may be memory.

    Args:
        tick: called after every chunk, and now and then while nothing comes; may raise.

    Raises:
        FileProblem: when the stream can't be read, or the disk is full.
    """
    folder = os.environ.get("TMPDIR") or "/var/tmp"  # noqa: S108 - the file has no name there
    try:
        with tempfile.TemporaryFile(dir=folder if os.path.isdir(folder) else None, buffering=0) as file:
            fd = file.fileno()
            while (data := _read(stream.fileno())) != b"":
                view = memoryview(data or b"")
                while view:
                    view = view[os.write(fd, view) :]
                tick()
            return _Spooled(Held(os.dup(fd)))
    except OSError as error:
        raise file_problem(error, "write to", folder) from error


def _read(fd: int) -> bytes | None:
    """What has come, b"" at the end, None where nothing has come for a moment."""
    try:
        ready, _, _ = select.select([fd], [], [], _PATIENCE)
        return os.read(fd, CHUNK) if ready else None
    except OSError as error:
        raise file_problem(error, "read", NAME) from error
