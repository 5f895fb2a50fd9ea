"""What else can be asked of a new archive: a lock, parts, what is left out, and what happens afterwards."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QSizePolicy, QToolButton, QWidget

from rundlet.core import text
from rundlet.core.fs.scan import LeaveOut
from rundlet.core.streams.private import no_core_dumps
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, label, page_layout, restyle
from rundlet.desktop.views.dropdown import Dropdown
from rundlet.desktop.views.fold import Fold
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.desktop.locations.place import Selection
    from rundlet.desktop.state.forms import PackForm
    from rundlet.desktop.state.packing import Packing
    from rundlet.desktop.state.workspace import Workspace

_PARTS = (("10 MB, for mail", 10_000_000), ("20 MB, for mail", 20_000_000), ("25 MB, for mail", 25_000_000))


class PackOptions(QWidget):
    """Every line is a sentence of its own that starts with a tick.

    Args:
        packing: what is packed; what is selected on the disk by default.
        of_archive: whether it is an archive that becomes another one, so that only the lock and the parts are asked for.
    """

    def __init__(self, workspace: Workspace, packing: Packing | None = None, *, of_archive: bool = False) -> None:
        super().__init__()
        self._workspace = workspace
        self._packing = packing or workspace.packing
        self._of_archive = of_archive
        column = page_layout(self, gap=theme.sizes.space)
        self.lock = QCheckBox("Lock with a password")
        column.addWidget(self.lock)
        self.lock_box = LockBox(self._packing)
        column.addWidget(self.lock_box)
        self.fold = Fold("More settings")
        column.addWidget(self.fold)
        column = self.fold.column
        self.parts = QCheckBox("Split into parts")
        self.part_size = Dropdown()
        self.part_size.setEditable(True)
        self.part_size.setAccessibleName("Size of each part")
        for words, size in _PARTS:
            self.part_size.addItem(words, size)
        self.part_size.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        column.addWidget(self.parts)
        column.addWidget(self.part_size)
        self.part_words = label("", "warn")
        column.addWidget(self.part_words)
        self.each = QCheckBox("One archive per item")
        column.addWidget(self.each)
        self.read_back = QCheckBox("Check the archive after packing")
        self.trash = QCheckBox("Move the originals to the trash")
        column.addWidget(self.read_back)
        column.addWidget(self.trash)
        left_out = heading("Leave out")
        column.addWidget(left_out)
        self.hidden = QCheckBox("Hidden files")
        self.empty = QCheckBox("Empty folders")
        row = QHBoxLayout()
        row.setSpacing(theme.sizes.wide)
        row.addWidget(self.hidden)
        row.addWidget(self.empty)
        row.addStretch(1)
        column.addLayout(row)
        self.patterns = QLineEdit()
        self.patterns.setPlaceholderText("Names, such as *.tmp, build")
        self.patterns.setAccessibleName("Names to leave out, separated by commas")
        column.addWidget(self.patterns)
        self.follow = QCheckBox("Pack the files that links point to")
        column.addWidget(self.follow)
        if of_archive:
            for widget in (self.read_back, self.trash, left_out, self.hidden, self.empty, self.patterns, self.follow):
                widget.hide()
        self._wire()

    def _wire(self) -> None:
        self.lock.toggled.connect(self._lock_toggled)
        self.parts.toggled.connect(self._parts_changed)
        self.part_size.currentTextChanged.connect(self._parts_changed)
        self.read_back.toggled.connect(self._after_changed)
        self.trash.toggled.connect(self._after_changed)
        self.hidden.toggled.connect(self._left_out_changed)
        self.empty.toggled.connect(self._left_out_changed)
        self.patterns.editingFinished.connect(self._left_out_changed)
        self.follow.toggled.connect(self._left_out_changed)
        self.each.toggled.connect(self._after_changed)
        self._packing.changed.connect(self._show)
        self._packing.set_ended.connect(self._take_lock_away)
        self._workspace.selector.changed.connect(self._show_each)
        self.lock_box.setVisible(False)
        self.each.setVisible(not self._of_archive)
        self._show()

    def _offer_largest(self, size: int) -> None:
        """Offer the largest file that the chosen drive can hold as a size of parts, where it can't hold any."""
        known = self.part_size.count() > len(_PARTS)
        self.part_size.blockSignals(True)  # what is chosen stays chosen
        words = say("{size:size}, the largest file this drive can hold", size=size)
        if known and (not size or self.part_size.itemData(len(_PARTS)) != size):
            self.part_size.removeItem(len(_PARTS))
        if size and self.part_size.findData(size) < 0:
            self.part_size.addItem(words, size)
        self.part_size.blockSignals(False)

    def _show_each(self, selection: Selection) -> None:
        self.each.setVisible(not self._of_archive and (selection.items > 1 or self._packing.form.each))

    def _show(self) -> None:
        form = self._packing.form
        can_lock = form.info.can_lock
        self._offer_largest(self._packing.largest_file)
        # A tick that was made can always be taken away again, and is never dropped in silence.
        self.lock.setEnabled(can_lock or self.lock.isChecked())
        self.lock.setText("Lock with a password" if can_lock else "Lock with a password (zip and 7z only)")
        self.lock_box.setVisible(can_lock and self.lock.isChecked())
        shown = {
            self.read_back: form.read_back or form.trash,
            self.trash: form.trash,
            self.each: form.each,
            self.hidden: LeaveOut.HIDDEN in form.leave_out,
            self.empty: LeaveOut.EMPTY_FOLDERS in form.leave_out,
            self.follow: form.follow,
        }
        for box, on in shown.items():
            box.blockSignals(True)
            box.setChecked(on)
            box.blockSignals(False)
        if not self.patterns.hasFocus():
            self.patterns.setText(", ".join(form.exclude))
        self._show_parts(form)
        self.fold.say(parts_words(form) if self._of_archive else settings_words(form))
        if form.bad_parts:
            self.fold.open()
        self.read_back.setEnabled(not form.trash)
        self.part_size.setVisible(self.parts.isChecked())
        self.part_words.setVisible(bool(self.part_words.text()))

    def _show_parts(self, form: PackForm) -> None:
        """The parts as they are set up, where that was not done here."""
        typed = self._part_size()
        if form.part_size and form.part_size != typed:
            self.part_size.blockSignals(True)
            self.part_size.setEditText(self._size_words(form.part_size))
            self.part_size.blockSignals(False)
        if bool(form.part_size) != self.parts.isChecked() and (form.part_size or typed):
            self.parts.blockSignals(True)
            self.parts.setChecked(bool(form.part_size))
            self.parts.blockSignals(False)

    def _part_size(self) -> int | None:
        """The size that stands in the field, in bytes; None when it is none."""
        words = self.part_size.currentText()
        index = self.part_size.findText(words)
        return self.part_size.itemData(index) if index >= 0 else text.parse_size(words, with_unit=True)

    def _size_words(self, size: int) -> str:
        index = self.part_size.findData(size)
        return self.part_size.itemText(index) if index >= 0 else text.size(size)

    def split_into(self, size: int) -> None:
        """Split into parts of so many bytes."""
        self.part_size.setEditText(self._size_words(size))
        self.parts.setChecked(True)

    def _take_lock_away(self) -> None:
        self.lock.setChecked(False)
        self.lock_box.ask(False)

    def _lock_toggled(self) -> None:
        self._show()
        self.lock_box.ask(self.lock.isChecked())
        if self.lock.isChecked():
            self.lock_box.first.setFocus(Qt.FocusReason.OtherFocusReason)

    def _parts_changed(self) -> None:
        size = self._part_size()
        wanted = self.parts.isChecked()
        self.part_words.setText("Type a size such as 20 MB." if wanted and not size else "")
        restyle(self.part_size, "state", "bad" if wanted and not size else "")

        def change(form: PackForm) -> None:
            form.part_size = size or 0 if wanted else 0
            form.bad_parts = wanted and not size

        self._packing.change(change)

    def _after_changed(self) -> None:
        read_back, trash, each = self.read_back.isChecked(), self.trash.isChecked(), self.each.isChecked()

        def change(form: PackForm) -> None:
            form.read_back, form.trash, form.each = read_back, trash, each

        self._packing.change(change)

    def _left_out_changed(self) -> None:
        leave_out = LeaveOut.HIDDEN if self.hidden.isChecked() else LeaveOut.NOTHING
        leave_out |= LeaveOut.EMPTY_FOLDERS if self.empty.isChecked() else LeaveOut.NOTHING
        follow = self.follow.isChecked()
        patterns = tuple(word.strip() for word in self.patterns.text().split(",") if word.strip())

        def change(form: PackForm) -> None:
            form.leave_out, form.exclude, form.follow = leave_out, patterns, follow

        self._packing.change(change)


