"""Looking into the current file beside the list."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from rundlet.core import text
from rundlet.desktop.peeking import Peeker, spot_of
from rundlet.desktop.widgets.preview import Preview

if TYPE_CHECKING:
    from PySide6.QtWidgets import QToolButton

    from rundlet.desktop.widgets.entry_views import EntryView
    from rundlet.desktop.workspace import Workspace


class Looking(QObject):
    """Keeps the preview at the current row, while it is shown.

    Args:
        view: whose current row it is.
        button: is down while the preview is shown.
    """

    def __init__(self, workspace: Workspace, peeker: Peeker, view: EntryView, button: QToolButton) -> None:
        super().__init__(view)
        self._workspace = workspace
        self._peeker = peeker
        self._view = view
        self._button = button
        self.preview = Preview()
        self.preview.setVisible(False)
        self.preview.closed.connect(self.toggle)
        button.clicked.connect(self.set_on)
        peeker.looked.connect(self.preview.show_seen)
        view.selectionModel().currentChanged.connect(self._look)

    def toggle(self) -> None:
        """Show the preview, or no longer."""
        self.set_on(not self.preview.isVisible())

    def set_on(self, on: bool) -> None:
        """Show the current file beside the list, or no longer."""
        self._button.setChecked(on)
        self.preview.setVisible(on)
        if on:
            self._look()
        else:
            self._peeker.drop()

    def _look(self, *_: object) -> None:
        """Look at the current row, if anything is to be looked at."""
        if not self.preview.isVisible():
            return
        index, listing = self._view.currentIndex(), self._workspace.listing
        node = self._view.entries.node(index) if index.isValid() else 0
        spot = spot_of(listing, node)
        if spot is not None:
            self._peeker.look(spot)
        elif node and listing is not None:
            self._peeker.drop()
            self.preview.show_words("Go in to see what is in it.", text.shown(listing.record(node).name))
        else:
            self._peeker.drop()
            self.preview.show_words("Choose a file to see what is in it.")
