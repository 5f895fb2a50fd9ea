"""Passwords of words, which are easier to keep in mind and harder to guess than short ones of all kinds of characters."""

from __future__ import annotations

WORDS = 5
"""How many words there are in one: each of about 4,400 adds twelve bits."""

_LEAST, _MOST = 3, 7  # letters


def passphrase() -> str:
    """A new one, of words with hyphens between them."""
    from xkcdpass import xkcd_password

    file = xkcd_password.locate_wordfile("eff-long")
    words = xkcd_password.generate_wordlist(file, min_length=_LEAST, max_length=_MOST, valid_chars="[a-z]")
    return str(xkcd_password.generate_xkcdpassword(words, numwords=WORDS, delimiter="-"))
