"""A password as different programs write it: what is typed today may not be the bytes that it once was."""

from __future__ import annotations

import contextlib
import unicodedata
from collections.abc import Iterator

from rundlet.core.errors import WrongPassword
from rundlet.core.formats.name_encoding import CODE_PAGES
from rundlet.core.limits import MAX_PASSWORD
from rundlet.core.sentences import Sentence

TOO_LONG = Sentence("A password has at most {most:number} characters.", {"most": MAX_PASSWORD})


def spellings(password: str) -> list[str]:
    """A password as it was typed, then with its accents composed and decomposed, where that is something else.

    Raises:
        WrongPassword: when it is longer than any is taken to be.
    """
    if len(password) > MAX_PASSWORD:
        raise WrongPassword(TOO_LONG)
    return list(dict.fromkeys([password, *(unicodedata.normalize(form, password) for form in ("NFC", "NFD"))]))


def byte_spellings(password: str) -> list[bytes]:
    """The same as bytes: in UTF-8, then in the code pages of older programs.

    Raises:
        WrongPassword: when it is longer than any is taken to be.
    """
    return list(dict.fromkeys(_encoded(spellings(password))))


def _encoded(words: list[str]) -> Iterator[bytes]:
    for word in words:
        yield word.encode("utf-8", "surrogatepass")
    for word in words:
        for page in CODE_PAGES:
            with contextlib.suppress(UnicodeEncodeError):
                yield word.encode(page)
