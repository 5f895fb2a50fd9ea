"""The path of the place where the window stands: as steps to press, or as text to type, copy and paste."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget

from rundlet.core.text import shown
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.locations.typed_path import path_words, typed_place
from rundlet.desktop.views.breadcrumbs import Breadcrumbs
from rundlet.desktop.views.path_field import PathField

if TYPE_CHECKING:
    from rundlet.desktop.locations.place import Place
    from rundlet.desktop.state.workspace import Workspace


class PathBar(QWidget):
    """Shows the steps until a path is to be typed.

    Args:
        before: the control that Tab leads from to the first step.

    Signals:
        left: typing has ended, and the focus is free.
        refused: with a sentence that says why there is no way to what was typed.
    """

    left = Signal()
    refused = Signal(str)

    def __init__(self, workspace: Workspace, background: Background, before: QWidget) -> None:
        super().__init__()
        self._workspace = workspace
        self._task = Latest(background)
        self._offered = ""
        self.steps = Breadcrumbs(before)
        self.steps.unsaved = lambda place: workspace.changing.count_at(place.chain)
        workspace.changing.changed.connect(self.steps.show_marks)
        self.field = PathField()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.steps)
        row.addWidget(self.field)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.steps.chosen.connect(workspace.go)
        self.steps.typing_wanted.connect(self.type)
        self.field.returnPressed.connect(self._look)
        self.field.left.connect(self.leave)

    def type(self) -> None:
        """Show the path as text."""
        self._offered = shown(path_words(self._workspace.place))
        self.field.setText(self._offered)
        self._show_field(True)
        self.field.setFocus()
        self.field.selectAll()

    def leave(self) -> None:
        """Show the steps; what was typed counts no longer."""
        self._task.drop()
        had_focus = self.field.hasFocus()
        self._show_field(False)
        if had_focus:
            self.left.emit()

    def _show_field(self, on: bool) -> None:
        self.field.setVisible(on)
        self.steps.setVisible(not on)

    def _look(self) -> None:
        """Go where the typed path says; where nothing is there, the path stays to be mended."""
        words, folder = self.field.text(), self._workspace.place.folder
        if words == self._offered:  # a path that is no text can't be had from its text again
            self.leave()
            return
        self._task.run(
            lambda _: typed_place(words, folder), done=self._go, failed=lambda error: self.refused.emit(str(error))
        )

    def _go(self, place: Place) -> None:
        self.leave()
        if place.archive is not None and not place.inner:
            self._workspace.enter_file(place.archive)
        else:
            self._workspace.go(place)
