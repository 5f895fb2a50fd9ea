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


def show_in_file_manager(path: Path) -> bool:
    """Show a file marked in its folder where the desktop can do that, else open the folder.

    Returns whether anything was there to show it.
    """
    from PySide6.QtDBus import QDBusConnection, QDBusMessage  # not for a window that shows nothing yet

    bus = QDBusConnection.sessionBus()
    if bus.isConnected():
        message = QDBusMessage.createMethodCall(_SERVICE, _OBJECT, _SERVICE, "ShowItems")
        message.setArguments([[QUrl.fromLocalFile(str(path)).toString()], ""])
        answer = bus.call(message, timeout=_ANSWER_MS)
        if answer.type() == QDBusMessage.MessageType.ReplyMessage:
            return True
    folder = path if os.path.isdir(path) else path.parent
    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))


def open_in_its_program(path: Path) -> bool:
    """Open a file with the program that the desktop has for it; whether there was one."""
    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))


def type_words(path: Path) -> str:
    """What the desktop calls the type of a file, by its content and its name; "" when it does not know it."""
    found = QMimeDatabase().mimeTypeForFile(str(path))
    return "" if found.isDefault() or not found.isValid() else found.comment()


def copy_files(paths: Sequence[Path]) -> None:
    """Put files on the clipboard, to be pasted into a folder or a message."""
    to_clipboard(files_mime(list(paths)))


def to_clipboard(mime: QMimeData) -> None:
    """Put something on the clipboard, from where it goes with the program."""
    QGuiApplication.clipboard().setMimeData(mime)
    atexit.unregister(_let_go)
    atexit.register(_let_go)


def _let_go() -> None:
    """Take our object off the clipboard before the interpreter ends: Qt lets go of it later, and would call into nothing."""
    if QGuiApplication.instance() is not None:
        QGuiApplication.clipboard().clear()
