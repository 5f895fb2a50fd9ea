"""A small file of values that several windows may change at once."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from rundlet.core.fs.atomic_files import keep_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from pathlib import Path

Values = dict[str, Any]


@contextlib.contextmanager
def locked(folder: Path, name: str) -> Iterator[None]:
    """Be the only process that is here; a disk without locks lets several in.

    Args:
        folder: made where it is missing, for its owner alone.
        name: of the file that stands for the lock.

    Raises:
        OSError: when the system refuses.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    fd = os.open(folder / name, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        with contextlib.suppress(OSError):
            fcntl.flock(fd, fcntl.LOCK_EX)
        yield
    finally:
        os.close(fd)


@dataclass(frozen=True, slots=True)
class Store:
    """Values in one JSON file, which is replaced in one step. A file that can't be read is as good as an empty one."""

    file: Path

    def read(self) -> Values:
        """All values as they are now."""
        try:
            values = json.loads(self.file.read_text("utf-8", "surrogateescape"))
        except (OSError, ValueError):
            return {}
        return values if isinstance(values, dict) else {}

    def change(self, change: Callable[[Values], None]) -> Values:
        """Change the values as they are now, whoever wrote them, with no other process between reading and writing.

        Args:
            change: is given the values, and changes them.

        Returns:
            The values as they were written; when they could not be, as they would have been.
        """
        try:
            with locked(self.file.parent, f".{self.file.name}.lock"):
                text = self._changed(change)
                keep_text(self.file, text)
        except OSError:
            text = self._changed(change)
        values: Values = json.loads(text)
        return values

    def _changed(self, change: Callable[[Values], None]) -> str:
        values = self.read()
        change(values)
        return json.dumps(values, indent=1)
