"""Handing files to the desktop's own file manager."""

from __future__ import annotations

import atexit
import os
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QMimeData, QMimeDatabase, QUrl
from PySide6.QtGui import QDesktopServices, QGuiApplication

from rundlet.desktop.dragging import files_mime

_SERVICE = "org.freedesktop.FileManager1"
_OBJECT = "/org/freedesktop/FileManager1"
_ANSWER_MS = 3000


def show_in_file_manager(path: Path) -> None:
    """Show a file marked in its folder where the desktop can do that, else open the folder; nothing waits for it."""
    from PySide6.QtDBus import (  # not for a window that shows nothing yet
        QDBusConnection,
        QDBusMessage,
        QDBusPendingCallWatcher,
    )

    bus = QDBusConnection.sessionBus()
    if not bus.isConnected():
        _open_folder(path)
        return
    message = QDBusMessage.createMethodCall(_SERVICE, _OBJECT, _SERVICE, "ShowItems")
    message.setArguments([[QUrl.fromLocalFile(str(path)).toString()], ""])
    watcher = QDBusPendingCallWatcher(bus.asyncCall(message, _ANSWER_MS), QGuiApplication.instance())

    def answered(_: object) -> None:
        if watcher.isError():
            _open_folder(path)
        watcher.deleteLater()

    watcher.finished.connect(answered)


def _open_folder(path: Path) -> None:
    folder = path if os.path.isdir(path) else path.parent
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))


def open_in_its_program(path: Path) -> bool:
    """Open a file with the program that the desktop has for it; whether there was one."""
    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))


def type_words(path: Path) -> str:
    """What the desktop calls the type of a file, by its content and its name; "" when it does not know it."""
    found = QMimeDatabase().mimeTypeForFile(str(path))
    return "" if found.isDefault() or not found.isValid() else found.comment()


def copy_files(paths: Sequence[Path], *, cut: bool = False) -> None:
    """Put files on the clipboard, to be pasted into a folder or a message.

    Args:
        cut: whether they are to be moved where they are pasted.
    """
    to_clipboard(files_mime(list(paths), cut=cut))


def to_clipboard(mime: QMimeData) -> None:
    """Put something on the clipboard, from where it goes with the program."""
    QGuiApplication.clipboard().setMimeData(mime)
    atexit.unregister(_let_go)
    atexit.register(_let_go)


def _let_go() -> None:
    """Take our object off the clipboard before the interpreter ends: Qt lets go of it later, and would call into nothing."""
    if QGuiApplication.instance() is not None:
        QGuiApplication.clipboard().clear()
