"""The landing tree: what will be in the chosen folder, with a menu on each name that is taken."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QModelIndex, Qt, Signal
from PySide6.QtWidgets import QLabel, QMenu
from shiboken6 import isValid

from rundlet.core.plans.unpack_plan import Steps, UnpackClash
from rundlet.desktop.locations.landing_rows import LandingListing
from rundlet.desktop.views.basics import CLASH_WORDS, label
from rundlet.desktop.views.name_tree import NameTree

if TYPE_CHECKING:
    from PySide6.QtGui import QHideEvent

_EXPAND_UP_TO = 200
_IN_SIGHT = 15

Taken = tuple[int, Steps]


class LandingView(NameTree):
    """Shows a landing tree.

    Args:
        rule_of: the rule that a taken name has for itself, if any; see :meth:`LandingListing.taken_name`.

    Signals:
        ruled: a taken name is to have this rule for itself, or None for that of all others.
    """

    ruled = Signal(object, object)

    def __init__(self, rule_of: Callable[[Taken], UnpackClash | None]) -> None:
        super().__init__("What will be there")
        self._rule_of = rule_of
        self._menu: QMenu | None = None
        self.clicked.connect(self._offer_rules)
        self.activated.connect(self._offer_rules)

    def show_landing(self, landing: LandingListing | None) -> None:
        """Show another landing, opened up unless it is long; each by its top only when there are several archives."""
        if landing is not self.rows.listing:
            self._close_menu()
        self.rows.show(landing)
        if landing is not None and landing.found <= (_EXPAND_UP_TO if landing.archives == 1 else _IN_SIGHT):
            self.expandAll()
        else:
            self.expand(self.rows.index(0, 0))

    def rules_menu(self, index: QModelIndex) -> QMenu | None:
        """What can be done about the one name in a row; None where nothing is taken."""
        landing = self.rows.listing
        taken = landing.taken_name(self.rows.node(index)) if isinstance(landing, LandingListing) else None
        if taken is None or not index.isValid():
            return None
        menu = QMenu(self)
        own = self._rule_of(taken)
        for words, rule in [*((words, rule) for rule, words in CLASH_WORDS.items()), ("Same as for the others", None)]:
            action = menu.addAction(words)
            action.setCheckable(True)
            action.setChecked(rule == own)
            action.triggered.connect(partial(self._rule, taken, rule))
        return menu

    def _offer_rules(self, index: QModelIndex) -> None:
        menu = self.rules_menu(index)
        if menu is not None:
            menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            self._menu = menu
            menu.popup(self.viewport().mapToGlobal(self.visualRect(index).bottomLeft()))

    def _close_menu(self) -> None:
        """What it was opened for is no longer there."""
        if self._menu is not None and isValid(self._menu):
            self._menu.close()

    def hideEvent(self, event: QHideEvent) -> None:
        self._close_menu()
        super().hideEvent(event)

    def _rule(self, taken: Taken, rule: UnpackClash | None, _: bool = False) -> None:
        self.ruled.emit(taken, rule)


def set_rule(rules: dict[Steps, UnpackClash], name: Steps, rule: UnpackClash | None) -> None:
    """Give a name a rule for itself, or let it go by that of all others."""
    if rule is None:
        rules.pop(name, None)
    else:
        rules[name] = rule


def taken_hint() -> QLabel:
    """The line below a landing tree that says what can be done about taken names; hidden at first."""
    hint = label("Click a taken name to choose what happens to it.", "soft")
    hint.setVisible(False)
    return hint
