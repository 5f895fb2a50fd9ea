"""Looking into the current file beside the list."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core import text

if TYPE_CHECKING:
    from PySide6.QtWidgets import QToolButton

    from rundlet.desktop.preview_loader import PreviewLoader
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.entry_views import EntryView
    from rundlet.desktop.views.preview import Preview


class PreviewPane(QObject):
    """Keeps the preview at the current row, while it is shown.

    Args:
        view: whose current row it is.
        button: is down while the preview is shown.

    Signals:
        made: with the preview, once there is one.
    """

    made = Signal(object)

    def __init__(
        self, workspace: Workspace, preview_loader: PreviewLoader, view: EntryView, button: QToolButton
    ) -> None:
        super().__init__(view)
        self._workspace = workspace
        self._preview_loader = preview_loader
        self._view = view
        self._button = button
        self._preview: Preview | None = None
        button.clicked.connect(self.set_on)
        view.selectionModel().currentChanged.connect(self._look)

    @property
    def preview(self) -> Preview:
        """What shows the file; made when it is first wanted."""
        if self._preview is None:
            from rundlet.desktop.views.preview import Preview

            self._preview = Preview()
            self._preview.setVisible(False)
            self._preview.closed.connect(self.toggle)
            self._preview_loader.looked.connect(self._preview.show_seen)
            self.made.emit(self._preview)
        return self._preview

    @property
    def _is_shown(self) -> bool:
        return self._preview is not None and self._preview.isVisible()

    def toggle(self) -> None:
        """Show the preview, or no longer."""
        self.set_on(not self._is_shown)

    def set_on(self, on: bool) -> None:
        """Show the current file beside the list, or no longer."""
        self._button.setChecked(on)
        if on or self._preview is not None:
            self.preview.setVisible(on)
        if on:
            self._look()
        else:
            self._preview_loader.drop()

    def _look(self, *_: object) -> None:
        """Look at the current row, if anything is to be looked at."""
        if not self._is_shown:
            return
        index, listing = self._view.currentIndex(), self._workspace.listing
        node = self._view.entries.node(index) if index.isValid() else 0
        spot = listing.spot(node) if listing is not None else None
        if spot is not None:
            self._preview_loader.look(spot)
        elif node and listing is not None:
            self._preview_loader.drop()
            self.preview.show_words("Open it to see what is in it.", text.shown(listing.record(node).name))
        else:
            self._preview_loader.drop()
            self.preview.show_words("Select a file to see what is in it.")
