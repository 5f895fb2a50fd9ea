"""The ``rundlet`` command: a verb does its work here; without one, the window opens."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import sys
from collections.abc import Sequence
from types import ModuleType
from typing import NoReturn

from rundlet import __version__
from rundlet.core.errors import Cancelled, RundletError

DONE, PROBLEMS, FAILED = 0, 1, 2

VERBS = {"list": "listing", "pack": "pack", "unpack": "unpack", "check": "check"}
"""The module for each verb, loaded when it is wanted: the window does without them."""

_USAGE = """\
usage: rundlet [FOLDER | ARCHIVE | FILE ...]    open the window
       rundlet list ARCHIVE                     say what is in an archive
       rundlet pack OUT ITEM ...                make an archive
       rundlet unpack ARCHIVE ... --into DIR    take entries out
       rundlet check ARCHIVE                    read every entry and judge it
       rundlet --version

"rundlet VERB --help" says more."""


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line."""

    def error(self, message: str) -> NoReturn:
        self.exit(FAILED, f"rundlet: {message}; “{self.prog} --help” says more\n")


def _module(verb: str) -> ModuleType:
    return importlib.import_module(f"rundlet.cli.{VERBS[verb]}")


def parser_for(verb: str) -> argparse.ArgumentParser:
    """The parser of one verb."""
    module = _module(verb)
    parser = _Parser(prog=f"rundlet {verb}", description=module.__doc__, allow_abbrev=False)
    parser.add_argument("--json", action="store_true", help="print JSON for programs")
    module.add_arguments(parser)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command and give its exit status: 0 done, 1 done with problems, 2 not done."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    if words[:1] == ["--version"]:
        print(f"rundlet {__version__}")
        return DONE
    if words[:1] in (["--help"], ["-h"]):
        print(_USAGE)
        return DONE
    if not words or words[0] not in VERBS:
        return _open_window(words)
    try:
        return _run(words[0], words[1:])
    except (Cancelled, KeyboardInterrupt):
        print("rundlet: Cancelled; nothing was left behind.", file=sys.stderr)
        return FAILED


def _open_window(words: list[str]) -> int:
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        print(
            "rundlet: There is no display to open a window on; “rundlet --help” says what works without.",
            file=sys.stderr,
        )
        return FAILED
    gc.disable()  # until the window is there: what is loaded stays, and looking it through takes a tenth of the start
    try:
        from rundlet.desktop.app import main as open_window
    except ImportError as error:
        print(f"rundlet: The window can't start, as a part of the system is missing: {error}", file=sys.stderr)
        return FAILED
    return open_window(words)


# Workers that wait for each other's turn at the interpreter do not wait for long.
_SWITCH_SECONDS = 0.00005


def _run(verb: str, words: list[str]) -> int:
    from rundlet.cli.render import Output  # with all that the verbs need

    try:
        options = parser_for(verb).parse_args(words)
    except SystemExit as end:
        return int(end.code or 0)
    output = Output(json=options.json)
    sys.setswitchinterval(_SWITCH_SECONDS)
    try:
        status: int = _module(verb).run(options, output)
        sys.stdout.flush()
    except RundletError as error:
        output.line(error)
        return FAILED
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return FAILED
    except MemoryError:
        output.line("There is not enough memory for this.")
        return FAILED
    return status
