"""The order of names as people see it."""

from __future__ import annotations

import re

_NUMBER = re.compile(r"(\d+)")

NATURAL_AT_MOST = 20_000
"""Names in one folder that are put in this order, which takes some µs each."""

NaturalKey = tuple[str | tuple[int, str], ...]


def natural_key(name: str) -> NaturalKey:
    """A sort key by which ``part 2`` comes before ``part 10``, and upper and lower case count alike.

    Numbers may have any number of digits: the one with more of them, zeros in front not counted, is the larger one.
    """
    pieces = _NUMBER.split(name.casefold())
    return tuple(_number(piece) if number % 2 else piece for number, piece in enumerate(pieces))


def _number(digits: str) -> tuple[int, str]:
    value = digits.lstrip("0")
    return len(value), value
