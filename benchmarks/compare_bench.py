"""Comparing an archive with the folder that it was made of, against a bare walk of that folder."""

from __future__ import annotations

import os
import time
from pathlib import Path

from benchmarks.measure import head, row, scratch
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs.job import Job
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.compared_sides import ArchiveSide, FolderSide
from rundlet.core.work.comparer import compare, outcome_of
from rundlet.core.work.packer import pack

_FILES = 1_000_000
_IN_A_FOLDER = 1000
_GOAL = "at most 3"


def run() -> None:
    """Print the table."""
    head("Comparing")
    with scratch(memory=True) as folder:
        for number in range(_FILES):
            if not number % _IN_A_FOLDER:
                (folder / "tree" / f"{number // _IN_A_FOLDER:04}").mkdir(parents=True)
            os.mknod(folder / "tree" / f"{number // _IN_A_FOLDER:04}" / f"reading {number}.csv")
        archive = folder / "x.zip"
        pack(plan_pack([folder / "tree"], target=archive, info=by_id("zip").info, level=1))
        reader = open_archive(archive)
        ratios = []
        for _ in range(3):
            begin = time.perf_counter()
            _walk(folder / "tree")
            bare = time.perf_counter() - begin
            begin = time.perf_counter()
            found = compare(ArchiveSide(reader), FolderSide(folder, ("tree",), Job()))
            outcome_of(found, archive, 0)
            ratios.append((time.perf_counter() - begin) / bare)
        reader.close()
        row("1,000,000 files with their folder", "bare walk of the folder", sorted(ratios)[1], _GOAL)


def _walk(root: Path) -> int:
    pending, count = [str(root)], 0
    while pending:
        with os.scandir(pending.pop()) as entries:
            for entry in entries:
                entry.stat(follow_symlinks=False)
                count += 1
                if entry.is_dir(follow_symlinks=False):
                    pending.append(entry.path)
    return count
