"""Starting the window."""

from __future__ import annotations

import gc
import logging
import signal
import socket
import sys
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QAbstractEventDispatcher, QSocketNotifier, Qt, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication, QWidget

from rundlet.core.jobs.interface_priority import interface_rests, interface_wakes
from rundlet.core.settings import LOOK, TEXT_SIZE
from rundlet.core.userdata.places import there
from rundlet.core.userdata.settings_file import Settings
from rundlet.desktop.error_log import start_error_log
from rundlet.desktop.theme.style import RundletStyle
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from rundlet.integration.icons import icon_path

if TYPE_CHECKING:
    from PySide6.QtGui import QSessionManager

    from rundlet.core.jobs.job import Job

_log = logging.getLogger(__name__)

# Threads that compute hold the interpreter for this long at a time; short turns keep the window awake.
_SWITCH_SECONDS = 0.00005

# What is left over in circles is looked for on the interface's thread alone, as objects of the toolkit must end there; and seldom,
# as among a million objects that stops every thread for a tenth of a second.
_GARBAGE_MS, _GARBAGE_FROM = 2000, 10_000

_SOON_MS = 300  # after which the window stands
_WAITS_MS = 20_000  # for whoever has it started over the session bus


def make_app(*, sheet: bool = True) -> QApplication:
    """The application in the theme that the desktop asks for; the one that is there when there is one.

    Args:
        sheet: whether it has the style sheet already; see :meth:`Theme.apply`.
    """
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
        app.setStyle(RundletStyle())
        app.setApplicationName("rundlet")
        app.setApplicationDisplayName("Rundlet")
        app.setDesktopFileName("rundlet")
        app.setWindowIcon(QIcon(str(icon_path())))  # for desktops that do not know it by the entry in the menu
        loop = QAbstractEventDispatcher.instance()
        loop.awake.connect(interface_wakes)
        loop.aboutToBlock.connect(interface_rests)
        app.styleHints().colorSchemeChanged.connect(lambda _: theme.apply(app))
        app.fontChanged.connect(lambda _: theme.apply(app))
    theme.apply(app, sheet=sheet)
    return app


def main(words: Sequence[str], task: str = "", *, waits: bool = False) -> int:
    """Open the window on these paths and run until it is closed.

    Args:
        task: what they are to be selected for: pack, unpack or check; "" to look at them.
        waits: whether the window is not shown before somebody on the session bus asks for it.
    """
    sys.setswitchinterval(_SWITCH_SECONDS)
    gc.disable()  # if whoever called did not do so before loading all this
    settings = Settings.read()
    theme.prefer(look=settings.get(LOOK), text_size=settings.get(TEXT_SIZE))
    app = make_app(sheet=False)
    window = Window()
    close_when_told_to_end(window)
    theme.apply(app)
    if waits:
        app.setQuitOnLastWindowClosed(True)
        QTimer.singleShot(_WAITS_MS, window, lambda: None if window.isVisible() else app.quit())
    else:
        window.show()
    app.commitDataRequest.connect(partial(_ask_before_logging_out, window))
    start = list(map(Path, words)) or there([window.places_menu.places.last])
    QTimer.singleShot(0, window, lambda: window.begin(start, task))
    QTimer.singleShot(0, window, _settle_garbage)
    QTimer.singleShot(_SOON_MS, window, start_error_log)
    QTimer.singleShot(0, window, window.services.join)
    window.background.run(_clear_up, done=lambda _: None, failed=_not_cleared)
    app.applicationStateChanged.connect(_tidy_up)
    return app.exec()


def _ask_before_logging_out(window: Window, manager: QSessionManager) -> None:
    """The session is to end: where work is under way or not saved, the person is asked first, if there is time for that."""
    if manager.allowsInteraction() and window.ask_before_closing():
        manager.release()
        manager.cancel()


def close_when_told_to_end(window: QWidget) -> None:
    """Ctrl+C in its terminal and being told to end close the window, so that work under way clears up; what is ignored is."""
    told, tell = socket.socketpair()
    for end in (told, tell):
        end.setblocking(False)
    signal.set_wakeup_fd(tell.detach())
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) != signal.SIG_IGN:
            signal.signal(number, lambda *_: None)  # heard by way of the socket, which wakes Qt
    notifier = QSocketNotifier(told.detach(), QSocketNotifier.Type.Read, window)

    def close() -> None:
        notifier.setEnabled(False)
        if isinstance(window, Window):
            window.close_now()  # there is nobody to ask
        QApplication.closeAllWindows()

    notifier.activated.connect(lambda *_: close())


def _clear_up(_: Job) -> None:
    from rundlet.core.fs.recovery import clear_up  # beside the interface, which does not wait for it

    clear_up()


def _not_cleared(error: BaseException) -> None:
    _log.error("What an earlier job left could not be cleared up", exc_info=error)


def _settle_garbage() -> None:
    """What is there by now stays until the end; what is new is looked through now and then."""
    gc.freeze()
    timer = QTimer(QApplication.instance())
    timer.setInterval(_GARBAGE_MS)
    timer.timeout.connect(_collect_garbage)
    timer.start()


def _collect_garbage() -> None:
    if gc.get_count()[0] > _GARBAGE_FROM:
        gc.collect(1)


def _tidy_up(state: Qt.ApplicationState) -> None:
    """Nobody waits for a window that is not in use."""
    if state == Qt.ApplicationState.ApplicationInactive:
        gc.collect()
