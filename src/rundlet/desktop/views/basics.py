"""Small building blocks that all columns use."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from itertools import pairwise
from pathlib import Path

from PySide6.QtCore import QEvent, QModelIndex, QPersistentModelIndex, QPoint, QRect, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLayoutItem,
    QListWidget,
    QPushButton,
    QRadioButton,
    QScrollArea,
    QSizePolicy,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.desktop.theme.theme import theme

SHOW_WORDS = "Show the files when done"
"""What is offered after unpacking, of one archive and of several."""

CLASH_WORDS = {
    UnpackClash.RENAME: "Keep both, rename the new file",
    UnpackClash.NEWER: "Replace if the archive's file is newer",
    UnpackClash.REPLACE: "Replace; the old one goes to the trash",
    UnpackClash.SKIP: "Keep the existing file",
}
"""What becomes of a name that is taken, in words."""


def label(words: str = "", role: str = "body", *, wrap: bool = True) -> QLabel:
    """A label in one of the style sheet's roles."""
    made = QLabel(words)
    made.setProperty("role", role)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setWordWrap(wrap)
    if wrap:
        made.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    return made


class OneLine(QLabel):
    """A label whose words end in dots where there is no room for all of them."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setProperty("role", role)

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        short = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter = QPainter(self)
        self.style().drawItemText(
            painter, self.rect(), self.alignment().value, self.palette(), self.isEnabled(), short, self.foregroundRole()
        )
        painter.end()


def heading(words: str) -> QLabel:
    """A small heading in capitals."""
    made = label(words.upper(), "heading", wrap=False)
    made.setAccessibleName(words)
    return made


def restyle(widget: QWidget, name: str, value: str) -> None:
    """Set a property that the style sheet asks for, and have it looked at again."""
    if widget.property(name) != value:
        widget.setProperty(name, value)
        widget.style().unpolish(widget)
        widget.style().polish(widget)


def page_layout(page: QWidget, *, gap: int | None = None) -> QVBoxLayout:
    """A page's widgets one below the other, without a margin of its own."""
    column = QVBoxLayout(page)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(theme.sizes.gap if gap is None else gap)
    return column


def scrolling(page: QWidget) -> QScrollArea:
    """A page that scrolls where there is no room for all of it, and is never wider than its room."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    page.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    area.setWidget(page)
    return area


class Column(QFrame):
    """A card with a heading, and a layout to fill."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setObjectName("column")
        self.setAccessibleName(name)
        s = theme.sizes
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(s.wide, s.wide - s.space, s.wide, s.wide - s.space)
        self.body.setSpacing(s.gap)
        self.head = QHBoxLayout()
        self.head.addWidget(heading(name))
        self.head.addStretch(1)
        self.body.addLayout(self.head)


