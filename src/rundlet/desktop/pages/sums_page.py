"""How and To for checksums: of which files and how, what was pasted, what was found out, and whether it matches."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QCheckBox, QFileDialog, QListWidgetItem, QPlainTextEdit, QPushButton, QWidget

from rundlet.core.errors import file_problem
from rundlet.core.fs.moving import free_path
from rundlet.core.model.checksum_list import Algorithm, ChecksumLine, written_checksums
from rundlet.core.text import shown
from rundlet.core.work.checksums import Match
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import FlowLayout, button_row, heading, label, line_list, page_layout, restyle
from rundlet.desktop.views.target_page import TargetPage
from rundlet.presentation.sentences import say
from rundlet.presentation.sums import MATCHES, NAMES, answer_words, grouped, recognized, verified_line, verified_words

if TYPE_CHECKING:
    from rundlet.desktop.state.sums import Summed, Sums
    from rundlet.desktop.state.workspace import Workspace

_MOST = 2000  # lines
_PASTE_LINES = 5


class SumsPage(QWidget):
    """Which checksums are computed, and what they are held against."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._sums: Sums = workspace.sums
        column = page_layout(self)
        self.statement = label("", "statement")
        self.more = label("", "soft")
        column.addWidget(self.statement)
        column.addWidget(self.more)
        self.which = heading("Checksums")
        column.addWidget(self.which)
        self.holder = QWidget()
        flow = FlowLayout(theme.sizes.gap)
        self.holder.setLayout(flow)
        self.boxes: dict[Algorithm, QCheckBox] = {}
        for algorithm in Algorithm:
            box = QCheckBox(NAMES[algorithm])
            box.toggled.connect(partial(self._toggle, algorithm))
            flow.addWidget(box)
            self.boxes[algorithm] = box
        column.addWidget(self.holder)
        self.with_what = heading("Compare with a published one")
        column.addWidget(self.with_what)
        self.paste = QPlainTextEdit()
        self.paste.setPlaceholderText("Paste a checksum, or the text of a checksum file")
        self.paste.setAccessibleName("Published checksum")
        self.paste.setTabChangesFocus(True)
        self.paste.setProperty("role", "field")
        self.paste.setFixedHeight(_PASTE_LINES * self.paste.fontMetrics().lineSpacing() + theme.sizes.wide)
        column.addWidget(self.paste)
        self.told = label("", "soft")
        column.addWidget(self.told)
        column.addStretch(1)
        self.paste.textChanged.connect(self._pasted)
        self._sums.changed.connect(self._show)
        workspace.selector.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.paste if self.paste.isVisible() else self.boxes[Algorithm.SHA256]

    def _toggle(self, algorithm: Algorithm, on: bool) -> None:
        if on != (algorithm in self._sums.algorithms):
            self._sums.set_algorithm(algorithm, on=on)

    def _pasted(self) -> None:
        self._sums.paste(self.paste.toPlainText())

    def _show(self, _: object = None) -> None:
        sums = self._sums
        if not sums.wanted:
            return
        listed = len(sums.listed)
        if listed:
            self.statement.setText(say("Check {count:file|files} against the list", count=listed))
            self.more.setText("The files are read and compared with the checksums in the selected list.")
        else:
            self.statement.setText(
                say("Checksums of {count:selected item|selected items}", count=self._workspace.selection.items)
            )
            self.more.setText("A checksum tells whether a file is, byte for byte, the one that was published.")
        for widget in (self.which, self.holder, self.with_what, self.paste):
            widget.setVisible(not listed)
        for algorithm, box in self.boxes.items():
            box.setChecked(algorithm in sums.algorithms)
        if self.paste.toPlainText() != sums.text:
            self.paste.setPlainText(sums.text)
        published = sums.published
        self.told.setVisible(not listed and bool(sums.text.strip()))
        self.told.setText(recognized(published))
        bad = not published or not published[0].algorithms
        restyle(self.told, "role", "warn" if bad else "soft")


