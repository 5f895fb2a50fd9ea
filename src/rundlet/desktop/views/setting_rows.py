"""One setting in a row: what it is, what it changes, its value, and the way back to its default."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSlider,
    QToolButton,
    QWidget,
)

from rundlet.core.settings import Kind, Setting
from rundlet.core.text import shown
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, restyle, short_path
from rundlet.desktop.views.dropdown import Dropdown
from rundlet.presentation.sentences import say
from rundlet.presentation.settings import TOLD, Told, default_words, value_words

if TYPE_CHECKING:
    from rundlet.core.userdata.settings_file import Settings


class SettingRow(QWidget):
    """A setting with its control.

    Signals:
        changed: with the setting, which has another value now.
    """

    changed = Signal(object)

    def __init__(self, setting: Setting[Any], settings: Settings) -> None:
        super().__init__()
        self.setting = setting
        self._settings = settings
        self.told = TOLD[setting.id]
        grid = QGridLayout(self)
        grid.setContentsMargins(0, theme.sizes.space, 0, theme.sizes.space)
        grid.setHorizontalSpacing(theme.sizes.wide)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        self.editor = _EDITORS[setting.kind](setting, self.told)
        self.editor.setAccessibleName(self.told.title)
        self.title = label(self.told.title)
        self.title.setBuddy(self.editor)
        self.about = label(self.told.about, "soft")
        self.about.setVisible(bool(self.told.about))
        self.wrong = label("", "warn")
        self.wrong.setVisible(False)
        self.back = QPushButton(default_words(setting))
        self.back.setProperty("role", "link")
        self.back.setAccessibleName(say("Default of “{title}”", title=self.told.title))
        self.back.setToolTip("Go back to the default")
        if setting.kind is Kind.SWITCH:
            grid.addWidget(self.editor, 0, 0)
        else:
            grid.addWidget(self.title, 0, 0, 1 if self.told.about else 2, 1)
            grid.addWidget(self.editor, 0, 1, 2, 1, Qt.AlignmentFlag.AlignVCenter)
        grid.addWidget(self.about, 1, 0)
        grid.addWidget(self.wrong, 2, 0, 1, 2)
        grid.addWidget(self.back, 0 if setting.kind is Kind.SWITCH else 3, 1, Qt.AlignmentFlag.AlignRight)
        self.editor.edited.connect(self._edited)
        self.editor.refused.connect(self._refused)
        self.back.clicked.connect(self.reset)
        self.refresh()

    def matches(self, words: list[str]) -> bool:
        """Whether all these words, in lower case, are in what the row says."""
        told = " ".join((self.told.title, self.told.about, *self.told.choices, self.setting.id)).casefold()
        return all(word in told for word in words)

    def refresh(self) -> None:
        """Show the value as it is now."""
        self.editor.show_value(self._settings.get(self.setting))
        self.back.setVisible(self._settings.is_set(self.setting))
        self.wrong.setVisible(False)

    def reset(self) -> None:
        """Go back to the default."""
        self._settings.reset(self.setting)
        self.refresh()
        self.editor.setFocus()
        self.changed.emit(self.setting)

    def _edited(self, value: object) -> None:
        self._settings.set(self.setting, value)
        self.back.setVisible(True)
        self.wrong.setVisible(False)
        self.changed.emit(self.setting)

    def _refused(self, is_wrong: bool) -> None:
        self.wrong.setText(say("That is not {words}. Nothing was changed.", words=self.setting.words))
        self.wrong.setVisible(is_wrong)


class _Editor(QWidget):
    """What a value is changed in.

    Signals:
        edited: with the new value.
        refused: whether what was typed is no value.
    """

    edited = Signal(object)
    refused = Signal(bool)

    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__()
        self.setting, self.told = setting, told
        self.row = QHBoxLayout(self)
        self.row.setContentsMargins(0, 0, 0, 0)
        self.row.setSpacing(theme.sizes.gap)

    def show_value(self, value: Any) -> None:
        """Show a value without saying that it was edited."""
        raise NotImplementedError

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The wheel moves the page, and no value on the way."""
        if event.type() == QEvent.Type.Wheel:
            event.ignore()
            return True
        return super().eventFilter(watched, event)

    def _take(self, control: QWidget) -> None:
        control.installEventFilter(self)
        self.row.addWidget(control, 1)
        self.setFocusProxy(control)
        control.setAccessibleName(self.told.title)


