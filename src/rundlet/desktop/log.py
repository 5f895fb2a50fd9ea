"""The log: what was packed and unpacked, from where, to where, with what result; found, shown and undone from here."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import (
    QAbstractTableModel,
    QDateTime,
    QLocale,
    QModelIndex,
    QPersistentModelIndex,
    QRectF,
    Qt,
    Signal,
)
from PySide6.QtGui import QGuiApplication, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.jobs.outcomes import Packed
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, short_path
from rundlet.desktop.views.gauge import Gauge, paint_small
from rundlet.desktop.views.job_strip import DragHandle
from rundlet.presentation.findings import issue_line
from rundlet.presentation.outcomes import expected_words, presenter_of, record_title, record_words
from rundlet.presentation.sentences import say
from rundlet.presentation.undoing import undo_label, undo_words

if TYPE_CHECKING:
    from pathlib import Path

    from rundlet.core.jobs.findings import Issue
    from rundlet.core.userdata.journal import Record

_HEADS = ("When", "What", "Result", "Size", "Took", "Where")
_MARGIN = 2
_LINES = 8  # of problems that are in sight at once
_SIZES = _HEADS.index("Size")
Index = QModelIndex | QPersistentModelIndex


class LogModel(QAbstractTableModel):
    """The records, narrowed to those with some words in them."""

    def __init__(self) -> None:
        super().__init__()
        self._all: list[Record] = []
        self.records: list[Record] = []
        self._words = ""

    def show_records(self, records: list[Record]) -> None:
        """Show these, the newest first."""
        self._all = records
        self.narrow(self._words)

    def narrow(self, words: str) -> None:
        """Only records with these words in what they did, from where and to where."""
        self._words = words
        wanted = words.casefold().split()
        self.beginResetModel()
        self.records = [record for record in self._all if all(word in _haystack(record) for word in wanted)]
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 - Qt's own signature
        return 0 if parent.isValid() else len(self.records)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _HEADS[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        record = self.records[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return _cells(record)[index.column()]
        if role == Qt.ItemDataRole.ToolTipRole:
            return "\n".join((record_words(record), *map(issue_line, record.problems)))
        if role == Qt.ItemDataRole.ForegroundRole and (record.problems or record.undone):
            return theme.color("soft" if record.undone else "amber")
        return None


def _haystack(record: Record) -> str:
    words = (
        record.outcome.kind,
        record_title(record),
        record_words(record),
        str(record.outcome.target),
        *record.source,
    )
    return " ".join(words).casefold()


def _cells(record: Record) -> tuple[str, ...]:
    when = QLocale().toString(QDateTime.fromString(record.when, Qt.DateFormat.ISODate), QLocale.FormatType.ShortFormat)
    presenter, is_done = presenter_of(record.outcome), record.result == "done"
    what, size = record_title(record), presenter.log_size(record.outcome) if is_done else ""
    result = record.result
    if record.undone:
        result = "undone"
    elif record.problems and is_done:
        result = text.plural(len(record.problems) + record.more_problems, "problem")
    target = record.outcome.target
    where = target.parent if presenter.makes_archive else target
    return when, what, result, size, text.duration(record.outcome.seconds), text.shown(short_path(where))


class SizeDelegate(QStyledItemDelegate):
    """The sizes of a job, with the gauge in front of them where an archive was made."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model, s = index.model(), theme.sizes
        room = 2 * s.icon
        record = model.records[index.row()] if isinstance(model, LogModel) else None
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, theme.color("wine_wash"))
        if record is not None and presenter_of(record.outcome).makes_archive:
            cask = QRectF(option.rect.left() + s.space, option.rect.center().y() - s.bar / 2, room, s.bar)
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            paint_small(painter, cask, record.outcome.bytes_in, record.outcome.bytes_out)
            painter.restore()
        option.rect = option.rect.adjusted(room + 2 * s.space, 0, 0, 0)
        super().paint(painter, option, index)


