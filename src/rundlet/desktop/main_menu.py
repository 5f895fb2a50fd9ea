"""The menu of the window, with everything that can be done, and what it says of the program and its keys."""

from __future__ import annotations

import platform
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, qVersion
from PySide6.QtWidgets import QDialog, QLineEdit, QMenu, QMessageBox, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from rundlet import __version__
from rundlet.desktop.actions import ACTIONS, LIST_ACTIONS, LIST_KEYS, keys_in_words
from rundlet.desktop.theme.theme import theme
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from collections.abc import Sequence

    from PySide6.QtGui import QAction


def fill_main_menu(menu: QMenu, actions: dict[str, QAction], of_list: Sequence[QAction]) -> None:
    """Put all actions into the window's menu, part by part.

    Args:
        of_list: what can be done with the selected items.
    """

    def of(group: str) -> list[QAction]:
        return [actions[spec.id] for spec in ACTIONS if spec.group == group]

    menu.addActions(of("work"))
    menu.addSeparator()
    menu.addMenu("Go").addActions(of("go"))
    menu.addMenu("In the list").addActions(of_list)
    menu.addSeparator()
    menu.addActions(of("look"))
    menu.addSeparator()
    menu.addActions(of("about"))


class ShortcutsWindow(QDialog):
    """Every key with what it does, to be searched."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keyboard shortcuts – Rundlet")
        s = theme.sizes
        column = QVBoxLayout(self)
        column.setContentsMargins(s.wide, s.wide, s.wide, s.wide)
        column.setSpacing(s.gap)
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find a shortcut")
        self.finder.setAccessibleName("Find a shortcut")
        self.finder.setClearButtonEnabled(True)
        self.view = QTreeWidget()
        self.view.setAccessibleName("Keyboard shortcuts")
        self.view.setHeaderLabels(["What it does", "Keys"])
        self.view.setRootIsDecorated(False)
        self.view.setIndentation(s.gap)
        self._rows: list[QTreeWidgetItem] = []
        bold = self.view.font()
        bold.setBold(True)
        for heading, specs in (("Anywhere", ACTIONS), ("In the list", (*LIST_KEYS, *LIST_ACTIONS))):
            top = QTreeWidgetItem([heading])
            top.setFont(0, bold)
            self.view.addTopLevelItem(top)
            rows = [QTreeWidgetItem([spec.words, keys_in_words(spec)]) for spec in specs if spec.keys]
            for row in (top, *rows):
                row.setSizeHint(0, QSize(theme.text_width(row.text(0)) + 2 * s.wide, s.row))
            top.addChildren(rows)
            top.setExpanded(True)
            self._rows += rows
        self.view.resizeColumnToContents(0)
        column.addWidget(self.finder)
        column.addWidget(self.view, 1)
        self.finder.textChanged.connect(self._narrow)
        self.resize(s.window_width // 2, s.window_height * 3 // 4)
        self.finder.setFocus()

    def _narrow(self, typed: str) -> None:
        """Only rows with all these words in what they do or in their keys."""
        wanted = typed.casefold().split()
        for row in self._rows:
            told = f"{row.text(0)} {row.text(1)}".casefold()
            row.setHidden(not all(word in told for word in wanted))

    @property
    def shown(self) -> list[tuple[str, str]]:
        """The rows in sight: what they do, and their keys."""
        return [(row.text(0), row.text(1)) for row in self._rows if not row.isHidden()]


def about_box(parent: QWidget) -> QMessageBox:
    """What the program is, and in which version."""
    box = QMessageBox(
        QMessageBox.Icon.NoIcon, "About Rundlet", say("Rundlet {version}", version=__version__), parent=parent
    )
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setInformativeText(
        "Packs files into zip, 7z and tar archives, looks into them and unpacks them.\n\n"
        "Free software under the MIT license. The icons are Phosphor Icons, under the same license.\n\n"
        + say("Python {python}, Qt {qt}", python=platform.python_version(), qt=qVersion())
    )
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    return box
