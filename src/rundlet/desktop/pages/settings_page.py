"""The settings, as a page of the window: every value with its default, to be searched, saved to a file and read from one."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from rundlet.core.errors import file_problem
from rundlet.core.settings import SETTINGS
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import button_row, heading, label, page_layout, restyle, scrolling
from rundlet.desktop.views.setting_rows import SettingRow
from rundlet.presentation.sentences import say
from rundlet.presentation.settings import GROUPS

if TYPE_CHECKING:
    from PySide6.QtGui import QKeyEvent

    from rundlet.core.userdata.settings_file import Settings

_JSON = "Settings (*.json)"
_SHORT = 30  # characters of switches that stand beside each other
_ALL_BACK = "All back to the defaults"


@dataclass(frozen=True, slots=True)
class PageAction:
    """Something besides values that a part of the page offers.

    Attributes:
        group: the part.
        words: of the button; asked anew whenever the page is shown.
        about: what it does, in a sentence; asked anew as well.
        do: called when it is pressed; gives what is to be said then, or "".
        choices: where it is about one of several things: their words, each with what is done to it instead.
    """

    group: str
    words: Callable[[], str]
    about: Callable[[], str]
    do: Callable[[], str]
    choices: Callable[[], list[tuple[str, Callable[[], str]]]] | None = None


@dataclass(frozen=True, slots=True)
class PageSwitches:
    """Switches side by side for what is no value of a setting, but so or not so on the desktop.

    Attributes:
        group: the part of the page.
        title: what they are about.
        about: what they change, in a sentence; asked anew whenever the page is shown.
        words: of each switch.
        states: whether each is on; None while that is not known, or it can't be switched. Asked anew as well.
        switch: called with the number of a switch that was pressed, and whether it is to be on; gives what is to be said, or "".
    """

    group: str
    title: str
    about: Callable[[], str]
    words: tuple[str, ...]
    states: Callable[[], Sequence[bool | None]]
    switch: Callable[[int, bool], str]


class SettingsPage(QWidget):
    """All settings.

    Args:
        settings: what is set.
        actions: what else can be done here.
        switches: what can be switched besides.

    Signals:
        changed: with the setting, which has another value now; None where several may have.
        left: back to the files.
    """

    changed = Signal(object)
    left = Signal()

    def __init__(self, settings: Settings, actions: list[PageAction], switches: list[PageSwitches]) -> None:
        super().__init__()
        self._settings = settings
        self._before: dict[str, object] = {}  # what was set when all of it went back to the defaults
        s = theme.sizes
        whole = page_layout(self)
        top = QHBoxLayout()
        top.setSpacing(s.gap)
        self.leave = QPushButton("Back to the files")
        self.leave.setIcon(theme.icon("back"))
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find a setting")
        self.finder.setAccessibleName("Find a setting")
        self.finder.setClearButtonEnabled(True)
        self.finder.setFixedWidth(s.progress_width)
        top.addWidget(self.leave)
        top.addWidget(label("Settings", "statement", wrap=False))
        top.addStretch(1)
        top.addWidget(self.finder)
        whole.addLayout(top)
        card = QFrame()
        card.setObjectName("column")
        card.setMaximumWidth(s.settings_width)
        inside = QVBoxLayout(card)
        inside.setContentsMargins(s.wide, s.wide - s.space, s.wide, s.wide - s.space)
        inner = QWidget()
        column = page_layout(inner)
        column.setContentsMargins(0, 0, s.wide, 0)
        inside.addWidget(scrolling(inner), 1)
        middle = QHBoxLayout()
        middle.addStretch(1)
        middle.addWidget(card, 1000)
        middle.addStretch(1)
        whole.addLayout(middle, 1)
        self.rows: dict[str, SettingRow] = {}
        self.buttons: list[QPushButton] = []
        self.switches: dict[str, list[QCheckBox]] = {}
        self._page_actions: list[tuple[PageAction, QPushButton, QLabel, QWidget]] = []
        self._page_switches: list[tuple[PageSwitches, QLabel, QWidget]] = []
        self._headings: list[tuple[str, QWidget, list[SettingRow]]] = []
        for group, of_group in GROUPS:
            head = heading(group)
            column.addSpacing(s.gap)
            column.addWidget(head)
            rows = [self._row(column, setting) for setting in of_group]
            self._headings.append((group, head, rows))
            for each in switches:
                if each.group == group:
                    self._switches_row(column, each)
            for action in actions:
                if action.group == group:
                    self._action_row(column, action)
        column.addSpacing(s.wide)
        self.reset = QPushButton(_ALL_BACK)
        self.save = QPushButton("Save to a file …")
        self.load = QPushButton("Read from a file …")
        column.addWidget(button_row(self.reset, self.save, self.load))
        column.addStretch(1)
        self.nothing = label("No setting has all these words.", "soft")
        self.nothing.setVisible(False)
        column.addWidget(self.nothing)
        self.told = label("", "soft")
        inside.addWidget(self.told)
        self.leave.clicked.connect(self.left)
        self.finder.textChanged.connect(self._narrow)
        self.reset.clicked.connect(self._reset_all)
        self.save.clicked.connect(self._save)
        self.load.clicked.connect(self._load)

    def _row(self, column: QVBoxLayout, setting: object) -> SettingRow:
        row = SettingRow(setting, self._settings)  # type: ignore[arg-type]
        self.rows[row.setting.id] = row
        row.changed.connect(self.changed)
        column.addWidget(row)
        return row

    def _switches_row(self, column: QVBoxLayout, switches: PageSwitches) -> None:
        holder = QWidget()
        row = page_layout(holder)
        row.setContentsMargins(0, theme.sizes.space, 0, theme.sizes.space)
        row.setSpacing(theme.sizes.space)
        about = label("", "soft")
        row.addWidget(label(switches.title))
        row.addWidget(about)
        # Beside each other they might not all have room in large text, but for very short words.
        is_short = sum(map(len, switches.words)) < _SHORT
        boxes = QHBoxLayout() if is_short else QVBoxLayout()
        boxes.setSpacing(theme.sizes.wide if is_short else theme.sizes.space)
        self.switches[switches.title] = [QCheckBox(words) for words in switches.words]
        for number, box in enumerate(self.switches[switches.title]):
            box.setAccessibleName(say("{title}: {words}", title=switches.title, words=box.text()))
            box.toggled.connect(partial(self._switch, switches, number))
            boxes.addWidget(box)
        boxes.addStretch(1)
        row.addLayout(boxes)
        column.addWidget(holder)
        self._page_switches.append((switches, about, holder))

    def _switch(self, switches: PageSwitches, number: int, on: bool) -> None:
        self.say(switches.switch(number, on))
        self.refresh()

    def _action_row(self, column: QVBoxLayout, action: PageAction) -> None:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, theme.sizes.space, 0, theme.sizes.space)
        row.setSpacing(theme.sizes.wide)
        about = label("", "soft")
        button = QPushButton()
        row.addWidget(about, 1)
        row.addWidget(button, 0, Qt.AlignmentFlag.AlignTop)
        column.addWidget(holder)
        button.clicked.connect(lambda: self._do(action))
        self._page_actions.append((action, button, about, holder))
        self.buttons.append(button)

    def _do(self, action: PageAction) -> None:
        if action.choices is None:
            self._did(action.do)
            return
        menu = QMenu(self)
        for words, do in action.choices():
            menu.addAction(words).triggered.connect(partial(self._did, do))
        button = next(button for each, button, *_ in self._page_actions if each is action)
        menu.popup(button.mapToGlobal(QPoint(0, button.height())))

    def _did(self, do: Callable[[], str], *_: object) -> None:
        self.say(do())
        self.refresh()

    def say(self, words: str, *, warns: bool = False) -> None:
        """Say below the settings what was done."""
        self.told.setText(words)
        restyle(self.told, "role", "warn" if warns else "soft")

    def refresh(self) -> None:
        """Show everything as it is now."""
        for row in self.rows.values():
            row.refresh()
        for action, button, about, _ in self._page_actions:
            button.setText(action.words())
            about.setText(action.about())
            button.setEnabled(bool(action.words()))
            button.setVisible(bool(action.words()))
        for switches, about, _ in self._page_switches:
            about.setText(switches.about())
            for box, state in zip(self.switches[switches.title], switches.states(), strict=True):
                box.setEnabled(state is not None)
                with QSignalBlocker(box):
                    box.setChecked(bool(state))
        self._narrow(self.finder.text())

    def _narrow(self, typed: str) -> None:
        wanted = typed.casefold().split()
        told = [
            *(
                (action.group, f"{action.words()} {action.about()}", holder)
                for action, *_, holder in self._page_actions
            ),
            *(
                (each.group, " ".join((each.title, each.about(), *each.words)), holder)
                for each, _, holder in self._page_switches
            ),
        ]
        any_shown = False
        for group, head, rows in self._headings:
            found: list[tuple[QWidget, bool]] = [(row, row.matches(wanted)) for row in rows]
            found += (
                (holder, bool(words.strip()) and all(word in words.casefold() for word in wanted))
                for of, words, holder in told
                if of == group
            )
            for row, shows in found:
                row.setVisible(shows)
            head.setVisible(any(shows for _, shows in found))
            any_shown |= any(shows for _, shows in found)
        self.nothing.setVisible(not any_shown)

    def _reset_all(self) -> None:
        if self._before:
            self._settings.set_several(self._before)
            self.say("Your settings are back.")
            self._before = {}
        else:
            self._before = self._settings.as_set()
            self._settings.reset(*SETTINGS)
            self.say(say("{count:setting is|settings are} back to the default.", count=len(self._before)))
        self.reset.setText("Undo: my settings again" if self._before else _ALL_BACK)
        self.refresh()
        self.changed.emit(None)

    def _save(self) -> None:
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the settings", "rundlet-settings.json", _JSON)
        if not chosen:
            return
        try:
            Path(chosen).write_text(json.dumps(self._settings.as_set(), indent=1) + "\n", "utf-8")
        except OSError as error:
            self.say(str(file_problem(error, "write", chosen)), warns=True)
            return
        self.say(say("Saved {name:name}.", name=Path(chosen).name))

    def _load(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Read settings", "", _JSON)
        if not chosen:
            return
        try:
            values = json.loads(Path(chosen).read_text("utf-8"))
        except OSError as error:
            self.say(str(file_problem(error, "read", chosen)), warns=True)
            return
        except ValueError:
            values = None
        known = {
            each.id
            for each in SETTINGS
            if isinstance(values, dict) and each.id in values and each.fits(values[each.id])
        }
        if not known:
            self.say(say("There are no settings in {name:name}.", name=Path(chosen).name), warns=True)
            return
        self._settings.set_several(values)
        self.refresh()
        self.say(say("{count:setting|settings} read from {name:name}.", count=len(known), name=Path(chosen).name))
        self.changed.emit(None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            if self.finder.text():
                self.finder.clear()
            else:
                self.left.emit()
            return
        super().keyPressEvent(event)
