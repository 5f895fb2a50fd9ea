"""The options of all verbs that open an archive."""

from __future__ import annotations

import argparse

from rundlet.core.formats.name_encoding import CODE_PAGES
from rundlet.core.text import parse_size


def add_password(parser: argparse.ArgumentParser) -> None:
    """Add ``--password-stdin``."""
    parser.add_argument(
        "--password-stdin", action="store_true", help="read the password from the first line of standard input"
    )


def add_reading(parser: argparse.ArgumentParser) -> None:
    """Add what all verbs take that open an archive."""
    add_password(parser)
    parser.add_argument(
        "--memory", type=size_argument, metavar="SIZE", help="memory that unpacking may take, such as 2GB"
    )
    parser.add_argument("--code-page", choices=CODE_PAGES, help="how names are written that do not say so themselves")


def size_argument(words: str) -> int:
    """A size as people write it: 700k, 20MB, 4 GiB, or bytes."""
    bytes_ = parse_size(words)
    if bytes_ is None:
        raise argparse.ArgumentTypeError(f"{words!r} is not a size such as 20MB")
    return bytes_
