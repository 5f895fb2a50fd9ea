"""From: what lies here, on the disk or inside an archive, and what of it is chosen."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import (
    QEvent,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    Qt,
    Signal,
)
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent, QMouseEvent, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QMenu,
    QPushButton,
    QStackedLayout,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from rundlet.core import text
from rundlet.core.errors import RundletError
from rundlet.core.files.types import Sort
from rundlet.core.formats.base import UNKNOWN
from rundlet.desktop.delegates.rows import RowDelegate
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.models.listing import COLUMNS, ArchiveListing, DiskListing, Listing
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.widgets.basics import Column, FlowLayout, label
from rundlet.desktop.workspace import Choice, Workspace

_HINT = "Tick or Ctrl-click to choose. Shift picks a run, Ctrl takes one back out."
_EXPAND_UP_TO = 12
_ORDER_WORDS = {"name": "name", "kind": "kind", "size": "size", "share": "share", "changed": "time of change"}
Index = QModelIndex | QPersistentModelIndex


class EntryView(QTreeView):
    """The list. A click in a tick box adds or takes back one row; a click beside all rows loses no choice."""

    entered = Signal(int)

    def __init__(self, model: EntryModel) -> None:
        super().__init__()
        self._delegate = RowDelegate(ticks=True)
        self._entries = model
        self.setModel(model)
        self.setItemDelegate(self._delegate)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setUniformRowHeights(True)
        self.setSortingEnabled(True)
        self.setExpandsOnDoubleClick(False)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Files and folders")
        self.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        self.doubleClicked.connect(self._enter)

    def selectionCommand(self, index: Index, event: QEvent | None = None) -> QItemSelectionModel.SelectionFlag:
        flag = QItemSelectionModel.SelectionFlag
        if isinstance(event, QMouseEvent):
            if not index.isValid():
                return flag.NoUpdate
            if event.type() == QEvent.Type.MouseButtonPress and self.in_tick(index, event.position().toPoint()):
                return flag.Toggle | flag.Rows
            if event.type() == QEvent.Type.MouseButtonRelease and self.in_tick(index, event.position().toPoint()):
                return flag.NoUpdate
        return super().selectionCommand(index, event)

    def in_tick(self, index: Index, at: QPoint) -> bool:
        """Whether a point is in the tick box of a row."""
        if index.column() != 0:
            return False
        s = theme.sizes
        return self._delegate.tick_rect(self.visualRect(index)).adjusted(-s.space, -s.gap, s.space, s.gap).contains(at)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and plain:
            self._enter(self.currentIndex())
            return
        super().keyPressEvent(event)

    def _enter(self, index: QModelIndex) -> None:
        if index.isValid():
            self.entered.emit(self._entries.node(index))

    def chosen_nodes(self) -> list[int]:
        """The nodes of all selected rows, run by run."""
        nodes: list[int] = []
        for run in self.selectionModel().selection().toList():
            if run.left() == 0:
                nodes += self._entries.nodes_between(run.parent(), run.top(), run.bottom())
        return nodes

    def choose_nodes(self, nodes: Iterable[int]) -> None:
        """Select rows, and no others; the first becomes the current one."""
        selection = QItemSelection()
        first = QModelIndex()
        last = self._entries.columnCount() - 1
        for node in nodes:
            index = self._entries.index_of(node)
            if index.isValid():
                selection.select(index, index.siblingAtColumn(last))
                first = first if first.isValid() else index
        flag = QItemSelectionModel.SelectionFlag
        self.selectionModel().setCurrentIndex(first, flag.NoUpdate)
        self.selectionModel().select(selection, flag.ClearAndSelect | flag.Rows)
        self.scrollTo(first)


class FromColumn(Column):
    """The list with its counts and type chips."""

    dropped = Signal(object)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("From")
        self._workspace = workspace
        self.setAcceptDrops(True)
        self.summary = label("", "soft", wrap=False)
        self.head.addWidget(self.summary)
        self._chip_row = QWidget()
        self._chip_flow = FlowLayout(theme.sizes.space)
        self._chip_row.setLayout(self._chip_flow)
        self.chips: dict[Sort | None, QPushButton] = {}
        self._find = ""
        self._narrowed: Sort | None = None
        self.body.addWidget(self._chip_row)
        self.model = EntryModel()
        self.view = EntryView(self.model)
        self._pages = QStackedLayout()
        self.body.addLayout(self._pages, 1)
        self._pages.addWidget(self.view)
        self._pages.addWidget(self._make_message())
        self._before: list[int] = []
        self.again = QPushButton()
        self.again.setVisible(False)
        self.again.clicked.connect(self._choose_again)
        self.hint = label(_HINT, "soft")
        self.body.addWidget(self.again, 0, Qt.AlignmentFlag.AlignLeft)
        self.body.addWidget(self.hint)
        self._lay_out_header()
        self._wire()

    def _make_message(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        self.message = label("", "statement")
        self.message_more = label("", "soft")
        self.message_back = QPushButton("Back to the list")
        column.addStretch(1)
        column.addWidget(self.message)
        column.addWidget(self.message_more)
        column.addWidget(self.message_back, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(2)
        return page

    def _lay_out_header(self) -> None:
        header = self.view.header()
        header.setAccessibleName("Columns of the list")
        header.setStretchLastSection(False)
        header.setSectionsMovable(False)
        header.setMinimumSectionSize(theme.sizes.control)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        header.customContextMenuRequested.connect(self._offer_orders)
        samples = {1: "GeoJSON map ", 2: "1000.0 kB ", 3: "Share of most", 4: "29/12/2031 "}
        for column, sample in samples.items():
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Interactive)
            header.resizeSection(column, theme.text_width(sample) + 2 * theme.sizes.gap)

    def order_menu(self) -> QMenu:
        """Every order that the list can be put in, also by what has no column where it is narrow."""
        menu = QMenu(self)
        for column, key in enumerate(COLUMNS):
            action = menu.addAction(f"Sort by {_ORDER_WORDS[key]}")
            action.setData(column)
            action.triggered.connect(self._order_chosen)
        return menu

    def _offer_orders(self, at: QPoint) -> None:
        self.order_menu().popup(self.view.header().mapToGlobal(at))

    def _order_chosen(self) -> None:
        column = self.sender().data()  # type: ignore[attr-defined]
        largest_first = COLUMNS[column] in ("size", "share", "changed")
        self.view.sortByColumn(column, Qt.SortOrder.DescendingOrder if largest_first else Qt.SortOrder.AscendingOrder)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where it is narrow, names get the room of the kinds, which the icons tell too."""
        super().resizeEvent(event)
        self.view.setColumnHidden(COLUMNS.index("kind"), self.width() < theme.sizes.kinds_from)

    def _wire(self) -> None:
        self._workspace.listed.connect(self._show)
        self._workspace.opening.connect(self._show_partial)
        self._workspace.failed_to_list.connect(self._show_failure)
        self._workspace.row_changed.connect(self.model.refresh_row)
        self._workspace.choice_changed.connect(self._show_choice)
        self._workspace.restored.connect(self.view.choose_nodes)
        self.view.entered.connect(self._workspace.enter)
        self.view.selectionModel().selectionChanged.connect(self._selection_changed)
        self.message_back.clicked.connect(self._leave_message)

    # Showing

    def _show(self, listing: Listing) -> None:
        self._find, self._narrowed, self._before = "", None, []
        in_archive = isinstance(listing, ArchiveListing)
        self.model.show(listing, share_heading="Packed" if in_archive else "Share")
        self.view.setRootIsDecorated(in_archive)
        self.view.setIndentation(theme.sizes.indent if in_archive else 0)
        header = self.view.header()
        self.model.sort(header.sortIndicatorSection(), header.sortIndicatorOrder())
        self._show_chips(listing)
        if in_archive:
            self._expand_few(listing)
        empty = not len(listing.children(0))
        self._pages.setCurrentIndex(1 if empty else 0)
        if empty:
            self._say("There is nothing in here." if in_archive else "This folder is empty.", "")

    def _show_partial(self, listing: ArchiveListing) -> None:
        """What was found so far of an archive that is still being listed."""
        self._show(listing)
        self.summary.setText(f"{text.number(len(listing.tree.catalog))} entries so far; still reading the list …")

    def _expand_few(self, listing: Listing) -> None:
        """Open the folders at once where all of it fits on a page."""
        top = listing.children(0)
        if len(top) == 1:
            self.view.expand(self.model.index(0, 0))
            return
        for row, node in enumerate(top):
            if row < _EXPAND_UP_TO and len(listing.children(node) if listing.is_folder(node) else ()) <= _EXPAND_UP_TO:
                self.view.expand(self.model.index(row, 0))

    def _show_chips(self, listing: Listing) -> None:
        while (item := self._chip_flow.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self.chips.clear()
        counts = listing.counts()
        if len(counts) < 2:
            self._chip_row.setVisible(False)
            return
        self._chip_row.setVisible(True)
        total = sum(counts.values())
        self._add_chip(None, f"All {text.number(total)}")
        for sort in Sort:
            if counts.get(sort):
                self._add_chip(sort, f"{sort.value} {text.number(counts[sort])}")
        self.chips[None].setChecked(True)

    def _add_chip(self, sort: Sort | None, words: str) -> None:
        chip = QPushButton(words)
        chip.setProperty("role", "chip")
        chip.setCheckable(True)
        chip.setAccessibleName(f"Show only {words}")
        chip.setProperty("sort", sort.name if sort else "")
        chip.clicked.connect(self._chip_clicked)
        self._chip_flow.addWidget(chip)
        self.chips[sort] = chip

    def _chip_clicked(self) -> None:
        name = self.sender().property("sort")
        self._narrowed = Sort[name] if name else None
        for sort, chip in self.chips.items():
            chip.setChecked(sort == self._narrowed)
        self._narrow()

    def narrow_to(self, words: str) -> None:
        """Show only rows with these words in their names."""
        self._find = words.strip()
        self._narrow()

    def _narrow(self) -> None:
        chosen = self.view.chosen_nodes()
        self.model.narrow(self._find, self._narrowed)
        if isinstance(self.model.listing, ArchiveListing) and (self._find or self._narrowed):
            self.view.expandAll()
        kept = [n for n in chosen if self.model.index_of(n).isValid()]
        if kept:
            self.view.choose_nodes(kept)
        else:
            self._selection_changed()
        self._pages.setCurrentIndex(0)

    def _show_failure(self, error: Exception) -> None:
        if isinstance(error, RundletError):
            self._say(error.message, error.hint or "")
        else:
            self._say("Something went wrong in Rundlet itself.", f"{type(error).__name__}: {error}")
        self._pages.setCurrentIndex(1)

    def _say(self, words: str, more: str) -> None:
        self.message.setText(words)
        self.message_more.setText(more)
        self.message_back.setVisible(self._workspace.can_go_back or self._workspace.listing is not None)

    def _leave_message(self) -> None:
        if self.model.listing is not None and len(self.model.listing.children(0)):
            self._pages.setCurrentIndex(0)
        else:
            self._workspace.back()

    @property
    def shows_message(self) -> bool:
        """Whether a message stands in the place of the list."""
        return self._pages.currentIndex() == 1

    def _show_choice(self, choice: Choice) -> None:
        listing = self._workspace.listing
        if isinstance(listing, DiskListing):
            self.summary.setText(_disk_summary(listing, choice))
        elif isinstance(listing, ArchiveListing):
            self.summary.setText(_archive_summary(listing, choice))

    # Choosing

    def _selection_changed(self) -> None:
        nodes = self.view.chosen_nodes()
        before = list(self._workspace.choice.nodes)
        if len(before) > 1 and len(nodes) == 1:
            self._before = before
        elif len(nodes) > 1:
            self._before = []
        self.again.setVisible(bool(self._before))
        self.again.setText(f"Choose the {len(self._before)} from before again")
        self._workspace.choose(nodes)

    def _choose_again(self) -> None:
        before, self._before = self._before, []
        self.view.choose_nodes(before)

    # Dropping

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.dropped.emit(paths)


def _disk_summary(listing: DiskListing, choice: Choice) -> str:
    if not choice.items:
        return text.plural(len(listing.items), "item")
    more = "…" if choice.counting else ""
    return (
        f"{choice.items} of {text.plural(len(listing.items), 'item')} chosen · "
        f"{text.plural(choice.files, 'file')}{more} · {text.size(choice.size)}{more}"
    )


def _archive_summary(listing: ArchiveListing, choice: Choice) -> str:
    if choice.items:
        return f"{text.plural(choice.items, 'entry')} chosen · {text.plural(choice.files, 'file')} · {text.size(choice.size)}"
    tree, folder = listing.tree, listing.folder
    packed = int(tree.packed[folder])
    packed_words = f", packed to {text.size(packed)}" if packed != UNKNOWN else ""
    return f"{text.plural(int(tree.files[folder]), 'file')} · {text.size(int(tree.size[folder]))}{packed_words}"
