"""The strip along the bottom: what is running and what came of the last job."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QMimeData, QPoint, Qt, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.jobs.job import Progress
from rundlet.desktop.dragging import drag_out, files_mime
from rundlet.desktop.jobs import Jobs, Outcome, RunningJob
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.basics import label, restyle

_MOST_DETAILS = 12


class JobRow(QWidget):
    """One running job."""

    def __init__(self, running: RunningJob, jobs: Jobs) -> None:
        super().__init__()
        self._running = running
        self._jobs = jobs
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(theme.sizes.gap)
        self.words = label(running.title, "soft", wrap=False)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setRange(0, 0)
        self.bar.setFixedWidth(theme.sizes.progress_width)
        self.bar.setAccessibleName(f"Progress of {running.title}")
        self.pause = QToolButton()
        self.pause.setIcon(theme.icon("pause", "soft"))
        self.pause.setAccessibleName(f"Pause {running.title}")
        self.pause.setToolTip("Pause")
        self.cancel = QToolButton()
        self.cancel.setIcon(theme.icon("cancel", "soft"))
        self.cancel.setAccessibleName(f"Cancel {running.title}")
        self.cancel.setToolTip("Cancel")
        for widget in (self.words, self.bar, self.pause, self.cancel):
            row.addWidget(widget)
        self.pause.clicked.connect(self._toggle_pause)
        self.cancel.clicked.connect(self._cancel)
        self.show_progress()

    def _cancel(self) -> None:
        self._jobs.cancel(self._running)

    def show_progress(self) -> None:
        """Show how far the job is."""
        self.pause.setVisible(not self._running.waits)
        self.bar.setVisible(not self._running.waits)
        if self._running.waits:
            self.words.setText(f"{self._running.title} · waits for its turn")
            return
        progress = self._running.job.snapshot()
        share = progress.fraction
        if share is not None:
            self.bar.setRange(0, 1000)
            self.bar.setValue(round(share * 1000))
        self.words.setText(f"{self._running.title} · {progress_words(progress)}")
        needed = self.words.sizeHint().width()
        if needed > self.words.minimumWidth():  # else the whole window would be laid out anew ten times a second
            self.words.setMinimumWidth(needed)

    def _toggle_pause(self) -> None:
        job = self._running.job
        if job.snapshot().paused:
            job.resume()
        else:
            job.pause()
        paused = job.snapshot().paused
        self.pause.setIcon(theme.icon("resume" if paused else "pause", "soft"))
        self.pause.setToolTip("Go on" if paused else "Pause")
        self.pause.setAccessibleName(("Go on with " if paused else "Pause ") + self._running.title)
        self.show_progress()


class DragHandle(QToolButton):
    """Something to take hold of: files that were made are dragged out from here."""

    def __init__(self) -> None:
        super().__init__()
        self.files: list[Path] = []
        self.setIcon(theme.icon("archive", "oak"))
        self.setAccessibleName("Drag the archive from here")
        self.setToolTip("Drag the archive from here into a folder or a message")
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # by keyboard there is Copy
        self._pressed = QPoint()

    def mime(self) -> QMimeData:
        """What is dragged."""
        return files_mime(self.files)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        far = (event.position().toPoint() - self._pressed).manhattanLength() >= QApplication.startDragDistance()
        if event.buttons() & Qt.MouseButton.LeftButton and far and self.files:
            words = self.files[0].name if len(self.files) == 1 else text.plural(len(self.files), "file")
            drag_out(self, self.mime(), text.shown(words), Qt.DropAction.CopyAction)


class Strip(QFrame):
    """Running jobs to the right, the last finished one to the left."""

    show_wanted = Signal(object)
    copy_wanted = Signal(object)
    undo_wanted = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.setAccessibleName("Jobs")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(theme.sizes.gap)
        self.last = label("", "soft")
        self.show_button = QPushButton("Show")
        self.show_button.setVisible(False)
        self.show_button.setToolTip("Show it in the file manager")
        self._target: Path | None = None
        self._files: list[Path] = []
        self.copy_button = QPushButton("Copy")
        self.copy_button.setVisible(False)
        self.copy_button.setToolTip("Copy the file, to paste it into a folder or a message")
        self.undo_button = QPushButton("Take it back")
        self.undo_button.setVisible(False)
        self.handle = DragHandle()
        self.handle.setVisible(False)
        row.addWidget(self.handle)
        row.addWidget(self.last, 1)
        row.addWidget(self.show_button)
        row.addWidget(self.copy_button)
        row.addWidget(self.undo_button)
        self._jobs_box = QVBoxLayout()
        self._jobs_box.setSpacing(theme.sizes.space)
        row.addLayout(self._jobs_box)
        self.rows: dict[RunningJob, JobRow] = {}
        self._all = jobs
        self.show_button.clicked.connect(self._show_last)
        self.copy_button.clicked.connect(self._copy_last)
        self.undo_button.clicked.connect(self.undo_wanted)
        jobs.started.connect(self._started)
        jobs.progressed.connect(self._progressed)
        jobs.ended.connect(self._ended)

    def _started(self, running: RunningJob) -> None:
        row = JobRow(running, self._all)
        self.rows[running] = row
        self._jobs_box.addWidget(row)

    def _progressed(self, running: RunningJob) -> None:
        if running in self.rows:
            self.rows[running].show_progress()

    def _ended(self, running: RunningJob, outcome: Outcome) -> None:
        row = self.rows.pop(running, None)
        if row is not None:
            self._jobs_box.removeWidget(row)
            row.hide()
            row.deleteLater()
        self.last.setText(outcome.words)
        more = [*outcome.details[:_MOST_DETAILS]]
        if len(outcome.details) > _MOST_DETAILS:
            more.append(f"… and {len(outcome.details) - _MOST_DETAILS} more")
        self.last.setToolTip("\n".join(more))
        restyle(self.last, "role", "soft" if outcome.good else "warn")
        self._target = outcome.show
        self.show_button.setVisible(outcome.show is not None)
        report = outcome.report
        packed = report is not None and report.verb in ("pack", "add")
        self._files = (
            [Path(path) for path in report.created] or [report.target] if packed and report is not None else []
        )
        self.copy_button.setVisible(packed)
        self.handle.files = self._files
        self.handle.setVisible(packed)
        self.undo_button.setVisible(False)

    def offer_undo(self, words: str) -> None:
        """The last job can be taken back; "" when it can't."""
        self.undo_button.setVisible(bool(words))
        self.undo_button.setToolTip(f"{words} (Ctrl+Z)")

    def _copy_last(self) -> None:
        self.copy_wanted.emit(self._files)

    def _show_last(self) -> None:
        if self._target is not None:
            self.show_wanted.emit(self._target)


def progress_words(progress: Progress) -> str:
    """Progress in words."""
    if progress.fraction is None:
        phase = progress.phase or "beginning"
        return f"{phase} · paused" if progress.paused else phase
    parts = [f"{progress.fraction:.0%}"]
    if progress.paused:
        parts.append("paused")
    else:
        parts.append(f"{text.size(round(progress.speed))}/s")
        if progress.seconds_left is not None:
            parts.append(f"{text.duration(progress.seconds_left)} left")
    return " · ".join(parts)
