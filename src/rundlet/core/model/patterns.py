"""Patterns that choose items by name, by one rule everywhere.

A pattern fits an item by its name or by its whole path. What fits is chosen with everything in it. ``*`` stands for any
characters, slashes too, ``?`` for one, ``[abc]`` for one of these; upper and lower case differ.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable

RULE = (
    "A pattern fits an item by its name or by its whole path, and what fits is meant with everything in it. "
    "* stands for any characters, ? for one, [abc] for one of these. Upper and lower case differ."
)
"""The rule in words."""


class Patterns:
    """Some patterns, any of which may fit.

    Args:
        patterns: as they are typed; a slash at the end changes nothing.
    """

    def __init__(self, patterns: Iterable[str]) -> None:
        cleaned = [pattern.removeprefix("./").rstrip("/") or pattern for pattern in patterns]
        self._fit = re.compile("|".join(map(fnmatch.translate, cleaned))).match if cleaned else None
        self._folders: dict[str, bool] = {"": False}

    def __bool__(self) -> bool:
        return self._fit is not None

    def fit(self, path: str) -> bool:
        """Whether one of them fits this item itself, whatever it lies in."""
        return self._fit is not None and bool(self._fit(path.rpartition("/")[2]) or self._fit(path))

    def choose(self, path: str) -> bool:
        """Whether one of them fits this item or a folder that it lies in."""
        return self.fit(path) or self._chosen(path.rpartition("/")[0])

    def _chosen(self, folder: str) -> bool:
        known = self._folders.get(folder)
        if known is None:
            known = self._folders[folder] = self.fit(folder) or self._chosen(folder.rpartition("/")[0])
        return known
