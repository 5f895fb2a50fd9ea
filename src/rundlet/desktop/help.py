"""The user guide, as pages of a window that can be searched."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QDesktopServices, QTextCharFormat, QTextCursor, QTextDocument
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QListWidget, QTextBrowser, QTextEdit, QVBoxLayout

import rundlet
from rundlet.desktop.theme.theme import theme

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

_PICTURE = re.compile(r"^!\[.*\]\(.*\)\n\n?", re.MULTILINE)
GUIDE = Path(rundlet.__file__).parent / "guide"


@cache
def pages() -> tuple[tuple[str, str], ...]:
    """The title and the Markdown of each page, in order; without its picture, which shows the window that is open beside it."""
    texts = [_PICTURE.sub("", path.read_text("utf-8")) for path in sorted(GUIDE.glob("*.md"))]
    return tuple((words.partition("\n")[0].lstrip("# "), words) for words in texts)


class HelpWindow(QDialog):
    """The pages beside a list of them; what is typed narrows the list to pages with these words, and marks them."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Help – Rundlet")
        s = theme.sizes
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find in the help")
        self.finder.setAccessibleName("Find in the help")
        self.finder.setClearButtonEnabled(True)
        self.titles = QListWidget()
        self.titles.setAccessibleName("Pages")
        self.titles.addItems([title for title, _ in pages()])
        self.titles.setFixedWidth(max(theme.text_width(title) for title, _ in pages()) + 3 * s.wide)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Help page")
        self.text.setOpenLinks(False)
        self.text.document().setDocumentMargin(s.wide)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextBrowserInteraction)
        row = QHBoxLayout()
        row.setSpacing(s.gap)
        row.addWidget(self.titles)
        row.addWidget(self.text, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(s.wide, s.wide, s.wide, s.wide)
        column.setSpacing(s.gap)
        column.addWidget(self.finder)
        column.addLayout(row, 1)
        self.titles.currentRowChanged.connect(self._show_page)
        self.finder.textChanged.connect(self._narrow)
        self.text.anchorClicked.connect(QDesktopServices.openUrl)
        self.resize(s.window_width * 3 // 4, s.window_height * 3 // 4)
        self.titles.setCurrentRow(0)
        self.titles.setFocus()

    def _show_page(self, number: int) -> None:
        if number < 0:
            self.text.clear()
            return
        self.text.document().setMarkdown(pages()[number][1], QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
        self._space_out()
        self._mark()

    def _space_out(self) -> None:
        """Give paragraphs and headings room above them, which Markdown does not speak of."""
        block = self.text.document().begin()
        while block.isValid():
            at = QTextCursor(block)
            if at.currentTable() is None:
                look = block.blockFormat()
                is_list = block.textList() is not None
                look.setTopMargin(
                    theme.sizes.wide if look.headingLevel() else theme.sizes.space if is_list else theme.sizes.gap
                )
                at.setBlockFormat(look)
            block = block.next()

    def _narrow(self, typed: str) -> None:
        words = typed.casefold().split()
        fitting = [all(word in page.casefold() for word in words) for _, page in pages()]
        for number, fits in enumerate(fitting):
            self.titles.item(number).setHidden(not fits)
        current = self.titles.currentRow()
        if current < 0 or not fitting[current]:
            self.titles.setCurrentRow(fitting.index(True) if any(fitting) else -1)
        self._mark()

    def _mark(self) -> None:
        """Mark each place with a word that is looked for."""
        found = []
        look = QTextCharFormat()
        look.setBackground(theme.color("oak_wash"))
        for word in self.finder.text().split():
            at = self.text.document().find(word)
            while not at.isNull():
                selection = QTextEdit.ExtraSelection()
                selection.cursor, selection.format = QTextCursor(at), look
                found.append(selection)
                at = self.text.document().find(word, at)
        self.text.setExtraSelections(found)
        if found:
            self.text.setTextCursor(QTextCursor(found[0].cursor.block()))
