"""The window: it puts the columns together and wires them."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QKeyCombination, QProcess, Qt, QTimer
from PySide6.QtGui import QCursor, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QMenu,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from rundlet.core.jobs.interface_priority import first
from rundlet.core.jobs.outcomes import Changed, FolderMade, Outcome, Packed, Renamed, Salvaged, Trashed
from rundlet.core.streams.parts import files_of
from rundlet.core.userdata.journal import Journal
from rundlet.core.userdata.places import Places, there
from rundlet.core.userdata.presets import Presets
from rundlet.core.userdata.remembered import Remembered
from rundlet.core.userdata.settings_file import Settings
from rundlet.core.userdata.updates import Updates
from rundlet.desktop.actions import add_actions
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.desktop_services import DesktopServices
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.file_actions import FileActions
from rundlet.desktop.file_manager import copy_files, show_in_file_manager
from rundlet.desktop.history import History
from rundlet.desktop.job_starter import JobStarter
from rundlet.desktop.jobs import JobResult, Jobs, RunningJob
from rundlet.desktop.keyring_offers import KeyringOffers
from rundlet.desktop.locations.place import OpenArchive, Place
from rundlet.desktop.pages.from_column import FromColumn
from rundlet.desktop.pages.how_column import HowColumn
from rundlet.desktop.pages.to_column import ToColumn
from rundlet.desktop.path_bar import PathBar
from rundlet.desktop.places_menu import PlacesMenu
from rundlet.desktop.preview_loader import PreviewLoader, Thumbs
from rundlet.desktop.requests import Requests
from rundlet.desktop.state.archive_batch import ArchiveBatch, Task
from rundlet.desktop.state.trial_runner import TrialRunner
from rundlet.desktop.state.workspace import Workspace
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import page_layout
from rundlet.desktop.views.job_strip import Strip
from rundlet.desktop.views.quiet_page import QuietPage
from rundlet.desktop.window_memory import WindowMemory
from rundlet.desktop.window_settings import WindowSettings
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from PySide6.QtGui import QCloseEvent, QResizeEvent

    from rundlet.core.errors import RundletError
    from rundlet.core.jobs.findings import Issue
    from rundlet.desktop.help import HelpWindow
    from rundlet.desktop.main_menu import ShortcutsWindow

_HOLD_MS = 50
_MOST_RECENT = 5
_MOST_COMPARED = 1 << 30  # bytes of parts that are read when an archive is opened; Check reads larger ones
_SOON_MS = 500  # after which the window stands, and nobody waits for it

_PAINTS = (QEvent.Type.UpdateRequest, QEvent.Type.LayoutRequest, QEvent.Type.Resize, QEvent.Type.Show)


class Window(QMainWindow):
    """One window with its own place, choice and jobs.

    Args:
        data: where the log, the places and the settings are kept; None for the usual folders.
    """

    def __init__(self, data: Path | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Rundlet")
        self.resize(theme.sizes.window_width, theme.sizes.window_height)
        self.background = Background(self)
        self.settings = Settings.read(None if data is None else data / "settings.json")
        updates = Updates() if data is None else Updates(data / "updates.json")
        self.workspace = Workspace(self.background, self.settings, updates, self)
        self.jobs = Jobs(self.background, self)
        journal = Journal() if data is None else Journal(data / "journal")
        self.history = History(journal, self.jobs, self.background, self)
        self.places_menu = PlacesMenu(
            self.workspace, self.background, Places.read(None if data is None else data / "places.json"), self
        )
        self._closing = False
        self._shortcuts: ShortcutsWindow | None = None
        self._help: HelpWindow | None = None
        self._archives_task = Latest(self.background)
        self._parts_task = Latest(self.background)
        self._place_before: Place | None = None
        # Where, and with what selected, the button is to be pressed once it is known where things land.
        self._press_at: tuple[Place, tuple[int, ...]] | None = None
        self.preview_loader = PreviewLoader(self.workspace, self.background)
        self.thumbs = Thumbs(self.workspace, self.background)
        self.source = FromColumn(self.workspace, self.preview_loader, self.thumbs)
        self.trials = TrialRunner(self.workspace, self.background)
        self.trials.held = lambda: bool(self.jobs.running)
        self.batch = ArchiveBatch(self.workspace, self.background)
        self.how = HowColumn(
            self.workspace, self.trials, self.batch, Presets.read(None if data is None else data / "ways.json")
        )
        self.target = ToColumn(self.workspace, self.trials, self.batch, self.places_menu.quick)
        self.job_starter = JobStarter(self.workspace, self.batch, self.trials, self.jobs, self.places_menu.note_folder)
        self.strip = Strip(self.jobs)
        self.file_actions = FileActions(self.workspace, self.source, self.batch, self.jobs)
        self.requests = Requests(self)
        self._lay_out()
        self._wire()
        self.window_settings = WindowSettings(self)
        self.keyring = KeyringOffers(
            self.workspace, self.jobs, self.job_starter, self.source.notice, self.background, self
        )
        self.services = DesktopServices(self.jobs, self.background, self.settings, self)
        self.services.in_front = self.isActiveWindow
        self.services.open_wanted.connect(self.requests.open_again)
        self.services.front_wanted.connect(self.come_to_front)
        self.services.show_wanted.connect(lambda path: self.strip.show_wanted.emit(path))
        self.services.undo_wanted.connect(self.history.undo_job)
        self.memory = WindowMemory(self, Remembered.read(None if data is None else data / "window.json"))
        self.memory.restore()
        self.source.pages.page.setFocus()
        self.history.recall()
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_SOON_MS)
        self._soon.timeout.connect(self._prepare)
        self._soon.start()

    def _prepare(self) -> None:
        """Make beforehand, once the window stands, what the first click needs."""
        self.how.pack, self.target.pack  # noqa: B018 - being asked for makes them

    def _lay_out(self) -> None:
        s = theme.sizes
        form = QWidget()
        form.setObjectName("desk")
        self.setCentralWidget(form)
        rows = QVBoxLayout(form)
        rows.setContentsMargins(s.wide, s.wide - s.space, s.wide, s.wide - s.space)
        rows.setSpacing(s.gap)
        work = QWidget()
        self.stack = QStackedWidget()
        self.stack.addWidget(work)
        rows.addWidget(self.stack, 1)
        rows.addWidget(self.strip)
        rows = page_layout(work)
        rows.addLayout(self._top_bar())
        self.right = QSplitter(Qt.Orientation.Horizontal)
        self.right.addWidget(self.how)
        self.right.addWidget(self.target)
        self.columns = QSplitter(Qt.Orientation.Horizontal)
        self.columns.addWidget(self.source)
        self.columns.addWidget(self.right)
        for splitter in (self.columns, self.right):
            splitter.setChildrenCollapsible(False)
            splitter.setHandleWidth(s.gap + s.space)
        self.columns.setStretchFactor(0, 1)
        self.columns.setSizes([s.window_width * 50 // 100, s.window_width * 50 // 100])
        self.right.setSizes([s.window_width * 25 // 100, s.window_width * 25 // 100])
        rows.addWidget(self.columns, 1)
        self._fit_text()

    def _fit_text(self) -> None:
        """Give the columns and fields the room that text of this size needs."""
        s = theme.sizes
        self.source.setMinimumWidth(s.from_least)
        self.how.setMinimumWidth(s.how_least)
        self.target.setMinimumWidth(s.to_least)
        self.finder.setFixedWidth(s.progress_width)
        # Else three columns beside each other, which want more, would keep it from getting narrow enough to stack two of them.
        self.setMinimumSize(s.from_least + s.how_least + 3 * s.wide, s.window_least)

    def _top_bar(self) -> QHBoxLayout:
        s = theme.sizes
        row = QHBoxLayout()
        row.setSpacing(s.gap)
        self.back_button = QToolButton()
        self.back_button.setIcon(theme.icon("back"))
        self.back_button.setAccessibleName("Back")
        self.back_button.setToolTip("Back")
        self.places_button = QPushButton("Places")
        self.places_button.setIcon(theme.icon("place"))
        self.places_button.setMenu(self.places_menu.menu)
        self.path_bar = PathBar(self.workspace, self.background, self.places_button)
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find by name")
        self.finder.setAccessibleName("Find by name")
        self.finder.setClearButtonEnabled(True)
        row.addWidget(self.back_button)
        row.addWidget(self.places_button)
        row.addWidget(self.path_bar, 1)
        row.addWidget(self.finder)
        self.log_button = QPushButton("Log")
        self.log_button.setIcon(theme.icon("log"))
        row.addWidget(self.log_button)
        self.menu_button = QPushButton("Menu")
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.menu_button.setMenu(self.menu)
        row.addWidget(self.menu_button)
        return row

    def _wire(self) -> None:
        ws = self.workspace
        ws.moved.connect(self._moved)
        ws.listed.connect(self.recall_archives)
        self.path_bar.left.connect(self._go_from)
        self.path_bar.refused.connect(self.source.notice.tell)
        self.back_button.clicked.connect(ws.back)
        self.finder.textChanged.connect(self.source.narrow_to)
        self.source.everything_wanted.connect(self.finder.clear)
        self.source.below_wanted.connect(self._find_below)
        self.finder.returnPressed.connect(self.source.find_below)
        self.source.dropped.connect(ws.gather)
        self.how.dropped.connect(ws.gather)
        self.target.refused.connect(self.source.notice.tell)
        self.how.password_wanted.connect(self._ask_password)
        self.how.unused_key.connect(self._pass_key_on)
        self.target.pack_pressed.connect(self.job_starter.start_pack)
        self.target.unpack_pressed.connect(self.job_starter.start_unpack)
        self.target.batch_pressed.connect(self.job_starter.start_several)
        self.target.change_pressed.connect(self.job_starter.start_change)
        ws.selector.changed.connect(self._wake_button)
        self.target.check_pressed.connect(self.job_starter.start_check)
        self.target.compare_pressed.connect(self.job_starter.start_compare)
        self.target.sums_pressed.connect(self.job_starter.start_sums)
        self.target.join_pressed.connect(self.job_starter.start_join)
        self.target.part_found.connect(self.job_starter.take_part)
        self.target.trash_wanted.connect(self.job_starter.trash_compared)
        self.target.look_wanted.connect(self.source.set_looking)
        ws.comparing.originals_of = self.history.originals_of
        self.history.compare_wanted.connect(self.requests.compare)
        self.history.again_wanted.connect(self.requests.repeat)
        self.target.select_wanted.connect(self.source.choose)
        self.target.split_wanted.connect(self.how.split_into)
        self.how.put_back_wanted.connect(self.file_actions.put_back)
        ws.changing.refused.connect(self._refuse_change)
        ws.changing.told.connect(self.source.notice.tell)
        ws.changing.asked.connect(self.source.notice.tell)
        ws.changing.staged.connect(self.source.notice.leave)
        self.jobs.ended.connect(self._job_ended)
        self.file_actions.unpack_wanted.connect(self._unpack_when_ready)
        self.file_actions.task_wanted.connect(self.do)
        self.file_actions.to_wanted.connect(self._go_to)
        self.file_actions.check_wanted.connect(self.job_starter.start_check)
        self.file_actions.checks_wanted.connect(self.job_starter.start_checks)
        self.target.checks_pressed.connect(self.job_starter.start_checks)
        self.target.enter_wanted.connect(self.requests.look_into)
        self.file_actions.sums_wanted.connect(self.job_starter.start_sums)
        ws.unpacking.landed.connect(self._landed)
        self.batch.changed.connect(self._landed)
        ws.unpacking.landing_failed.connect(self._call_off)
        ws.leaving.connect(self._call_off)
        ws.listed.connect(self._look_at_archive)
        ws.gone.connect(self._say_gone)
        ws.list_wanted.connect(self.requests.show_list)
        self.strip.show_wanted.connect(show_in_file_manager)
        self.strip.copy_wanted.connect(copy_files)
        self.strip.undo_wanted.connect(self.history.undo_last)
        self.history.noted.connect(self.strip.offer_undo)
        self.history.recalled.connect(self.strip.recall)
        self.strip.problems_wanted.connect(self._show_problems)
        self.strip.close_wanted.connect(self.close_now)
        self.strip.save_wanted.connect(self._save_and_close)
        self.how.quiet.unsaved = lambda path: ws.changing.count_at((str(path),))
        self._press_timer = QTimer(self)
        self._press_timer.setInterval(_HOLD_MS)
        self._press_timer.timeout.connect(self._hold_buttons)
        for happened in (
            self.jobs.started,
            self.jobs.ended,
            ws.packing.changed,
            ws.unpacking.changed,
            ws.changing.changed,
            ws.checking.changed,
            ws.comparing.changed,
            ws.sums.changed,
            ws.joining.changed,
            ws.archive_checks.changed,
            self.batch.changed,
        ):
            happened.connect(self._hold_buttons)
        self.log_button.clicked.connect(self.history.open_log)
        handlers: dict[str, Callable[[], object]] = {
            "go": self._press_button,
            "find": self._go_find,
            "up": ws.up,
            "back": ws.back,
            "from": self._go_from,
            "how": self.go_how,
            "to": self._go_to,
            "undo": self._undo,
            "path": self.path_bar.type,
            "new_window": self._open_window,
            "check": self.file_actions.check,
            "convert": self.file_actions.convert,
            "settings": lambda: self.window_settings.toggle(),
            "help": self._show_help,
            "open_archive": self._pick_archive,
            "shortcuts": self._show_shortcuts,
            "about": self._show_about,
            "log": self.history.open_log,
            "refresh": ws.refresh,
            "close": self.close,
        }
        self.window_actions = add_actions(self, handlers)

    def _moved(self, place: Place) -> None:
        self.back_button.setEnabled(self.workspace.can_go_back)
        if place != self._place_before:  # a folder that was only read again leaves the focus on its step
            self.path_bar.steps.show_place(place)
            self.finder.blockSignals(True)
            self.finder.clear()
            self.finder.blockSignals(False)
            self.path_bar.leave()
        self._place_before = place
        self.source.notice.leave()
        if place.archive is not None and place.outer is None:
            self.places_menu.note_archive(place.archive)
        where = place.archive or place.folder
        self.setWindowTitle(f"{where.name or where} – Rundlet")

    def recall_archives(self) -> None:
        """Offer the archives used last where nothing is selected; whether they are there is looked up beside the interface."""
        archives = list(self.places_menu.places.archives)
        self._archives_task.run(
            lambda _: there(archives)[:_MOST_RECENT], done=self.how.quiet.show_files, failed=log_failure
        )

    def _say_gone(self, path: Path) -> None:
        self.source.notice.tell(say("{name:name} was moved or deleted by another program.", name=path.name), stays=True)

    def _show_problems(self, running: RunningJob) -> None:
        self.history.open_log(running.id)

    def _hold_buttons(self, *_: object) -> None:
        """The button is off until the job that it started has taken over."""
        held = {
            Task.PACK: self.job_starter.holds_packing,
            Task.UNPACK: self.job_starter.holds_unpacking,
            Task.UNPACK_SEVERAL: self.job_starter.holds_batch,
            Task.CHANGE: self.job_starter.holds_changing,
            Task.CHECK: self.job_starter.holds_checking,
            Task.COMPARE: self.job_starter.holds_comparing,
            Task.SUMS: self.job_starter.holds_sums,
            Task.JOIN: self.job_starter.holds_joining,
            Task.CHECK_SEVERAL: self.job_starter.holds_checks,
        }
        for button, task in self.target.buttons():
            button.hold(held[task])
        if any(held.values()):
            self._press_timer.start()
        else:
            self._press_timer.stop()

    def begin(self, paths: Sequence[Path], task: str = "") -> None:
        """Stand where these paths say; see :meth:`Requests.begin`."""
        self.requests.begin(paths, task)

    def come_to_front(self, token: str = "") -> None:
        """Be the window that is used, with the token by which the desktop lets it."""
        if self.window_settings.is_shown:
            self.window_settings.toggle()
        if token:
            os.environ["XDG_ACTIVATION_TOKEN"] = token  # which the toolkit looks for
        if self.isMinimized():
            self.showNormal()
        self.show()
        self.raise_()
        self.activateWindow()
        os.environ.pop("XDG_ACTIVATION_TOKEN", None)

    # Keys

    def _refuse_change(self, error: RundletError) -> None:
        """Something can't be changed: say why, and what would help."""
        changing = self.workspace.changing
        offers: list[tuple[str, Callable[[], object]]] = []
        if changing.why_not() is not None and self.workspace.archive is not None:
            offers.append(("Save it as a new archive …", self.file_actions.convert))
        self.source.notice.tell(str(error), offers)

    def _undo(self) -> None:
        """Undo the last change that is not saved, while these are shown; else the last job."""
        if self.workspace.changing.wanted and self.workspace.changing.discard_last():
            return
        if not self.history.undo_last():
            self.source.notice.tell("There is nothing left to undo.")

    def _press_button(self) -> None:
        if self.target.go.isEnabled():
            self.target.go.click()
        else:
            self._say_nothing_selected()

    def _say_nothing_selected(self) -> None:
        """A key that needs something selected says so where nothing is."""
        if isinstance(self.target.page, QuietPage):
            self.source.notice.tell("Nothing is selected. Select files or folders first, or open an archive.")

    def _ask_password(self) -> None:
        """A locked archive was clicked: its password can be typed at once. Who goes through the list by keys stays there."""
        if self.source.pointed:
            self.how.batch.lock.edit.setFocus()

    def _pass_key_on(self, key: QKeyCombination) -> None:
        """A key that the empty field for a password has no use for is meant for the list."""
        self._go_from()
        view = self.source.pages.page
        for action in view.actions():
            if QKeySequence(key) in action.shortcuts():
                action.trigger()
                return
        for happened in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
            QApplication.sendEvent(view, QKeyEvent(happened, key.key(), key.keyboardModifiers()))

    @property
    def _here(self) -> tuple[Place, tuple[int, ...]]:
        return self.workspace.place, tuple(self.workspace.selection.nodes)

    def _unpack_when_ready(self) -> None:
        """Unpack everything, as soon as it is known where it lands; not if the person goes elsewhere before that."""
        self._press_at = self._here
        self.workspace.unpacking.plan_again()

    def do(self, task: Task) -> None:
        """Do with what is selected what a menu offered, in the way that the columns show."""
        if task in (Task.PACK, Task.UNPACK_SEVERAL) and self.batch.form.archives:
            self.how.choose(task)
        known = self.batch.form.outlooks if task is Task.UNPACK_SEVERAL else self.workspace.unpacking.plan
        if self.target.go.isEnabled():
            self.target.go.click()
        elif task is not Task.PACK and not known:
            self._press_at = self._here
        else:
            self._go_to()  # which says why not

    def _landed(self, *_: object) -> None:
        if self._press_at is not None:
            QTimer.singleShot(0, self, self._press_landed)  # once everybody else knows where it lands

    def _press_landed(self) -> None:
        if self._press_at is None or (self.batch.unpacks and not self.batch.form.outlooks):
            return  # it was called off meanwhile, or is not known yet
        here, self._press_at = self._press_at, None
        if here == self._here:
            self._press_button()

    def _call_off(self, *_: object) -> None:
        self._press_at = None

    def _look_at_archive(self, _: object) -> None:
        """Say what is wrong with an archive as a whole, or offer another name where its ending does not fit its content."""
        place, opened = self.workspace.place, self.workspace.archive
        if opened is None:
            self._parts_task.drop()
        if opened is None or place.inner:
            return

        from rundlet.presentation.findings import problem_words  # with archives only

        problems = [notice for notice in opened.reader.notices if notice.problem]
        if problems:
            self.source.notice.tell(say("{problems} What is intact can be unpacked.", problems=problem_words(problems)))
        elif place.outer is None and len(files_of(opened.reader.source)) == 1:
            self._look_at_ending(opened)
        elif place.outer is None and opened.reader.source.size <= _MOST_COMPARED:
            self._compare_parts(opened)

    def _compare_parts(self, opened: OpenArchive) -> None:
        """Hold the parts against the checksum file beside them, if there is one, and say what is not as it says."""
        from rundlet.core.work.checksums import parts_that_differ
        from rundlet.presentation.findings import problem_words

        def done(found: list[Issue]) -> None:
            if found and self.workspace.archive is not None and self.workspace.archive.path == opened.path:
                self.source.notice.tell(say("{problems} Fetch it again.", problems=problem_words(found)))

        source = opened.reader.source
        self._parts_task.run(lambda job: parts_that_differ(source, job), done=done, failed=log_failure)

    def _look_at_ending(self, opened: OpenArchive) -> None:
        from rundlet.core.fs.extensions import better_name

        better = better_name(opened.path.name, opened.reader.info)
        if better is not None:
            self.source.notice.tell(
                say(
                    "{name:name} is a {format} archive, but its extension says otherwise.",
                    name=opened.path.name,
                    format=opened.reader.info.id,
                ),
                [
                    (
                        say("Rename it to {better:name}", better=better),
                        lambda: self.file_actions.rename(opened.path, better),
                    )
                ],
            )

    def _go_find(self) -> None:
        self.finder.setFocus()
        self.finder.selectAll()

    def _find_below(self, words: str) -> None:
        self.workspace.go(Place(self.workspace.place.folder, find=words))

    def _fill_menu(self) -> None:
        """Fill the menu when it is opened for the first time."""
        if self.menu.isEmpty():
            from rundlet.desktop.main_menu import fill_main_menu

            fill_main_menu(self.menu, self.window_actions, self.file_actions.offered)

    def _show_shortcuts(self) -> None:
        if self._shortcuts is None:
            from rundlet.desktop.main_menu import ShortcutsWindow

            self._shortcuts = ShortcutsWindow(self)
        self._shortcuts.show()
        self._shortcuts.raise_()

    def _show_help(self) -> None:
        if self._help is None:
            from rundlet.desktop.help import HelpWindow

            self._help = HelpWindow(self)
        self._help.show()
        self._help.raise_()

    def _open_window(self) -> None:
        """One more window, at the same place: a process of its own, so that neither can take the other one with it."""
        place = self.workspace.place
        started = QProcess.startDetached(
            sys.executable, ["-m", "rundlet", "--new-window", str(place.archive or place.folder)]
        )
        if not (started[0] if isinstance(started, tuple) else started):
            self.source.notice.tell("A new window could not be opened.")

    def _show_about(self) -> None:
        from rundlet.desktop.main_menu import about_box

        about_box(self).open()

    def _pick_archive(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Open an archive", str(self.workspace.place.folder))
        if chosen:
            self.workspace.enter_file(Path(chosen))

    def _go_from(self) -> None:
        self.source.pages.page.setFocus()

    def go_how(self) -> None:
        """Let the keyboard act on How."""
        page = self.how.page
        if isinstance(page, QuietPage):
            self._say_nothing_selected()
        else:  # a page with nothing to set has the choice of pages above it
            choices = self.how.within if self.workspace.place.in_archive else self.how.what
            has_any = page.first is not page and page.first.isVisibleTo(page)
            (page.first if has_any else choices.first).setFocus()

    def _go_to(self) -> None:
        page = self.target.page
        if isinstance(page, QuietPage):
            self._say_nothing_selected()
        else:
            page.first.setFocus()

    def _job_ended(self, running: RunningJob, result: JobResult) -> None:
        if running.shows and result.show is not None and result.outcome is not None and result.outcome.files:
            self.strip.show_wanted.emit(result.show)
        if self._closing:
            self.history.note_now(running, result)
            return
        self.workspace.unpacking.plan_again()
        self.batch.plan_again()
        self.history.note(running, result)
        place, outcome = self.workspace.place, result.outcome
        if outcome is not None:
            self._keep_changes_with(outcome)
        if isinstance(outcome, Packed | Changed | Salvaged) and outcome.shown is not None:
            self.places_menu.note_archive(outcome.shown)
        self.recall_archives()
        if place.archive is not None and not os.path.exists(place.archive):
            if isinstance(outcome, Renamed) and outcome.moved == [(str(place.archive), str(outcome.target))]:
                self.workspace.enter_file(outcome.target)
            else:
                self.workspace.go(Place(place.folder))
        elif place.in_archive and isinstance(outcome, Changed) and outcome.target == place.outermost:
            if self._is_at_button():
                self.target.unpack.go.rest("Saved")
            self.workspace.refresh()
        elif self.source.is_naming:
            self.workspace.follower.tell_later()  # the list is not taken away from under the name
        elif not place.in_archive and outcome is not None:
            named = isinstance(outcome, FolderMade | Renamed)
            self.workspace.refresh(choose=[outcome.target] if named else ())

    def _is_at_button(self) -> bool:
        """Whether the pointer is on the big button, which is about to do something else."""
        go = self.target.go
        return go.isVisible() and go.rect().contains(go.mapFromGlobal(QCursor.pos()))

    def _wake_button(self, *_: object) -> None:
        """Something is selected, so the big button is meant for that."""
        if self.workspace.selection.items:
            for button, _task in self.target.buttons():
                button.wake()

    def _keep_changes_with(self, outcome: Outcome) -> None:
        """Keep changes that are not saved with an archive that was moved, and say so where it went to the trash with some."""
        changing = self.workspace.changing
        changing.follow(outcome.moved)
        lost = changing.lost_with(outcome.trashed) if isinstance(outcome, Trashed) else []
        if lost and lost[0].place.outermost is not None:
            words = "{archive:name} had {count:change that is|changes that are} not saved. Undo brings both back."
            archive = lost[0].place.outermost.name
            self.source.notice.tell(say(words, archive=archive, count=len(lost[0].staging)), stays=True)

    def event(self, event: QEvent) -> bool:
        """All painting of the window and its children happens in here; work steps aside for it."""
        if event.type() in _PAINTS:
            with first():
                return super().event(event)
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._stack()

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.StyleChange:  # the size of the desktop's text may be another
            self._fit_text()
            self._stack()
            self.source.pages.fit_text()

    def fit_columns(self) -> None:
        """Give the columns the places that fit the width of the window."""
        self._stack()

    def _stack(self) -> None:
        """Put How and To one below the other where the window is too narrow for three columns."""
        s = theme.sizes
        beside = s.from_least + s.how_least + s.to_least + 4 * s.wide  # what three columns want, with large text too
        narrow = self.width() < max(s.stack_below, beside)
        way = Qt.Orientation.Vertical if narrow else Qt.Orientation.Horizontal
        turned = way != self.right.orientation()
        self.right.setOrientation(way)
        if narrow and turned:
            self.columns.setSizes([self.width() * 55 // 100, self.width() * 45 // 100])
            self.right.setSizes([self.height() * 45 // 100, self.height() * 55 // 100])

    def close_now(self) -> None:
        """Close the window; what is under way is cancelled."""
        self._closing = True
        self.close()

    def _save_and_close(self) -> None:
        """Save all changes, one archive after the other, and close when all of them are; what can't be saved keeps the window open."""
        self.strip.question.hide()
        unsaved = self.workspace.changing.unsaved()
        waiting = [running for kept in unsaved if (running := self.job_starter.save(kept, queued=True)) is not None]

        def ended(running: RunningJob, result: JobResult) -> None:
            if running not in waiting:
                return
            waiting.remove(running)
            if result.outcome is None:
                self.jobs.ended.disconnect(ended)
            elif not waiting:
                self.jobs.ended.disconnect(ended)
                QTimer.singleShot(0, self, self.close)  # once everybody else knows that it was saved

        self.jobs.ended.connect(ended)

    def ask_before_closing(self) -> bool:
        """Ask in place where work is under way, or changes are not saved; whether it is asked."""
        if self._closing:
            return False
        archives = [
            kept.place.archive.name for kept in self.workspace.changing.unsaved() if kept.place.archive is not None
        ]
        copies = [copy.name for copy in self.workspace.temp_copies.look_now()]
        asks = bool(self.jobs.running or archives or copies)
        if asks:
            self.strip.ask_to_close(archives, copies)
        return asks

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.ask_before_closing():
            event.ignore()
            return
        self._closing = True
        self.hide()  # what is under way is cancelled, and may take a moment to come to its end
        self.trials.stop()
        self._press_timer.stop()
        self._soon.stop()
        for running in tuple(self.jobs.running):
            self.jobs.cancel(running)
        self.places_menu.note_last(self.workspace.place.folder)
        self.memory.keep()
        self.services.close()
        self.file_actions.close()
        self.background.close()
        self.places_menu.places.write()
        self.workspace.close()
        super().closeEvent(event)
