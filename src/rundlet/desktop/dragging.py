"""Files and entries on their way to other programs. Entries are unpacked when they are asked for, not before."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QMetaType, QMimeData, QUrl

URIS = "text/uri-list"


class EntriesMime(QMimeData):
    """Entries of an archive as files.

    Args:
        fetch: unpacks them and gives the files; called once, when they are dropped.
    """

    def __init__(self, fetch: Callable[[], list[Path]]) -> None:
        super().__init__()
        self._fetch = fetch
        self._urls: list[QUrl] | None = None

    def formats(self) -> list[str]:
        return [URIS]

    def hasFormat(self, mime_type: str) -> bool:
        return mime_type == URIS

    def retrieveData(self, mime_type: str, preferred: QMetaType | QMetaType.Type) -> list[QUrl] | None:
        if mime_type != URIS:
            return None
        if self._urls is None:
            self._urls = [QUrl.fromLocalFile(str(path)) for path in self._fetch()]
        return self._urls


def files_mime(paths: list[Path]) -> QMimeData:
    """Files on the disk, for the clipboard or a drag."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    return data


def local_files(data: QMimeData | None) -> list[Path]:
    """The files on this machine that a drag or the clipboard brings; a clipboard may have nothing at all."""
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data is not None else []
