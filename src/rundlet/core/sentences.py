"""Whole sentences with named fields: what is to be said, kept apart from the facts that it is said of.

A template is what a translation knows a sentence by; the facts are what the log keeps with it.
"""

from __future__ import annotations

import string
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

from rundlet.core.text import about, duration, lower, number, plural, quoted, shown, size


@dataclass(frozen=True, slots=True)
class Sentence:
    """A sentence or clause that is filled in when it is shown.

    Attributes:
        template: its words, with fields as :func:`fill` knows them.
        facts: what its fields stand for, by name: strings, numbers or further sentences.
    """

    template: str
    facts: Mapping[str, object] = field(default_factory=lambda: MappingProxyType({}))

    def __str__(self) -> str:
        return fill(self.template, self.facts)

    def as_values(self) -> dict[str, object]:
        """What JSON can hold of it."""
        facts = {
            name: fact.as_values() if isinstance(fact, Sentence) else fact if isinstance(fact, str | int) else str(fact)
            for name, fact in self.facts.items()
        }
        return {"sentence": self.template, "facts": facts}

    @classmethod
    def from_values(cls, values: Mapping[str, object]) -> Sentence:
        """A sentence as :meth:`as_values` gave it.

        Raises:
            ValueError, TypeError, KeyError, AttributeError: when it is none.
        """
        facts = values["facts"]
        assert isinstance(facts, Mapping)
        return cls(
            str(values["sentence"]),
            {name: cls.from_values(fact) if isinstance(fact, Mapping) else fact for name, fact in facts.items()},
        )


def several(sentences: Sequence[Sentence]) -> Sentence:
    """Some sentences, one after the other."""
    facts = {f"_{place}": sentence for place, sentence in enumerate(sentences)}
    return Sentence(" ".join(f"{{{place}}}" for place in facts), facts)


_FORMS: dict[str, Callable[[Any], str]] = {
    "name": quoted,
    "shown": shown,
    "size": size,
    "number": number,
    "duration": duration,
    "about": about,
    "clause": lambda said: lower(str(said)).rstrip("."),
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
    ``{seconds:about}``       an estimated one
    ``{count:file|files}``    a number with its noun
    ``{count:=is|are}``       what agrees with a number, without it
    ``{cause:clause}``        a sentence as a clause: no capital, no full stop
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


def fields_of(template: str) -> set[str]:
    """The names of the fields of a sentence."""
    return {name for _, name, _, _ in _FORMATTER.parse(template) if name}
