"""Checksums that were computed once, kept until their file changes."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path

from rundlet.core.model.checksum_list import Algorithm
from rundlet.core.streams.files import Stamp, stamp_of
from rundlet.core.streams.private import cache_root, private_folder
from rundlet.core.userdata.store import Store, Values

_MOST = 5000  # files; the oldest go first
_WORTH_IT = 1 << 20  # bytes; smaller files are read as quickly as this is
_SETTLED_NS = 2_000_000_000  # a file that was changed just now may change again without another time


class SumCache:
    """Checksums by what their files are: another size, time or file number is another file.

    Args:
        file: where they are kept; in the cache folder by default.
    """

    def __init__(self, file: Path | None = None) -> None:
        self._store = Store(file or private_folder(cache_root()) / "checksums.json")

    def known(self, paths: list[Path]) -> dict[Path, dict[Algorithm, str]]:
        """What is known of files as they are now."""
        values, found = self._store.read(), {}
        for path in paths:
            try:
                key = _key(stamp_of(path.stat()))
            except OSError:
                continue
            kept = values.get(key)
            if isinstance(kept, dict):
                found[path] = {Algorithm(name): str(kept[name]) for name in kept if name in set(Algorithm)}
        return found

    def keep(self, sums: Mapping[Stamp, Mapping[Algorithm, str]]) -> None:
        """Keep what was computed, of files that are large and were not changed just now."""
        now = time.time_ns()
        worth = {
            stamp: found
            for stamp, found in sums.items()
            if stamp[2] >= _WORTH_IT and now - max(stamp[3], stamp[4]) > _SETTLED_NS
        }
        if not worth:
            return

        def change(values: Values) -> None:
            for stamp, found in worth.items():
                before = values.pop(_key(stamp), {})
                values[_key(stamp)] = {**before, **{algorithm.value: digest for algorithm, digest in found.items()}}
            for key in list(values)[: max(len(values) - _MOST, 0)]:
                del values[key]

        self._store.change(change)


def _key(stamp: Stamp) -> str:
    return " ".join(map(str, stamp))
