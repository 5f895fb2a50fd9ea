"""Small files of our own, such as settings: the old content or the new, never half of either."""

from __future__ import annotations

import os
from pathlib import Path


def keep_text(file: Path, text: str) -> None:
    """Write a small file anew in one step; its folder is made where it is missing, for its owner alone.

    Raises:
        OSError: when the system refuses; the old file stays.
    """
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    half = file.with_suffix(f".{os.getpid()}.tmp")
    try:
        half.write_text(text, "utf-8", "surrogateescape")
        half.replace(file)
    finally:
        half.unlink(missing_ok=True)
