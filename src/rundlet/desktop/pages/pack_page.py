"""How, when packing: the trial, format and level, and the options."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Qt
from PySide6.QtWidgets import (
    QScrollArea,
    QSizePolicy,
    QSlider,
    QWidget,
)

from rundlet.core import text
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.model.file_type import noun_for
from rundlet.desktop.state.trial_runner import LEAST
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import (
    Choices,
    heading,
    label,
    page_layout,
)
from rundlet.desktop.views.chart import Chart, Picture
from rundlet.desktop.views.pack_options import PackOptions
from rundlet.desktop.views.saved_settings_box import SavedSettingsBox
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    from PySide6.QtGui import QResizeEvent

    from rundlet.core.userdata.presets import Presets
    from rundlet.core.work.sample import Sample
    from rundlet.desktop.locations.place import Selection
    from rundlet.desktop.state.trial_runner import TrialRunner
    from rundlet.desktop.state.workspace import Workspace

_LEVEL_WORDS = (
    "uncompressed",
    "quick",
    "quick",
    "balanced",
    "balanced",
    "balanced",
    "small",
    "small",
    "smallest",
    "smallest",
)


def level_word(level: int) -> str:
    """A level in a word."""
    return _LEVEL_WORDS[level]


class PackPage(QScrollArea):
    """The trial, format and level, and everything else that can be asked of a new archive."""

    def __init__(self, workspace: Workspace, trials: TrialRunner, presets: Presets) -> None:
        super().__init__()
        self._workspace = workspace
        self._trials = trials
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._form = page = QWidget()
        page.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setWidget(page)
        page.installEventFilter(self)
        column = page_layout(page)
        column.setContentsMargins(0, 0, theme.sizes.gap + theme.sizes.space, 0)
        self.statement = label("Pack", "statement")
        column.addWidget(self.statement)
        self.chart = Chart()
        column.addWidget(self.chart)
        self.hopeless = label("", "soft")
        column.addWidget(self.hopeless)
        self.formats = Choices([(f.info.id, f.info.id) for f in WRITABLE], name="Format")
        column.addWidget(heading("Format"))
        column.addWidget(self.formats)
        column.addWidget(heading("Level"))
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(0, 9)
        self.level.setPageStep(1)
        self.level.setAccessibleName("Level, from 0 (uncompressed) to 9 (smallest)")
        column.addWidget(self.level)
        self.words = label("", "soft")
        column.addWidget(self.words)
        self.options = PackOptions(workspace)
        column.addWidget(self.options)
        self.saved_settings = SavedSettingsBox(workspace, presets)
        self.options.fold.column.addWidget(self.saved_settings)
        column.addStretch(1)
        self.level.valueChanged.connect(workspace.packing.set_level)
        self.formats.chosen.connect(workspace.packing.set_format)
        self.chart.chosen.connect(workspace.packing.set_format_and_level)
        workspace.packing.changed.connect(self._show)
        workspace.selector.changed.connect(self._show_choice)
        trials.changed.connect(self._show)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit_chart()
        super().resizeEvent(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self._fit_chart()
        return super().eventFilter(watched, event)

    def _fit_chart(self) -> None:
        """Let the chart give way where all else would have to be scrolled to otherwise, as with some fonts."""
        if self.chart.isVisibleTo(self._form):
            whole = self.maximumViewportSize()  # without a scroll bar, which is what this is to avoid
            others = self._form.heightForWidth(whole.width()) - self.chart.sizeHint().height()
            if self.chart.give_way(whole.height() - others):
                QCoreApplication.postEvent(self, QEvent(QEvent.Type.LayoutRequest))
            fits = whole.height() >= others + self.chart.sizeHint().height()
            # A bar that has come once would stay, as beside it the words take more lines.
            never, needed = Qt.ScrollBarPolicy.ScrollBarAlwaysOff, Qt.ScrollBarPolicy.ScrollBarAsNeeded
            self.setVerticalScrollBarPolicy(never if fits else needed)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.level

    def _show(self) -> None:
        form = self._workspace.packing.form
        self.formats.choose(form.info.id)
        self._show_choice(self._workspace.selection)
        self.level.blockSignals(True)
        self.level.setRange(form.info.levels[0], form.info.levels[-1])
        self.level.setValue(form.level)
        self.level.blockSignals(False)
        self.level.setEnabled(len(form.info.levels) > 1)
        how = (
            say("Level {level}: {word}.", level=form.level, word=level_word(form.level))
            if len(form.info.levels) > 1
            else ""
        )
        self.words.setText(joined([how, self._foretold(), form.info.about]))
        self._show_trial()

    def _foretold(self) -> str:
        point = self._trials.point
        if point is None:
            return ""
        return say("About {size:size} in {seconds:duration}.", size=point.size, seconds=point.seconds)

    def _show_trial(self) -> None:
        trials, form = self._trials, self._workspace.packing.form
        self.chart.setVisible(bool(trials.points) or trials.running)
        before = trials.sample.total if trials.sample is not None else 0
        self.chart.show_picture(
            Picture(
                tuple(trials.points.values()),
                frozenset(trials.best),
                (form.info.id, form.level),
                before,
                form.part_size or form.limit,
            )
        )
        words = hopeless_words(trials.sample)
        self.hopeless.setText(words)
        self.hopeless.setVisible(bool(words))

    def _show_choice(self, selection: Selection) -> None:
        if not selection.items:
            self.statement.setText("Select what to pack")
        else:
            each = self._workspace.packing.form.each and selection.items > 1
            words = "Pack {items:item|items}, one archive each" if each else "Pack {items:item|items}"
            self.statement.setText(say(words, items=selection.items))


def hopeless_words(sample: Sample | None) -> str:
    """What will not get smaller, in a sentence."""
    if sample is not None and 0 < sample.total < LEAST:
        return "This is so small that every format and level gives about the same size."
    if sample is None or not sample.hopeless:
        return ""
    if sum(count for _, count in sample.hopeless) == sample.files:
        return "All of this is already compressed and won't get smaller. The quickest level is fine."
    groups = [text.plural(count, noun_for(kindred)) for kindred, count in sample.hopeless]
    return say("Already compressed, so they won't get smaller: {groups}.", groups=", ".join(groups))
