"""Patterns that choose items by name, by one rule everywhere.

A pattern fits an item by its name or by its whole path. What fits is chosen with everything in it. ``*`` stands for any
characters, slashes too, ``?`` for one, ``[abc]`` for one of these; upper and lower case differ. A pattern that is the exact path of
an item means that item and nothing else.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable

RULE = (
    "A pattern fits an item by its name or by its whole path, and what fits is meant with everything in it. "
    "* stands for any characters, ? for one, [abc] for one of these. Upper and lower case differ. "
    "A pattern that is the exact path of an item means that item."
)
"""The rule in words."""


_SPECIAL = re.compile(r"[*?[]")


class Patterns:
    """Some patterns, any of which may fit.

    Args:
        patterns: as they are typed; a slash at the end changes nothing.
        paths: gives the paths of all items, of which one may be written as a pattern is; asked only where that could be.
    """

    def __init__(self, patterns: Iterable[str], paths: Callable[[], Iterable[str]] | None = None) -> None:
        cleaned = [pattern.removeprefix("./").rstrip("/") or pattern for pattern in patterns]
        special = {pattern for pattern in cleaned if _SPECIAL.search(pattern)} if paths is not None else set()
        exact = special.intersection(path.rstrip("/") for path in paths()) if special and paths is not None else set()
        wanted = [rf"(?s:{re.escape(one)})\Z" if one in exact else fnmatch.translate(one) for one in cleaned]
        self._fit = re.compile("|".join(wanted)).match if wanted else None
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
