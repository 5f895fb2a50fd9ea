"""A line that says something in passing and offers what can be done about it; it waits until it is answered or closed."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtWidgets import QFrame, QPushButton, QToolButton, QVBoxLayout

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout, label, tab_through

Offer = tuple[str, Callable[[], object]]


class Notice(QFrame):
    """Words, a button for each offer, and one to close it."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        s = theme.sizes
        column = QVBoxLayout(self)
        column.setContentsMargins(s.gap, s.gap, s.gap, s.gap)
        column.setSpacing(s.space)
        self.words = label("", "body")
        column.addWidget(self.words)
        self._row = FlowLayout(s.space)
        column.addLayout(self._row)
        self._stays = False
        self.offers: list[QPushButton] = []
        self._calls: list[Callable[[], object]] = []
        self._close = QToolButton()
        self._close.setIcon(theme.icon("cancel", "soft"))
        self._close.setAccessibleName("Close this notice")
        self._close.setToolTip("Close this notice")
        self._close.clicked.connect(self.hide)
        self._row.addWidget(self._close)
        self.setVisible(False)

    def tell(self, words: str, offers: Sequence[Offer] = (), *, stays: bool = False) -> None:
        """Say something, in the place of what was said before.

        Args:
            stays: whether it also holds at other places than this.
        """
        self._stays = stays
        for button in self.offers:
            self._row.removeWidget(button)
            button.deleteLater()
        self.offers, self._calls = [], [call for _, call in offers]
        self._row.removeWidget(self._close)
        for number, (what, _) in enumerate(offers):
            button = QPushButton(what)
            button.setProperty("offer", number)
            button.clicked.connect(self._taken)
            self._row.addWidget(button)
            self.offers.append(button)
        self._row.addWidget(self._close)
        tab_through(self._close, self.offers)
        self.words.setText(words)
        self.setVisible(True)

    def leave(self) -> None:
        """The place is left: what holds only there is said no longer."""
        if not self._stays:
            self.hide()

    def _taken(self) -> None:
        call = self._calls[self.sender().property("offer")]
        self.hide()
        call()
