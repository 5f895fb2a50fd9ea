"""Looks at files and entries in the background: one at a time for the preview, many small ones as thumbnails."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QSize, QTimer, Signal
from PySide6.QtGui import QImage, QPixmap

from rundlet.core.errors import RundletError
from rundlet.core.limits import MIB
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.file_type import FileType
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.images import decoded
from rundlet.desktop.shared_thumbnails import SIDE, share_thumbnail, shared_thumbnail

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.fs.content_preview import Look
    from rundlet.core.jobs.job import Job
    from rundlet.core.work.preview_reader import Head
    from rundlet.desktop.locations.listing import Listing, Spot
    from rundlet.desktop.state.workspace import Workspace

_LARGEST = QSize(1600, 1200)
_LARGEST_FILE = 32 * MIB  # bytes of a picture that a small one is made of
_GATHER_MS = 30
_KEPT = 600


@dataclass(frozen=True, slots=True)
class Seen:
    """What a look brought.

    Attributes:
        look: what it shows, or None.
        image: the picture, where it is one.
        words: why there is nothing to show, or "".
    """

    spot: Spot
    look: Look | None = None
    image: QImage | None = None
    words: str = ""


class PreviewLoader(QObject):
    """Looks at one file after the other; only the newest counts.

    Signals:
        looked: with what was :class:`Seen`.
    """

    looked = Signal(object)

    def __init__(self, workspace: Workspace, background: Background) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._task = Latest(background)
        workspace.moved.connect(self.drop)

    def look(self, spot: Spot) -> None:
        """Have a look at a file; ``looked`` follows."""
        reader = self._workspace.archive.reader if self._workspace.archive is not None else None

        def failed(error: BaseException) -> None:
            if isinstance(error, RundletError):
                self.looked.emit(Seen(spot, words=str(error)))
            elif isinstance(error, Exception):
                self.looked.emit(Seen(spot, words="It can't be shown here."))

        self._task.run(lambda job: _see(spot, reader, job), done=self.looked.emit, failed=failed)

    def drop(self, _: object = None) -> None:
        """Take no more notice of what is being looked at."""
        self._task.drop()


def _see(spot: Spot, reader: ArchiveReader | None, job: Job) -> Seen:
    from rundlet.core.fs.content_preview import PictureLook, look_at, wanted_of  # not for a window that only lists
    from rundlet.core.work.preview_reader import head_of_entry, head_of_file

    most = wanted_of(spot.name)
    if spot.path is not None:
        head = head_of_file(spot.path, most)
    elif reader is not None and spot.row is not None:
        head = head_of_entry(reader, spot.row, most, job)
    else:
        return Seen(spot, words="It no longer exists.")
    if not head.data:
        return Seen(spot, words="It is empty.")
    look = look_at(spot.name, head.data, whole=head.whole)
    if isinstance(look, PictureLook):
        image = decoded(look.data, _LARGEST)
        if not image.isNull():
            return Seen(spot, look, image)
        look = look_at(spot.name, head.data, whole=head.whole, pictures=False)
    return Seen(spot, look)


class Thumbs(QObject):
    """Small pictures of the rows that are in sight.

    Signals:
        arrived: with the node whose picture has come.
    """

    arrived = Signal(int)

    def __init__(self, workspace: Workspace, background: Background) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._background = background
        self._task = Latest(background)
        self._pictures: dict[int, QPixmap | None] = {}
        self._wanted: dict[int, Spot] = {}
        self._running = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_GATHER_MS)
        self._timer.timeout.connect(self._start)
        workspace.listed.connect(self._reset)
        workspace.relisted.connect(self._reset)

    def picture(self, node: int) -> QPixmap | None:
        """The small picture of a row, or None; when it is not known yet it is asked for."""
        if node in self._pictures:
            return self._pictures[node]
        listing = self._workspace.listing
        spot = listing.spot(node) if listing is not None else None
        if spot is None or not _is_shown(self._workspace.listing, spot):
            self._pictures[node] = None
            return None
        if node not in self._wanted:
            self._wanted[node] = spot
            self._timer.start()
        return None

    @property
    def at_rest(self) -> bool:
        """Whether no picture is on its way."""
        return not self._running and not self._wanted

    def _reset(self, _: object = None) -> None:
        self._task.drop()
        self._timer.stop()
        self._pictures.clear()
        self._wanted.clear()
        self._running = False

    def _start(self) -> None:
        if self._running or not self._wanted:
            return
        spots, self._wanted = list(self._wanted.values()), {}
        listing = self._workspace.listing
        reader = self._workspace.archive.reader if self._workspace.archive is not None else None
        largest = QSize(SIDE, SIDE)
        if len(self._pictures) > _KEPT:
            self._pictures.clear()

        def arrived(spot: Spot, image: QImage) -> None:
            self._background.tell(lambda: self._arrive(listing, spot, image))

        def work(job: Job) -> None:
            left = []
            for spot in spots:
                job.checkpoint()
                image = shared_thumbnail(spot.path) if spot.path is not None else None
                if image is not None:
                    arrived(spot, image)
                else:
                    left.append(spot)
            for spot, head in _heads(left, reader, job):
                job.checkpoint()
                whole = not isinstance(head, RundletError) and head.whole
                image = decoded(head.data, largest) if not isinstance(head, RundletError) and whole else QImage()
                arrived(spot, image)
                if spot.path is not None and not isinstance(head, RundletError) and not image.isNull():
                    share_thumbnail(spot.path, image)

        self._running = True
        self._task.run(work, done=lambda _: self._ended(spots), failed=lambda _: self._ended(spots))

    def _arrive(self, listing: Listing | None, spot: Spot, image: QImage) -> None:
        if listing is self._workspace.listing:
            self._pictures[spot.node] = None if image.isNull() else QPixmap.fromImage(image)
            self.arrived.emit(spot.node)

    def _ended(self, spots: list[Spot]) -> None:
        self._running = False
        for spot in spots:
            self._pictures.setdefault(spot.node, None)
        self._start()


def _is_shown(listing: Listing | None, spot: Spot) -> bool:
    """Whether a file is a picture, of a size that is worth it."""
    assert listing is not None
    drawn = spot.name.lower().endswith(".svg") or listing.record(spot.node).file_type == FileType.PICTURES
    return drawn and (spot.size == UNKNOWN or 0 < spot.size <= _LARGEST_FILE)


def _heads(spots: list[Spot], reader: ArchiveReader | None, job: Job) -> Iterator[tuple[Spot, Head | RundletError]]:
    from rundlet.core.work.preview_reader import head_of_file, heads_of_entries

    by_row = {spot.row: spot for spot in spots if spot.row is not None}
    if reader is not None and by_row:
        for row, head in heads_of_entries(reader, list(by_row), lambda _: _LARGEST_FILE, job):
            yield by_row[row], head
    for spot in spots:
        if spot.path is not None:
            try:
                yield spot, head_of_file(spot.path, _LARGEST_FILE)
            except RundletError as error:
                yield spot, error
