"""What several verbs take: passwords, limits, lists of items; and how it is read."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import PlanError, file_problem
from rundlet.core.formats.name_encoding import CODE_PAGES
from rundlet.core.limits import MIB
from rundlet.core.sentences import fill
from rundlet.core.text import parse_size

if TYPE_CHECKING:
    from collections.abc import Sequence

STDIN = "-"
"""What stands for standard input and output."""

_MOST_LIST = 256 * MIB  # bytes; a million paths take about 100


def add_password(parser: argparse.ArgumentParser, *, asks: bool = False) -> None:
    """Add the ways to give a password.

    Args:
        asks: whether it is asked for only when that is said, as nothing tells by itself that one is wanted.
    """
    ways = parser.add_mutually_exclusive_group()
    if asks:
        ways.add_argument(
            "--lock", action="store_true", help="ask for a password at the terminal, twice, and lock with it"
        )
    ways.add_argument(
        "--password-stdin", action="store_true", help="read the password from the first line of standard input"
    )
    ways.add_argument(
        "--password-fd", type=int, metavar="N", help="read the password from the first line of the open file number N"
    )


def add_reading(parser: argparse.ArgumentParser) -> None:
    """Add what all verbs take that open an archive."""
    add_password(parser)
    parser.add_argument(
        "--memory", type=size_argument, metavar="SIZE", help="memory that unpacking may take, such as 2GB"
    )
    parser.add_argument("--code-page", choices=CODE_PAGES, help="how names are written that do not say so themselves")


def add_only(parser: argparse.ArgumentParser) -> None:
    """Add the ways to name some of the items in an archive."""
    parser.add_argument("--only", action="append", default=[], metavar="PATTERN", help="only the items that match")
    add_files_from(parser, "only the items whose paths stand in FILE")


def add_files_from(parser: argparse.ArgumentParser, help: str) -> None:
    """Add ``--files-from``."""
    parser.add_argument(
        "--files-from",
        metavar="FILE",
        help=fill("{help}, one a line or with a NUL behind each; “-” for standard input", {"help": help}),
    )


def listed_in(name: str | None) -> list[str]:
    """The lines of a list; where it has NULs, what stands before each of them. Bytes that are no UTF-8 are kept.

    Raises:
        FileProblem: when it can't be read.
        PlanError: when there is nothing in it.
    """
    if name is None:
        return []
    try:
        if name == STDIN:
            data = sys.stdin.buffer.read(_MOST_LIST)
        else:
            with Path(name).open("rb") as file:
                data = file.read(_MOST_LIST)
    except OSError as error:
        raise file_problem(error, "read", name) from error
    found = [line for line in (data.split(b"\0") if b"\0" in data else data.splitlines()) if line]
    if not found:
        raise PlanError("The list {name:name} is empty.", name=name)
    return [line.decode("utf-8", "surrogateescape") for line in found]


def named_items(items: Sequence[Path], files_from: str | None) -> list[Path]:
    """What is named one by one, and what a list names.

    Raises:
        FileProblem: when the list can't be read.
        PlanError: when nothing is named.
    """
    found = [*items, *map(Path, listed_in(files_from))]
    if not found:
        raise PlanError("No files or folders are named.", hint="Name some, or a list of them with --files-from.")
    return found


def size_argument(words: str) -> int:
    """A size as people write it: 700k, 20MB, 4 GiB, or bytes."""
    bytes_ = parse_size(words)
    if bytes_ is None:
        raise argparse.ArgumentTypeError(f"{words!r} is not a size such as 20MB")
    return bytes_
