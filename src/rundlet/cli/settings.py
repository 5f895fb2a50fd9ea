"""Show the settings, or change one. The window starts with them; on the command line only the memory counts."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from rundlet.core.errors import PlanError
from rundlet.core.settings import SETTINGS, Setting, setting_named
from rundlet.core.userdata.settings_file import Settings

if TYPE_CHECKING:
    from rundlet.cli.render import Output

EXAMPLES = (
    ("See all settings", "rundlet settings"),
    ("Change one", "rundlet settings pack.format 7z"),
    ("Go back to its default", "rundlet settings --reset pack.format"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet settings`` takes."""
    parser.add_argument("name", nargs="?", metavar="NAME", help="one of them; all by default")
    parser.add_argument("value", nargs="?", metavar="VALUE", help="what to set it to")
    parser.add_argument("--reset", action="store_true", help="go back to the default")


def run(options: argparse.Namespace, output: Output) -> int:
    """Show or change.

    Raises:
        PlanError: when there is no such setting, or it can't have the value.
    """
    settings = Settings.read()
    if options.name is None:
        if options.reset:
            raise PlanError("Name the setting to reset.")
        _show(settings, SETTINGS, output)
        return 0
    setting = setting_named(options.name)
    if setting is None:
        raise PlanError("There is no setting {name:name}.", hint="“rundlet settings” lists them.", name=options.name)
    if options.reset:
        settings.reset(setting)
    elif options.value is not None:
        settings.set(setting, _parsed(setting, options.value))
    _show(settings, (setting,), output)
    return 0


def _parsed(setting: Setting[Any], words: str) -> Any:
    try:
        return setting.parse(words)
    except ValueError as error:
        raise PlanError(
            "{setting} can't be {words:name}.", hint="It can be: {words}.", setting=setting.id, words=setting.words
        ) from error


def _show(settings: Settings, which: tuple[Setting[Any], ...], output: Output) -> None:
    if output.json:
        output.value(
            [
                {
                    "name": each.id,
                    "value": settings.get(each),
                    "default": each.default,
                    "set": settings.is_set(each),
                    "help": each.help,
                }
                for each in which
            ]
        )
    for each in which:
        mark = "" if settings.is_set(each) else " (default)"
        output.data(f"{each.id} = {each.show(settings.get(each))}{mark}")
        output.data(f"    {each.help}: {each.words}")
