"""From: what lies here, on the disk or inside an archive, and what of it is chosen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QElapsedTimer, QItemSelectionModel, QModelIndex, QPoint, Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QListView,
    QSplitter,
)

from rundlet.core.errors import RundletError, UnknownFormat
from rundlet.core.formats.detect import is_archive
from rundlet.core.fs.content_type import file_type_on_disk
from rundlet.core.jobs.interface_priority import first
from rundlet.core.model.file_type import FileType, file_type_of
from rundlet.desktop.background import Latest
from rundlet.desktop.dragging import local_files
from rundlet.desktop.file_manager import type_words
from rundlet.desktop.locations.listing import COLUMNS, TOP, in_archive
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.pages.list_views import ListViews
from rundlet.desktop.pages.preview_pane import PreviewPane
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import Column, OneLine, label, restyle, tab_through
from rundlet.desktop.views.name_encoding_field import NameEncodingField
from rundlet.desktop.views.notice import Notice
from rundlet.desktop.views.selection_offers import SelectionOffers
from rundlet.desktop.views.type_chips import TypeChips
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from PySide6.QtGui import QDragEnterEvent, QDropEvent, QResizeEvent

    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.listing import Location
    from rundlet.desktop.locations.place import Place, Selection
    from rundlet.desktop.preview_loader import PreviewLoader, Thumbs
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.entry_views import EntryView, ThumbView
    from rundlet.desktop.views.long_view import LongView
    from rundlet.desktop.views.preview import Preview

_HINT = "Tick items to select them. Shift-click selects a range."
_MAP_HINT = "Click a folder or an archive to open it, or a file to select it."
_EXPAND_UP_TO = 12
_EXPAND_AT_MOST = 5000
_KEPT_AT_MOST = 1000  # rows that stay selected when what is shown of an archive changes


def _not_an_archive(path: Path, error: UnknownFormat) -> str:
    """What to say of a file that is no archive: what it is, where its name says otherwise, else what the desktop calls it."""
    if file_type_of(path.name) is FileType.ARCHIVES:
        try:
            size = path.stat().st_size
        except OSError:
            return error.message
        if not size:
            return say("{name:name} is called {extension} but is empty.", name=path.name, extension=path.suffix)
        if file_type_on_disk(path, size) is FileType.TEXT:
            return say("{name:name} is called {extension} but is text.", name=path.name, extension=path.suffix)
        return error.message
    what, problem = type_words(path), error.message.rstrip(".")
    return say("{problem}. Its type is “{what}”.", problem=problem, what=what) if what else error.message


class FromColumn(Column):
    """The list with its counts and type chips.

    Signals:
        dropped: files that were dragged in.
        everything_wanted: what is looked for is to be forgotten.
        below_wanted: what is looked for is to be looked for in subfolders, too.
        open_wanted: a file on the disk that is no archive, to be opened in its program.
        moved_onto: files of the list that were dragged onto one of its folders, the folder, and whether they move there.
        moved_within: rows of an archive that were dragged onto one of its folders, and the path of that.
        put_within: files that were dragged into an archive, and the folder in it.
        put_onto: files that were dragged onto an archive in the list, and the archive.
    """

    dropped = Signal(object)
    everything_wanted = Signal()
    below_wanted = Signal(str)
    open_wanted = Signal(object)
    moved_onto = Signal(object, object, bool)
    moved_within = Signal(object, str)
    put_within = Signal(object, str)
    put_onto = Signal(object, object)

    def __init__(self, workspace: Workspace, preview_loader: PreviewLoader, thumbs: Thumbs) -> None:
        super().__init__("From")
        self._workspace = workspace
        self.setAcceptDrops(True)
        self.summary = OneLine("soft")
        self.head.addWidget(self.summary)
        self.model = EntryModel()
        self.pages = ListViews(workspace, self.model, thumbs)
        self.view, self.view_buttons = self.pages.view, self.pages.view_buttons
        for button in self.view_buttons.values():
            self.head.addWidget(button)
        self._types = TypeChips()
        self.chips = self._types.chips
        self._find = ""
        self._nothing_found = False
        self._shown_place: Place | None = None
        self.body.addWidget(self._types)
        self.preview_pane = PreviewPane(workspace, preview_loader, self.view, self.view_buttons["look"])
        self.halves = QSplitter(Qt.Orientation.Vertical)
        self.halves.addWidget(self.pages)
        self.halves.setChildrenCollapsible(False)
        self.halves.setStretchFactor(0, 1)
        self.preview_pane.made.connect(self._add_preview)
        self.body.addWidget(self.halves, 1)
        self._before: tuple[int, ...] = ()
        self._order_task, self._narrow_task = Latest(workspace.background), Latest(workspace.background)
        self._content_task = Latest(workspace.background)
        self._last: tuple[int, ...] = ()
        self._changed = QElapsedTimer()
        self._unseen: list[int] = []
        self.offers = SelectionOffers()
        self.hint = label(_HINT, "soft")
        self.notice = Notice()
        self.names_as = NameEncodingField()
        self.body.addWidget(self.notice)
        self.body.addWidget(self.names_as)
        self.body.addWidget(self.offers)
        self.body.addWidget(self.hint)
        self._wire()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_columns()

    def show_columns(self, chosen: str) -> None:
        """Show these columns beside the names, as far as there is room.

        Args:
            chosen: some of them, with commas between.
        """
        self.view.columns = tuple(filter(None, chosen.split(",")))
        self._show_columns()

    def _show_columns(self) -> None:
        """Where it is narrow, names get the room of the kinds, which the icons tell too."""
        sizes = theme.sizes
        least = {"kind": sizes.kinds_from, "changed": sizes.times_from, "share": sizes.shares_from}
        for column, key in enumerate(COLUMNS[1:], 1):
            hides = key not in self.view.columns or self.width() < least.get(key, 0)
            for view in self.pages.lists:
                if not isinstance(view, QListView):
                    view.setColumnHidden(column, hides)

    @property
    def is_naming(self) -> bool:
        """Whether the name of an item is being typed."""
        return any(view.state() == QAbstractItemView.State.EditingState for view in self.pages.lists)

    @property
    def pointed(self) -> bool:
        """Whether the list has the focus and its items were selected with the mouse."""
        view = self.pages.page
        return view.hasFocus() and any(view is rows and rows.pointed for rows in self.pages.lists)

    def _hands_are_busy(self) -> bool:
        """Whether something is being typed, dragged or chosen from a menu, which rows must not be taken away from."""
        return self.is_naming or bool(QApplication.mouseButtons().value) or QApplication.activePopupWidget() is not None

    def _wire(self) -> None:
        self._workspace.follower.held = self._hands_are_busy
        self._workspace.order = lambda: self.model.order
        self.model.beside = self._beside
        self._workspace.listed.connect(self._show)
        self._workspace.unchanged.connect(self._show_rows)
        self._workspace.relisted.connect(self._show_again)
        self._workspace.checking.changed.connect(self._show_verdicts)
        self._workspace.checking.progressed.connect(self._show_verdicts)
        self._workspace.comparing.changed.connect(self._show_verdicts)
        self._workspace.changing.changed.connect(self._show_verdicts)
        self._workspace.opening.connect(self._show_partial)
        self._workspace.failed_to_list.connect(self._show_failure)
        self._workspace.names_hidden.connect(self._show_hidden)
        self._workspace.selector.row_changed.connect(self.model.refresh_row)
        self._workspace.selector.changed.connect(self._show_choice)
        self._workspace.restored.connect(self._choose_all_of)
        self._wire_list(self.view)
        self.pages.added.connect(self._wire_list)
        self.pages.way_changed.connect(self._hint_again)
        self.view.selectionModel().selectionChanged.connect(self._selection_changed)
        self._types.changed.connect(self._narrow)
        self.names_as.chosen.connect(self._workspace.read_names_as)
        self.offers.below.clicked.connect(self.find_below)
        self.offers.again.clicked.connect(self._choose_again)
        self.offers.choose_shown.clicked.connect(self.view.selectAll)
        self.offers.only_shown.clicked.connect(self._forget_unseen)
        self.offers.keep.clicked.connect(self._workspace.selector.keep_others)
        self.offers.only_here.clicked.connect(self._workspace.selector.clear_others)
        self.pages.message.back.clicked.connect(self._leave_message)

    @property
    def preview(self) -> Preview:
        """What shows the current file."""
        return self.preview_pane.preview

    def _add_preview(self, preview: Preview) -> None:
        self.halves.addWidget(preview)
        self.halves.setSizes([theme.sizes.window_height, theme.sizes.preview])

    def _wire_list(self, view: EntryView | LongView | ThumbView) -> None:
        view.entered.connect(self._enter)
        view.look_wanted.connect(self.preview_pane.toggle)
        view.replaced.connect(self._let_go_of_unseen)
        self._show_columns()

    def _beside(self, work: Callable[[], None], then: Callable[[], None]) -> None:
        self._order_task.run(lambda _: work(), done=lambda _: then(), failed=self.tell)

    def _enter(self, node: int) -> None:
        """Go into a folder or an archive; another file is shown, or on the disk opened in its program.

        The double click has chosen the row itself; what was chosen before it is chosen again on coming back.
        """
        self._content_task.drop()
        listing = self._workspace.listing
        if listing is None:
            return
        if (
            self._workspace.place.in_archive
            and not listing.is_folder(node)
            and listing.record(node).file_type != FileType.ARCHIVES
        ):
            self.set_looking(True)  # what else is there to see in it
            return
        by_itself = self.view.chosen_nodes() == [node] and not self._changed.hasExpired(
            QApplication.doubleClickInterval()
        )
        leaving = self._last if by_itself and self._last else None
        path = listing.path_of(node)
        if path is None or listing.entered(node, self._workspace.place) is not None:
            self._workspace.enter(node, leaving=leaving)
            return
        file_type = file_type_of(path.name)  # of a document that is a zip inside, what a person means is the document

        def decided(is_one: bool) -> None:
            if self._workspace.listing is not listing:
                return
            if is_one:
                self._workspace.enter(node, leaving=leaving)
            else:
                self.open_wanted.emit(path)

        if file_type == FileType.OTHER:
            self._content_task.run(lambda _: is_archive(path), done=decided, failed=self.tell)
        else:
            decided(file_type == FileType.ARCHIVES)

    def _hint_again(self) -> None:
        self.hint.setText(_MAP_HINT if self.pages.is_map else _HINT)
        restyle(self.hint, "role", "soft")

    def set_looking(self, on: bool) -> None:
        """Show the current file beside the list, or no longer."""
        self.preview_pane.set_on(on)

    # Showing

    def _show(self, listing: Location) -> None:
        scrolled = self.pages.rows.verticalScrollBar().value()
        again, self._shown_place = self._workspace.place == self._shown_place, self._workspace.place
        self._narrow_task.drop()
        if not again:
            self._find = ""
            self._types.choose(None)
        self._before, self._last, self._unseen = (), (), []
        self._hint_again()
        self._show_verdicts()
        within = listing.opens_in_place
        archive = self._workspace.archive
        self.names_as.show_page(archive.reader.code_page if archive is not None else "")
        self.model.show(listing, share_heading=listing.share_heading)
        self.view.setRootIsDecorated(within)
        self.view.setIndentation(theme.sizes.indent if within else 0)
        self._types.show_counts(listing.counts())
        tab_through(self.view_buttons["look"], self._types.chips.values())
        if again:
            if not within and (self._find or self._types.chosen):
                self.model.narrow(self._find, self._types.chosen)
            QTimer.singleShot(0, self, lambda: self.pages.rows.verticalScrollBar().setValue(scrolled))
        if within:
            self._expand_few(listing)
        if within and (self._find or self._types.chosen):
            if listing.is_large:
                self._narrow()
            else:
                self._show_narrowed(())  # what was selected are rows of the listing before
        else:
            self._show_rows()
        if not (self._find or self._types.chosen or len(listing.children(TOP))):
            if self._workspace.place.find:
                self._say(
                    say("Nothing in this folder or below it matches {find:name}.", find=self._workspace.place.find), ""
                )
                return
            more = "" if within else "Right-click for a new folder, or to paste what you copied."
            self._say("There is nothing here." if within else "This folder is empty.", more)

    def _show_again(self, listing: ArchiveListing) -> None:
        """Another listing of the same archive: what is selected, current and opened stays so, as far as it is there."""
        before, view = self.model.listing, self.view
        if not in_archive(before):
            self._show(listing)
            return
        paths = before.tree.path
        current = self.model.node(view.currentIndex())
        kept = [paths(node) for node in view.chosen_nodes()[:_KEPT_AT_MOST]]
        opened = [paths(node) for node in self.model.opened() if view.isExpanded(self.model.index_of(node))]
        at = paths(current) if current else ""
        self._show(listing)
        for path in opened:
            if node := listing.tree.find(path):
                view.expand(self.model.index_of(node))
        index = self.model.index_of(listing.tree.find(at) or 0) if at else QModelIndex()
        if index.isValid():
            view.selectionModel().setCurrentIndex(index, QItemSelectionModel.SelectionFlag.NoUpdate)
        self._choose_all_of([node for path in kept if (node := listing.tree.find(path))])

    def choose(self, nodes: list[int]) -> None:
        """Select these rows, and no others."""
        self._choose_all_of(nodes)

    def _show_verdicts(self) -> None:
        """Show of each row what was found out of it, while that is what the columns are about."""
        listing, ws = self._workspace.listing, self._workspace
        if in_archive(listing):
            parts = [part for part in (ws.comparing, ws.checking) if part.wanted and not ws.changing.wanted]
            listing.told = parts[0].note if parts else None
        for view in self.pages.lists:
            view.viewport().update()

    def _show_partial(self, listing: ArchiveListing) -> None:
        """What was found so far of an archive that is still being listed."""
        self._show(listing)
        self.summary.setText(
            say("{count:number} items so far. Still reading the file list …", count=len(listing.tree.catalog))
        )

    def _expand_few(self, listing: Location) -> None:
        """Open the folders at once where all of it fits on a page."""
        top = listing.children(0)
        most = _EXPAND_AT_MOST if len(top) == 1 else _EXPAND_UP_TO
        for row, node in enumerate(top[:_EXPAND_UP_TO]):
            if 0 < listing.count(node) <= most:
                self.view.expand(self.model.index(row, 0))

    def narrow_to(self, words: str) -> None:
        """Show only rows with these words in their names."""
        self._find = words.strip()
        self._narrow()

    def find_below(self) -> None:
        """Look for the same in subfolders, too."""
        if self._can_find_below:
            self.summary.setText("Searching subfolders …")
            self.below_wanted.emit(self._find)

    @property
    def _can_find_below(self) -> bool:
        listing = self._workspace.listing
        return bool(self._find) and listing is not None and listing.is_editable and not self._workspace.place.find

    def _narrow(self) -> None:
        """Show only what fits; among very many that is found beside the interface, while one goes on typing."""
        listing, wanted = self._workspace.listing, (self._find, self._types.chosen)
        self._narrow_task.drop()
        if listing is not None and listing.is_large:
            self._narrow_task.run(
                lambda _: listing.narrow_ahead(*wanted), done=lambda _: self._show_narrowed(), failed=self.tell
            )
        else:
            self._show_narrowed()

    def _show_narrowed(self, chosen: Sequence[int] | None = None) -> None:
        """What is chosen stays chosen, in sight or not.

        Args:
            chosen: the rows; those that are selected by default.
        """
        chosen = list(self._workspace.selection.nodes if chosen is None else chosen)
        self.model.narrow(self._find, self._types.chosen)
        narrowed = bool(self._find or self._types.chosen)
        listing = self._workspace.listing
        if listing is not None and listing.opens_in_place and narrowed and not self.model.is_long:
            if listing.found <= _EXPAND_AT_MOST:
                self.view.expandAll()
            else:
                self.view.expandToDepth(0)
        self._choose_all_of(chosen)
        self._show_rows()

    def _show_rows(self) -> None:
        """Show the list, or that nothing in it is what is looked for."""
        listing, chosen = self._workspace.listing, self._types.chosen
        self._nothing_found = listing is not None and not listing.found and bool(self._find or chosen)
        if listing is None or not self._nothing_found:
            self.pages.show_place()
            return
        what = self._find or (chosen.value if chosen else "")
        more = "Press Enter to search its subfolders, too." if self._can_find_below else ""
        self.pages.say(say("Nothing here matches {what:name}.", what=what), more, back="Show everything")

    def _choose_all_of(self, nodes: list[int]) -> None:
        """These are chosen, those that are not in sight too."""
        rows = self.model.rows_of(nodes)
        self._unseen = [node for node, row in zip(nodes, rows, strict=True) if row < 0]
        self.view.choose_nodes(node for node, row in zip(nodes, rows, strict=True) if row >= 0)
        self._selection_changed()

    def _let_go_of_unseen(self) -> None:
        """What is hidden goes with all else that a plain click lets go of, also where the click changes nothing in sight."""
        if self._unseen:
            self._unseen = []
            self._selection_changed()

    def _forget_unseen(self) -> None:
        self._unseen = []
        self._selection_changed()

    def _show_offers(self) -> None:
        selection, listing = self._workspace.selection, self._workspace.listing
        narrowed = listing is not None and (self._find or self._types.chosen)
        self.offers.below.setVisible(self._can_find_below)
        self.offers.show_found(listing.found if narrowed and listing is not None else 0, len(self._unseen))
        self.offers.show_gathered(
            selection, self._workspace.selector.other_folders, on_disk=listing is not None and listing.is_editable
        )

    def _show_failure(self, error: Exception) -> None:
        if isinstance(error, UnknownFormat) and (place := self._workspace.refused) is not None:
            self._say(_not_an_archive(place, error), error.hint or "")
        elif isinstance(error, RundletError):
            self._say(error.message, error.hint or "")
        else:
            self._say("Something went wrong in Rundlet itself.", f"{type(error).__name__}: {error}")

    def _show_hidden(self, error: RundletError) -> None:
        """An archive whose list is locked: there is nothing to show before the password is given."""
        self.model.show(None)
        self.names_as.show_page("")
        self._types.setVisible(False)
        self.summary.setText("")
        self._say("The file names are hidden.", "Type the password to see them.")

    def tell(self, error: BaseException) -> None:
        """Say beside the list what could not be done; the list stays."""
        self.hint.setText(str(error))
        restyle(self.hint, "role", "warn")

    def _say(self, words: str, more: str) -> None:
        self._nothing_found = False
        back = "Back to the list" if self._has_rows else "Back" if self._workspace.can_go_back else ""
        self.pages.say(words, more, back=back)

    @property
    def _has_rows(self) -> bool:
        return self.model.listing is not None and len(self.model.listing.children(TOP)) > 0

    def _leave_message(self) -> None:
        if self._nothing_found:
            self._types.choose(None)
            self._find = ""
            self.everything_wanted.emit()
            self._narrow()
        elif self._has_rows:
            self.pages.show_place()
        else:
            self._workspace.back()

    def _show_choice(self, selection: Selection) -> None:
        listing = self._workspace.listing
        self.summary.setText(listing.summary(selection) if listing is not None else "")
        self._show_offers()

    # Choosing

    def _selection_changed(self) -> None:
        with first():  # so many small calls of the interface would each wait for the threads that compute
            self._take_choice(self.view.chosen_nodes())

    def _take_choice(self, nodes: list[int]) -> None:
        listing = self._workspace.listing
        if listing is not None:
            nodes = listing.meant(nodes)
        shown = len(nodes)
        nodes += self._unseen
        before = self._workspace.selection.nodes
        if len(before) > 1 and len(nodes) == 1:
            self._before = before
        elif len(nodes) > 1:
            self._before = ()
        self._last = before
        self._changed.start()
        self.offers.show_before(len(self._before))
        self._workspace.select(nodes, shown=shown)

    def _choose_again(self) -> None:
        before, self._before = self._before, ()
        self.view.choose_nodes(before)

    # Dropping

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.source() in self.pages.lists or event.mimeData().hasUrls():
            event.acceptProposedAction()

    def _drop_within(self, event: QDropEvent) -> None:
        """Something was dropped in an archive: into the folder whose row it is, or into the one that is shown."""
        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()
        place, listing = self._workspace.place, self._workspace.listing
        node = self._node_at(event.position().toPoint())
        if not in_archive(listing):
            return
        while node and not listing.is_folder(node):
            node = listing.parent_of(node)
        folder = listing.tree.path(node) if node else place.inner
        if event.source() in self.pages.lists:
            self.moved_within.emit(self.view.chosen_nodes(), folder)
        else:
            self.put_within.emit(local_files(event.mimeData()), folder)

    def _archive_at(self, at: QPoint) -> Path | None:
        """The archive on the disk whose row is at a place of the column."""
        listing, node = self._workspace.listing, self._node_at(at)
        if listing is None or not listing.is_editable or not node or listing.is_folder(node):
            return None
        path = listing.path_of(node)
        return path if path is not None and file_type_of(path.name) == FileType.ARCHIVES else None

    def dropEvent(self, event: QDropEvent) -> None:
        if self._workspace.place.in_archive:
            self._drop_within(event)
            return
        archive, dropped = self._archive_at(event.position().toPoint()), local_files(event.mimeData())
        if archive is not None and archive not in dropped:
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()
            self.put_onto.emit(dropped, archive)
            return
        if event.source() in self.pages.lists:
            folder = self._folder_at(event.position().toPoint())
            if folder is not None:
                copies = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
                event.setDropAction(Qt.DropAction.CopyAction)  # what moves is moved by us
                event.accept()
                self.moved_onto.emit(local_files(event.mimeData()), folder, not copies)
            return
        event.acceptProposedAction()
        self.dropped.emit(local_files(event.mimeData()))

    def _node_at(self, at: QPoint) -> int:
        """The row at a place of the column; 0 for none."""
        view = self.pages.page
        if not isinstance(view, QAbstractItemView):
            return 0
        index = view.indexAt(view.viewport().mapFrom(self, at))
        return self.model.node(index) if index.isValid() else 0

    def _folder_at(self, at: QPoint) -> Path | None:
        """The folder on the disk whose row is at a place of the column."""
        listing, node = self._workspace.listing, self._node_at(at)
        if listing is None or not listing.is_editable:
            return None
        return listing.path_of(node) if node and listing.is_folder(node) else None
