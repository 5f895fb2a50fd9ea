"""The strip along the bottom: what is running and what came of the last job."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeData, QPoint, Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
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
from rundlet.core.sentences import fill
from rundlet.desktop.dragging import drag_out, files_mime
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, restyle
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from PySide6.QtGui import QMouseEvent

    from rundlet.core.jobs.job import Progress
    from rundlet.core.userdata.journal import Record
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob

_MOST_UNREAD = 3  # results shown; more are counted


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
        self.bar.setAccessibleName(say("Progress of {title}", title=running.title))
        self.pause = QToolButton()
        self.pause.setIcon(theme.icon("pause", "soft"))
        self.pause.setAccessibleName(say("Pause {title}", title=running.title))
        self.pause.setToolTip("Pause")
        self.cancel = QToolButton()
        self.cancel.setIcon(theme.icon("cancel", "soft"))
        self.cancel.setAccessibleName(say("Cancel {title}", title=running.title))
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
            self.words.setText(say("{title} · waiting", title=self._running.title))
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
        self.pause.setToolTip("Resume" if paused else "Pause")
        self.pause.setAccessibleName(("Resume " if paused else "Pause ") + self._running.title)
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


class Unread(QWidget):
    """A result with problems that another one came after; it stays until it is read or put away.

    Signals:
        read_wanted: with the job whose problems are to be shown.
    """

    read_wanted = Signal(object)

    def __init__(self, running: RunningJob, result: JobResult) -> None:
        super().__init__()
        self.running = running
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(theme.sizes.gap)
        self.words = label(text.in_short(result.words), "warn")
        row.addWidget(self.words, 1)
        self.show_button = QPushButton("Show problems")
        self.show_button.setAccessibleName(say("Show problems of {title}", title=result.title))
        self.close_button = QToolButton()
        self.close_button.setIcon(theme.icon("cancel", "soft"))
        self.close_button.setAccessibleName(say("Dismiss the result of {title}", title=result.title))
        self.close_button.setToolTip("Dismiss")
        row.addWidget(self.show_button)
        row.addWidget(self.close_button)
        self.show_button.clicked.connect(self._read)

    def _read(self) -> None:
        self.read_wanted.emit(self.running)


_RUNNING = "{jobs:job|jobs} {jobs:=is|are} still running. Close Rundlet and cancel?"
_CANCELS = "{jobs:job|jobs} {jobs:=is|are} still running and would be cancelled."
_UNSAVED = {
    (True, False): "Changes in {count:archive|archives} are not saved ({name:name}).",
    (False, True): (
        "{copies:opened copy was|opened copies were} changed ({name:name}) and not put back. "
        "Close? {copies:=It is|They are} kept beside {copies:=its archive|their archives}."
    ),
    (True, True): (
        "Changes in {count:archive|archives} are not saved ({name:name}), and {copies:opened copy is|opened copies are} not "
        "put back. {copies:=The copy is|The copies are} kept beside {copies:=its archive|their archives}."
    ),
}
"""By whether there are changes that are not saved, and copies that were not put back."""


class Strip(QFrame):
    """Running jobs to the right, the last finished one to the left, above them what is not read yet and what is asked.

    Signals:
        show_wanted, copy_wanted: with the path or paths.
        undo_wanted: the last job is to be undone.
        problems_wanted: with the job whose problems are to be shown.
        close_wanted: the window is to be closed, whatever is under way.
        save_wanted: all changes are to be saved, and then the window is to be closed.
    """

    show_wanted = Signal(object)
    copy_wanted = Signal(object)
    undo_wanted = Signal()
    problems_wanted = Signal(object)
    close_wanted = Signal()
    save_wanted = Signal()

    def __init__(self, jobs: Jobs) -> None:
        super().__init__()
        self.setAccessibleName("Jobs")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(theme.sizes.space)
        self._unread_box = QVBoxLayout()
        self._unread_box.setSpacing(theme.sizes.space)
        whole.addLayout(self._unread_box)
        self.more_unread = label("", "soft")
        self.more_unread.setVisible(False)
        whole.addWidget(self.more_unread)
        self._add_question(whole)
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.gap)
        whole.addLayout(row)
        self.last = label("", "soft")
        self.problems_button = QPushButton("Show problems")
        self.problems_button.setVisible(False)
        self.show_button = QPushButton("Show")
        self.show_button.setVisible(False)
        self.show_button.setToolTip("Show it in the file manager")
        self._target: Path | None = None
        self._files: list[Path] = []
        self.copy_button = QPushButton("Copy")
        self.copy_button.setVisible(False)
        self.copy_button.setToolTip("Copy the file, to paste it into a folder or a message")
        self.undo_button = QPushButton("Undo")
        self.undo_button.setVisible(False)
        self.handle = DragHandle()
        self.handle.setVisible(False)
        row.addWidget(self.handle)
        row.addWidget(self.last, 1)
        for button in (self.problems_button, self.show_button, self.copy_button, self.undo_button):
            row.addWidget(button)
        self._jobs_box = QVBoxLayout()
        self._jobs_box.setSpacing(theme.sizes.space)
        row.addLayout(self._jobs_box)
        self.rows: dict[RunningJob, JobRow] = {}
        self.unread: list[Unread] = []
        self._before: tuple[RunningJob, JobResult] | None = None  # a result with problems that nobody has read
        self._last: RunningJob | None = None
        self._all = jobs
        self.problems_button.clicked.connect(self._read_last)
        self.show_button.clicked.connect(self._show_last)
        self.copy_button.clicked.connect(self._copy_last)
        self.undo_button.clicked.connect(self.undo_wanted)
        jobs.started.connect(self._started)
        jobs.progressed.connect(self._progressed)
        jobs.ended.connect(self._ended)

    def _add_question(self, whole: QVBoxLayout) -> None:
        self.question = QWidget()
        asked = QHBoxLayout(self.question)
        asked.setContentsMargins(0, 0, 0, 0)
        asked.setSpacing(theme.sizes.gap)
        self.question_words = label("", "warn")
        self.keep_button = QPushButton("Keep working")
        self.save_button = QPushButton("Save and close")
        self.close_button = QPushButton("Cancel and close")
        asked.addWidget(self.question_words, 1)
        asked.addWidget(self.keep_button)
        asked.addWidget(self.save_button)
        asked.addWidget(self.close_button)
        self.question.setVisible(False)
        escape = QShortcut(QKeySequence(Qt.Key.Key_Escape), self.question)
        escape.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        escape.activated.connect(self.question.hide)
        self.save_button.clicked.connect(self.save_wanted)
        self.keep_button.clicked.connect(self.question.hide)
        self.close_button.clicked.connect(self.close_wanted)
        whole.addWidget(self.question)

    def ask_to_close(self, archives: Sequence[str], copies: Sequence[str]) -> None:
        """Ask what is to become of jobs that are under way, of changes that are not saved, and of copies that were opened."""
        jobs, unsaved = len(self._all.running), (len(archives) > 0, len(copies) > 0)
        running = "" if not jobs else _CANCELS if any(unsaved) else _RUNNING
        facts = {
            "jobs": jobs,
            "count": len(archives),
            "copies": len(copies),
            "name": next(iter([*archives, *copies]), ""),
        }
        self.question_words.setText(joined([fill(words, facts) for words in (running, _UNSAVED.get(unsaved, ""))]))
        self.close_button.setText("Discard and close" if archives else "Cancel and close" if jobs else "Close")
        self.save_button.setVisible(bool(archives))
        self.question.show()
        self.keep_button.setFocus()

    def _started(self, running: RunningJob) -> None:
        row = JobRow(running, self._all)
        self.rows[running] = row
        self._jobs_box.addWidget(row)

    def _progressed(self, running: RunningJob) -> None:
        if running in self.rows:
            self.rows[running].show_progress()

    def _ended(self, running: RunningJob, result: JobResult) -> None:
        row = self.rows.pop(running, None)
        if row is not None:
            self._jobs_box.removeWidget(row)
            row.hide()
            row.deleteLater()
        if not self._all.running:
            self.question.hide()
        if self._before is not None:
            self._add_unread(*self._before)
        self._before = None if result.good else (running, result)
        self._last = running
        self.last.setText(text.in_short(result.words))
        self.last.setToolTip("")
        restyle(self.last, "role", "soft" if result.good else "warn")
        self.problems_button.setVisible(bool(result.details))
        self._target = result.show
        self.show_button.setVisible(result.show is not None)
        outcome = result.outcome
        from rundlet.presentation.outcomes import presenter_of

        packed = outcome is not None and presenter_of(outcome).makes_archive
        self._files = (
            [Path(path) for path in outcome.created] or [outcome.target] if packed and outcome is not None else []
        )
        self.copy_button.setVisible(packed)
        self.handle.files = self._files
        self.handle.setVisible(packed)
        self.undo_button.setVisible(False)

    def recall(self, record: Record) -> None:
        """Show what was done last before the window was opened, unless something was done since."""
        if not self.last.text():
            from rundlet.presentation.outcomes import record_words  # the window stands before that is known

            self.last.setText(text.in_short(record_words(record)))

    def _add_unread(self, running: RunningJob, result: JobResult) -> None:
        unread = Unread(running, result)
        unread.read_wanted.connect(self._read)
        unread.close_button.clicked.connect(self._put_away)
        self.unread.append(unread)
        self._unread_box.addWidget(unread)
        self._show_unread()

    def _show_unread(self) -> None:
        for unread in self.unread[:-_MOST_UNREAD]:
            unread.hide()
        for unread in self.unread[-_MOST_UNREAD:]:
            unread.show()
        more = len(self.unread) - _MOST_UNREAD
        self.more_unread.setVisible(more > 0)
        self.more_unread.setText(
            say("{more:earlier job|earlier jobs} had problems, too. The log lists them all.", more=more)
        )

    def _put_away(self) -> None:
        self._remove(next(unread for unread in self.unread if unread.close_button is self.sender()))

    def _remove(self, unread: Unread) -> None:
        self.unread.remove(unread)
        self._unread_box.removeWidget(unread)
        unread.hide()
        unread.deleteLater()
        self._show_unread()

    def _read(self, running: RunningJob) -> None:
        self._remove(next(unread for unread in self.unread if unread.running is running))
        self.problems_wanted.emit(running)

    def _read_last(self) -> None:
        if self._last is not None:
            self._before = None
            self.problems_wanted.emit(self._last)

    def offer_undo(self, words: str, what: str) -> None:
        """What can be undone next, and what that does; "" when there is nothing."""
        self.undo_button.setVisible(bool(words))
        self.undo_button.setText(words or "Undo")
        self.undo_button.setToolTip(say("{what} (Ctrl+Z)", what=what))

    def _copy_last(self) -> None:
        self.copy_wanted.emit(self._files)

    def _show_last(self) -> None:
        if self._target is not None:
            self.show_wanted.emit(self._target)


def progress_words(progress: Progress) -> str:
    """Progress in words."""
    if progress.fraction is None:
        phase = progress.phase or "beginning"
        return say("{phase} · paused", phase=phase) if progress.paused else phase
    parts = [f"{progress.fraction:.0%}"]
    if progress.paused:
        parts.append("paused")
    else:
        parts.append(f"{text.size(round(progress.speed))}/s")
        if progress.seconds_left is not None:
            parts.append(say("{seconds_left:duration} left", seconds_left=progress.seconds_left))
    return " · ".join(parts)
