"""What a person should know of a name that was typed: it is accepted, as it may be meant."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator

from rundlet.core.jobs.findings import Finding, Reason
from rundlet.core.limits import MAX_COMPONENT

_DEVICES = re.compile(r"(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)", re.IGNORECASE)
_FORBIDDEN = re.compile(r'[<>:"\\|?*]')


def name_notes(name: str, neighbours: Iterable[str] = ()) -> Iterator[Finding]:
    """Findings about a name, worst first.

    Args:
        name: of a file or folder, without the folders above it.
        neighbours: the other names in its folder.
    """
    if any(unicodedata.category(letter) == "Cf" for letter in name):
        yield Finding(Reason.NAME_HAS_HIDDEN_MARKS)
    folded = name.casefold()
    twin = next((other for other in neighbours if other != name and other.casefold() == folded), None)
    if twin is not None:
        yield Finding.of(Reason.NAME_HAS_TWIN, name=twin)
    if _DEVICES.match(name) or _FORBIDDEN.search(name) or name != name.rstrip(". "):
        yield Finding(Reason.NAME_NOT_EVERYWHERE)
    if len(name.encode("utf-8", "surrogateescape")) > MAX_COMPONENT:
        yield Finding.of(Reason.NAME_TOO_LONG_FOR_DISKS, most=MAX_COMPONENT)
