"""Manual pages and completions for shells, made from the parsers of the command line themselves."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterator

from rundlet import __version__
from rundlet.cli.main import VERBS, examples_of, help_of, parser_for
from rundlet.core.model.patterns import RULE

_SENTENCES = re.compile(r"(?<=[.!?]) (?=[A-Z])")
DATE = "2026-11-30"
"""Of the newest version."""
_STATUS = (
    ("0", "It is done."),
    (
        "1",
        "It is done with problems, one line each on standard error; or what was compared or checked is not the same or not intact.",
    ),
    ("2", "It could not be done."),
    (
        "130",
        "It was ended by Ctrl+C; 128 and the number of the signal by another one. Nothing half made is left behind.",
    ),
)


def _options(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    return (action for action in parser._actions if action.option_strings and action.help is not argparse.SUPPRESS)


def _words(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    return (action for action in parser._actions if not action.option_strings)


def _roff(text: str) -> str:
    """Text as a manual page has it: no character that means something there."""
    text = text.replace("\\", "\\e").replace("-", "\\-").replace("“", "\\(lq").replace("”", "\\(rq").replace("…", "...")
    lines = _SENTENCES.sub("\n", text).split("\n")  # each sentence stands on a line of its own
    return "\n".join("\\&" + line if line.startswith((".", "'")) else line for line in lines)


def _argument(action: argparse.Action) -> str:
    """What follows on an option, or ""."""
    if action.nargs == 0:
        return ""
    if action.metavar:
        return str(action.metavar)
    return "|".join(map(str, action.choices)) if action.choices else (action.dest or "").upper()


def _first_line(parser: argparse.ArgumentParser) -> str:
    return (parser.description or "").strip().split("\n")[0].rstrip(".")


def man_pages() -> dict[str, str]:
    """A page for the program, and one for each verb, by their paths below a folder of data."""
    parsers = {verb: parser_for(verb) for verb in VERBS}
    lines = _head("rundlet", "pack, look into and unpack archives")
    lines += [".Nm", ".Op Ar folder | archive | file ...", ".Nm", ".Ar verb", ".Ar argument ..."]
    lines += [
        ".Sh DESCRIPTION",
        "Without a verb the window opens, on what is named.",
        "With one, the work is done here:",
    ]
    lines += [".Bl -tag -width salvage"]
    lines += [line for verb, parser in parsers.items() for line in (f".It Cm {verb}", _roff(_first_line(parser)) + ".")]
    lines += [".El", *_exit_status(), ".Sh SEE ALSO"]
    see = [f".Xr rundlet-{verb} 1" for verb in sorted(VERBS)]
    lines += [f"{one} ," for one in see[:-1]] + see[-1:]
    pages = {"man/man1/rundlet.1": "\n".join(lines) + "\n"}
    for verb, parser in parsers.items():
        pages[f"man/man1/rundlet-{verb}.1"] = _page(verb, parser)
    return pages


def _head(name: str, about: str) -> list[str]:
    return [
        f".Dd {DATE}",
        f".Dt {name.upper()} 1",
        f".Os rundlet {__version__}",
        ".Sh NAME",
        f".Nm {_roff(name)}",
        f".Nd {_roff(about)}",
        ".Sh SYNOPSIS",
    ]


def _page(verb: str, parser: argparse.ArgumentParser) -> str:
    about = _first_line(parser)
    lines = _head(f"rundlet-{verb}", about[:1].lower() + about[1:])
    lines += [f".Nm rundlet {verb}", ".Op Ar option ..."]
    for action in _words(parser):
        word = _roff((action.metavar if isinstance(action.metavar, str) else None) or action.dest)
        several = " ..." if action.nargs in ("+", "*") else ""
        lines.append(f".Op Ar {word}{several}" if action.nargs in ("?", "*") else f".Ar {word}{several}")
    lines += [".Sh DESCRIPTION", _roff(about) + ".", ".Bl -tag -width Ds"]
    for action in _options(parser):
        names = " , ".join("Fl " + _roff(name.removeprefix("-")) for name in action.option_strings)
        argument = _argument(action)
        lines.append(f".It {names} Ar {_roff(argument)}" if argument else f".It {names}")
        lines.append(_roff(_help(action)))
    lines += [".El"]
    if any(action.metavar == "PATTERN" for action in parser._actions):
        lines += [".Sh PATTERNS", _roff(RULE)]
    lines += _exit_status()
    lines += [".Sh EXAMPLES"]
    for what, line in examples_of(verb):
        lines += [_roff(what) + ".", f".Dl {_roff(line)}"]
    lines += [".Sh SEE ALSO", ".Xr rundlet 1"]
    return "\n".join(lines) + "\n"


def _help(action: argparse.Action) -> str:
    words = help_of(action).strip()
    words = words[:1].upper() + words[1:]
    if not words:
        words = "See the manual of the program"
    return words if words.endswith(".") else words + "."


def _exit_status() -> list[str]:
    lines = [".Sh EXIT STATUS", ".Bl -tag -width Ds"]
    for number, words in _STATUS:
        lines += [f".It {number}", _roff(words)]
    return [*lines, ".El"]


def completions() -> dict[str, str]:
    """Completions for three shells, by their paths below a folder of data."""
    parsers = {verb: parser_for(verb) for verb in VERBS}
    options = {
        verb: [name for action in _options(parser) for name in action.option_strings if name.startswith("--")]
        for verb, parser in parsers.items()
    }
    return {
        "bash-completion/completions/rundlet": _bash(options),
        "zsh/site-functions/_rundlet": _zsh(parsers, options),
        "fish/vendor_completions.d/rundlet.fish": _fish(parsers),
    }


def _bash(options: dict[str, list[str]]) -> str:
    cases = "\n".join(f'    {verb}) words="{" ".join(names)}" ;;' for verb, names in options.items())
    return f"""# shellcheck shell=bash
