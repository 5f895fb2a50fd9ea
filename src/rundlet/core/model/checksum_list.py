"""Lists of checksums, in the forms in which they are published.

========================  ===========================================================================
``HASH  name``            the algorithm is told by the length; ``*`` before the name says "binary"
``\\HASH  name``          the same, with ``\\\\`` and ``\\n`` in the name standing for a backslash and a new line
``ALGO (name) = HASH``    the algorithm is named
``name HASH``             eight digits at the end: CRC-32, with comments behind ``;``
========================  ===========================================================================
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Algorithm(StrEnum):
    """How a checksum is made; the value is its name in lists."""

    SHA256 = "SHA256"
    SHA512 = "SHA512"
    SHA1 = "SHA1"
    MD5 = "MD5"
    BLAKE2B = "BLAKE2b"
    CRC32 = "CRC32"


_DIGITS = {
    Algorithm.CRC32: 8,
    Algorithm.MD5: 32,
    Algorithm.SHA1: 40,
    Algorithm.SHA256: 64,
    Algorithm.SHA512: 128,
    Algorithm.BLAKE2B: 128,
}
_BY_DIGITS = {digits: algorithm for algorithm, digits in reversed(_DIGITS.items())}  # 128 are told for SHA-512
_BY_NAME = {algorithm.value.upper(): algorithm for algorithm in Algorithm}

_PLAIN = re.compile(r"(\\?)([0-9A-Fa-f]{8,128})[ \t][ \t*](.+)")
_NAMED = re.compile(r"([A-Za-z0-9-]+) ?\((.+)\) ?= ?([0-9A-Fa-f]{8,128})")
_AT_THE_END = re.compile(r"(.+?)[ \t]+([0-9A-Fa-f]{8})")


@dataclass(frozen=True, slots=True)
class ChecksumLine:
    """One file of a list.

    Attributes:
        name: its path, from the folder of the list on.
        digest: in lower case hexadecimal digits.
    """

    name: str
    algorithm: Algorithm
    digest: str

    @property
    def algorithms(self) -> tuple[Algorithm, ...]:
        """Those that it may be of: where two give equally long ones, a line does not tell which."""
        return algorithms_of(self.digest)


def algorithm_of(digest: str) -> Algorithm | None:
    """The algorithm that gives so many digits; None where none does."""
    return _BY_DIGITS.get(len(digest))


def algorithms_of(digest: str) -> tuple[Algorithm, ...]:
    """All algorithms that give so many digits, the usual one first."""
    return tuple(algorithm for algorithm, digits in _DIGITS.items() if digits == len(digest))


def algorithm_named(name: str) -> Algorithm | None:
    """The algorithm of a name, however it is spelled; None for an unknown one."""
    return _BY_NAME.get(name.upper().replace("-", "").replace("_", ""))


def read_checksums(text: str) -> tuple[list[ChecksumLine], list[int]]:
    """The lines of a list, and the numbers of those that say nothing that is understood, from 1 on.

    Empty lines, and those that begin with ``#`` or ``;``, are comments.
    """
    found: list[ChecksumLine] = []
    odd: list[int] = []
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        stripped = line.strip()
        if not stripped or stripped[0] in "#;":
            continue
        one = _line(stripped)
        if one is None:
            odd.append(number)
        else:
            found.append(one)
    return found, odd


def _line(line: str) -> ChecksumLine | None:
    if named := _NAMED.fullmatch(line):
        algorithm = algorithm_named(named[1])
        if algorithm is not None and len(named[3]) == _DIGITS[algorithm]:
            return ChecksumLine(named[2], algorithm, named[3].lower())
    if plain := _PLAIN.fullmatch(line):
        algorithm = algorithm_of(plain[2])
        if algorithm is not None:
            return ChecksumLine(_unescaped(plain[3]) if plain[1] else plain[3], algorithm, plain[2].lower())
    if behind := _AT_THE_END.fullmatch(line):
        return ChecksumLine(behind[1], Algorithm.CRC32, behind[2].lower())
    return None


def _unescaped(name: str) -> str:
    return re.sub(r"\\(.)", lambda match: {"n": "\n", "r": "\r"}.get(match[1], match[1]), name)


def written_checksums(lines: Iterable[ChecksumLine], *, named: bool) -> str:
    """A list of checksums as it is published.

    Args:
        named: whether each line names its algorithm, as lines of several have to.
    """
    return "".join(_written(line, named=named) for line in lines)


def _written(line: ChecksumLine, *, named: bool) -> str:
    if named:
        return f"{line.algorithm.value} ({line.name}) = {line.digest}\n"
    escaped = line.name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    mark = "\\" if escaped != line.name else ""
    return f"{mark}{line.digest}  {escaped}\n"
