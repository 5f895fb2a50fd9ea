"""How: what to do with what is chosen. On the disk it packs, in an archive it unpacks."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.errors import RundletError
from rundlet.core.formats.base import UNKNOWN
from rundlet.core.formats.detect import WRITABLE
from rundlet.core.plans.unpack import UnpackClash
from rundlet.desktop.models.listing import ArchiveListing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.basics import Choices, Column, heading, label, page_layout
from rundlet.desktop.widgets.gauge import Gauge
from rundlet.desktop.workspace import Choice, Place, UnpackDesk, Workspace

_LEVEL_WORDS = ("as is", "quick", "quick", "balanced", "balanced", "balanced", "tight", "tight", "tightest", "tightest")

_CLASH_WORDS = {
    UnpackClash.RENAME: "Keep both, number the new one",
    UnpackClash.NEWER: "Replace it for good if ours is newer",
    UnpackClash.REPLACE: "Replace it for good",
    UnpackClash.SKIP: "Leave it, skip ours",
}


def level_word(level: int) -> str:
    """A level in a word."""
    return _LEVEL_WORDS[level]


class HowColumn(Column):
    """Shows the page that fits where one stands."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("How")
        self.pack = PackPage(workspace)
        self.unpack = UnpackPage(workspace)
        self._pages = QStackedWidget()
        self._pages.addWidget(self.pack)
        self._pages.addWidget(self.unpack)
        self.body.addWidget(self._pages, 1)
        workspace.moved.connect(self._moved)

    def _moved(self, place: Place) -> None:
        self._pages.setCurrentWidget(self.unpack if place.in_archive else self.pack)


class PackPage(QWidget):
    """Format and level."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        self.statement = label("Pack", "statement")
        column.addWidget(self.statement)
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
        column.addStretch(1)
        self.level.valueChanged.connect(workspace.set_level)
        self.formats.chosen.connect(workspace.set_format)
        workspace.pack_changed.connect(self._show)
        workspace.choice_changed.connect(self._show_choice)

    def _show(self) -> None:
        desk = self._workspace.pack
        self.formats.choose(desk.info.id)
        self.level.blockSignals(True)
        self.level.setRange(desk.info.levels[0], desk.info.levels[-1])
        self.level.setValue(desk.level)
        self.level.blockSignals(False)
        self.level.setEnabled(len(desk.info.levels) > 1)
        how = f"Level {desk.level}: {level_word(desk.level)}. " if len(desk.info.levels) > 1 else ""
        self.words.setText(f"{how}{desk.info.about}")

    def _show_choice(self, choice: Choice) -> None:
        if not choice.items:
            self.statement.setText("Choose what to pack")
        else:
            self.statement.setText(f"Pack {text.plural(choice.items, 'item')}")


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
        self._folder_group = _group(self, [self.with_folders, self.just_files], column)
        column.addWidget(heading("If a name is taken"))
        self.clash = {rule: QRadioButton(words) for rule, words in _CLASH_WORDS.items()}
        self._clash_group = _group(self, list(self.clash.values()), column)
        column.addStretch(1)
        self._folder_group.buttonClicked.connect(self._folders_chosen)
        self._clash_group.buttonClicked.connect(self._clash_chosen)
        workspace.unpack_changed.connect(self._show)

    def _show(self) -> None:
        desk, choice = self._workspace.unpack, self._workspace.choice
        (self.with_folders if desk.keep_folders else self.just_files).setChecked(True)
        self.clash[desk.on_clash].setChecked(True)
        listing = self._workspace.listing
        if not isinstance(listing, ArchiveListing):
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
        packed = int(tree.packed[folder])
        self.gauge.show_sizes(int(tree.size[folder]), None if packed == UNKNOWN else packed)

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


def _group(parent: QWidget, buttons: list[QRadioButton], column: QVBoxLayout) -> QButtonGroup:
    group = QButtonGroup(parent)
    for button in buttons:
        group.addButton(button)
        column.addWidget(button)
    return group
