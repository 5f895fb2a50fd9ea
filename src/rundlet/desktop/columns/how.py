"""How: what to do with what is chosen. On the disk it packs, in an archive it unpacks."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QStackedWidget,
    QWidget,
)

from rundlet.core import text
from rundlet.core.errors import RundletError
from rundlet.core.files.presets import Presets
from rundlet.core.files.types import noun_for
from rundlet.core.formats.base import UNKNOWN
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.formats.tree import ROOT
from rundlet.core.work.sample import Sample
from rundlet.desktop.columns.several import SeveralPage
from rundlet.desktop.models.archive import ArchiveListing
from rundlet.desktop.several import Several, SeveralDesk
from rundlet.desktop.state import Afterwards, Choice, UnpackDesk
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.trials import Trials
from rundlet.desktop.widgets.basics import (
    CLASH_WORDS,
    SHOW_WORDS,
    Choices,
    Column,
    heading,
    label,
    page_layout,
    radio_group,
    scrolling,
)
from rundlet.desktop.widgets.chart import Chart, Picture
from rundlet.desktop.widgets.gauge import Gauge
from rundlet.desktop.widgets.options import PackOptions
from rundlet.desktop.widgets.ways import WayBox
from rundlet.desktop.workspace import Workspace

_LEVEL_WORDS = ("as is", "quick", "quick", "balanced", "balanced", "balanced", "tight", "tight", "tightest", "tightest")

_AFTER_WORDS = {
    Afterwards.STAYS: "The archive stays where it is",
    Afterwards.TRASH: "If all went well, to the trash",
    Afterwards.INTO: "If all went well, into the folder too",
}


def level_word(level: int) -> str:
    """A level in a word."""
    return _LEVEL_WORDS[level]


class HowColumn(Column):
    """Shows the page that fits where one stands."""

    def __init__(self, workspace: Workspace, trials: Trials, several: Several, presets: Presets) -> None:
        super().__init__("How")
        self._workspace = workspace
        self._several = several
        self.what = Choices([("unpack", "Unpack"), ("pack", "Pack")], name="What to do with the archives")
        self.what.setVisible(False)
        self.body.addWidget(self.what)
        self.pack = PackPage(workspace, trials, presets)
        self.unpack = UnpackPage(workspace)
        self.several = SeveralPage(several)
        self._pages = QStackedWidget()
        self._holders: dict[QWidget, QWidget] = {self.pack: self.pack}
        for part in (self.unpack, self.several):
            self._holders[part] = scrolling(part)
        for holder in self._holders.values():
            self._pages.addWidget(holder)
        self.body.addWidget(self._pages, 1)
        workspace.moved.connect(self._show)
        several.changed.connect(self._show)
        self.what.chosen.connect(self._what_chosen)

    def _show(self, _: object = None) -> None:
        in_archive, several = self._workspace.place.in_archive, self._several
        self.what.setVisible(not in_archive and bool(several.desk.archives))
        self.what.choose("unpack" if several.desk.wanted else "pack")
        page = self.unpack if in_archive else self.several if several.unpacks else self.pack
        self._pages.setCurrentWidget(self._holders[page])

    def _what_chosen(self, what: str) -> None:
        def change(desk: SeveralDesk) -> None:
            desk.wanted = what == "unpack"

        self._several.change(change)


class PackPage(QScrollArea):
    """The trial, format and level, and everything else that can be asked of a new archive."""

    def __init__(self, workspace: Workspace, trials: Trials, presets: Presets) -> None:
        super().__init__()
        self._workspace = workspace
        self._trials = trials
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        page = QWidget()
        page.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setWidget(page)
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
        self.level.setAccessibleName("Level, 0 as is to 9 tightest")
        column.addWidget(self.level)
        self.words = label("", "soft")
        column.addWidget(self.words)
        self.options = PackOptions(workspace)
        column.addWidget(self.options)
        self.ways = WayBox(workspace, presets)
        column.addWidget(self.ways)
        column.addStretch(1)
        self.level.valueChanged.connect(workspace.set_level)
        self.formats.chosen.connect(workspace.set_format)
        self.chart.chosen.connect(workspace.set_format_and_level)
        workspace.pack_changed.connect(self._show)
        workspace.choice_changed.connect(self._show_choice)
        trials.changed.connect(self._show)

    def _show(self) -> None:
        desk = self._workspace.pack
        self.formats.choose(desk.info.id)
        self._show_choice(self._workspace.choice)
        self.level.blockSignals(True)
        self.level.setRange(desk.info.levels[0], desk.info.levels[-1])
        self.level.setValue(desk.level)
        self.level.blockSignals(False)
        self.level.setEnabled(len(desk.info.levels) > 1)
        how = f"Level {desk.level}: {level_word(desk.level)}. " if len(desk.info.levels) > 1 else ""
        self.words.setText(f"{how}{self._foretold()}{desk.info.about}")
        self._show_trial()

    def _foretold(self) -> str:
        point = self._trials.point
        if point is None:
            return ""
        return f"About {text.size(point.size)} in {text.duration(point.seconds)}. "

    def _show_trial(self) -> None:
        trials, desk = self._trials, self._workspace.pack
        self.chart.setVisible(bool(trials.points) or trials.running)
        before = trials.sample.total if trials.sample is not None else 0
        self.chart.show_picture(
            Picture(
                tuple(trials.points.values()),
                frozenset(trials.best),
                (desk.info.id, desk.level),
                before,
                desk.part_size or desk.limit,
            )
        )
        words = hopeless_words(trials.sample)
        self.hopeless.setText(words)
        self.hopeless.setVisible(bool(words))

    def _show_choice(self, choice: Choice) -> None:
        if not choice.items:
            self.statement.setText("Choose what to pack")
        else:
            each = ", each by itself" if self._workspace.pack.each and choice.items > 1 else ""
            self.statement.setText(f"Pack {text.plural(choice.items, 'item')}{each}")


def hopeless_words(sample: Sample | None) -> str:
    """What will not get smaller, in a sentence."""
    if sample is None or not sample.hopeless:
        return ""
    if sum(count for _, count in sample.hopeless) == sample.files:
        return "All of this is packed already and will not get smaller. The quickest level is as good as any."
    groups = [text.plural(count, noun_for(kindred)) for kindred, count in sample.hopeless]
    listed = " and ".join([", ".join(groups[:-1]), groups[-1]]) if len(groups) > 1 else groups[0]
    return f"Packed already, so they will not get smaller: {listed}."


class LockField(QWidget):
    """Asks in place for the password of a locked archive; gone when there is no need of one."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self, gap=theme.sizes.space)
        column.addWidget(heading("Locked"))
        row = QHBoxLayout()
        self.edit = QLineEdit()
        self.edit.setEchoMode(QLineEdit.EchoMode.Password)
        self.edit.setPlaceholderText("Password")
        self.edit.setAccessibleName("Password of the archive")
        self.open = QPushButton("Unlock")
        row.addWidget(self.edit, 1)
        row.addWidget(self.open)
        column.addLayout(row)
        self.words = label("", "warn")
        column.addWidget(self.words)
        self.edit.returnPressed.connect(self._try)
        self.open.clicked.connect(self._try)
        workspace.unpack_changed.connect(self._show)
        workspace.unlock_failed.connect(self._failed)

    def _show(self) -> None:
        self.setVisible(self._workspace.needs_password)
        if not self._workspace.needs_password:
            self.edit.clear()
            self.words.clear()
        self.words.setVisible(bool(self.words.text()))

    def _try(self) -> None:
        self.words.clear()
        self._workspace.unlock(self.edit.text())

    def _failed(self, error: RundletError) -> None:
        self.words.setText(error.message)
        self.words.setVisible(True)
        self.edit.selectAll()
        self.edit.setFocus()


