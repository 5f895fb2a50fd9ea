"""The ``rundlet`` command: a verb does its work here; without one, the window opens."""

from __future__ import annotations

import argparse
import contextlib
import gc
import importlib
import os
import signal
import sys
from collections.abc import Iterable, Sequence
from types import ModuleType
from typing import NoReturn

from rundlet import __version__
from rundlet.core.errors import Cancelled, RundletError
from rundlet.core.sentences import fill
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

_TASKS = ("--pack", "--unpack", "--unpack-here", "--check")
"""What the window is opened for, by the entries of the desktop's menus."""

_USAGE = """\
usage: rundlet [FOLDER | ARCHIVE | FILE ...]    open the window
       rundlet --new-window [FILE ...]          open one more window, where one is open already
       rundlet --pack|--unpack|--check FILE ... open it with these selected, to pack, unpack or check them
       rundlet --unpack-here FILE ...           open it, and unpack these beside where they are
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

"rundlet VERB --help" says more, with examples."""


_UNKNOWN = "unrecognized arguments: "  # how the parser begins to say that


class _Wrong(Exception):
    """The words after a verb are not what it takes."""


class _Parser(argparse.ArgumentParser):
    """Says what is wrong in one line, and what may have been meant."""

    def error(self, message: str) -> NoReturn:
        meant = ""
        if message.startswith(_UNKNOWN):
            word = message.removeprefix(_UNKNOWN).split()[0].partition("=")[0]
            message = say("there is no option “{word}”", word=word) if word.startswith("-") else message
            meant = _nearest(word, self._option_string_actions)
        said = say("{message}; did you mean “{meant}”?", message=message, meant=meant) if meant else message + "."
        raise _Wrong(say("{said} “{prog} --help” says more.", said=said, prog=self.prog))


class _Help(argparse.RawDescriptionHelpFormatter):
    """Says the defaults."""

    def _get_help_string(self, action: argparse.Action) -> str:
        return help_of(action)


def help_of(action: argparse.Action) -> str:
    """What an option does, with its default where there is one to speak of."""
    words = action.help or ""
    has_default = action.option_strings and action.default and not isinstance(action.default, bool | list)
    if not has_default or "default" in words:
        return words
    return fill("{words} (default: {default})", {"words": words, "default": str(action.default)})


def _nearest(word: str, known: Iterable[str]) -> str:
    """The known word that looks most like this one, or ""."""
    import difflib  # only where something was mistyped

    return next(iter(difflib.get_close_matches(word, list(known), n=1)), "")


def _module(verb: str) -> ModuleType:
    return importlib.import_module(f"rundlet.cli.{verb}")


def examples_of(verb: str) -> Sequence[tuple[str, str]]:
    """What is done, and the line that does it."""
    examples: Sequence[tuple[str, str]] = getattr(_module(verb), "EXAMPLES", ())
    return examples


