"""Showing files in the desktop's own file manager."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtDBus import QDBusConnection, QDBusMessage
from PySide6.QtGui import QDesktopServices

_SERVICE = "org.freedesktop.FileManager1"
_OBJECT = "/org/freedesktop/FileManager1"
_ANSWER_MS = 3000


def show_in_file_manager(path: Path) -> bool:
    """Show a file marked in its folder where the desktop can do that, else open the folder.

    Returns whether anything was there to show it.
    """
    bus = QDBusConnection.sessionBus()
    if bus.isConnected():
        message = QDBusMessage.createMethodCall(_SERVICE, _OBJECT, _SERVICE, "ShowItems")
        message.setArguments([[QUrl.fromLocalFile(str(path)).toString()], ""])
        answer = bus.call(message, timeout=_ANSWER_MS)
        if answer.type() == QDBusMessage.MessageType.ReplyMessage:
            return True
    folder = path if path.is_dir() else path.parent
    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))
