"""What the pages of To have in common: a column that scrolls, and below it what is to be said last, and the button."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QWidget

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import GoButton, label, page_layout, restyle, scrolling

if TYPE_CHECKING:
    from PySide6.QtWidgets import QLabel


class TargetPage(QWidget):
    """A page of To. Its column is filled first and the footer is added then, as the keyboard goes from top to bottom.

    Args:
        words: of the button.

    Attributes:
        column: takes the widgets.
        facts: what is to be said last.
        go: the one strong button.
    """

    def __init__(self, words: str) -> None:
        super().__init__()
        self._whole = page_layout(self)
        inner = QWidget()
        self.column = page_layout(inner)
        self.column.setContentsMargins(0, 0, theme.sizes.space, 0)
        self._whole.addWidget(scrolling(inner), 1)
        self.facts = label("", "soft")
        self.go = GoButton(words)

    def add_footer(self) -> None:
        """The column is full."""
        self._whole.addWidget(_Footer(self.facts, self.go))

    def say_last(self, words: str, *, warns: bool = False) -> None:
        """Say something above the button, or nothing."""
        self.facts.setText(words)
        restyle(self.facts, "role", "warn" if warns else "soft")


class _Footer(QWidget):
    """What stands below a page and is never cut."""

    def __init__(self, facts: QLabel, go: GoButton) -> None:
        super().__init__()
        column = page_layout(self)
        column.addWidget(facts)
        column.addWidget(go)

    def event(self, event: QEvent) -> bool:
        done = super().event(event)
        if event.type() in (QEvent.Type.Resize, QEvent.Type.LayoutRequest):
            layout = self.layout()
            needed = max(layout.heightForWidth(self.width()), 0) if layout is not None else 0
            if needed != self.minimumHeight():  # which a splitter does not ask wrapped words for
                self.setMinimumHeight(needed)
        return done
