"""All actions of the window in one table: what they are called, their keys, and what they do."""

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
    """

    id: str
    words: str
    keys: tuple[str, ...]


ACTIONS = (
    ActionSpec("go", "Press the button", ("Ctrl+Return", "Ctrl+Enter")),
    ActionSpec("find", "Find", ("Ctrl+F",)),
    ActionSpec("up", "One step up", ("Alt+Up",)),
    ActionSpec("back", "Back", ("Alt+Left",)),
    ActionSpec("from", "Go to From", ("Alt+1",)),
    ActionSpec("how", "Go to How", ("Alt+2",)),
    ActionSpec("to", "Go to To", ("Alt+3",)),
    ActionSpec("undo", "Undo the last job", ("Ctrl+Z",)),
    ActionSpec("path", "Type a path", ("Ctrl+L",)),
    ActionSpec("log", "Open the log", ("Ctrl+Shift+L",)),
    ActionSpec("refresh", "Look again", ("F5",)),
    ActionSpec("close", "Close the window", ("Ctrl+W", "Ctrl+Q")),
)


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
