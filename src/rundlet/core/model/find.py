"""What a person types to find names: parts of them, and patterns."""

from __future__ import annotations

import fnmatch
import re
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Wanted:
    """Names that have all of these, upper and lower case alike.

    Attributes:
        parts: words that stand somewhere in the name.
        patterns: patterns that the whole name fits; ``*`` stands for anything and ``?`` for one character.
        literal: a stretch that every such name has, for a quick first look; "" for none.
    """

    parts: tuple[str, ...] = ()
    patterns: tuple[re.Pattern[str], ...] = ()
    literal: str = ""

    @classmethod
    def of(cls, words: str) -> Wanted:
        """What is wanted by some words; those with ``*`` or ``?`` are patterns."""
        parts, patterns, literals = [], [], [""]
        for word in words.casefold().split():
            if "*" in word or "?" in word:
                patterns.append(re.compile(fnmatch.translate(word)))
                if "[" not in word:
                    literals += re.split(r"[*?]+", word)
            else:
                parts.append(word)
                literals.append(word)
        return cls(tuple(parts), tuple(patterns), max(literals, key=len))

    def __bool__(self) -> bool:
        return bool(self.parts or self.patterns)

    def fits(self, name: str) -> bool:
        """Whether a name is one of those."""
        folded = name.casefold()
        return all(part in folded for part in self.parts) and all(p.match(folded) for p in self.patterns)
