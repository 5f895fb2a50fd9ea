"""Starting the window."""

from __future__ import annotations

import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QAbstractEventDispatcher, QTimer
from PySide6.QtWidgets import QApplication

from rundlet.core.files.places import there
from rundlet.core.jobs.turns import interface_rests, interface_wakes
from rundlet.desktop.theme.style import RundletStyle
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window

# Threads that compute hold the interpreter for this long at a time; short turns keep the window awake.
_SWITCH_SECONDS = 0.00005


def make_app() -> QApplication:
    """The application in the theme that the desktop asks for; the one that is there when there is one."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
        app.setStyle(RundletStyle())
        app.setApplicationName("rundlet")
        app.setApplicationDisplayName("Rundlet")
        app.setDesktopFileName("rundlet")
        loop = QAbstractEventDispatcher.instance()
        loop.awake.connect(interface_wakes)
        loop.aboutToBlock.connect(interface_rests)
        app.styleHints().colorSchemeChanged.connect(lambda _: theme.apply(app))
    theme.apply(app)
    return app


def main(words: Sequence[str]) -> int:
    """Open the window on these paths and run until it is closed."""
    sys.setswitchinterval(_SWITCH_SECONDS)
    app = make_app()
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    window = Window()
    window.show()
    start = list(map(Path, words)) or there([window.going.places.last])
    QTimer.singleShot(0, lambda: window.workspace.open(start))
    return app.exec()
