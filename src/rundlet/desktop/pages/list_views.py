"""The ways to look at what lies at a place, one of them in sight."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QButtonGroup, QStackedWidget, QToolButton, QWidget

from rundlet.core.model.file_type import FileType
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.entry_views import EntryView
from rundlet.desktop.views.message_page import MessagePage
from rundlet.desktop.views.row_selection import lay_out_columns

if TYPE_CHECKING:
    from rundlet.desktop.models.entries import EntryModel
    from rundlet.desktop.preview_loader import Thumbs
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.entry_views import ThumbView
    from rundlet.desktop.views.long_view import LongView
    from rundlet.desktop.views.space_map import SpaceMap

_MAP_AFTER_MS = 200
_VIEWS = {"list": "As a list", "thumbs": "As thumbnails", "map": "As a space map, where area is size"}
_LOOK = "look"


class ListViews(QStackedWidget):
    """A list, small pictures or a space map, or a message in their place.

    Signals:
        way_changed: the place is shown in another way.
        added: with a further view of rows, which is made when it is first wanted.

    Attributes:
        view: the list.
        message: what stands there when there is nothing to show.
        ways: the buttons that choose, and the one for looking into the current file.
    """

    way_changed = Signal()
    added = Signal(object)

    def __init__(self, workspace: Workspace, model: EntryModel, thumbs: Thumbs) -> None:
        super().__init__()
        self._workspace = workspace
        self._model = model
        self._pictures = thumbs
        self.view = EntryView(model)
        self._long: LongView | None = None
        self._thumbs: ThumbView | None = None
        self._map: SpaceMap | None = None
        self.message = MessagePage()
        self.addWidget(self.view)
        self.addWidget(self.message)
        self._group = QButtonGroup(self)
        self.view_buttons = {way: self._way_button(way, words) for way, words in _VIEWS.items()}
        self.view_buttons[_LOOK] = _button(_LOOK, "Preview the current file (Space)")
        self.view_buttons["list"].setChecked(True)
        self._way = "list"
        self._map_timer = QTimer(self)
        self._map_timer.setSingleShot(True)
        self._map_timer.setInterval(_MAP_AFTER_MS)
        self._map_timer.timeout.connect(self._map_now)
        workspace.selector.row_changed.connect(self._map_later)

    def _way_button(self, way: str, words: str) -> QToolButton:
        button = _button(way, words)
        self._group.addButton(button)
        button.setProperty("way", way)
        button.clicked.connect(self._way_clicked)
        return button

    def _way_clicked(self) -> None:
        self.show_as(self.sender().property("way"))

    def show_as(self, way: str) -> None:
        """Show the place as ``"list"``, ``"thumbs"`` or ``"map"``."""
        self._way = way
        self.view_buttons[way].setChecked(True)
        self.way_changed.emit()
        self.show_place()
        self.page.setFocus()

    @property
    def way(self) -> str:
        """The way that is chosen: ``"list"``, ``"thumbs"`` or ``"map"``."""
        return self._way

    @property
    def page(self) -> QWidget:
        """What shows the place in the way that is chosen."""
        if self._way == "list":
            return self.rows
        return self.thumbs if self._way == "thumbs" else self.map

    @property
    def long(self) -> LongView:
        """The list for very many rows."""
        if self._long is None:
            from rundlet.desktop.views.long_view import LongView

            self._long = LongView(self.view)
            self.addWidget(self._long)
            self.added.emit(self._long)
        return self._long

    @property
    def thumbs(self) -> ThumbView:
        """The small pictures."""
        if self._thumbs is None:
            from rundlet.desktop.views.entry_views import ThumbView

            self._thumbs = ThumbView(self.view, self._pictures)
            self.addWidget(self._thumbs)
            self.added.emit(self._thumbs)
        return self._thumbs

    @property
    def map(self) -> SpaceMap:
        """The space map."""
        if self._map is None:
            from rundlet.desktop.views.space_map import SpaceMap

            self._map = SpaceMap()
            self.addWidget(self._map)
            self._map.entered.connect(self._enter_from_map)
        return self._map

    @property
    def rows(self) -> EntryView | LongView:
        """The list, for as many rows as there are."""
        return self.long if self._model.is_long else self.view

    @property
    def lists(self) -> tuple[EntryView | LongView | ThumbView, ...]:
        """All that show rows and are there by now, of which one is in sight at most."""
        return tuple(view for view in (self.view, self._long, self._thumbs) if view is not None)

    def fit_text(self) -> None:
        """Give the columns of the lists the room that text of this size needs."""
        lay_out_columns(self.view.header())
        if self._long is not None:
            lay_out_columns(self._long.horizontalHeader())

    @property
    def is_map(self) -> bool:
        """Whether the place is shown as a space map."""
        return self._way == "map"

    def show_place(self) -> None:
        """Show the place, and no message."""
        had_focus = self.message.hasFocus()
        self.setCurrentWidget(self.page)
        if had_focus:
            self.page.setFocus()
        self._map_now()

    def say(self, words: str, more: str, *, back: str) -> None:
        """Show a message in the place's stead, with a button that leads back where there are words for it."""
        had_focus = self.page.hasFocus() or self.message.hasFocus()
        self.message.say(words, more, back=back)
        self.setCurrentWidget(self.message)
        if had_focus:
            self.message.setFocus()

    @property
    def shows_message(self) -> bool:
        """Whether a message stands in the place of the list."""
        return self.currentWidget() is self.message

    def _map_later(self, _: object = None) -> None:
        if self.is_map:
            self._map_timer.start()

    def _map_now(self) -> None:
        if self.is_map:
            chosen = frozenset(self._workspace.selection.nodes)
            listing = self._workspace.listing
            self.map.show_areas(listing.areas() if listing is not None else (), chosen)

    def _enter_from_map(self, node: int) -> None:
        listing = self._workspace.listing
        if listing is not None and (listing.is_folder(node) or listing.record(node).file_type == FileType.ARCHIVES):
            self._workspace.enter(node)
        else:
            self.view.choose_nodes([node])
            self._map_now()


def _button(icon: str, words: str) -> QToolButton:
    button = QToolButton()
    button.setProperty("role", "way")
    button.setCheckable(True)
    button.setIcon(theme.icon(icon, "soft"))
    button.setAccessibleName(words)
    button.setToolTip(words)
    return button
