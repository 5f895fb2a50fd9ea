"""Looking into the current file beside the list."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from rundlet.core import text
from rundlet.desktop.views.preview import Preview

if TYPE_CHECKING:
    from PySide6.QtWidgets import QToolButton

    from rundlet.desktop.preview_loader import PreviewLoader
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.entry_views import EntryView


class PreviewPane(QObject):
    """Keeps the preview at the current row, while it is shown.

    Args:
        view: whose current row it is.
        button: is down while the preview is shown.
    """

    def __init__(
        self, workspace: Workspace, preview_loader: PreviewLoader, view: EntryView, button: QToolButton
    ) -> None:
        super().__init__(view)
        self._workspace = workspace
        self._preview_loader = preview_loader
        self._view = view
        self._button = button
        self.preview = Preview()
        self.preview.setVisible(False)
        self.preview.closed.connect(self.toggle)
        button.clicked.connect(self.set_on)
        preview_loader.looked.connect(self.preview.show_seen)
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
            self._preview_loader.drop()

    def _look(self, *_: object) -> None:
        """Look at the current row, if anything is to be looked at."""
        if not self.preview.isVisible():
            return
        index, listing = self._view.currentIndex(), self._workspace.listing
        node = self._view.entries.node(index) if index.isValid() else 0
        spot = listing.spot(node) if listing is not None else None
        if spot is not None:
            self._preview_loader.look(spot)
        elif node and listing is not None:
            self._preview_loader.drop()
            self.preview.show_words("Go in to see what is in it.", text.shown(listing.record(node).name))
        else:
            self._preview_loader.drop()
            self.preview.show_words("Choose a file to see what is in it.")
