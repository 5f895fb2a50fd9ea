"""All actions of the window and of its list in tables: what they are called, their keys, and where the menu has them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget


@dataclass(frozen=True, slots=True)
class ActionSpec:
    """One action.

    Attributes:
        id: its name in code and tests.
        words: its name for people.
        keys: the keys that call it.
        group: the part of the menu that it is in.
    """

    id: str
    words: str
    keys: tuple[str, ...] = ()
    group: str = ""


ACTIONS = (
    ActionSpec("new_window", "New window", ("Ctrl+N",), "work"),
    ActionSpec("open_archive", "Open an archive …", group="work"),
    ActionSpec("go", "Pack, unpack or save", ("Ctrl+Return", "Ctrl+Enter"), "work"),
    ActionSpec("check", "Check the archive", group="work"),
    ActionSpec("convert", "Save the archive as a new one …", group="work"),
    ActionSpec("undo", "Undo the last job", ("Ctrl+Z",), "work"),
    ActionSpec("log", "Open the log", ("Ctrl+Shift+L",), "work"),
    ActionSpec("back", "Back", ("Alt+Left",), "go"),
    ActionSpec("up", "One step up", ("Alt+Up",), "go"),
    ActionSpec("path", "Type a path", ("Ctrl+L",), "go"),
    ActionSpec("from", "Go to From", ("Alt+1",), "go"),
    ActionSpec("how", "Go to How", ("Alt+2",), "go"),
    ActionSpec("to", "Go to To", ("Alt+3",), "go"),
    ActionSpec("find", "Find", ("Ctrl+F",), "look"),
    ActionSpec("refresh", "Look again", ("F5",), "look"),
    ActionSpec("settings", "Settings", ("Ctrl+,",), "about"),
    ActionSpec("help", "Help", group="about"),
    ActionSpec("shortcuts", "Keyboard shortcuts", ("F1",), "about"),
    ActionSpec("about", "About Rundlet", group="about"),
    ActionSpec("close", "Close the window", ("Ctrl+W", "Ctrl+Q"), "about"),
)

LIST_ACTIONS = (
    ActionSpec("all", "Select all", ("Ctrl+A",)),
    ActionSpec("others", "Invert the selection", ("Ctrl+Shift+A",)),
    ActionSpec("open", "Open in its program", ("Ctrl+O",)),
    ActionSpec("look_inside", "Look inside", ("Alt+Down",)),
    ActionSpec("new_folder", "New folder", ("Ctrl+Shift+N",)),
    ActionSpec("rename", "Rename", ("F2",)),
    ActionSpec("copy", "Copy", ("Ctrl+C",)),
    ActionSpec("cut", "Cut", ("Ctrl+X",)),
    ActionSpec("paste", "Paste", ("Ctrl+V",)),
    ActionSpec("trash", "Move to the trash", ("Delete",)),
    ActionSpec("hidden", "Show hidden files", ("Ctrl+H",)),
    ActionSpec("list_up", "One step up", ("Backspace",)),
)
"""What can be done in the list; their keys count only while it has the focus."""

LIST_KEYS = (
    ActionSpec("enter", "Open the current folder, archive or file", ("Return",)),
    ActionSpec("look", "Show or hide the preview", ("Space",)),
    ActionSpec("toggle", "Add or remove the current item", ("Ctrl+Space",)),
    ActionSpec("range", "Extend the selection", ("Shift+Up", "Shift+Down")),
)
"""What the list does with keys of its own."""


def keys_in_words(spec: ActionSpec) -> str:
    """The keys of an action as the desktop writes them."""
    return ", ".join(QKeySequence(keys).toString(QKeySequence.SequenceFormat.NativeText) for keys in spec.keys)


def add_actions(window: QWidget, handlers: dict[str, Callable[[], object]]) -> dict[str, QAction]:
    """Give a window its actions; every one in the table needs a handler."""
    actions = {}
    for spec in ACTIONS:
        action = QAction(spec.words, window)
        action.setShortcuts([QKeySequence(keys) for keys in spec.keys])
        action.triggered.connect(handlers[spec.id])
        window.addAction(action)
        actions[spec.id] = action
    return actions
