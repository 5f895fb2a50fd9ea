"""Opening archives from the command line. Passwords come from standard input, never from arguments, which others can see."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path

from rundlet.cli.render import with_progress
from rundlet.core.formats.base import ArchiveReader, Catalog, Opening
from rundlet.core.formats.detect import open_archive
from rundlet.core.formats.names import CODE_PAGES


def add_password(parser: argparse.ArgumentParser) -> None:
    """Add ``--password-stdin``."""
    parser.add_argument(
        "--password-stdin", action="store_true", help="read the password from the first line of standard input"
    )


def add_reading(parser: argparse.ArgumentParser) -> None:
    """Add what all verbs take that open an archive."""
    add_password(parser)
    parser.add_argument("--code-page", choices=CODE_PAGES, help="how names are written that do not say so themselves")


def open_given(
    path: Path, options: argparse.Namespace, password: str | None, found: Callable[[Catalog], None] | None = None
) -> ArchiveReader:
    """Open an archive as the arguments say, unlocked where a password was given.

    Args:
        found: told of the entries as they are found, where that takes long.

    Raises:
        RundletError: when it can't be opened or the password is wrong.
    """
    reader = with_progress(lambda job: open_archive(path, Opening(options.code_page, job, found)))
    try:
        if password is not None:
            reader.unlock(password)
    except BaseException:
        reader.close()
        raise
    return reader


def given_password(options: argparse.Namespace) -> str | None:
    """The password, or None when none was announced."""
    return sys.stdin.readline().rstrip("\r\n") if options.password_stdin else None
