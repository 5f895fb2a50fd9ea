"""A helper process that puts small files into a folder.

This module is what the process runs::

    python -P -m rundlet.core.work.file_writer_process FOLDER

It reads lists of errands from its standard input, one pickle each, and answers each list with eight bytes: a bit for
each errand, the lowest for the first, that says whether it could not be done. Why is for its master to find out, which
does these again. It ends with its input.
"""

from __future__ import annotations

import pickle
import sys
from pathlib import Path
from typing import BinaryIO

from rundlet.core.codecs.whole import Whole
from rundlet.core.errors import RundletError
from rundlet.core.fs.safe_root import Made, SafeRoot, Steps

Errand = tuple[Steps, bytes, bool, int, int | None, int, int | None]
"""Where a file goes, its content as in :class:`~rundlet.core.codecs.whole.Whole`, its permission bits and its time."""

ANSWER = 8
"""Bytes of an answer; a list has no more errands than that has bits."""


def do(errand: Errand, root: SafeRoot) -> bool:
    """Write one file; whether its disk keeps its permission bits and times. Raises what its content and the landing do."""
    target, data, deflated, size, crc, mode, time = errand
    times = None if time is None else (time, time)
    return root.put(target, Whole(data, deflated, size, crc).content(), mode=mode, times=times)


def serve(folder: Path, orders: BinaryIO, answers: BinaryIO) -> None:
    """Do errands until there are no more. The folders they go to are there already."""
    root = SafeRoot(folder, Made())
    try:
        while True:
            try:
                errands: list[Errand] = pickle.load(orders)
            except EOFError:
                return
            answers.write(_undone(errands, root).to_bytes(ANSWER, "little"))
            answers.flush()
    finally:
        root.close()


def _undone(errands: list[Errand], root: SafeRoot) -> int:
    undone = 0
    for place, errand in enumerate(errands):
        try:
            if not do(errand, root):
                root.remove(errand[0])
                undone |= 1 << place
        except (RundletError, OSError):
            undone |= 1 << place
    return undone


if __name__ == "__main__":
    serve(Path(sys.argv[1]), sys.stdin.buffer, sys.stdout.buffer)
