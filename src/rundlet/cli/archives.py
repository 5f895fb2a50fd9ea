"""Opening archives from the command line. Passwords come from standard input, never from arguments, which others can see."""

from __future__ import annotations

import argparse
import getpass
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.cli.render import with_progress
from rundlet.core.errors import PlanError
from rundlet.core.formats.detect import open_archive
from rundlet.core.fs.safe_names import as_text
from rundlet.core.limits import DEFAULT, MAX_PASSWORD_LINE
from rundlet.core.model.opening import Opening
from rundlet.core.settings import UNPACK_MEMORY
from rundlet.core.streams.private import no_core_dumps
from rundlet.core.userdata.settings_file import Settings

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.model.catalog import Catalog


def open_given(
    path: Path,
    options: argparse.Namespace,
    password: str | None,
    found: Callable[[Catalog], None] | None = None,
    *,
    keeps: bool = True,
) -> ArchiveReader:
    """Open an archive as the arguments say, unlocked where a password was given.

    Args:
        found: told of the entries as they are found, where that takes long.
        keeps: as in :class:`Opening`.

    Raises:
        RundletError: when it can't be opened or the password is wrong.
    """
    memory = Settings.read().get(UNPACK_MEMORY) if options.memory is None else options.memory
    limits = replace(DEFAULT, memory_bytes=memory)
    reader = with_progress(
        lambda job: open_archive(path, Opening(options.code_page, limits, job, found, password, keeps))
    )
    try:
        if password is not None and not reader.unlocked:
            reader.unlock(password)
    except BaseException:
        reader.close()
        raise
    return reader


def given_password(options: argparse.Namespace, *, twice: bool = False) -> str | None:
    """The password, or None when none was announced. At a terminal it is asked for and not shown while it is typed.

    Args:
        twice: whether it is to be typed twice there, as nobody would notice a slip.

    Raises:
        PlanError: when there is none, or what was typed twice is not the same.
    """
    if not options.password_stdin:
        return None
    no_core_dumps()
    if sys.stdin is None:
        raise PlanError("The password is to come from standard input, which is closed.")
    if sys.stdin.isatty():
        password = getpass.getpass("Password: ", sys.stderr)
        if twice and getpass.getpass("Repeat the password: ", sys.stderr) != password:
            raise PlanError("The passwords don't match.")
        return password
    try:
        line = sys.stdin.buffer.readline(MAX_PASSWORD_LINE) if hasattr(sys.stdin, "buffer") else sys.stdin.readline()
    except OSError as error:
        raise PlanError("The password can't be read from standard input.") from error
    return (as_text(line) if isinstance(line, bytes) else line).rstrip("\r\n")
