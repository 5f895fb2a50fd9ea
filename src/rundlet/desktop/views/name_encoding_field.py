"""How the names in an old archive are read, and reading them otherwise where they look wrong."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QWidget

from rundlet.core.formats.name_encoding import CODE_PAGES
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import label, page_layout
from rundlet.desktop.views.dropdown import Dropdown


class NameEncodingField(QWidget):
    """A line with a choice of code pages.

    Signals:
        chosen: the code page that the person chose.
    """

    chosen = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        column = page_layout(self, gap=theme.sizes.space)
        self.words = label("If names look wrong, choose another encoding:", "soft")
        self.pages = Dropdown()
        self.pages.setAccessibleName("Encoding of the names")
        self.pages.setToolTip("The archive does not say how its names are encoded")
        for page, what in CODE_PAGES.items():
            self.pages.addItem(what, page)
        self.pages.activated.connect(self._choose)
        column.addWidget(self.words)
        column.addWidget(self.pages, 0, Qt.AlignmentFlag.AlignLeft)
        self.setVisible(False)

    def show_page(self, code_page: str) -> None:
        """The code page that names are read in; "" where there is none to choose."""
        self.setVisible(bool(code_page))
        self.pages.setCurrentIndex(self.pages.findData(code_page))

    def _choose(self, index: int) -> None:
        self.chosen.emit(self.pages.itemData(index))
