"""``make bench``: every table, or those named on the command line."""

from __future__ import annotations

import sys

from benchmarks import (
    cancel_bench,
    change_bench,
    checksum_bench,
    compare_bench,
    seven_bench,
    tar_bench,
    trial_bench,
    window_bench,
    zip_bench,
)

TABLES = {
    "zip": zip_bench.run,
    "7z": seven_bench.run,
    "tar": tar_bench.run,
    "window": window_bench.run,
    "trial": trial_bench.run,
    "changing": change_bench.run,
    "checksums": checksum_bench.run,
    "comparing": compare_bench.run,
    "waiting": cancel_bench.run,
}

for name in sys.argv[1:] or TABLES:
    TABLES[name]()