_rundlet() {{
  local current=${{COMP_WORDS[COMP_CWORD]}} words=
  COMPREPLY=()
  if [ "$COMP_CWORD" -eq 1 ]; then
    mapfile -t COMPREPLY < <(compgen -W "{" ".join(options)}" -- "$current"; compgen -f -- "$current")
    return
  fi
  case ${{COMP_WORDS[1]}} in
{cases}
  esac
  case $current in
    -*) mapfile -t COMPREPLY < <(compgen -W "$words" -- "$current") ;;
    *) mapfile -t COMPREPLY < <(compgen -f -- "$current") ;;
  esac
}}
complete -o filenames -F _rundlet rundlet
"""


def _zsh(parsers: dict[str, argparse.ArgumentParser], options: dict[str, list[str]]) -> str:
    def safe(text: str) -> str:
        return text.replace("'", "").replace(":", "")

    verbs = "\n".join(f"    '{verb}:{safe(_first_line(parser))}'" for verb, parser in parsers.items())
    cases = "\n".join(f"    {verb}) compadd -- {' '.join(names)} ;;" for verb, names in options.items())
    return f"""#compdef rundlet
_rundlet() {{
  local -a verbs
  verbs=(
{verbs}
  )
  if (( CURRENT == 2 )); then
    _describe verb verbs
    _files
    return
  fi
  if [[ $PREFIX != -* ]]; then
    _files
    return
  fi
  case $words[2] in
{cases}
  esac
}}
_rundlet "$@"
"""


def _fish(parsers: dict[str, argparse.ArgumentParser]) -> str:
    def safe(text: str) -> str:
        return text.replace("\\", "").replace("'", "")

    lines = []
    for verb, parser in parsers.items():
        about = safe(_first_line(parser))
        lines.append(f"complete -c rundlet -n __fish_use_subcommand -a {verb} -d '{about}'")
        lines += [
            f"complete -c rundlet -n '__fish_seen_subcommand_from {verb}' -l {name[2:]} -d '{safe(_help(action))}'"
            for action in _options(parser)
            for name in action.option_strings
            if name.startswith("--")
        ]
    return "\n".join(lines) + "\n"
