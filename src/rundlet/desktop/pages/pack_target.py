"""To, when packing: the archive's name and place, how large it will be, and what it must fit."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QLineEdit,
    QPushButton,
    QWidget,
)

from rundlet.core import text
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.losses import not_kept
from rundlet.core.sentences import fill
from rundlet.desktop.locations.place import with_others
from rundlet.desktop.state.forms import IfTaken
from rundlet.desktop.state.trial_runner import TrialRunner, parts_for
from rundlet.desktop.views.archive_name import ArchiveName, lack_of
from rundlet.desktop.views.basics import Choices, heading, label, restyle
from rundlet.desktop.views.gauge import Gauge
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.findings import issue_words
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.work.trial import Point
    from rundlet.desktop.locations.place import Selection
    from rundlet.desktop.state.forms import PackForm
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.folder_field import Quick

_LIMITS = ((0, "no limit"), (10_000_000, "10 MB"), (25_000_000, "25 MB"), (4_000_000_000, "4 GB"))


class PackTarget(TargetPage):
    """The archive's name and folder, its size and what it must fit, and whether its name is taken."""

    split_wanted = Signal(object)

    def __init__(self, workspace: Workspace, trials: TrialRunner, quick: Quick) -> None:
        super().__init__("Pack")
        self._workspace = workspace
        self._trials = trials
        column = self.column
        self.archive = ArchiveName(workspace.packing, quick, IfTaken)
        column.addWidget(self.archive)
        column.addWidget(heading("Size"))
        self.gauge = Gauge()
        column.addWidget(self.gauge)
        self.sizes = label("", "soft")
        column.addWidget(self.sizes)
        column.addWidget(heading("Size limit"))
        self.limits = Choices([(str(size), words) for size, words in _LIMITS], name="Size limit")
        column.addWidget(self.limits)
        self.other_limit = QLineEdit()
        self.other_limit.setPlaceholderText("other, such as 8 MB")
        self.other_limit.setAccessibleName("Another size limit")
        column.addWidget(self.other_limit)
        self.verdict = label("", "soft")
        column.addWidget(self.verdict)
        self.way_out = QPushButton()
        column.addWidget(self.way_out, 0, Qt.AlignmentFlag.AlignLeft)
        self.not_kept = label("", "soft")
        column.addWidget(self.not_kept)
        column.addStretch(1)
        self.add_footer()
        self.limits.chosen.connect(self._limit_chosen)
        self.other_limit.textEdited.connect(self._limit_typed)
        self.way_out.clicked.connect(self._take_way_out)
        trials.changed.connect(self._show)
        workspace.packing.changed.connect(self._show)

    def _show(self) -> None:
        ws, form, selection = self._workspace, self._workspace.packing.form, self._workspace.selection
        if ws.place.in_archive:
            return
        self.archive.refresh()
        self.archive.clashes[IfTaken.ADD].setVisible(not form.part_size)
        point, added_to = self._trials.point, ws.packing.added_to
        if point is not None and added_to:
            point = replace(point, size=point.size + added_to)
        parts = parts_for(form, point)
        self.gauge.show_sizes(
            selection.size + added_to,
            point.size if point is not None else None,
            limit=form.limit,
            parts=parts or 0,
            roughly=True,
        )
        self.gauge.setVisible(selection.items > 0)
        self._show_limit(point)
        self.sizes.setText(_size_words(selection, self._trials.point))
        lost = [issue_words(issue) for issue in not_kept(self._trials.traits, form.info, WriteOptions(form.level))]
        self.not_kept.setText(
            say("With {format}, {losses}.", format=form.info.id, losses="; ".join(lost)) if lost else ""
        )
        self.not_kept.setVisible(bool(lost))
        lack = self._lack(point)
        self.say_last(lack or say("{free:size} free there.", free=ws.packing.free), warns=bool(lack))
        words = say("Add {items:item|items}", items=selection.items) if added_to else pack_words(selection, form, parts)
        self.go.setText(with_others(words, selection) if selection.items else "Pack")
        self.go.set_ready(selection.items > 0 and not lack)

    def _lack(self, point: Point | None) -> str:
        """What keeps the work from being begun, or ""."""
        ws = self._workspace
        if ws.packing.form.bad_limit:
            return "Type the size limit with a unit, such as 8 MB."
        if lack := lack_of(ws.packing):
            return lack
        largest = ws.packing.largest_file
        if largest and point is not None and min(point.size, ws.packing.form.part_size or point.size) > largest:
            return say(
                "This drive can't hold files over {largest:size}. Split the archive into parts.", largest=largest
            )
        if point is not None and point.size > ws.packing.free:
            return say(
                "About {size:size} are needed, but only {free:size} are free there.",
                size=point.size,
                free=ws.packing.free,
            )
        return ""

    def _show_limit(self, point: Point | None) -> None:
        """Whether the archive will fit, and the way out when it won't."""
        form = self._workspace.packing.form
        keys = {key for key, _ in _LIMITS}
        typed = bool(self.other_limit.text())
        self.limits.choose(str(form.limit) if form.limit in keys and not (typed and form.limit) else "")
        if form.limit not in keys and not typed:  # it was kept for another time, and not typed here
            self.other_limit.setText(text.size(form.limit))
        if not form.limit or point is None:
            self.verdict.setText("")
            self.way_out.setVisible(False)
            return
        largest = min(point.size, form.part_size or point.size)
        fits = largest <= form.limit
        fitting = "Each part fits." if form.part_size else "It fits."
        self.verdict.setText(fitting if fits else say("It is larger than {limit:size}.", limit=form.limit))
        restyle(self.verdict, "role", "good" if fits else "warn")
        other = None if fits else self._trials.fitting(form.limit - self._workspace.packing.added_to)
        self.way_out.setVisible(not fits)
        if other is not None:
            self.way_out.setText(
                say("{format} at level {level} fits: {size:size}", format=other.fmt, level=other.level, size=other.size)
            )
            self.way_out.setProperty("choice", [other.fmt, other.level])
        elif not fits:
            self.way_out.setText(say("Nothing fits. Split it into parts of {limit:size}", limit=form.limit))
            self.way_out.setProperty("choice", None)

    def _take_way_out(self) -> None:
        selection = self.way_out.property("choice")
        if selection:
            self._workspace.packing.set_format_and_level(*selection)
        else:
            self.split_wanted.emit(self._workspace.packing.form.limit)

    def _limit_chosen(self, key: str) -> None:
        self.other_limit.clear()
        self._set_limit(int(key))

    def _limit_typed(self, words: str) -> None:
        limit = text.parse_size(words, with_unit=True)
        self._set_limit(limit or 0, bad=bool(words.strip()) and limit is None)

    def _set_limit(self, limit: int, *, bad: bool = False) -> None:
        restyle(self.other_limit, "state", "bad" if bad else "")

        def change(form: PackForm) -> None:
            form.limit, form.bad_limit = limit, bad

        self._workspace.packing.change(change)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.archive.name


def _size_words(selection: Selection, point: Point | None) -> str:
    """How much is chosen, and how much smaller it gets."""
    if not selection.items:
        return "Nothing is selected."
    counted = "{files:file|files} so far, still counting" if selection.counting else "{files:file|files}"
    words = [say(counted, files=selection.files)]
    if point is not None and selection.size:
        saved = selection.size - point.size
        words.append(
            say("about {saved:size} saved", saved=saved) if saved * 100 >= selection.size else "not smaller than before"
        )
    return " · ".join(words)


def pack_words(selection: Selection, form: PackForm, parts: int | None) -> str:
    """What the button does."""
    facts = {"items": selection.items, "parts": parts}
    if form.each and selection.items > 1:
        return fill("Pack {items:item|items} into {items:archive|archives}", facts)
    if not form.part_size:
        return fill("Pack {items:item|items}", facts)
    return fill(
        "Pack {items:item|items} into {parts:part|parts}" if parts else "Pack {items:item|items} into parts", facts
    )
