"""Small files of our own, such as settings: the old content or the new, never half of either."""

from __future__ import annotations

import os
from pathlib import Path

from rundlet.core.streams.replacing import hidden_name, hold


def keep_text(file: Path, text: str) -> None:
    """Write a small file anew in one step; its folder is made where it is missing, for its owner alone.

    Raises:
        OSError: when the system refuses; the old file stays.
    """
    keep_bytes(file, text.encode("utf-8", "surrogateescape"))


def keep_bytes(file: Path, content: bytes) -> None:
    """Write a small file anew in one step, for its owner alone; its folder is made where it is missing.

    Raises:
        OSError: when the system refuses; the old file stays.
    """
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    half = file.with_name(hidden_name(".tmp"))
    fd = os.open(half, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    try:
        hold(fd)
        with open(fd, "wb", closefd=False) as out:
            out.write(content)
        os.fsync(fd)
        half.replace(file)
    finally:
        os.close(fd)
        half.unlink(missing_ok=True)