def parser_for(verb: str) -> argparse.ArgumentParser:
    """The parser of one verb."""
    module = _module(verb)
    lines = [f"  {line}\n      {what}" for what, line in examples_of(verb)]
    parser = _Parser(
        prog=f"rundlet {verb}",
        description=module.__doc__,
        epilog="examples:\n" + "\n".join(lines),
        formatter_class=_Help,
        allow_abbrev=False,
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object for programs")
    much = parser.add_mutually_exclusive_group()
    much.add_argument("-q", "--quiet", action="store_true", help="say only what was asked for and what went wrong")
    much.add_argument("-v", "--verbose", action="store_true", help="name each item, and all that is known of an error")
    module.add_arguments(parser)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command and give its exit status: 0 done, 1 done with problems, 2 not done, 128 and more ended by a signal."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    _take_any_terminal()
    try:
        return _main(words)
    except (Cancelled, KeyboardInterrupt) as stopped:
        _say(_CANCELLED)
        return _stopped_by(stopped)
    except BrokenPipeError:
        return _without_output()
    except OSError as error:  # as nothing is known of what it was doing
        _say(say("The system refused: {reason}.", reason=_reason(error.strerror)))
        return FAILED


_NO_MEMORY = "There is not enough memory for this."
_CANCELLED = "Cancelled. Nothing was left behind."


def _stopped_by(stopped: BaseException) -> int:
    """The exit status that shells know for being ended by a signal, Ctrl+C where it is not known which."""
    return 128 + int(getattr(stopped, "number", signal.SIGINT))


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
    if first == "--service":
        return _open_window([], waits=True)
    is_new = first == "--new-window"
    task = first.removeprefix("--") if first in _TASKS else ""
    words = words[1:] if task or is_new else words
    for word in words:
        if not os.path.lexists(word):
            return _not_there(word, is_first=word == first)
    if not is_new and _is_forwarded(words, task):
        return DONE
    return _open_window(words, task)


def _is_forwarded(words: list[str], task: str) -> bool:
    """Whether a Rundlet that runs already opens it."""
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return False
    from rundlet.integration.forwarding import forward

    return forward(words, task)


def _not_there(word: str, *, is_first: bool) -> int:
    """A word that is neither a verb nor anything on the disk."""
    is_option = word.startswith("-")
    meant = _nearest(word, (*_TASKS, "--new-window", "--help", "--version") if is_option else VERBS if is_first else ())
    if meant:
        words = (
            "There is no option “{word}”. Did you mean “{meant}”?"
            if is_option
            else "There is no verb “{word}”. Did you mean “{meant}”?"
        )
        _say(say(words, word=word, meant=meant))
    elif is_option:
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


def _open_window(words: list[str], task: str = "", *, waits: bool = False) -> int:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    if not (platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        _say("There is no display to open a window on; “rundlet --help” says what works without.")
        return FAILED
    if not _has_libraries(platform or ("wayland" if os.environ.get("WAYLAND_DISPLAY") else "xcb")):
        return FAILED
    gc.disable()  # until the window is there: what is loaded stays, and looking it through takes a tenth of the start
    try:
        from rundlet.desktop.app import main as open_window
    except ImportError as error:
        _say(say("The window can't start, as a part of the system is missing: {error}", error=error))
        return FAILED
    return open_window(words, task, waits=waits)


def _has_libraries(platform: str) -> bool:
    """Whether the system has what the window needs; the toolkit would end the process without a word that helps."""
    from rundlet.integration.system_libraries import how_to_install, missing

    wanting = missing(platform.partition(":")[0].partition("-")[0]) if platform != "offscreen" else []
    if wanting:
        names = ", ".join(library.name for library in wanting)
        words = "The window can't start, as the system lacks {count:library|libraries}: {names}."
        _say(say(words, count=len(wanting), names=names))
        if line := how_to_install(wanting):
            print(f"  {line}", file=sys.stderr)
    return not wanting


# Workers that wait for each other's turn at the interpreter do not wait for long.
_SWITCH_SECONDS = 0.00005


def _run(verb: str, words: list[str]) -> int:
    from rundlet.cli.render import Output, OutputError  # with all that the verbs need
    from rundlet.core.fs.unfinished import may_be_left

    output = Output(json="--json" in words)
    try:
        options = parser_for(verb).parse_intermixed_args(words)  # options may stand between the items
    except SystemExit as end:
        return int(end.code or 0)
    except _Wrong as wrong:
        output.failed(str(wrong), "usage")
        _say(str(wrong))
        output.end(verb, FAILED)
        return FAILED
    output = Output(json=options.json, quiet=options.quiet, verbose=options.verbose)
    if may_be_left():
        from rundlet.core.fs.recovery import clear_up  # seldom needed, and much to load

        clear_up()
    sys.setswitchinterval(_SWITCH_SECONDS)
    status = FAILED
    try:
        status = _module(verb).run(options, output)
    except RundletError as error:
        output.line(error)
    except OutputError as error:
        return _output_failed(error, FAILED)
    except MemoryError:
        output.failed(_NO_MEMORY, "memory")
        output.line(_NO_MEMORY)
    except (Cancelled, KeyboardInterrupt) as stopped:
        said = str(stopped) or _CANCELLED
        output.failed(said, "cancelled")
        output.line(said)
        status = _stopped_by(stopped)
    try:
        output.end(verb, status)
        output.flush()
    except OutputError as error:
        return _output_failed(error, FAILED if output.is_the_work else status)
    return status


def _output_failed(error: Exception, status: int) -> int:
    """Say on standard error that standard output can't be written; the exit status, for which finished work counts."""
    _say(say("Can't write output: {reason}.", reason=_reason(str(error))))
    _without_output()
    return max(status, PROBLEMS)


def _reason(said: str | None) -> str:
    return (said or "the system gave no reason").lower()
