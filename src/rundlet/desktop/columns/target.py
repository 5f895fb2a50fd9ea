"""To: what will be there afterwards, and the one button."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QToolButton,
    QTreeView,
    QWidget,
)

from rundlet.core import text
from rundlet.core.errors import RundletError
from rundlet.core.plans.unpack import Action, UnpackPlan
from rundlet.desktop.delegates.rows import RowDelegate
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.models.listing import LandingListing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.basics import Column, heading, label, page_layout, restyle
from rundlet.desktop.widgets.gauge import Gauge
from rundlet.desktop.workspace import Place, UnpackDesk, Workspace

_EXPAND_UP_TO = 200


class FolderField(QWidget):
    """A folder as a path that can be typed or chosen."""

    changed = Signal(object)

    def __init__(self, name: str) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(theme.sizes.gap)
        self.edit = QLineEdit()
        self.edit.setAccessibleName(name)
        self.pick = QToolButton()
        self.pick.setIcon(theme.icon("open", "soft"))
        self.pick.setAccessibleName(f"Choose another {name.lower()}")
        self.pick.setToolTip("Choose another folder")
        row.addWidget(self.edit, 1)
        row.addWidget(self.pick)
        self.edit.editingFinished.connect(self._typed)
        self.pick.clicked.connect(self._pick)

    def show_folder(self, folder: Path) -> None:
        """Show a folder, with the home folder in short."""
        if not self.edit.hasFocus():
            self.edit.setText(short_path(folder))
            self.edit.setToolTip(str(folder))
            self.edit.setCursorPosition(0)

    def _typed(self) -> None:
        words = self.edit.text().strip()
        if words:
            self.changed.emit(Path(words).expanduser().absolute())

    def _pick(self) -> None:
        start = str(Path(self.edit.text()).expanduser())
        chosen = QFileDialog.getExistingDirectory(self, "Choose a folder", start)
        if chosen:
            self.edit.setText(short_path(Path(chosen)))
            self.changed.emit(Path(chosen))


class ToColumn(Column):
    """Shows the page that fits where one stands."""

    pack_pressed = Signal()
    unpack_pressed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("To")
        self.pack = PackTarget(workspace)
        self.unpack = UnpackTarget(workspace)
        self._pages = QStackedWidget()
        self._pages.addWidget(self.pack)
        self._pages.addWidget(self.unpack)
        self.body.addWidget(self._pages, 1)
        self.pack.go.clicked.connect(self.pack_pressed)
        self.unpack.go.clicked.connect(self.unpack_pressed)
        workspace.moved.connect(self._moved)

    def _moved(self, place: Place) -> None:
        self._pages.setCurrentWidget(self.unpack if place.in_archive else self.pack)

    @property
    def go(self) -> QPushButton:
        """The button at the end of the sentence."""
        return self.unpack.go if self._pages.currentWidget() is self.unpack else self.pack.go


class PackTarget(QWidget):
    """The archive's name and folder, sizes, and whether its name is taken."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        column.addWidget(heading("Name"))
        row = QHBoxLayout()
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the archive, without its ending")
        self.ending = label("", "ending", wrap=False)
        row.addWidget(self.name, 1)
        row.addWidget(self.ending)
        column.addLayout(row)
        self.clash = label("", "warn")
        self.replace = QCheckBox("Replace the one that is there")
        column.addWidget(self.clash)
        column.addWidget(self.replace)
        column.addWidget(heading("Folder"))
        self.folder = FolderField("Folder for the archive")
        column.addWidget(self.folder)
        column.addWidget(heading("Size"))
        self.gauge = Gauge()
        column.addWidget(self.gauge)
        self.sizes = label("", "soft")
        column.addWidget(self.sizes)
        column.addStretch(1)
        self.facts = label("", "soft")
        column.addWidget(self.facts)
        self.go = go_button("Pack")
        column.addWidget(self.go)
        self._typing = False
        self.name.textEdited.connect(self._name_typed)
        self.name.editingFinished.connect(self._show)
        self.replace.toggled.connect(workspace.set_replace)
        self.folder.changed.connect(workspace.set_pack_folder)
        workspace.pack_changed.connect(self._show)

    def _show(self) -> None:
        ws, desk, choice = self._workspace, self._workspace.pack, self._workspace.choice
        if ws.place.in_archive:
            return
        if not self._typing and self.name.text() != desk.stem:
            self.name.setText(desk.stem)
            self.name.setCursorPosition(0)
        self.ending.setText(desk.info.ending)
        self.folder.show_folder(ws.pack_folder)
        self._show_clash()
        self.gauge.show_sizes(choice.size, None)
        self.gauge.setVisible(choice.items > 0)
        counting = " so far; still counting" if choice.counting else ""
        self.sizes.setText(
            f"{text.plural(choice.files, 'file')}{counting}" if choice.items else "Nothing is chosen yet."
        )
        there = ws.pack_folder.is_dir()
        self.facts.setText(f"{text.size(ws.pack_free)} free there." if there else "There is no such folder.")
        restyle(self.facts, "role", "soft" if there else "warn")
        self.go.setText(f"Pack {text.plural(choice.items, 'item')}" if choice.items else "Pack")
        self.go.setEnabled(choice.items > 0 and there)

    def _name_typed(self, words: str) -> None:
        """While a name is being typed it is not tidied under the person's hands."""
        self._typing = True
        self._workspace.set_stem(words)
        self._typing = False

    def _show_clash(self) -> None:
        ws = self._workspace
        taken = ws.asked_target.exists()
        self.clash.setVisible(taken)
        self.replace.setVisible(taken and not ws.asked_target.is_dir())
        self.replace.blockSignals(True)
        self.replace.setChecked(ws.pack.replace)
        self.replace.blockSignals(False)
        if taken and ws.pack.replace:
            self.clash.setText(f"The “{ws.asked_target.name}” that is there will be gone.")
        elif taken:
            self.clash.setText(f"That name is taken; this one will be “{ws.pack_target.name}”.")


