"""What people are told goes through here, so that each sentence can be written anew, or in another language, by itself."""

from __future__ import annotations

from collections.abc import Sequence

from rundlet.core.sentences import fill


def say(template: str, **facts: object) -> str:
    """A sentence, clause or label with its fields filled in, for people.

    Everything with fields that the window and the command line show goes through here or through
    :func:`~rundlet.core.sentences.fill`, which tells what a field can say.

    Raises:
        KeyError: when a fact is missing.
    """
    return fill(template, facts)


def joined(sentences: Sequence[str]) -> str:
    """Those of some sentences that say something, one after the other."""
    return " ".join(filter(None, sentences))