class Choices(QWidget):
    """A row of buttons of which one is chosen."""

    chosen = Signal(str)

    def __init__(self, options: Sequence[tuple[str, str]], *, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        row = FlowLayout(theme.sizes.space)
        self.setLayout(row)
        self._group = QButtonGroup(self)
        self._buttons: dict[str, QPushButton] = {}
        for key, words in options:
            button = QPushButton(words)
            button.setCheckable(True)
            button.setProperty("role", "choice")
            button.clicked.connect(self._clicked)
            self._group.addButton(button)
            self._buttons[key] = button
            row.addWidget(button)

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard: what is chosen."""
        return self._group.checkedButton() or next(iter(self._buttons.values()))

    @property
    def offered(self) -> list[str]:
        """Those that can be chosen now."""
        return [key for key, button in self._buttons.items() if button.isVisibleTo(self)]

    def offer(self, keys: Collection[str]) -> None:
        """Offer only some of them."""
        for key, button in self._buttons.items():
            button.setVisible(key in keys)

    def choose(self, key: str) -> None:
        """Choose one without saying so; "" for none."""
        if key:
            self._buttons[key].setChecked(True)
            return
        self._group.setExclusive(False)
        for button in self._buttons.values():
            button.setChecked(False)
        self._group.setExclusive(True)

    def _clicked(self) -> None:
        self.chosen.emit(next(key for key, button in self._buttons.items() if button.isChecked()))


class FlowLayout(QLayout):
    """Puts widgets in lines, as words in a text."""

    def __init__(self, gap: int) -> None:
        super().__init__()
        self.setContentsMargins(0, 0, 0, 0)
        self._gap = gap
        self._items: list[QLayoutItem] = []

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._arrange(QRect(0, 0, width, 0), place=False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, place=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def _arrange(self, rect: QRect, *, place: bool) -> int:
        x, y, line = rect.left(), rect.top(), 0
        for item in self._items:
            if item.isEmpty():
                continue
            hint = item.sizeHint()
            if x > rect.left() and x + hint.width() > rect.right() + 1:
                x, y, line = rect.left(), y + line + self._gap, 0
            if place:
                item.setGeometry(QRect(QPoint(x, y), hint))
            x += hint.width() + self._gap
            line = max(line, hint.height())
        return y + line - rect.top()


class _WrappedLines(QStyledItemDelegate):
    """Gives each line the height that its wrapped text needs within the margins of an item."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        hint = super().sizeHint(option, index)
        parent = self.parent()
        assert isinstance(parent, QListWidget), "it is the delegate of a list"
        width = parent.viewport().width() - 4 * theme.sizes.gap
        words = Qt.TextFlag.TextWordWrap
        box = parent.fontMetrics().boundingRect(QRect(0, 0, width, 1 << 20), words, str(index.data() or ""))
        return QSize(hint.width(), max(hint.height(), box.height() + 2 * theme.sizes.space))


def line_list(spoken: str, *, wraps: bool = True) -> QListWidget:
    """A list of lines of text that can be reached by Tab.

    Args:
        spoken: what it shows, for who can't see it.
        wraps: whether long lines are wrapped; otherwise they lose their middle.
    """
    lines = QListWidget()
    lines.setAccessibleName(spoken)
    lines.setWordWrap(wraps)
    if wraps:
        lines.setResizeMode(QListWidget.ResizeMode.Adjust)  # the scroll bar takes room when there are many
        lines.setItemDelegate(_WrappedLines(lines))
    else:
        lines.setTextElideMode(Qt.TextElideMode.ElideMiddle)
    lines.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    lines.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    return lines


def tab_through(first: QWidget, others: Iterable[QWidget]) -> None:
    """Have Tab lead from one control to others that were made later, and from there to where it led before."""
    for one, other in pairwise((first, *others)):
        QWidget.setTabOrder(one, other)


def short_path(folder: Path) -> str:
    """A path with the home folder in short."""
    try:
        inside = folder.relative_to(Path.home())
    except ValueError:
        return str(folder)
    return str(Path("~") / inside)


def radio_group(parent: QWidget, buttons: list[QRadioButton], column: QVBoxLayout) -> QButtonGroup:
    """Buttons of which one is on, one below the other in a column."""
    group = QButtonGroup(parent)
    for button in buttons:
        group.addButton(button)
        column.addWidget(button)
    return group


class GoButton(QPushButton):
    """The one strong button. One press starts one job: the second click of a double click does nothing.

    What stands in brackets at the end of its words goes to a line of its own where they are too long for one.
    """

    _done = ""  # what is said for as long as it rests

    def __init__(self, words: str) -> None:
        super().__init__()
        self._words = words
        self.setProperty("role", "go")
        self._fit()
        self.setToolTip("Ctrl+Enter")
        self._ready = False  # until there is something to do
        self._held = False
        self.setEnabled(False)

    def rest(self, words: str) -> None:
        """Say what was done, and be off until the pointer has left the button, or something else is selected."""
        self._done = words
        self._fit()
        self.setEnabled(False)

    def wake(self) -> None:
        """Rest no longer."""
        if self._done:
            self._done = ""
            self._fit()
            self.setEnabled(self._ready and not self._held)

    def event(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.Leave, QEvent.Type.Hide):
            self.wake()
        return super().event(event)

    def set_ready(self, ready: bool) -> None:
        """Whether there is something to do."""
        self._ready = ready
        self.setEnabled(ready and not self._held and not self._done)

    def hold(self, held: bool) -> None:
        """Whether a job that was started with it has yet to take over."""
        self._held = held
        self.setEnabled(self._ready and not held and not self._done)

    def text(self) -> str:
        """The words, on one line."""
        return self._done or self._words

    def setText(self, text: str) -> None:
        self._words = text
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        metrics = QFontMetrics(theme.font(theme.sizes.statement, bold=True))
        words = self._done or self._words
        too_long = metrics.horizontalAdvance(words) > self.width() - 2 * theme.sizes.wide
        lines = words.replace(" (", "\n(", 1) if too_long else words
        if lines != super().text():
            super().setText(lines)
            self.setAccessibleName(words)
            restyle(self, "lines", "two" if "\n" in lines else "one")

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        event.accept()


def button_row(*buttons: QWidget) -> QWidget:
    """Buttons beside each other, in lines where there is no room for all."""
    holder = QWidget()
    flow = FlowLayout(theme.sizes.space)
    holder.setLayout(flow)
    for button in buttons:
        flow.addWidget(button)
    return holder
