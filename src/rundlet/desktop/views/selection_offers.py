"""Ways to a larger or a smaller choice, offered below the list where they make sense."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QWidget

from rundlet.core import text
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout, label, page_layout
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.locations.place import Selection
    from rundlet.desktop.state.other_folders import OtherFolders

_MOST_NAMED = 20


class SelectionOffers(QWidget):
    """Buttons only; whoever shows them says what they do.

    Attributes:
        below: look for it in subfolders, too.
        again: choose what was chosen before one click too many.
        choose_shown: choose all that was found.
        only_shown: let go of what is chosen and not in sight.
        keep: keep the choice while going elsewhere.
        elsewhere, only_here: what is chosen in other folders, and letting go of it.
    """

    def __init__(self) -> None:
        super().__init__()
        column = page_layout(self, gap=theme.sizes.space)
        self.below = QPushButton("Search subfolders")
        self.below.setToolTip("You can also press Enter in Find")
        self.again = QPushButton()
        self.choose_shown = QPushButton()
        self.only_shown = QPushButton()
        self.keep = QCheckBox("Keep while changing folders")
        self.keep.setToolTip("What is selected here stays selected while you select more in other folders")
        self.elsewhere = label("", "soft")
        self.only_here = QPushButton("Only what is selected here")
        flow = FlowLayout(theme.sizes.space)
        for button in (self.below, self.again, self.choose_shown, self.only_shown, self.keep):
            button.setVisible(False)
            flow.addWidget(button)
        column.addLayout(flow)
        row = QHBoxLayout()
        row.addWidget(self.elsewhere, 1)
        row.addWidget(self.only_here)
        column.addLayout(row)

    def show_found(self, count: int, unseen: int) -> None:
        """How many rows fit what is looked for, and how many chosen ones do not; 0 for nothing to offer."""
        self.choose_shown.setVisible(count > 0)
        self.choose_shown.setText(say("Select {count:matching item|matching items}", count=count))
        self.only_shown.setVisible(unseen > 0)
        self.only_shown.setText(say("Deselect {unseen:hidden item|hidden items}", unseen=unseen))

    def show_before(self, count: int) -> None:
        """How many rows were chosen before one click too many; 0 for nothing to offer."""
        self.again.setVisible(count > 0)
        self.again.setText(say("Select the previous {count:item|items} again", count=count))

    def show_gathered(self, selection: Selection, other_folders: OtherFolders, *, on_disk: bool) -> None:
        """What is chosen in other folders."""
        self.keep.setVisible(on_disk and (selection.items > 0 or other_folders.keeps))
        self.keep.setChecked(other_folders.keeps)
        for widget in (self.elsewhere, self.only_here):
            widget.setVisible(on_disk and selection.elsewhere > 0)
        self.elsewhere.setText(
            say(
                "{items:item|items} in {folders:other folder|other folders}",
                items=selection.elsewhere,
                folders=len(other_folders.folders),
            )
        )
        self.elsewhere.setToolTip("\n".join(text.shown(str(path)) for path in list(other_folders.items)[:_MOST_NAMED]))
