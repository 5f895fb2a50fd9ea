"""Files and entries on their way to other programs. Entries are unpacked when they are asked for, not before."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QMetaType, QMimeData, QPoint, QRectF, QSize, Qt, QUrl
from PySide6.QtGui import QDrag, QFontMetrics, QPainter, QPixmap

from rundlet.desktop.theme.theme import theme

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

URIS = "text/uri-list"
_CUT_OR_COPIED, _CUT_MARK = "x-special/gnome-copied-files", "application/x-kde-cutselection"
"""By which file managers tell each other whether files were cut or copied, in two dialects."""
_ITEMS = "application/x-rundlet-items"
"""By which the program knows its own items again, as asking for their files would unpack them."""


class EntriesMime(QMimeData):
    """Entries of an archive as files.

    Args:
        fetch: unpacks them and gives the files; called once, when they are dropped or pasted.
    """

    def __init__(self, fetch: Callable[[], list[Path]]) -> None:
        super().__init__()
        self._fetch = fetch
        self.id = os.urandom(16).hex()
        self._urls: list[QUrl] | None = None

    def formats(self) -> list[str]:
        return [URIS, _ITEMS]

    def hasFormat(self, mime_type: str) -> bool:
        return mime_type in (URIS, _ITEMS)

    def retrieveData(self, mime_type: str, preferred: QMetaType | QMetaType.Type) -> list[QUrl] | QByteArray | None:
        if mime_type == _ITEMS:
            return QByteArray(self.id.encode())
        if mime_type != URIS:
            return None
        if self._urls is None:
            self._urls = [QUrl.fromLocalFile(str(path)) for path in self._fetch()]
        return self._urls


def items_id(data: QMimeData | None) -> str:
    """Which :class:`EntriesMime` the clipboard has, or ""."""
    if data is None or not data.hasFormat(_ITEMS):
        return ""
    return bytes(data.data(_ITEMS).data()).decode("ascii", "replace")


def files_mime(paths: list[Path], *, cut: bool | None = None) -> QMimeData:
    """Files on the disk, for the clipboard or a drag.

    Args:
        cut: whether they are to be moved where they are pasted, in the marks that file managers know; None for a drag.
    """
    data = QMimeData()
    urls = [QUrl.fromLocalFile(str(path)) for path in paths]
    data.setUrls(urls)
    if cut is not None:
        lines = ["cut" if cut else "copy", *(bytes(url.toEncoded().data()).decode("ascii") for url in urls)]
        data.setData(_CUT_OR_COPIED, "\n".join(lines).encode())
        data.setData(_CUT_MARK, b"1" if cut else b"0")
    return data


def is_cut(data: QMimeData | None) -> bool:
    """Whether files on the clipboard were cut, by whatever program."""
    if data is None:
        return False
    said = bytes(data.data(_CUT_OR_COPIED).data()).split(b"\n", 1)[0]
    return said == b"cut" or bytes(data.data(_CUT_MARK).data())[:1] == b"1"


def local_files(data: QMimeData | None) -> list[Path]:
    """The files on this machine that a drag or the clipboard brings; a clipboard may have nothing at all."""
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data is not None else []


def drag_out(source: QWidget, mime: QMimeData, words: str, actions: Qt.DropAction) -> None:
    """Have a person drag something, with a card beside the pointer that says what; until it is dropped or given up."""
    drag = QDrag(source)
    drag.setMimeData(mime)
    drag.setPixmap(_card(words))
    drag.setHotSpot(QPoint(-theme.sizes.gap, -theme.sizes.gap))
    drag.exec(actions, Qt.DropAction.CopyAction)


def _card(words: str) -> QPixmap:
    s = theme.sizes
    font = theme.font(s.body)
    size = QSize(QFontMetrics(font).horizontalAdvance(words) + 2 * s.gap, s.row)
    card = QPixmap(size)
    card.fill(Qt.GlobalColor.transparent)
    painter = QPainter(card)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(theme.color("oak"))
    painter.setBrush(theme.color("oak_wash"))
    painter.drawRoundedRect(QRectF(card.rect()).adjusted(0.5, 0.5, -0.5, -0.5), s.corner, s.corner)
    painter.setPen(theme.color("ink"))
    painter.setFont(font)
    painter.drawText(card.rect(), Qt.AlignmentFlag.AlignCenter, words)
    painter.end()
    return card
