"""The path as steps. An archive is a step too, always in its oak box with its own mark."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from rundlet.core.text import shown
from rundlet.desktop.locations.place import Place
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, tab_through
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from PySide6.QtGui import QMouseEvent, QResizeEvent

_LONGEST = 28
_MOST_FOLDERS = 4
UNSAVED_MARK = " •"
"""Stands behind the name of an archive with changes that are not saved; the words are in the tooltip."""


class Breadcrumbs(QWidget):
    """One button a step; pressing one goes there.

    Args:
        behind: the control that Tab leads from to the first step.

    Attributes:
        unsaved: says how many changes of the archive at a place are not saved.

    Signals:
        chosen: the place of a step.
        typing_wanted: the room beside the steps was clicked.
    """

    chosen = Signal(object)
    typing_wanted = Signal()

    def __init__(self, behind: QWidget) -> None:
        super().__init__()
        self._behind = behind
        self.unsaved: Callable[[Place], int] = lambda _: 0
        self._steps: list[QPushButton] = []
        self._groups: list[list[QWidget]] = []  # each step with the mark before it
        self._above = -1
        self._more = QPushButton()
        self.setAccessibleName("Path")
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(0)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self._places: list[Place] = []

    def show_place(self, place: Place) -> None:
        """Show the steps to a place."""
        while (item := self._row.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()  # it goes when the loop comes round, and must not be seen until then
                widget.deleteLater()
        self._places, self._steps, self._groups = [], [], []
        self._more = QPushButton("…")
        self._more.setProperty("role", "step")
        self._more.setAccessibleName("Folder above")
        self._more.clicked.connect(self._go_above)
        self._more.hide()
        self._row.addWidget(self._more)
        boxed = False
        for number, (words, step) in enumerate(_steps(place)):
            before, boxed = boxed, step.in_archive and not step.inner
            group: list[QWidget] = []
            if number:
                mark = label("›", "soft", wrap=False)
                beside = theme.sizes.space  # a box has no room of its own around it
                mark.setContentsMargins(beside if before else 0, 0, beside if boxed else 0, 0)
                self._row.addWidget(mark)
                group.append(mark)
            self._groups.append([*group, self._add(words, step, is_archive=boxed)])
        self._row.addStretch(1)
        self._write_marks()
        tab_through(self._behind, [self._more, *self._steps])
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """Where there is no room for all steps, the first ones are one step that leads above those that are shown."""
        for widget in (self._more, *(widget for group in self._groups for widget in group)):
            widget.ensurePolished()
        widths = [sum(widget.sizeHint().width() for widget in group) for group in self._groups]
        room, hidden = self.width(), 0
        while hidden < len(widths) - 1 and sum(widths[hidden:]) > room - (
            self._more.sizeHint().width() if hidden else 0
        ):
            hidden += 1
        for number, group in enumerate(self._groups):
            for widget in group:
                widget.setVisible(number >= hidden)
        self._more.setVisible(hidden > 0)
        self._more.setToolTip(self._steps[hidden - 1].toolTip() if hidden else "")
        self._above = hidden - 1

    def show_marks(self) -> None:
        """Mark the archives that have changes which are not saved."""
        if self._write_marks():
            self._fit()

    def _write_marks(self) -> bool:
        """Write the words of the archives' steps; whether any are others."""
        altered = False
        for button, place in zip(self._steps, self._places, strict=True):
            if place.archive is None or place.inner:
                continue
            name, count = place.archive.name, self.unsaved(place)
            words = _cut(shown(name)) + (UNSAVED_MARK if count else "")
            altered |= words != button.text()
            button.setText(words)
            said = "{name}, {count:change|changes} not saved" if count else "{name}"
            button.setToolTip(say(said, name=shown(name), count=count))
            said = "Archive {name}, {count:change|changes} not saved" if count else "Archive {name}"
            button.setAccessibleName(say(said, name=name, count=count))
        return altered

    def _go_above(self) -> None:
        self.chosen.emit(self._places[self._above])

    def _add(self, words: str, place: Place, *, is_archive: bool) -> QPushButton:
        button = QPushButton(_cut(shown(words)))
        button.setToolTip(shown(words))
        button.setProperty("role", "archive" if is_archive else "step")
        button.setAccessibleName(
            say("Archive {words}", words=words) if is_archive else say("Folder {words}", words=words)
        )
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        if is_archive:
            button.setIcon(theme.icon("archive", "oak"))
        button.setProperty("place", len(self._places))
        self._places.append(place)
        button.clicked.connect(self._clicked)
        self._row.addWidget(button)
        self._steps.append(button)
        return button

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.typing_wanted.emit()

    def _clicked(self) -> None:
        self.chosen.emit(self._places[self.sender().property("place")])


def _steps(place: Place) -> list[tuple[str, Place]]:
    if place.outer is not None:
        return [*_steps(place.outer), *_inside(place)]
    folder = place.archive.parent if place.archive is not None else place.folder
    home = Path.home()
    folders = [folder, *folder.parents]
    if home in folders:
        folders = folders[: folders.index(home) + 1]
    steps = [("Home" if f == home else f.name or "Disk", Place(f)) for f in reversed(folders)]
    if len(steps) > _MOST_FOLDERS:
        steps = [steps[0], ("…", steps[-_MOST_FOLDERS][1]), *steps[1 - _MOST_FOLDERS :]]
    if place.find:
        steps.append((say("Found: {words}", words=place.find), place))
    return [*steps, *_inside(place)]


def _inside(place: Place) -> list[tuple[str, Place]]:
    """The archive and the folders in it."""
    if place.archive is None:
        return []
    top = replace(place, inner="")
    steps = [(place.archive.name, top)]
    inner = ""
    for name in filter(None, place.inner.split("/")):
        inner = f"{inner}/{name}" if inner else name
        steps.append((name, replace(top, inner=inner)))
    return steps


def _cut(words: str) -> str:
    """Long names lose their middle, so that ending and beginning stay in sight."""
    if len(words) <= _LONGEST:
        return words
    half = _LONGEST // 2
    return f"{words[:half]}…{words[-half + 1 :]}"
