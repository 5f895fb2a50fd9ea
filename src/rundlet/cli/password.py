"""How the command line takes a password: from standard input, never from its arguments, which others can see."""

from __future__ import annotations

import argparse
import sys


def add_password(parser: argparse.ArgumentParser) -> None:
    """Add ``--password-stdin``."""
    parser.add_argument(
        "--password-stdin", action="store_true", help="read the password from the first line of standard input"
    )


def given_password(options: argparse.Namespace) -> str | None:
    """The password, or None when none was announced."""
    return sys.stdin.readline().rstrip("\r\n") if options.password_stdin else None
