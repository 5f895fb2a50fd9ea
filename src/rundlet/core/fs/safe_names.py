"""Names from archives made fit for the disk. Every rule about them stands here, for all formats.

========================================  =========================================================
A name that …                             …becomes
========================================  =========================================================
has empty steps or ``.`` steps            the same without them
has a ``..`` step                         refused: it would leave the folder
begins with ``/`` or a drive letter       refused: it would leave the folder
is empty                                  refused
has control characters or NUL             the same with ``_`` in their place, and said
has a step of over 255 bytes              the same shortened before its ending, and said
is longer than 4,000 bytes in all         refused
has a step that only Rundlet itself uses  the same with ``_`` in front of that step, and said
has characters that the disk can't keep   the same with ``_`` in their place, and said
========================================  =========================================================
"""

from __future__ import annotations

import itertools
import os
import re
from collections.abc import Callable
from typing import NamedTuple

from rundlet.core.jobs.findings import Finding, Reason
from rundlet.core.limits import MAX_COMPONENT, MAX_LINK_TARGET, MAX_PATH
from rundlet.core.streams.replacing import HIDDEN, is_hidden_name

_CONTROL = re.compile(r"[\x00-\x1f\x7f]")
_DRIVE = re.compile(r"[A-Za-z]:([/\\]|$)")
_LONGEST_ENDING = 20
_SURELY_FITS = MAX_COMPONENT // 4  # characters, of which each takes four bytes at most


class SafeName(NamedTuple):
    """Where an entry may land.

    Attributes:
        steps: the folders and the name below the chosen folder; empty when refused.
        refused: why it can't land at all, or None.
        notes: what was altered.
    """

    steps: tuple[str, ...]
    refused: Finding | None = None
    notes: tuple[Finding, ...] = ()


def safe_name(path: str) -> SafeName:
    """Make an entry's path fit for the disk, or say why it can't be."""
    ordinary = path and path[0] not in "/." and path.isascii() and path.isprintable() and len(path) < MAX_COMPONENT
    if ordinary and "//" not in path and "/." not in path and path[1:2] != ":":
        return SafeName(tuple(path.rstrip("/").split("/")))
    return _careful_name(path)


def _careful_name(path: str) -> SafeName:
    if path.startswith("/"):
        return SafeName((), refused=Finding(Reason.OUTSIDE_BY_SLASH))
    if _DRIVE.match(path):
        return SafeName((), refused=Finding(Reason.OUTSIDE_BY_DRIVE))
    steps = [step for step in path.split("/") if step not in ("", ".")]
    if ".." in steps:
        return SafeName((), refused=Finding(Reason.OUTSIDE_BY_DOTS))
    if not steps:
        return SafeName((), refused=Finding(Reason.NO_NAME))
    notes = []
    if _CONTROL.search(path):
        steps = [_CONTROL.sub("_", step) for step in steps]
        notes.append(Finding(Reason.CONTROL_CHARACTERS))
    # An order to us when it lies in a folder; no archive gives such.
    if HIDDEN in path and any(map(is_hidden_name, steps)):
        steps = [f"_{step}" if is_hidden_name(step) else step for step in steps]
        notes.append(Finding(Reason.RESERVED_NAME))
    if max(map(len, steps)) <= _SURELY_FITS and len(_bytes(path)) < MAX_PATH:
        return SafeName(tuple(steps), notes=tuple(notes))
    fitting = [_fit(*split_ending(step)) for step in steps]
    if fitting != steps:
        notes.append(Finding.of(Reason.NAME_SHORTENED, most=MAX_COMPONENT))
    if sum(len(_bytes(step)) + 1 for step in fitting) > MAX_PATH:
        return SafeName((), refused=Finding.of(Reason.PATH_TOO_LONG, most=MAX_PATH))
    return SafeName(tuple(fitting), notes=tuple(notes))


def without(steps: tuple[str, ...], forbidden: str) -> tuple[str, ...]:
    """Steps without characters that a disk can't keep, and without the dots and spaces at ends that it drops."""
    if not forbidden:
        return steps
    table = str.maketrans(dict.fromkeys(forbidden, "_"))
    tidy = [step.translate(table) for step in steps]
    return tuple(step.rstrip(". ") + "_" * (len(step) - len(step.rstrip(". "))) for step in tidy)


def safe_link(link: tuple[str, ...], target: str) -> Finding | None:
    """Why a symbolic link must not be made, or None when it stays inside the folder.

    A target may go up only at its beginning: then every folder it goes up through is a real one, and no chain of
    links can lead out by steps that each look harmless.

    Args:
        link: where the link itself lands, below the chosen folder.
        target: what it points to.
    """
    if not target or "\x00" in target or len(_bytes(target)) > MAX_LINK_TARGET:
        return Finding(Reason.LINK_UNUSABLE)
    if target.startswith("/"):
        return Finding(Reason.LINK_OUTSIDE)
    steps = [step for step in target.split("/") if step not in ("", ".")]
    ups = 0
    while ups < len(steps) and steps[ups] == "..":
        ups += 1
    if ups > len(link) - 1 or ".." in steps[ups:]:
        return Finding(Reason.LINK_OUTSIDE)
    return None


def numbered(name: str, number: int) -> str:
    """``notes.txt`` as ``notes (2).txt``; double endings such as ``.tar.gz`` stay together, and so does the number."""
    stem, ending = split_ending(name)
    return _fit(stem, f" ({number}){ending}")


def doubted(name: str) -> str:
    """The name of a file that may be damaged, which it says."""
    stem, ending = split_ending(name)
    return _fit(stem, f" (may be damaged){ending}")


def first_free(name: str, is_taken: Callable[[str], bool]) -> str:
    """The name itself, or the first numbered one that is not taken."""
    numbers = (numbered(name, number) for number in itertools.count(2))
    return next(candidate for candidate in itertools.chain((name,), numbers) if not is_taken(candidate))


def as_text(name: str | bytes) -> str:
    """A name on a disk as text: one that is not UTF-8 is read as code page 1252, or Latin-1 where that does not fit."""
    raw = os.fsencode(name)
    for encoding in ("utf-8", "cp1252"):
        try:
            return raw.decode(encoding)
        except UnicodeDecodeError:
            continue
    return raw.decode("latin-1")


def split_ending(name: str) -> tuple[str, str]:
    """A name as stem and ending with its dot; ``.tar.gz`` and the like count as one ending."""
    stem, dot, ending = name.rpartition(".")
    if not stem or not dot or " " in ending or len(ending) > _LONGEST_ENDING:
        return name, ""
    head, dot, inner = stem.rpartition(".")
    if head and inner.lower() == "tar":
        return head, f".{inner}.{ending}"
    return stem, f".{ending}"


def _fit(stem: str, ending: str) -> str:
    """Both together, with as much of the stem as there is room for on a disk."""
    room = MAX_COMPONENT - len(_bytes(ending))
    if len(_bytes(stem)) <= room:
        return stem + ending
    return _bytes(stem)[:room].decode("utf-8", "ignore").rstrip() + ending


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
