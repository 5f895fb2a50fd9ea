"""The preview: a picture, text, a table, a sound or plain bytes of the current row, without unpacking it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeVar

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, QUrl, Signal
from PySide6.QtGui import QFontDatabase, QImage, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPlainTextEdit,
    QStackedWidget,
    QTableView,
    QTextBrowser,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.fs.content_preview import BytesLook, SoundLook, TableLook, TextLook
from rundlet.core.model.entry import UNKNOWN
from rundlet.core.model.file_type import word_for
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import OneLine, heading, label, page_layout
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.preview_loader import Seen

Index = QModelIndex | QPersistentModelIndex
W = TypeVar("W", bound=QWidget)


class PictureView(QWidget):
    """A picture in the middle, made smaller to fit, never larger."""

    def __init__(self) -> None:
        super().__init__()
        self._image = QImage()

    def show_image(self, image: QImage) -> None:
        """Show a picture."""
        self._image = image
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._image.isNull():
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        size = self._image.size()
        if size.width() > self.width() or size.height() > self.height():
            size = size.scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        left, top = (self.width() - size.width()) / 2, (self.height() - size.height()) / 2
        painter.drawImage(QRectF(left, top, size.width(), size.height()), self._image)


class WaveView(QWidget):
    """How loud a sound is from its begin to its end."""

    def __init__(self) -> None:
        super().__init__()
        self._look: SoundLook | None = None

    def show_sound(self, look: SoundLook) -> None:
        """Show a sound."""
        self._look = look
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._look is None or not len(self._look.peaks):
            return
        painter = QPainter(self)
        middle, half = self.height() / 2, self.height() / 2 - theme.sizes.gap
        painter.fillRect(QRectF(0, middle, self.width(), theme.sizes.edge), theme.color("line"))
        wide = self.width() / len(self._look.peaks)
        for number, (low, high) in enumerate(self._look.peaks.tolist()):
            tall = max((high - low) * half, theme.sizes.edge)
            painter.fillRect(QRectF(number * wide, middle - high * half, max(wide, 1), tall), theme.color("wine"))


class MarkedText(QTextBrowser):
    """Marked-up text that fetches nothing and leads nowhere."""

    def __init__(self) -> None:
        super().__init__()
        self.setOpenLinks(False)

    def loadResource(self, kind: int, name: QUrl | str) -> None:
        """Nothing is read for a text that came out of an archive."""


class TableModel(QAbstractTableModel):
    """Rows of text, the first as the heading."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[tuple[str, ...], ...] = ()
        self._columns = 0

    def show_table(self, look: TableLook) -> None:
        """Show a table."""
        self.beginResetModel()
        self._rows = look.rows
        self._columns = max(map(len, look.rows), default=0)
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's own signature
        return 0 if parent.isValid() else max(len(self._rows) - 1, 0)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else self._columns

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return None
        cells = self._rows[index.row() + 1]
        return text.shown(cells[index.column()]) if index.column() < len(cells) else ""

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if orientation == Qt.Orientation.Vertical:
            return str(section + 1)
        heads = self._rows[0] if self._rows else ()
        return text.shown(heads[section]) if section < len(heads) else ""


class Preview(QWidget):
    """Shows what was seen, with a line that says what it is."""

    closed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Preview")
        column = page_layout(self, gap=theme.sizes.space)
        row = QHBoxLayout()
        self.title = heading("Preview")
        self.words = OneLine("soft")
        close = QToolButton()
        close.setIcon(theme.icon("cancel", "soft"))
        close.setAccessibleName("Close the preview")
        close.setToolTip("Close the preview (Space)")
        close.clicked.connect(self.closed)
        row.addWidget(self.title)
        row.addWidget(self.words, 1)
        row.addWidget(close)
        column.addLayout(row)
        self._pages = QStackedWidget()
        self.nothing = self._add(_WordsPage())
        self.picture = self._add(PictureView())
        self.text = self._add(QPlainTextEdit())
        self.marked = self._add(MarkedText())
        self.table = self._add(QTableView())
        self.wave = self._add(WaveView())
        self.text.setReadOnly(True)
        self.text.setTabChangesFocus(True)
        self.text.setAccessibleName("The text of the file")
        self.marked.setAccessibleName("The text of the file")
        self.table_model = TableModel()
        self.table.setModel(self.table_model)
        self.table.setAccessibleName("The table in the file")
        self.table.setTabKeyNavigation(False)
        self.table.verticalHeader().setVisible(False)
        self.picture.setAccessibleName("The picture")
        self.wave.setAccessibleName("How loud the sound is")
        column.addWidget(self._pages, 1)
        self.show_words("Select a file to see what is in it.")

    def _add(self, page: W) -> W:
        self._pages.addWidget(page)
        return page

    @property
    def page(self) -> QWidget | None:
        """What is shown now: one of the pages."""
        return self._pages.currentWidget()

    def show_words(self, words: str, title: str = "") -> None:
        """Show only a sentence."""
        self.words.setText(title)
        self.nothing.words.setText(words)
        self._pages.setCurrentWidget(self.nothing)

    def show_seen(self, seen: Seen) -> None:
        """Show what was seen of a file."""
        self.words.setText(caption(seen))
        look = seen.look
        if seen.image is not None:
            self.picture.show_image(seen.image)
            self._pages.setCurrentWidget(self.picture)
        elif isinstance(look, TableLook):
            self.table_model.show_table(look)
            self.table.resizeColumnsToContents()
            self._pages.setCurrentWidget(self.table)
        elif isinstance(look, SoundLook):
            self.wave.show_sound(look)
            self._pages.setCurrentWidget(self.wave)
        elif isinstance(look, TextLook) and look.markdown:
            self.marked.setMarkdown(look.text)
            self._pages.setCurrentWidget(self.marked)
        elif isinstance(look, TextLook | BytesLook):
            self._show_text(look)
        else:
            self.show_words(seen.words, text.shown(seen.spot.name))

    def _show_text(self, look: TextLook | BytesLook) -> None:
        if isinstance(look, TextLook):
            self.text.setFont(theme.font(theme.sizes.body))
            self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
            self.text.setPlainText(look.text)
        else:
            fixed = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
            fixed.setPixelSize(theme.sizes.body)
            self.text.setFont(fixed)
            self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
            self.text.setPlainText(look.lines)
        self._pages.setCurrentWidget(self.text)


class _WordsPage(QWidget):
    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        self.words = label("", "soft")
        column.addWidget(self.words)
        column.addStretch(1)


def caption(seen: Seen) -> str:
    """What a look shows, in a line."""
    parts = [text.shown(seen.spot.name), word_for(seen.spot.name)]
    look = seen.look
    if seen.spot.size != UNKNOWN:
        parts.append(text.size(seen.spot.size))
    if isinstance(look, SoundLook):
        parts += [
            text.duration(look.seconds),
            say("{rate:number} Hz", rate=look.rate),
            text.plural(look.channels, "channel"),
        ]
    elif isinstance(look, TextLook) and look.encoding not in ("utf-8", "ascii"):
        parts.append(say("read as {encoding}", encoding=look.encoding.replace("_", "-")))
    if isinstance(look, TextLook | TableLook | BytesLook) and look.cut:
        parts.append("the beginning of it")
    return " · ".join(parts)