class SumsTarget(TargetPage):
    """What was found out, and what can be done with it."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__("Compute")
        self._workspace = workspace
        self._sums: Sums = workspace.sums
        self._shown: tuple[object, ...] = ()
        column = self.column
        column.addWidget(heading("Result"))
        self.verdict = label("", "statement")
        self.more = label("", "soft")
        column.addWidget(self.verdict)
        column.addWidget(self.more)
        self.list = line_list("Checksums")
        column.addWidget(self.list, 1)
        self.copy = QPushButton("Copy")
        self.save = QPushButton("Save a checksum file …")
        self.buttons = button_row(self.copy, self.save)
        column.addWidget(self.buttons)
        self.add_footer()
        self.copy.clicked.connect(self._copy)
        self.save.clicked.connect(self._save)
        self._sums.changed.connect(self._show)
        workspace.selector.changed.connect(self._show)

    def refresh(self) -> None:
        """Show how things are now."""
        self._show()

    @property
    def first(self) -> QWidget:
        """Where one begins by keyboard."""
        return self.list if self.list.isVisible() else self.go

    def _show(self, _: object = None) -> None:
        sums, found = self._sums, self._sums.found
        if not sums.wanted:
            return
        running = found is not None and found.running
        done = found is not None and not found.running
        for widget in (self.list, self.buttons, self.more):
            widget.setVisible(done)
        self.say_last("")
        if found is None or running:
            self.verdict.setText("Reading …" if running else "Not computed yet")
        else:
            self._show_found(found)
        self.save.setVisible(done and not sums.listed)
        words = "Check {count:file|files}" if sums.listed else "Compute checksums"
        if done and not sums.lacks:
            words = "Check again" if sums.listed else "Compute again"
        elif not sums.listed and sums.published:
            words = "Compare"
        self.go.setText(say(words, count=len(sums.listed)))
        self.go.set_ready(not running and bool(sums.listed or sums.all_algorithms))

    def _show_found(self, found: Summed) -> None:
        sums = self._sums
        answers = [] if sums.lacks else sums.answers
        if found.verified:
            self.verdict.setText(verified_words(found.verified, len(found.extra)))
            good = all(each.match is Match.SAME for each in found.verified)
        elif answers:
            matching = sum(answer.matches for answer in answers)
            self.verdict.setText(
                answer_words(answers[0])
                if len(answers) == 1
                else say(
                    "{matching:number} of {count:checksum|checksums} {matching:=matches|match}.",
                    matching=matching,
                    count=len(answers),
                )
            )
            good = matching == len(answers)
        else:
            failed = sum(each.problem is not None for each in found.sums)
            words = "{count:file|files} read" if not failed else "{count:file|files} read, {failed:number} could not be"
            self.verdict.setText(say(words, count=len(found.sums) - failed, failed=failed))
            good = not failed
        if good and (answers or found.verified):
            self.verdict.setText(say("✓ {words}", words=self.verdict.text()))
        near = next((answer for answer in answers if answer.differing), None)
        shows = near is not None and len(answers) == 1
        self.more.setText(grouped(near.actual, near.differing) if near is not None and shows else "")
        self.more.setVisible(bool(self.more.text()))
        self._fill(found, [answer_words(answer) for answer in answers] if len(answers) > 1 else [])

    def _fill(self, found: Summed, answers: list[str]) -> None:
        key = (found, len(found.sums), len(found.verified), tuple(answers))
        if key == self._shown:
            return
        self._shown = key
        self.list.clear()
        for words in answers:
            self.list.addItem(words)
        for each in sorted(found.verified, key=lambda each: each.match is Match.SAME)[:_MOST]:
            item = QListWidgetItem(verified_line(each))
            item.setForeground(theme.color(MATCHES[each.match][1]))
            self.list.addItem(item)
        for name in found.extra[:_MOST]:
            self.list.addItem(say("not in the list  {name:shown}", name=name))
        for one in found.sums[:_MOST]:
            if one.problem is not None:
                self.list.addItem(str(one.problem))
                continue
            lines = [
                shown(one.path.name),
                *(f"{NAMES[algorithm]}  {grouped(digest)}" for algorithm, digest in one.sums.items()),
            ]
            self.list.addItem("\n".join(lines))

    # What can be done

    def text(self, folder: Path | None = None) -> str:
        """The list of the checksums.

        Args:
            folder: from where on files are named; by their names alone by default.
        """
        found = self._sums.found
        lines, wanted = [], set(self._sums.all_algorithms)
        for each in found.sums if found is not None else ():
            name = each.path.name
            if folder is not None and each.path.is_relative_to(folder):
                name = str(each.path.relative_to(folder))
            lines += [ChecksumLine(name, one, digest) for one, digest in each.sums.items() if one in wanted]
        algorithms = {line.algorithm for line in lines}
        return written_checksums(lines, named=len(algorithms) > 1 or algorithms == {Algorithm.BLAKE2B})

    def _copy(self) -> None:
        found = self._sums.found
        if found is not None and found.verified:
            QGuiApplication.clipboard().setText("\n".join(map(verified_line, found.verified)) + "\n")
            return
        one = found.sums[0].sums if found is not None and len(found.sums) == 1 else {}
        QGuiApplication.clipboard().setText(next(iter(one.values())) if len(one) == 1 else self.text())

    def _save(self) -> None:
        folder = self._workspace.place.folder
        found = self._sums.found
        algorithms = set(self._sums.all_algorithms)
        ending = next(iter(algorithms)).value.lower() if len(algorithms) == 1 else "checksums.txt"
        base = found.sums[0].path.name if found is not None and len(found.sums) == 1 else folder.name or "files"
        offered = free_path(folder / say("{base}.{ending}", base=base, ending=ending))
        chosen, _ = QFileDialog.getSaveFileName(self, "Save a checksum file", str(offered))
        if not chosen:
            return
        try:
            Path(chosen).write_text(self.text(Path(chosen).parent), "utf-8", "surrogateescape")
        except OSError as error:
            self.say_last(str(file_problem(error, "write", chosen)), warns=True)