class _Switch(_Editor):
    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.box = QCheckBox(told.title)
        self._take(self.box)
        self.box.toggled.connect(lambda on: self.edited.emit(on))

    def show_value(self, value: Any) -> None:
        self.box.blockSignals(True)
        self.box.setChecked(value)
        self.box.blockSignals(False)


class _Choice(_Editor):
    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.box = Dropdown()
        self.box.addItems(told.choices)
        self.box.setSizeAdjustPolicy(Dropdown.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._take(self.box)
        self.box.activated.connect(lambda index: self.edited.emit(setting.choices[index]))

    def show_value(self, value: Any) -> None:
        self.box.setCurrentIndex(self.setting.choices.index(value))


class _Several(_Editor):
    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.boxes = [QCheckBox(words) for words in told.choices]
        grid = QGridLayout()
        grid.setHorizontalSpacing(theme.sizes.wide)
        for number, box in enumerate(self.boxes):
            grid.addWidget(box, number // 2, number % 2)
            box.clicked.connect(self._clicked)
        grid.setColumnStretch(2, 1)
        self.row.addLayout(grid)
        self.setFocusProxy(self.boxes[0])

    def _clicked(self) -> None:
        ticked = zip(self.setting.choices, self.boxes, strict=True)
        self.edited.emit(",".join(choice for choice, box in ticked if box.isChecked()))

    def show_value(self, value: Any) -> None:
        for choice, box in zip(self.setting.choices, self.boxes, strict=True):
            box.setChecked(choice in value.split(","))


class _Number(_Editor):
    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(*setting.bounds)
        self.slider.setPageStep(max((setting.bounds[1] - setting.bounds[0]) // 5, 1))
        self.words = label("", wrap=False)
        self.words.setMinimumWidth(max(theme.text_width(value_words(setting, value)) for value in setting.bounds))
        self._take(self.slider)
        self.row.addWidget(self.words)
        self.slider.setTracking(False)  # the text size would change under the hand
        self.slider.sliderMoved.connect(lambda value: self.words.setText(value_words(setting, value)))
        self.slider.valueChanged.connect(self._moved)

    def _moved(self, value: int) -> None:
        self.words.setText(value_words(self.setting, value))
        self.edited.emit(value)

    def show_value(self, value: Any) -> None:
        self.slider.blockSignals(True)
        self.slider.setValue(value)
        self.slider.blockSignals(False)
        self.words.setText(value_words(self.setting, value))


class _Typed(_Editor):
    """A value that is typed, and taken when its field is left."""

    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.edit = QLineEdit()
        self._take(self.edit)
        self._shown = ""
        self.edit.editingFinished.connect(self._finished)

    def _finished(self) -> None:
        words = self.edit.text().strip()
        if words == self._shown:
            restyle(self.edit, "state", "")
            self.refused.emit(False)
            return
        try:
            value = self.setting.parse(words)
        except ValueError:
            restyle(self.edit, "state", "bad")
            self.refused.emit(True)
            return
        self.show_value(value)
        self.edited.emit(value)

    def show_value(self, value: Any) -> None:
        restyle(self.edit, "state", "")
        if self.setting.kind is Kind.FOLDER:
            self._shown = shown(short_path(Path(value))) if value else ""
        else:
            self._shown = self.setting.show(value)
        self.edit.setText(self._shown)
        self.edit.setCursorPosition(0)


class _Folder(_Typed):
    def __init__(self, setting: Setting[Any], told: Told) -> None:
        super().__init__(setting, told)
        self.edit.setPlaceholderText(told.none)
        self.pick = QToolButton()
        self.pick.setIcon(theme.icon("open", "soft"))
        self.pick.setToolTip("Choose a folder")
        self.pick.setAccessibleName(say("Choose the folder: {title}", title=told.title))
        self.row.addWidget(self.pick)
        self.pick.clicked.connect(self._choose)

    def _choose(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Choose a folder", os.path.expanduser(self.edit.text()))  # noqa: PTH111
        if chosen:
            self.show_value(chosen)
            self.edited.emit(chosen)


_EDITORS: dict[Kind, type[_Editor]] = {
    Kind.SWITCH: _Switch,
    Kind.CHOICE: _Choice,
    Kind.SEVERAL: _Several,
    Kind.NUMBER: _Number,
    Kind.SIZE: _Typed,
    Kind.FOLDER: _Folder,
}
