"""How and To, when an archive is compared: with what, what is the same, what is not, and what can be done about it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QListWidgetItem, QPushButton, QWidget

from rundlet.core.model.entry import UNKNOWN, Kind
from rundlet.core.text import shown
from rundlet.core.work.compared_sides import FolderSide
from rundlet.core.work.comparer import Differs, State, items_there
from rundlet.desktop.locations.listing import Spot
from rundlet.desktop.preview_loader import PreviewLoader
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout, button_row, heading, label, line_list, page_layout, short_path
from rundlet.desktop.views.lock_field import LockField
from rundlet.desktop.views.preview import Preview
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.comparisons import item_line
from rundlet.presentation.findings import issue_line
from rundlet.presentation.outcomes import compared_words
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.errors import RundletError
    from rundlet.core.jobs.outcomes import Compared
    from rundlet.core.work.comparer import Comparison
    from rundlet.desktop.state.comparing import Other
    from rundlet.desktop.state.workspace import Workspace

_MOST = 2000  # lines; more than anybody reads
_CHIPS = {
    State.DIFFERS: "Differs {count:number}",
    State.ONLY_HERE: "Only in the archive {count:number}",
    State.ONLY_THERE: "Missing from the archive {count:number}",
    State.MOVED: "Moved {count:number}",
    State.SAME: "Same {count:number}",
}


class ComparePage(QWidget):
    """What the archive is compared with, and how closely."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._comparing = workspace.comparing
        self._shown: list[Other] = []
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("", "soft")
        self.lock = LockField("Password of the archive")
        column.addWidget(self.statement)
        column.addWidget(self.more)
        column.addWidget(self.lock)
        column.addWidget(heading("Compare with"))
        holder = QWidget()
        self._flow = FlowLayout(theme.sizes.space)
        holder.setLayout(self._flow)
        column.addWidget(holder)
        self.proposed: list[QPushButton] = []
        self.pick_folder = QPushButton("A folder …")
        self.pick_archive = QPushButton("Another archive …")
        for button in (self.pick_folder, self.pick_archive):
            self._flow.addWidget(button)
        column.addWidget(heading("How closely"))
        self.certain = QCheckBox("Compare every byte")
        column.addWidget(self.certain)
        self.closely = label("", "soft")
        column.addWidget(self.closely)
        column.addStretch(1)
        self.lock.typed.connect(workspace.unlock)
        self.certain.toggled.connect(self._set_certain)
        self.pick_folder.clicked.connect(self._pick_folder)
        self.pick_archive.clicked.connect(self._pick_archive)
        workspace.opener.unlock_failed.connect(self._refuse)
        workspace.unpacking.changed.connect(self._show)
        self._comparing.changed.connect(self._show)

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.proposed[0] if self.proposed else self.pick_folder

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    def _refuse(self, error: RundletError) -> None:
        self.lock.refuse(error.message)

    def _set_certain(self, on: bool) -> None:
        self._comparing.certain = on
        self._comparing.changed.emit()

    def _show(self) -> None:
        if self._workspace.archive is None or not self._comparing.wanted:
            return
        other = self._comparing.other
        self.lock.ask(self._workspace.needs_password)
        words = "Compare with {name:name}"
        self.statement.setText(say(words, name=other.name) if other is not None else "Compare with what?")
        self.more.setText(
            shown(", ".join(short_path(path) for path in other.tops))
            if other is not None
            else "Choose the folder that the archive was made of, or another archive."
        )
        self.certain.setChecked(self._comparing.certain)
        self.closely.setText(
            "All files of the same size are read on both sides. Only then can a folder go to the trash."
            if self._comparing.certain
            else "Files of the same size and time count as the same. Where only the times differ, the content decides."
        )
        if self._comparing.proposals != self._shown:
            self._shown = list(self._comparing.proposals)
            self._make_proposals()

    def _make_proposals(self) -> None:
        for button in self.proposed:
            self._flow.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.proposed = []
        for other in self._shown:
            button = QPushButton(say("“{name:shown}”", name=other.name))
            button.setToolTip("\n".join(str(path) for path in other.tops))
            button.clicked.connect(partial(self._comparing.choose_other, other))
            self._flow.addWidget(button)
            self.proposed.append(button)

    def _pick_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(
            self, "Choose the folder to compare with", str(self._workspace.place.folder)
        )
        if folder:
            self._comparing.choose(Path(folder))

    def _pick_archive(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(
            self, "Choose the archive to compare with", str(self._workspace.place.folder)
        )
        if chosen:
            self._comparing.choose(Path(chosen))


class CompareTarget(TargetPage):
    """What the comparison came to, its items by what is so of them, and what can be done.

    Signals:
        select_wanted: rows are to be selected.
        trash_wanted: the folder is to go to the trash.
        look_wanted: the current item of the list is to be looked at, beside the one on the disk.
    """

    select_wanted = Signal(object)
    trash_wanted = Signal()
    look_wanted = Signal(bool)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("Compare")
        self._workspace = workspace
        self._comparing = workspace.comparing
        self._shown: tuple[Comparison | None, State | None] | None = None
        self.state: State | None = None
        self._rows: list[int] = []
        column = self.column
        column.addWidget(heading("Result"))
        self.verdict = label("", "statement")
        self.more = label("", "soft")
        column.addWidget(self.verdict)
        column.addWidget(self.more)
        self.chips: dict[State, QPushButton] = {}
        for state in _CHIPS:
            chip = QPushButton()
            chip.setProperty("role", "chip")
            chip.setCheckable(True)
            chip.clicked.connect(partial(self._choose_state, state))
            self.chips[state] = chip
        column.addWidget(button_row(*self.chips.values()))
        self.list = line_list("Items", wraps=False)
        self.there = Preview()
        self.there.setVisible(False)
        self.there.setMinimumHeight(theme.sizes.preview)
        self.there.setToolTip("The file as it is on the disk")
        self.there.closed.connect(partial(self.there.setVisible, False))
        self._loader = PreviewLoader(workspace, workspace.background)
        self._loader.looked.connect(self.there.show_seen)
        self.trash = QPushButton("Move the folder to the trash")
        self.put_in = QPushButton()
        self.unpack = QPushButton()
        self.buttons = button_row(self.trash, self.put_in, self.unpack)
        column.addWidget(self.buttons)
        column.addWidget(self.list, 2)
        column.addWidget(self.there, 1)
        self.add_footer()
        self.list.currentRowChanged.connect(self._look)
        self.trash.clicked.connect(self.trash_wanted)
        self.put_in.clicked.connect(self._put_in)
        self.unpack.clicked.connect(self._unpack)
        self._comparing.changed.connect(self._show)
        workspace.unpacking.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.list if self.list.isVisible() else self.go

    def _show(self) -> None:
        if self._workspace.archive is None or not self._comparing.wanted:
            return
        found, other = self._comparing.found, self._comparing.other
        comparison = found.comparison if found is not None else None
        outcome = found.outcome if found is not None else None
        running = found is not None and found.running
        if comparison is None or outcome is None or found is None:
            self.verdict.setText("Comparing …" if running else "Not compared yet")
            self.more.setText("")
        else:
            self.verdict.setText(self._words(outcome))
            closely = "Every byte was compared" if outcome.certain else "By size, time and checksum"
            self.more.setText(
                say(
                    "{closely}, with {name:name}, in {seconds:duration}.",
                    closely=closely,
                    name=found.other.name,
                    seconds=outcome.seconds,
                )
            )
        done = comparison is not None and outcome is not None
        for widget in (*self.chips.values(), self.list, self.buttons, self.more):
            widget.setVisible(done)
        self.there.setVisible(self.there.isVisible() and done)
        if comparison is not None and done:
            self._show_items(comparison)
            self._show_buttons(comparison, self._is_folder(comparison))
        self.go.setText("Compare again" if done else "Compare")
        locked = self._workspace.needs_password and self._comparing.certain
        self.say_last("Type the password first." if locked else "", warns=locked)
        self.go.set_ready(other is not None and not running and not locked)

    def _words(self, outcome: Compared) -> str:
        """The whole in a sentence; the chips say the rest."""
        others = outcome.differing + outcome.only_here + outcome.only_there + outcome.moved_items
        if outcome.all_there or not others:
            return compared_words(outcome)
        return say(
            "{same:file is|files are} the same, {others:item is|items are} not.", same=outcome.files, others=others
        )

    def _is_folder(self, comparison: Comparison) -> bool:
        return isinstance(comparison.there, FolderSide)

    def _show_items(self, comparison: Comparison) -> None:
        rows = {state: comparison.rows(state) for state in _CHIPS}
        if self._shown is None or self._shown[0] is not comparison:
            self.state = next((state for state in _CHIPS if rows[state]), State.SAME)
        for state, chip in self.chips.items():
            chip.setText(say(_CHIPS[state], count=len(rows[state])))
            chip.setVisible(bool(rows[state]))
            chip.setChecked(state is self.state)
        if self._shown == (comparison, self.state) or self.state is None:
            return
        self._shown = comparison, self.state
        self._rows = rows[self.state]
        self.list.clear()
        marked = self.state is State.DIFFERS  # of all others the chip says what is so of them
        for row in self._rows[:_MOST]:
            item = QListWidgetItem(item_line(comparison, row, marked=marked))
            item.setToolTip(item.text())
            self.list.addItem(item)
        if len(self._rows) > _MOST:
            self.list.addItem(say("… and {count:number} more", count=len(self._rows) - _MOST))
        for problem in comparison.issues[:_MOST]:
            item = QListWidgetItem(issue_line(problem))
            item.setForeground(theme.color("amber"))
            self.list.addItem(item)

    def _show_buttons(self, comparison: Comparison, is_folder: bool) -> None:
        can_change = is_folder and self._workspace.changing.why_not() is None
        newer = len(self._newer(comparison))
        self.put_in.setText(say("Put {count:item|items} into the archive …", count=newer))
        self.put_in.setToolTip("What is newer or missing goes into the archive; nothing is written before you save")
        self.put_in.setVisible(can_change and newer > 0)
        lost = len(comparison.rows(State.ONLY_HERE))
        self.unpack.setText(say("Unpack {count:item that is|items that are} missing there …", count=lost))
        self.unpack.setVisible(is_folder and lost > 0)
        is_nested = self._workspace.place.outer is not None  # its copy vouches for nothing
        self.trash.setVisible(is_folder and comparison.folder_may_go and not is_nested)

    def _newer(self, comparison: Comparison) -> list[int]:
        """What the archive lacks, and files that are newer there or of which nobody knows which is."""
        differing = [
            row
            for row in comparison.rows(State.DIFFERS)
            if comparison.newer[row] >= 0
            and comparison.kind(row) is Kind.FILE
            and not comparison.differs[row] & Differs.KIND
        ]
        return [*differing, *comparison.rows(State.ONLY_THERE)]

    def _choose_state(self, state: State, _: bool = False) -> None:
        self.state = state
        self._show()

    def _look(self, number: int) -> None:
        """Show an item on both sides: in the list, and what is there."""
        found = self._comparing.found
        comparison = found.comparison if found is not None else None
        if comparison is None or not 0 <= number < len(self._rows):
            return
        row = self._rows[number]
        if nodes := self._comparing.nodes([row]):
            self.select_wanted.emit(nodes)
        there, side = int(comparison.there_row[row]), comparison.there
        is_file = there >= 0 and side.kind[there] == Kind.FILE and isinstance(side, FolderSide)
        self.there.setVisible(is_file)
        if is_file and isinstance(side, FolderSide):
            path = side.path(there)
            size = int(side.size[there])
            if nodes:
                self.look_wanted.emit(True)
            self._loader.look(Spot(0, path.name, size if size >= 0 else UNKNOWN, path=path))

    # What can be done

    def _put_in(self) -> None:
        found = self._comparing.found
        if found is None or found.comparison is None:
            return
        comparison, rows = found.comparison, self._newer(found.comparison)
        held = {comparison.path(row) for row in rows if comparison.here_row[row] >= 0}
        self._comparing.want(False)
        self._workspace.changing.put_in(partial(items_there, comparison, rows), held)

    def _unpack(self) -> None:
        found = self._comparing.found
        if found is None or found.comparison is None:
            return
        nodes = self._comparing.nodes(found.comparison.rows(State.ONLY_HERE))
        folder = found.other.path

        def into(form: object) -> None:
            form.folder, form.own_folder, form.keep_folders = folder, False, True  # type: ignore[attr-defined]

        self.select_wanted.emit(nodes)
        self._comparing.want(False)
        self._workspace.unpacking.change(into)
