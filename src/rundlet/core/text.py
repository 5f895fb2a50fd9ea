"""Numbers and names in a person's words."""

from __future__ import annotations

import re
import unicodedata
from datetime import UTC, datetime

# Characters that change how the text around them is shown and so can disguise a name.
_DISGUISES = frozenset("\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u2028\u2029")


_UNITS = ("kB", "MB", "GB", "TB", "PB", "EB", "ZB")

LONGEST_NAME = 100
"""Characters of a name within a message."""

LONGEST_MESSAGE = 300
"""Characters of a message."""


def size(count: int) -> str:
    """A number of bytes in the units of the desktop (powers of ten), e.g. ``"4.1 MB"``."""
    value = float(max(count, 0))
    if value < 1000:
        return plural(int(value), "byte")
    unit = 0
    while round(value / 1000 ** (unit + 1), 1) >= 1000 and unit < len(_UNITS) - 1:
        unit += 1
    return f"{value / 1000 ** (unit + 1):.1f} {_UNITS[unit]}"


def number(count: int) -> str:
    """A whole number with thousands kept apart, e.g. ``"12,500"``."""
    return f"{count:,}"


def plural(count: int, word: str, many: str | None = None) -> str:
    """A count with its noun, e.g. ``"1 entry"``, ``"3 entries"``."""
    if count == 1:
        return f"1 {word}"
    if many is None:
        many = word[:-1] + "ies" if word.endswith("y") and word[-2] not in "aeiou" else word + "s"
    return f"{number(count)} {many}"


def duration(seconds: float) -> str:
    """A stretch of time in its two largest useful units, e.g. ``"14 s"``, ``"2 min 5 s"``."""
    whole = round(seconds)
    if whole < 1:
        return "less than 1 s"
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s" if whole < 600 and whole % 60 else f"{round(whole / 60)} min"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def about(seconds: float) -> str:
    """An estimated stretch of time, e.g. ``"about 14 s"``; one below a second is said without "about"."""
    return duration(seconds) if round(seconds) < 1 else f"about {duration(seconds)}"


def shown(name: str) -> str:
    """A name from an archive, made safe to show: control and disguising characters are escaped."""
    if name.isascii() and name.isprintable():
        return name
    return "".join(c if _harmless(c) else _escaped(c) for c in name)


def _escaped(character: str) -> str:
    byte = ord(character) - 0xDC00  # where a name on the disk is not UTF-8, its bytes stand for themselves
    return f"\\x{byte:02x}" if 0x80 <= byte <= 0xFF else character.encode("unicode_escape").decode("ascii")


def plain_path(path: str) -> str:
    """A path in an archive without what makes no difference: empty steps, ``.`` steps and a slash at its end."""
    if path and path[0] not in "/." and path[-1] != "/" and "//" not in path and "/." not in path:
        return path
    return "/".join(step for step in path.split("/") if step not in ("", "."))


def path_in(folder: str, name: str) -> str:
    """The path in an archive of a name in a folder, "" for the top."""
    folder = plain_path(folder)
    return f"{folder}/{name}" if folder else name


def shortened(name: str, most: int = LONGEST_NAME) -> str:
    """A name without its middle where it is long, so that its beginning and its end can be seen."""
    if len(name) <= most:
        return name
    tail = most // 2
    return f"{name[: most - tail - 1]}…{name[-tail:]}"


def quoted(name: str) -> str:
    """A name in quotation marks, safe to show; a long one without its middle."""
    return f"“{shortened(shown(shortened(name)))}”"


def in_short(message: str) -> str:
    """A message that is no longer than one can read at a glance."""
    return message if len(message) <= LONGEST_MESSAGE else message[: LONGEST_MESSAGE - 1].rstrip() + "…"


def lower(sentence: str) -> str:
    """A sentence as the end of another: with a small first letter."""
    return sentence[:1].lower() + sentence[1:]


def sentence(clause: str) -> str:
    """A clause as a sentence: with a large first letter and a full stop."""
    return f"{clause[:1].upper()}{clause[1:]}."


def iso_time(time_ns: int) -> str:
    """Nanoseconds since 1970 as ISO 8601 in UTC, to the second or finer where there is more."""
    seconds, rest = divmod(time_ns, 1_000_000_000)
    text = datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%dT%H:%M:%S")
    return f"{text}.{rest:09d}".rstrip("0").rstrip(".") + "Z" if rest else text + "Z"


def _harmless(character: str) -> bool:
    return character not in _DISGUISES and unicodedata.category(character) not in ("Cc", "Cs", "Cn")


def parse_size(words: str, *, with_unit: bool = False) -> int | None:
    """Bytes for a size as people write it (700k, 20MB, 4 GiB, or bytes), or None when it is none.

    Args:
        with_unit: whether it must say of what; nobody who writes "8" means eight bytes.
    """
    match = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*([kmgt]?)(i?)(b?(?:ytes?)?)\s*", words.lower())
    if match is None or (with_unit and not (match[2] or match[4])):
        return None
    base = 1024 if match[3] else 1000
    return int(float(match[1].replace(",", ".")) * base ** (" kmgt".index(match[2] or " "))) or None
