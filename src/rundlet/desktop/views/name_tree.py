"""A tree of names, which is only looked at."""

from __future__ import annotations

from PySide6.QtWidgets import QAbstractItemView, QTreeView

from rundlet.desktop.delegates.rows import RowDelegate
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.theme.theme import theme


class NameTree(QTreeView):
    """Shows a listing in one column.

    Args:
        spoken: what it shows, for who can't see it.
    """

    def __init__(self, spoken: str) -> None:
        super().__init__()
        self.rows = EntryModel(("name",))
        self.setModel(self.rows)
        self.setHeaderHidden(True)
        self.setIndentation(theme.sizes.indent)
        self.setItemDelegate(RowDelegate(ticks=False))
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setUniformRowHeights(True)
        self.setAccessibleName(spoken)
