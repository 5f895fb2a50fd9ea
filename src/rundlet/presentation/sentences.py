"""Whole sentences with named fields, so that each can be written anew, or in another language, without touching any code."""

from __future__ import annotations

import string
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from rundlet.core.text import duration, number, plural, quoted, shown, size

_FORMS: dict[str, Callable[[Any], str]] = {
    "name": quoted,
    "shown": shown,
    "size": size,
    "number": number,
    "duration": duration,
}


class _Sentences(string.Formatter):
    """Knows what a field may say of its value.

    ========================  =================================================================
    field                     gives
    ========================  =================================================================
    ``{name:name}``           a name in quotation marks, a long one without its middle
    ``{name:shown}``          a name without them, safe to show
    ``{bytes:size}``          a size in the units of the desktop
    ``{count:number}``        a number with its thousands apart
    ``{seconds:duration}``    a stretch of time
    ``{count:file|files}``    a number with its noun
    ``{count:=is|are}``       what agrees with a number, without it
    ========================  =================================================================
    """

    def format_field(self, value: Any, spec: str) -> str:
        if spec.startswith("="):
            one, many = spec[1:].split("|")
            return one if value == 1 else many
        if "|" in spec:
            return plural(value, *spec.split("|"))
        return _FORMS[spec](value) if spec in _FORMS else format(value, spec)


_FORMATTER = _Sentences()


def fill(template: str, facts: Mapping[str, object]) -> str:
    """A sentence or clause with its fields filled in; see :class:`_Sentences`.

    Raises:
        KeyError: when a fact is missing.
    """
    return _FORMATTER.vformat(template, (), facts)


def say(template: str, **facts: object) -> str:
    """A sentence, clause or label with its fields filled in, for people; see :class:`_Sentences`.

    Everything with fields that the window and the command line show goes through here or through :func:`fill`.

    Raises:
        KeyError: when a fact is missing.
    """
    return fill(template, facts)


def fields_of(template: str) -> set[str]:
    """The names of the fields of a sentence."""
    return {name for _, name, _, _ in _FORMATTER.parse(template) if name}


def joined(sentences: Sequence[str]) -> str:
    """Those of some sentences that say something, one after the other."""
    return " ".join(filter(None, sentences))