class LogWindow(QDialog):
    """A window of its own beside the main one.

    Signals:
        show_wanted: with the path to show in the file manager.
        copy_wanted: with the files of an archive, to be pasted elsewhere.
        undo_wanted: with the record to undo.
        compare_wanted: with the archive that is to be compared with what was packed into it.
        again_wanted: with the record of a job that is to be done once more.

    Args:
        problems: all problems of a record.
        files: the files of the archive that a job made, as far as they are still there.
    """

    show_wanted = Signal(object)
    copy_wanted = Signal(object)
    undo_wanted = Signal(object)
    compare_wanted = Signal(object)
    again_wanted = Signal(object)

    def __init__(
        self, parent: QWidget, problems: Callable[[Record], list[Issue]], files: Callable[[Record], list[Path]]
    ) -> None:
        super().__init__(parent)
        self._problems_of = problems
        self._files_of = files
        self.setWindowTitle("Log – Rundlet")
        s = theme.sizes
        column = QVBoxLayout(self)
        column.setContentsMargins(s.wide, s.wide, s.wide, s.wide)
        column.setSpacing(s.gap)
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find in the log")
        self.finder.setAccessibleName("Find in the log")
        self.finder.setClearButtonEnabled(True)
        column.addWidget(self.finder)
        self.model = LogModel()
        self.view = QTreeView()
        self.view.setModel(self.model)
        self.view.setObjectName("log")
        self.view.setRootIsDecorated(False)
        self.view.setUniformRowHeights(True)
        self.view.setAccessibleName("Finished jobs")
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        header = self.view.header()
        header.setStretchLastSection(False)
        samples = (
            "00/00/0000 00:00",
            "",
            "12 problems",
            "123.4 MB of 345.6 MB",
            "10 min 5 s",
            "~/River watch/2031 spring",
        )
        for i, sample in enumerate(samples):
            header.setSectionResizeMode(i, QHeaderView.ResizeMode.Interactive)
            header.resizeSection(i, theme.text_width(sample) + _MARGIN * s.gap)
        header.setSectionResizeMode(_HEADS.index("What"), QHeaderView.ResizeMode.Stretch)
        header.resizeSection(_SIZES, header.sectionSize(_SIZES) + 3 * s.icon)
        self._sizes = SizeDelegate()
        self.view.setItemDelegateForColumn(_SIZES, self._sizes)
        column.addWidget(self.view, 1)
        self.words = label("", "soft")
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.problems = QPlainTextEdit()
        self.problems.setReadOnly(True)
        self.problems.setAccessibleName("Problems of the job")
        self.gauge = Gauge()
        column.addWidget(self.words)
        column.addWidget(self.problems)
        column.addWidget(self.gauge)
        self.copy_button = QPushButton("Copy problems")
        self.handle = DragHandle()
        self.send_button = QPushButton("Copy")
        self.send_button.setToolTip("Copy the file, to paste it into a folder or a message")
        self.compare_button = QPushButton("Compare with the originals")
        self.again_button = QPushButton("Do this again")
        self.again_button.setToolTip("Pack the same items in the same way, under a name with today's date")
        self.show_button = QPushButton("Show")
        self.undo_button = QPushButton("Undo")
        row = QHBoxLayout()
        row.addWidget(self.copy_button)
        row.addStretch(1)
        row.addWidget(self.handle)
        row.addWidget(self.again_button)
        row.addWidget(self.compare_button)
        row.addWidget(self.show_button)
        row.addWidget(self.send_button)
        row.addWidget(self.undo_button)
        column.addLayout(row)
        self.finder.textChanged.connect(self._narrow)
        self.view.selectionModel().selectionChanged.connect(self._chosen)
        self.model.modelReset.connect(self._chosen)
        self.copy_button.clicked.connect(self._copy_problems)
        self.compare_button.clicked.connect(self._compare_one)
        self.again_button.clicked.connect(self._repeat_one)
        self.show_button.clicked.connect(self._show_one)
        self.send_button.clicked.connect(self._send_one)
        self.undo_button.clicked.connect(self._undo_one)
        self.resize(s.window_width * 3 // 4, s.window_height * 3 // 4)
        self._chosen()

    def show_records(self, records: list[Record], record_id: str = "") -> None:
        """Show these records, with one of them chosen: the one with this id, else the one that was, else the newest."""
        wanted = record_id or (self.record.id if self.record is not None else "")
        if record_id and self.finder.text():
            self.finder.clear()
        self.model.show_records(records)
        row = next((row for row, record in enumerate(self.model.records) if record.id == wanted), 0)
        if self.model.records:
            self.view.setCurrentIndex(self.model.index(row, 0))

    @property
    def record(self) -> Record | None:
        """The chosen record."""
        index = self.view.currentIndex()
        return self.model.records[index.row()] if index.isValid() and index.row() < len(self.model.records) else None

    def _narrow(self, words: str) -> None:
        self.model.narrow(words)
        if self.model.records:
            self.view.setCurrentIndex(self.model.index(0, 0))

    def _chosen(self, *_: object) -> None:
        record = self.record
        can_undo = record is not None and record.can_undo and not record.undone
        self.undo_button.setEnabled(can_undo)
        self.undo_button.setText(undo_label(record) if can_undo and record is not None else "Undo")
        self.show_button.setEnabled(record is not None)
        self.handle.files = self._files_of(record) if record is not None else []
        for widget in (self.handle, self.send_button):
            widget.setVisible(bool(self.handle.files))
        was_packed = record is not None and isinstance(record.outcome, Packed) and bool(record.source)
        self.compare_button.setVisible(was_packed and bool(self.handle.files))
        self.again_button.setVisible(record is not None and record.can_be_repeated)
        problems = self._problems_of(record) if record is not None else []
        self.problems.setVisible(bool(problems))
        self.problems.setPlainText("\n".join(map(issue_line, problems)))
        rows = min(len(problems), _LINES) + 1
        self.problems.setFixedHeight(rows * self.problems.fontMetrics().lineSpacing())
        self.copy_button.setVisible(bool(problems))
        self.gauge.setVisible(record is not None and presenter_of(record.outcome).makes_archive)
        if record is None:
            self.words.setText("Nothing has been packed or unpacked yet." if not self.model.records else "")
            return
        lines = [record_words(record)]
        if record.expected_size:
            lines.append(expected_words((record.expected_size, record.expected_seconds)))
        if can_undo:
            lines.append(say("Undo will {what}.", what=text.lower(undo_words(record))))
        self.words.setText("\n".join(lines))
        self.gauge.show_sizes(record.outcome.bytes_in, record.outcome.bytes_out)

    def _copy_problems(self) -> None:
        QGuiApplication.clipboard().setText(self.problems.toPlainText())

    def _show_one(self) -> None:
        if self.record is not None:
            self.show_wanted.emit(self.record.outcome.target)

    def _repeat_one(self) -> None:
        if self.record is not None:
            self.again_wanted.emit(self.record)

    def _compare_one(self) -> None:
        self.compare_wanted.emit(self.handle.files[0])

    def _send_one(self) -> None:
        self.copy_wanted.emit(self.handle.files)

    def _undo_one(self) -> None:
        if self.record is not None:
            self.undo_wanted.emit(self.record)
