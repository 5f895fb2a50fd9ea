"""The ``rundlet`` command: a verb does its work here; without one, the window opens."""

from __future__ import annotations

import argparse
import contextlib
import errno
import gc
import importlib
import os
import sys
from collections.abc import Sequence
from types import ModuleType
from typing import NoReturn

from rundlet import __version__
from rundlet.core.errors import Cancelled, RundletError
from rundlet.presentation.sentences import say

DONE, PROBLEMS, FAILED = 0, 1, 2

VERBS = (
    "list",
    "pack",
    "unpack",
    "check",
    "compare",
    "add",
    "remove",
    "rename",
    "update",
    "convert",
    "salvage",
    "sum",
    "join",
    "settings",
    "desktop",
)
"""Each is a module of its name, loaded when it is wanted: the window does without them."""

_TASKS = ("--pack", "--unpack", "--check")
"""What the window is opened for, by the entries of the desktop's menus."""

_USAGE = """\
usage: rundlet [FOLDER | ARCHIVE | FILE ...]    open the window
       rundlet --pack|--unpack|--check FILE ... open it with these selected, to pack, unpack or check them
       rundlet list ARCHIVE                     list what is in an archive
       rundlet pack OUT ITEM ...                make an archive
       rundlet unpack ARCHIVE ...               unpack an archive
       rundlet check ARCHIVE ...                check whether archives are intact
       rundlet compare ARCHIVE OTHER            compare an archive with a folder or an archive
       rundlet add ARCHIVE ITEM ...             add files and folders to an archive
       rundlet remove ARCHIVE PATTERN ...       remove items from an archive
       rundlet rename ARCHIVE OLD NEW           rename or move an item in an archive
       rundlet update ARCHIVE FOLDER            bring an archive up to date with a folder
       rundlet convert ARCHIVE OUT              make another archive of what one holds
       rundlet salvage ARCHIVE OUT              save what is intact in a damaged archive
       rundlet sum FILE ...                     print checksums, or check files against a list of them
       rundlet join PART OUT                    join the numbered parts of a file
       rundlet settings [NAME [VALUE]]          show the settings, or change one
       rundlet desktop install|remove|status    put Rundlet into the menu, or take it away
       rundlet help [VERB]                      show how to use it
       rundlet --version

"rundlet VERB --help" says more."""


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line."""

    def error(self, message: str) -> NoReturn:
        self.exit(
            FAILED, "rundlet: " + say("{message}; “{prog} --help” says more", message=message, prog=self.prog) + "\n"
        )


def _module(verb: str) -> ModuleType:
    return importlib.import_module(f"rundlet.cli.{verb}")


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
    _take_any_terminal()
    try:
        return _main(words)
    except (Cancelled, KeyboardInterrupt):
        _say("Cancelled. Nothing was left behind.")
        return FAILED
    except BrokenPipeError:
        return _without_output()
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EBADF, errno.EIO):
            raise
        _say(
            say(
                "What is to be said can't be written: {reason}.",
                reason=(error.strerror or "the system gave no reason").lower(),
            )
        )
        return _without_output()


def _main(words: list[str]) -> int:
    first = words[0] if words else ""
    if first in ("--version", "-V"):
        print(f"rundlet {__version__}")
        return DONE
    if first in ("--help", "-h", "help"):
        if len(words) > 1 and words[1] in VERBS:
            return _run(words[1], ["--help"])
        print(_USAGE)
        return DONE
    if first in VERBS:
        return _run(first, words[1:])
    task = first.removeprefix("--") if first in _TASKS else ""
    words = words[1:] if task else words
    for word in words:
        if not os.path.lexists(word):
            return _not_there(word, is_first=word == first)
    return _open_window(words, task)


def _not_there(word: str, *, is_first: bool) -> int:
    """A word that is neither a verb nor anything on the disk."""
    import difflib  # only where something was mistyped

    meant = difflib.get_close_matches(word, VERBS, n=1) if is_first and not word.startswith("-") else []
    if meant:
        _say(say("There is no verb “{word}”. Did you mean “{meant}”?", word=word, meant=meant[0]))
    elif word.startswith("-"):
        _say(say("There is no option “{word}”; “rundlet --help” says what there is.", word=word))
    else:
        _say(say("There is no file, folder or verb “{word}”; “rundlet --help” says what there is.", word=word))
    return FAILED


def _say(words: str) -> None:
    if sys.stderr is not None:
        print(f"rundlet: {words}", file=sys.stderr)


def _take_any_terminal() -> None:
    """What a terminal has no letters for is written as numbers; a standard stream that is closed swallows what it is given."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115 - up to the end
        elif hasattr(getattr(sys, name), "reconfigure"):
            getattr(sys, name).reconfigure(errors="backslashreplace")


def _without_output() -> int:
    """Nobody reads any more, or nothing can be written: the interpreter must not try once more at its end."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return FAILED


def _open_window(words: list[str], task: str = "") -> int:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    if not (platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        _say("There is no display to open a window on; “rundlet --help” says what works without.")
        return FAILED
    if (platform or "xcb").startswith("xcb") and not (os.environ.get("WAYLAND_DISPLAY") and not platform):
        import ctypes

        try:
            ctypes.CDLL("libxcb-cursor.so.0")
        except OSError:  # the toolkit would end the process without a word that helps
            _say("The window can't start, as a part of the system is missing: install the package libxcb-cursor0.")
            return FAILED
    gc.disable()  # until the window is there: what is loaded stays, and looking it through takes a tenth of the start
    try:
        from rundlet.desktop.app import main as open_window
    except ImportError as error:
        _say(say("The window can't start, as a part of the system is missing: {error}", error=error))
        return FAILED
    return open_window(words, task)


# Workers that wait for each other's turn at the interpreter do not wait for long.
_SWITCH_SECONDS = 0.00005


def _run(verb: str, words: list[str]) -> int:
    from rundlet.cli.render import Output  # with all that the verbs need
    from rundlet.core.fs.unfinished import may_be_left

    try:
        options = parser_for(verb).parse_args(words)
    except SystemExit as end:
        return int(end.code or 0)
    output = Output(json=options.json)
    if may_be_left():
        from rundlet.core.fs.recovery import clear_up  # seldom needed, and much to load

        clear_up()
    sys.setswitchinterval(_SWITCH_SECONDS)
    try:
        status: int = _module(verb).run(options, output)
        sys.stdout.flush()
    except RundletError as error:
        output.line(error)
        return FAILED
    except MemoryError:
        output.line("There is not enough memory for this.")
        return FAILED
    return status
