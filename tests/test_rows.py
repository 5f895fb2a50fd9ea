"""The list's model and view as a person works them, in any order: rows, what is opened, and what is chosen."""

from __future__ import annotations

from pathlib import PurePosixPath
from typing import TYPE_CHECKING

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test
from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QAbstractItemModelTester

from rundlet.core.formats.detect import open_source
from rundlet.core.model.entry import ROOT
from rundlet.core.model.natural import natural_key
from rundlet.core.model.tree import ArchiveTree
from rundlet.core.streams.sources import MemorySource
from rundlet.desktop.app import make_app
from rundlet.desktop.delegates.elided_names import fitted
from rundlet.desktop.locations.archive import ArchiveListing, file_types_of
from rundlet.desktop.locations.listing import COLUMNS, TOP
from rundlet.desktop.models.entries import EntryModel
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.entry_views import EntryView
from support import Raw, raw_zip

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

STEPS = st.sampled_from(["a", "B", "b2", "b10", "çé", "川", "x.txt", "y.csv"])
PATHS = st.lists(st.lists(STEPS, min_size=1, max_size=4).map("/".join), min_size=1, max_size=25, unique=True)


class ListStateMachine(RuleBasedStateMachine):
    """One list over one archive; sorting, finding, opening and choosing in any order."""

    @initialize(paths=PATHS, sizes=st.lists(st.integers(0, 50), min_size=25, max_size=25))
    def open(self, paths: list[str], sizes: list[int]) -> None:
        folders = {str(above) for path in paths for above in PurePosixPath(path).parents}
        files = [path for path in paths if path not in folders]
        raw = [Raw(path.encode(), b"x" * size) for path, size in zip(files, sizes, strict=False)]
        reader = open_source(MemorySource(raw_zip(raw), "x.zip"))
        self.tree = ArchiveTree(reader.catalog)
        self.model = EntryModel()
        self.view = EntryView(self.model)
        self.opened: set[int] = set()
        self.chosen: set[int] = set()
        self.words = ""
        self._show(ROOT)

    def _show(self, folder: int) -> None:
        self.listing = ArchiveListing(self.tree, folder, file_types_of(self.tree))
        self.model.show(self.listing)
        self.opened, self.chosen, self.words = set(), set(), ""

    def _shown(self, node: int = TOP, *, opened_only: bool = False) -> list[int]:
        """All rows, those below others behind them."""
        found: list[int] = []
        for child in self.listing.children(node):
            found.append(child)
            if self.listing.count(child) and (child in self.opened or not opened_only):
                found += self._shown(child, opened_only=opened_only)
        return found

    @rule(pick=st.integers(0, 1000))
    def go_into(self, pick: int) -> None:
        folders = [ROOT, *(node for node in range(1, len(self.tree)) if self.tree.is_folder(node))]
        self._show(folders[pick % len(folders)])

    @rule(column=st.sampled_from(range(len(COLUMNS))), order=st.sampled_from(list(Qt.SortOrder)))
    def sort(self, column: int, order: Qt.SortOrder) -> None:
        self.view.sortByColumn(column, order)

    @rule(words=st.sampled_from(["", "b", "*.txt", "川", "nowhere"]))
    def find(self, words: str) -> None:
        self.model.narrow(words, None)
        self.opened, self.chosen, self.words = set(), set(), words

    @rule(pick=st.integers(0, 1000), opens=st.booleans())
    def open_or_close(self, pick: int, opens: bool) -> None:
        folders = [node for node in self._shown(opened_only=True) if self.listing.count(node)]
        if folders:
            node = folders[pick % len(folders)]
            self.view.setExpanded(self.model.index_of(node), opens)
            (self.opened.add if opens else self.opened.discard)(node)

    @rule()
    def open_all(self) -> None:
        self.view.expandAll()
        self.opened = {node for node in self._shown() if self.listing.count(node)}

    @rule(picks=st.sets(st.integers(0, 1000), max_size=6))
    def choose(self, picks: set[int]) -> None:
        shown = self._shown()
        nodes = [shown[pick % len(shown)] for pick in sorted(picks)] if shown else []
        self.view.choose_nodes(nodes)
        self.chosen = set(nodes)
        above = self.listing.parent_of(nodes[0]) if nodes else TOP
        while above != TOP:  # what is chosen first is shown
            self.opened.add(above)
            above = self.listing.parent_of(above)

    @rule()
    def choose_all(self) -> None:
        self.view.selectAll()
        self.chosen = set(self._shown(opened_only=True))

    @rule(pick=st.integers(0, 1000))
    def say_anew(self, pick: int) -> None:
        self.model.refresh_row(pick % len(self.tree))

    @rule()
    def look_through_all(self) -> None:
        QAbstractItemModelTester(
            self.model, QAbstractItemModelTester.FailureReportingMode.Warning
        )  # asks for every row

        def walk(parent: QModelIndex, node: int) -> list[int]:
            children = self.listing.children(node)
            assert [self.model.node(self.model.index(row, 0, parent)) for row in range(len(children))] == children
            assert self.model.rowCount(parent) == len(children)
            found: list[int] = []
            for row, child in enumerate(children):
                index = self.model.index(row, 0, parent)
                assert self.model.index_of(child) == index and self.model.row_of(child) == row
                assert self.model.data(index) == self.tree.name(child)
                found.append(child)
                if self.listing.count(child):
                    self.model.fetchMore(index)
                    found += walk(index, child)
            return found

        assert walk(QModelIndex(), TOP) == self._shown()

    @invariant()
    def what_was_opened_and_chosen_still_is(self) -> None:
        assert set(self.view.chosen_nodes()) == self.chosen
        for node in self._shown(opened_only=True):
            if self.listing.count(node):
                assert self.view.isExpanded(self.model.index_of(node)) == (node in self.opened)

    @invariant()
    def folders_come_first_and_the_order_is_kept(self) -> None:
        for node in [TOP, *self._shown()]:
            folders = [self.listing.is_folder(child) for child in self.listing.children(node)]
            assert folders == sorted(folders, reverse=True)


def test_a_list_in_any_hands(qtbot: QtBot) -> None:
    make_app()
    how = settings(max_examples=60, stateful_step_count=15, suppress_health_check=list(HealthCheck))
    run_state_machine_as_test(ListStateMachine, settings=how)


NAMES = st.lists(st.text("ab 1", min_size=30, max_size=60), min_size=3, max_size=3, unique=True)


def test_names_are_in_the_order_that_people_expect() -> None:
    names = ["", "1", "8", "10", "9" * 5000, "part 2", "Part 10", "part 010b", "part 100", "part x", "weir ٣", "z"]
    assert sorted(sorted(names), key=natural_key) == names


@settings(max_examples=20)
@given(names=NAMES, room=st.integers(80, 200))
def test_a_name_that_is_too_long_keeps_what_tells_it_from_its_neighbours(names: list[str], room: int) -> None:
    """L2: none is wider than its place, and those that differ in the middle do not look alike."""
    metrics = QFontMetrics((make_app(), theme.font(theme.sizes.body))[1])
    cut = fitted(metrics, names[0], room, names[1:])
    assert metrics.horizontalAdvance(cut) <= room and fitted(metrics, "short", room, names) == "short"
    numbers = ("00012", "00013", "00113")
    alike = [f"level at the weir, reading {number} of the whole long summer" for number in numbers]
    shown = [fitted(metrics, name, 160, alike) for name in alike]
    assert all(number in words for number, words in zip(numbers, shown, strict=True))
