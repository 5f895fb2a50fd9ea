"""Checksums of files against the bare hash of the same bytes in memory."""

from __future__ import annotations

import hashlib

import numpy as np

from benchmarks.measure import MIB, best_of_pair, head, row, scratch
from rundlet.core.model.checksum_list import Algorithm
from rundlet.core.work.checksums import sums_of

_SIZE = 256 * MIB


def run() -> None:
    """Print the table."""
    head("checksums")
    with scratch(memory=True) as folder:
        data = np.random.default_rng(1).bytes(_SIZE)
        paths = [folder / "a", folder / "b"]
        for path in paths:
            path.write_bytes(data)
        for algorithm, bare in ((Algorithm.SHA256, hashlib.sha256), (Algorithm.BLAKE2B, hashlib.blake2b)):
            alone, ours = best_of_pair(lambda bare=bare: bare(data), lambda a=algorithm: sums_of(paths[:1], [a]))  # type: ignore[misc]
            row(f"{algorithm.value} of one file", "the hash alone, one core", alone / ours, "0.95")
            alone, ours = best_of_pair(lambda bare=bare: bare(data), lambda a=algorithm: sums_of(paths, [a]))  # type: ignore[misc]
            row(f"{algorithm.value} of two files, 2 cores", "the hash alone, one core", 2 * alone / ours, "1.8")
