"""Opening archives from the command line. Passwords come from standard input, never from arguments, which others can see."""

from __future__ import annotations

import argparse
import getpass
import sys
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from rundlet.cli.reading import STDIN
from rundlet.cli.render import with_progress
from rundlet.core.errors import PasswordNeeded, PlanError, WrongPassword
from rundlet.core.formats.detect import open_archive
from rundlet.core.formats.forward_opening import open_forward
from rundlet.core.fs.safe_names import as_text
from rundlet.core.limits import DEFAULT, MAX_PASSWORD_LINE
from rundlet.core.model.opening import Opening
from rundlet.core.settings import CACHE, UNPACK_MEMORY
from rundlet.core.streams.pipes import piped
from rundlet.core.streams.private import no_core_dumps
from rundlet.core.userdata.settings_file import Settings
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.forward_reading import ForwardArchive
    from rundlet.core.jobs.job import Job
    from rundlet.core.limits import Limits
    from rundlet.core.model.catalog import Catalog


def open_given(
    path: Path,
    options: argparse.Namespace,
    password: str | None,
    found: Callable[[Catalog], None] | None = None,
    *,
    keeps: bool = True,
    names_only: bool = False,
) -> tuple[ArchiveReader, str | None]:
    """Open an archive as the arguments say, unlocked where a password was given; at a terminal it is asked for where one
    is needed.

    Args:
        names_only: whether contents are not wanted, so that only hidden names need a password.
        found: told of the entries as they are found, where that takes long.
        keeps: as in :class:`Opening`.

    Returns:
        The archive, and the password that was given or asked for.

    Raises:
        RundletError: when it can't be opened or the password is wrong.
    """
    limits = _limits(options)

    def opened(password: str | None) -> ArchiveReader:
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

    asks = password is None and at_a_terminal()
    try:
        reader = opened(password)
    except WrongPassword:
        raise
    except PasswordNeeded:
        if not asks:
            raise
        password = asked(path.name)
        return opened(password), password
    if asks and not names_only and bool(reader.catalog.encrypted.any()):
        try:
            password = asked(path.name)
            reader.unlock(password)
        except BaseException:
            reader.close()
            raise
    return reader, password


def _limits(options: argparse.Namespace) -> Limits:
    settings = Settings.read()
    memory = settings.get(UNPACK_MEMORY) if options.memory is None else options.memory
    return replace(DEFAULT, memory_bytes=memory, index_bytes=settings.get(CACHE))


def is_piped(path: Path) -> bool:
    """Whether standard input is meant."""
    return str(path) == STDIN


@contextmanager
def piped_archive(options: argparse.Namespace, job: Job, tick: Callable[[int], object]) -> Iterator[ForwardArchive]:
    """The archive that comes through standard input, which is read as it comes.

    Args:
        tick: told how many bytes have come, or 0; may raise.

    Raises:
        RundletError: when it can't be read.
    """
    chunks = piped(_standard_input(options), tick)
    archive = open_forward(chunks, Opening(options.code_page, _limits(options), job))
    with closing(archive):
        yield archive


def _standard_input(options: argparse.Namespace) -> BinaryIO:
    """The bytes of standard input, where nothing else is to be read from it.

    Raises:
        PlanError: when they can't be an archive.
    """
    if sys.stdin is None:
        raise PlanError("The archive is to come from standard input, which is closed.")
    if options.password_stdin or getattr(options, "files_from", None) == STDIN:
        raise PlanError(
            "The archive comes from standard input, so nothing else can.", hint="Give the password with --password-fd."
        )
    if sys.stdin.isatty():
        raise PlanError(
            "Standard input is the keyboard, not an archive.", hint="Send one into it from a file or a program."
        )
    return sys.stdin.buffer


def at_a_terminal() -> bool:
    """Whether somebody can be asked."""
    return sys.stdin is not None and sys.stdin.isatty() and sys.stderr.isatty()


def asked(name: str) -> str:
    """The password of an archive, asked for at the terminal and not shown while it is typed."""
    no_core_dumps()
    return getpass.getpass(say("Password of {name:shown}: ", name=name), sys.stderr)


def _asked_twice() -> str:
    no_core_dumps()
    password = getpass.getpass("Password: ", sys.stderr)
    if getpass.getpass("Repeat the password: ", sys.stderr) != password:
        raise PlanError("The passwords don't match.")
    return password


def given_password(options: argparse.Namespace, *, twice: bool = False) -> str | None:
    """The password, or None when none was announced. At a terminal it is asked for and not shown while it is typed.

    Args:
        twice: whether it is to be typed twice there, as nobody would notice a slip.

    Raises:
        PlanError: when there is none, or what was typed twice is not the same.
    """
    number = getattr(options, "password_fd", None)
    if number is not None:
        no_core_dumps()
        try:
            with open(number, "rb", closefd=False, buffering=0) as file:
                return _first_line(file.read(MAX_PASSWORD_LINE) or b"")
        except (OSError, OverflowError) as error:
            raise PlanError("The password can't be read from the open file number {number}.", number=number) from error
    if getattr(options, "lock", False):
        if not at_a_terminal():
            raise PlanError("The password can't be asked for without a terminal.", hint="Give it with --password-fd.")
        return _asked_twice()
    if not options.password_stdin:
        return None
    no_core_dumps()
    if sys.stdin is None:
        raise PlanError("The password is to come from standard input, which is closed.")
    if sys.stdin.isatty():
        return _asked_twice() if twice else getpass.getpass("Password: ", sys.stderr)
    try:
        line = sys.stdin.buffer.readline(MAX_PASSWORD_LINE) if hasattr(sys.stdin, "buffer") else sys.stdin.readline()
    except OSError as error:
        raise PlanError("The password can't be read from standard input.") from error
    return _first_line(line) if isinstance(line, bytes) else line.rstrip("\r\n")


def _first_line(data: bytes) -> str:
    return as_text(data.partition(b"\n")[0]).rstrip("\r\n")