def parts_words(form: PackForm) -> str:
    """Whether the archive is split, and into what."""
    return say("Split into parts of {size:size}", size=form.part_size) if form.part_size else "In one file"


def settings_words(form: PackForm) -> str:
    """How everything is set that is folded away."""
    words = []
    if form.part_size:
        words.append(say("parts of {part_size:size}", part_size=form.part_size))
    if form.each:
        words.append("one archive per item")
    words.append("checked afterwards" if form.read_back or form.trash else "not checked afterwards")
    if form.trash:
        words.append("originals to the trash")
    left_out = [
        name
        for name, on in (
            ("hidden files", LeaveOut.HIDDEN in form.leave_out),
            ("empty folders", LeaveOut.EMPTY_FOLDERS in form.leave_out),
            (", ".join(form.exclude), bool(form.exclude)),
        )
        if on
    ]
    words.append(say("left out: {names}", names=", ".join(left_out)) if left_out else "nothing left out")
    if form.follow:
        words.append("links followed")
    line = " · ".join(words)
    return line[0].upper() + line[1:]


class LockBox(QWidget):
    """The password: typed twice while it can't be seen, so that a slip does not lock its owner out."""

    def __init__(self, packing: Packing) -> None:
        super().__init__()
        self._packing = packing
        self._wanted = False
        column = page_layout(self, gap=theme.sizes.space)
        row = QHBoxLayout()
        self.first = _hidden_field("Password")
        self.eye = QToolButton()
        self.eye.setCheckable(True)
        self.eye.setText("Show")
        self.eye.setAccessibleName("Show the password")
        self.suggest = QToolButton()
        self.suggest.setText("Suggest")
        self.suggest.setToolTip("A new password of five words")
        self.suggest.setAccessibleName("Suggest a password")
        self.again = _hidden_field("Repeat the password")
        column.addWidget(self.first)
        row.addWidget(self.again, 1)
        row.addWidget(self.eye)
        row.addWidget(self.suggest)
        row.addStretch(0)
        column.addLayout(row)
        self.words = label("", "soft")
        column.addWidget(self.words)
        self.hide_names = QCheckBox("Hide the file names, too")
        column.addWidget(self.hide_names)
        self.first.textChanged.connect(self._changed)
        self.again.textChanged.connect(self._changed)
        self.eye.toggled.connect(self._changed)
        self.suggest.clicked.connect(self._suggest)
        self.hide_names.toggled.connect(self._changed)
        packing.changed.connect(self._show)

    def ask(self, wanted: bool) -> None:
        """Whether there is to be a lock; without one nothing of it is kept."""
        self._wanted = wanted
        if not wanted:
            self.first.clear()
            self.again.clear()
            self.eye.setChecked(False)
            self.hide_names.setChecked(False)
        self._changed()

    def _suggest(self) -> None:
        """Fill in a new password of words, to be seen, as it is to be kept in mind."""
        from rundlet.integration.passphrases import passphrase  # with its words

        self.eye.setChecked(True)
        self.first.setText(passphrase())
        self.first.selectAll()
        self.first.setFocus()

    def _show(self) -> None:
        can = self._packing.form.info.can_hide_names
        self.hide_names.setEnabled(can or self.hide_names.isChecked())
        self.hide_names.setText("Hide the file names, too" if can else "Hide the file names, too (7z only)")

    def _changed(self) -> None:
        seen = self.eye.isChecked()
        mode = QLineEdit.EchoMode.Normal if seen else QLineEdit.EchoMode.Password
        self.first.setEchoMode(mode)
        self.again.setVisible(not seen)
        password = self.first.text()
        if password:
            no_core_dumps()
        fits = seen or password == self.again.text()
        bad = bool(password) and bool(self.again.text()) and not fits
        self.words.setText("The passwords don't match." if bad else strength_words(password))
        restyle(self.words, "role", "warn" if bad else "soft")
        hide = self.hide_names.isChecked()

        def change(form: PackForm) -> None:
            form.password = password if fits else ""
            form.hide_names = hide
            form.lock_wanted = self._wanted

        self._packing.change(change)


def _hidden_field(name: str) -> QLineEdit:
    field = QLineEdit()
    field.setEchoMode(QLineEdit.EchoMode.Password)
    field.setPlaceholderText(name)
    field.setAccessibleName(name)
    return field


_KINDS: tuple[tuple[Callable[[str], bool], int], ...] = (
    (str.islower, 26),
    (str.isupper, 26),
    (str.isdigit, 10),
    (lambda c: not c.isalnum() and c.isascii(), 33),
    (lambda c: not c.isascii(), 100),
)


def strength_words(password: str) -> str:
    """How hard a password is to try out, in words; by its length and the kinds of its characters."""
    if not password:
        return "If you lose the password, nobody can open this archive."
    kinds = sum(count for test, count in _KINDS if any(test(c) for c in password))
    bits = len(set(password)) ** 0.5 * len(password) ** 0.5 * max(kinds, 2).bit_length() * 0.9
    if bits < 35:
        return "Weak: a program could guess it within a day."
    if bits < 60:
        return "Fair: enough against curious people. Four words are better."
    return "Strong."