class UnpackTarget(QWidget):
    """The folder and the landing tree."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        column = page_layout(self)
        self.folder = FolderField("Folder to unpack into")
        column.addWidget(self.folder)
        self.own = QCheckBox("In a folder of its own")
        column.addWidget(self.own)
        column.addWidget(heading("What will be there"))
        self.model = EntryModel(("name",))
        self.view = QTreeView()
        self.view.setModel(self.model)
        self.view.setHeaderHidden(True)
        self.view.setIndentation(theme.sizes.indent)
        self.view.setItemDelegate(RowDelegate(ticks=False))
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.view.setUniformRowHeights(True)
        self.view.setAccessibleName("What will be there")
        column.addWidget(self.view, 1)
        self.facts = label("", "soft")
        column.addWidget(self.facts)
        self.go = go_button("Unpack")
        column.addWidget(self.go)
        self.folder.changed.connect(self._folder_changed)
        self.own.toggled.connect(self._own_toggled)
        workspace.unpack_changed.connect(self._show)
        workspace.landed.connect(self._landed)
        workspace.landing_failed.connect(self._landing_failed)

    def _folder_changed(self, folder: Path) -> None:
        def change(desk: UnpackDesk) -> None:
            desk.folder = folder

        self._workspace.change_unpack(change)

    def _own_toggled(self, own: bool) -> None:
        def change(desk: UnpackDesk) -> None:
            desk.own_folder = own

        self._workspace.change_unpack(change)

    def _show(self) -> None:
        ws = self._workspace
        if not ws.place.in_archive:
            return
        self.folder.show_folder(ws.unpack_folder)
        self.own.blockSignals(True)
        self.own.setChecked(ws.unpack.own_folder)
        self.own.blockSignals(False)
        self.own.setText(f"In a folder of its own, “{text.shown(ws.own_folder_name)}”")
        count = ws.choice.items
        self.go.setText(f"Unpack {text.plural(count, 'entry')}" if count else "Unpack everything")
        self.go.setEnabled(False)  # until the plan for this is there

    def _landed(self, plan: UnpackPlan, landing: LandingListing) -> None:
        self.model.show(landing)
        if len(plan.steps) <= _EXPAND_UP_TO:
            self.view.expandAll()
        else:
            self.view.expand(self.model.index(0, 0))
        fits = plan.size <= plan.free
        restyle(self.facts, "role", "soft" if fits else "warn")
        locked = "Give the password first. " if self._workspace.needs_password else ""
        self.facts.setText(locked + landing_words(plan))
        self.go.setEnabled(
            fits and any(step.action.writes for step in plan.steps) and not self._workspace.needs_password
        )

    def _landing_failed(self, error: RundletError) -> None:
        self.model.show(None)
        restyle(self.facts, "role", "warn")
        self.facts.setText(str(error))


def landing_words(plan: UnpackPlan) -> str:
    """The landing in a sentence."""
    if plan.size > plan.free:
        return f"{text.size(plan.size)} are needed there, and only {text.size(plan.free)} are free."
    parts = [f"{text.size(plan.size)} into {text.size(plan.free)} free"]
    new = plan.files - plan.counts[Action.NUMBER] - plan.counts[Action.REPLACE]
    if new > 0:
        parts.append(text.plural(new, "new file"))
    words = {Action.NUMBER: "both kept", Action.REPLACE: "replaced", Action.SKIP: "left alone"}
    for action, outcome in words.items():
        if plan.counts[action]:
            parts.append(f"{text.plural(plan.counts[action], 'name')} already taken, {outcome}")
    if plan.counts[Action.REFUSE]:
        parts.append(f"{text.plural(plan.counts[Action.REFUSE], 'entry')} left out")
    return " · ".join(parts)


def go_button(words: str) -> QPushButton:
    """The one strong button."""
    button = QPushButton(words)
    button.setProperty("role", "go")
    button.setToolTip("Ctrl+Enter")
    button.setEnabled(False)  # until there is something to do
    return button


def short_path(folder: Path) -> str:
    """A path with the home folder in short."""
    try:
        inside = folder.relative_to(Path.home())
    except ValueError:
        return str(folder)
    return str(Path("~") / inside)
