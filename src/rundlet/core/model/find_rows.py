"""Finding names among very many at once."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.jobs.interface_priority import step_aside
from rundlet.core.model.tree import head_ends

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from rundlet.core.model.catalog import NameTable
    from rundlet.core.model.find import Wanted

_ASCII_END, _SLASH = 0x80, ord("/")
_AT_ONCE = 256


def rows_named(names: NameTable, wanted: Wanted, name_of: Callable[[int], str]) -> NDArray[np.bool_]:
    """Which rows have a wanted name: the last step of their path. A million take some tenths of a second.

    Args:
        name_of: the name of a row, asked where the bytes alone don't tell it.

    Returns:
        an array of shape (rows,).
    """
    lowered = names.blob.lower()
    octets = np.frombuffer(lowered, np.uint8)
    begins, ends = names.starts[:-1], names.starts[1:]
    heads = head_ends(names)
    begins = heads + (heads > begins)
    odd = begins + 1 >= ends  # steps that are empty, or a dot, which are none
    odd[~odd] |= octets[begins[~odd]] == _SLASH
    odd[names.rows_with(octets >= _ASCII_END)] = True
    fitting = ~odd
    for part in (*wanted.parts, wanted.literal):
        fitting &= _have(octets, part.encode("utf-8", "surrogatepass"), begins, ends)
    for pattern in wanted.patterns:
        plain = re.compile(pattern.pattern.encode("utf-8", "surrogatepass"))
        rows = np.flatnonzero(fitting)
        for first in range(0, len(rows), _AT_ONCE):
            step_aside()
            some = rows[first : first + _AT_ONCE]
            places = zip(begins[some].tolist(), ends[some].tolist(), strict=True)
            fitting[some] = [plain.match(lowered, begin, end) is not None for begin, end in places]
    for number, row in enumerate(np.flatnonzero(odd).tolist()):
        if not number % _AT_ONCE:
            step_aside()
        fitting[row] = wanted.fits(name_of(row))
    return fitting


def _have(
    octets: NDArray[np.uint8], part: bytes, begins: NDArray[np.int64], ends: NDArray[np.int64]
) -> NDArray[np.bool_]:
    """Which stretches hold a part."""
    last = ends - len(part) + 1
    if not part:
        return last > begins
    found = np.zeros(len(octets) + 1, np.bool_)
    if len(part) <= len(octets):
        here = found[: len(octets) - len(part) + 1]
        here[:] = octets[: len(here)] == part[0]
        for at, octet in enumerate(part[1:], 1):
            here &= octets[at : at + len(here)] == octet
    room = np.flatnonzero(last > begins)
    have = np.zeros(len(begins), np.bool_)
    if len(room):
        have[room] = np.logical_or.reduceat(found, np.column_stack((begins[room], last[room])).ravel())[::2]
    return have