class UnpackPage(QWidget):
    """What is taken out, with or without folders, and what becomes of names that are taken."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("", "soft")
        self.gauge = Gauge()
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addWidget(self.gauge)
        self.lock = LockField(workspace)
        column.addWidget(self.lock)
        column.addWidget(heading("Folders"))
        self.with_folders = QRadioButton("Keep the folders they sit in")
        self.just_files = QRadioButton("Just the files, no folders")
        self._folder_group = radio_group(self, [self.with_folders, self.just_files], column)
        column.addWidget(heading("If a name is taken"))
        self.clash = {rule: QRadioButton(words) for rule, words in CLASH_WORDS.items()}
        self._clash_group = radio_group(self, list(self.clash.values()), column)
        column.addWidget(heading("Afterwards"))
        self.after = {after: QRadioButton(words) for after, words in _AFTER_WORDS.items()}
        self._after_group = radio_group(self, list(self.after.values()), column)
        self.show_files = QCheckBox(SHOW_WORDS)
        column.addWidget(self.show_files)
        column.addStretch(1)
        self.show_files.clicked.connect(self._show_chosen)
        self._after_group.buttonClicked.connect(self._after_chosen)
        self._folder_group.buttonClicked.connect(self._folders_chosen)
        self._clash_group.buttonClicked.connect(self._clash_chosen)
        workspace.unpack_changed.connect(self._show)

    def _show(self) -> None:
        desk, choice = self._workspace.unpack, self._workspace.choice
        (self.with_folders if desk.keep_folders else self.just_files).setChecked(True)
        self.clash[desk.on_clash].setChecked(True)
        self.after[desk.after].setChecked(True)
        self.show_files.setChecked(desk.show)
        for widget in self.after.values():
            widget.setVisible(self._workspace.place.outer is None)  # else it is a copy, which goes by itself
        listing = self._workspace.listing
        self.gauge.setVisible(isinstance(listing, ArchiveListing))
        if not isinstance(listing, ArchiveListing):
            self.statement.setText("Locked, with its names")
            self.more.setText("What is in it can be listed once the password is given.")
            return
        tree, folder = listing.tree, listing.folder
        if choice.items:
            self.statement.setText(text.plural(choice.items, "chosen entry", "chosen entries"))
            self.more.setText(f"{text.plural(choice.files, 'file')}, {text.size(choice.size)} once unpacked")
        else:
            whole = f"Everything in “{text.shown(tree.name(folder))}”" if folder else "Everything"
            self.statement.setText(whole)
            self.more.setText(
                f"{text.plural(int(tree.files[folder]), 'file')}, {text.size(int(tree.size[folder]))} once unpacked"
            )
        packed: int | None = int(tree.packed[folder])
        if packed == UNKNOWN:  # entries share what they take; only all of them together have a size
            opened = self._workspace.archive
            packed = opened.reader.source.size if folder == ROOT and opened is not None else None
        self.gauge.show_sizes(int(tree.size[folder]), packed, unpacking=True)

    def _after_chosen(self) -> None:
        chosen = next(after for after, button in self.after.items() if button.isChecked())

        def change(desk: UnpackDesk) -> None:
            desk.after = chosen

        self._workspace.change_unpack(change)

    def _show_chosen(self, on: bool) -> None:
        def change(desk: UnpackDesk) -> None:
            desk.show = on

        self._workspace.change_unpack(change)

    def _folders_chosen(self) -> None:
        keep = self.with_folders.isChecked()

        def change(desk: UnpackDesk) -> None:
            desk.keep_folders = keep

        self._workspace.change_unpack(change)

    def _clash_chosen(self) -> None:
        rule = next(rule for rule, button in self.clash.items() if button.isChecked())

        def change(desk: UnpackDesk) -> None:
            desk.on_clash = rule

        self._workspace.change_unpack(change)
