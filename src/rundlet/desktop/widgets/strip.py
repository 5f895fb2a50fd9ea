"""The strip along the bottom: what is running and what came of the last job."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QProgressBar, QPushButton, QToolButton, QVBoxLayout, QWidget

from rundlet.core import text
from rundlet.core.jobs.job import Progress
from rundlet.desktop.jobs import Jobs, Outcome, RunningJob
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.basics import label, restyle

_MOST_DETAILS = 12


class JobRow(QWidget):
    """One running job."""

    def __init__(self, running: RunningJob) -> None:
        super().__init__()
        self._running = running
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
        self.cancel.clicked.connect(running.job.cancel)

    def show_progress(self) -> None:
        """Show how far the job is."""
        progress = self._running.job.snapshot()
        share = progress.fraction
        if share is not None:
            self.bar.setRange(0, 1000)
            self.bar.setValue(round(share * 1000))
        self.words.setText(f"{self._running.title} · {progress_words(progress)}")

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


class Strip(QFrame):
    """Running jobs to the right, the last finished one to the left."""

    show_wanted = Signal(object)

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
        row.addWidget(self.last, 1)
        row.addWidget(self.show_button)
        self._jobs_box = QVBoxLayout()
        self._jobs_box.setSpacing(theme.sizes.space)
        row.addLayout(self._jobs_box)
        self.rows: dict[RunningJob, JobRow] = {}
        self.show_button.clicked.connect(self._show_last)
        jobs.started.connect(self._started)
        jobs.progressed.connect(self._progressed)
        jobs.ended.connect(self._ended)

    def _started(self, running: RunningJob) -> None:
        row = JobRow(running)
        self.rows[running] = row
        self._jobs_box.addWidget(row)

    def _progressed(self, running: RunningJob) -> None:
        if running in self.rows:
            self.rows[running].show_progress()

    def _ended(self, running: RunningJob, outcome: Outcome) -> None:
        row = self.rows.pop(running, None)
        if row is not None:
            self._jobs_box.removeWidget(row)
            row.deleteLater()
        self.last.setText(outcome.words)
        more = [*outcome.details[:_MOST_DETAILS]]
        if len(outcome.details) > _MOST_DETAILS:
            more.append(f"… and {len(outcome.details) - _MOST_DETAILS} more")
        self.last.setToolTip("\n".join(more))
        restyle(self.last, "role", "soft" if outcome.good else "warn")
        self._target = outcome.show
        self.show_button.setVisible(outcome.show is not None)

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
