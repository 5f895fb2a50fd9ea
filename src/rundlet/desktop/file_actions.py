"""What can be done from the list: on the disk a new folder, another name, moving, copying and the trash; in an archive
copies for other programs."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QEventLoop, QMimeData, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QAction, QGuiApplication, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QFileDialog, QLineEdit, QMenu

from rundlet.core import text
from rundlet.core.errors import Cancelled
from rundlet.core.fs.safe_names import safe_name, split_ending
from rundlet.core.jobs.outcomes import Changed, Copied, CopiedOut, FolderMade, Moved, Outcome, Renamed, Trashed
from rundlet.core.model.entry import Kind
from rundlet.core.model.file_type import FileType, looks_like_a_program
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.desktop.actions import LIST_ACTIONS
from rundlet.desktop.dragging import EntriesMime, drag_out, files_mime, is_cut, items_id, local_files
from rundlet.desktop.file_manager import copy_files, open_in_its_program, to_clipboard
from rundlet.desktop.locations.place import OpenArchive, Place, with_others
from rundlet.desktop.state.archive_batch import Task
from rundlet.desktop.state.sums import looks_like_a_list
from rundlet.desktop.temp_copies import Copy, Origin, lend, lend_one
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.listing import Spot
    from rundlet.desktop.pages.from_column import FromColumn
    from rundlet.desktop.programs import Program
    from rundlet.desktop.state.archive_batch import ArchiveBatch
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.entry_views import EntryView, ThumbView
    from rundlet.desktop.views.long_view import LongView


_USUAL_MODE = 0o644
_MENU = (
    ("open", "look_inside"),
    ("copy", "cut", "paste", "rename", "new_folder", "trash"),
    ("all", "others", "hidden"),
)
"""The actions of the list in its own menu, group by group."""


class FileActions(QObject):
    """Actions of the list; their keys count only while the list has the focus, so that none can go off in a field.

    Signals:
        unpack_wanted: everything in the archive is to be unpacked.
        task_wanted: what is to be done with what is selected, as a :class:`Task`.
        to_wanted: what comes next is to be said in To.
        check_wanted: the archive where the window stands is to be checked.
        checks_wanted: the archives that are selected are to be checked.
        sums_wanted: files are to be held against the selected list of checksums.
    """

    unpack_wanted = Signal()
    task_wanted = Signal(object)
    to_wanted = Signal()
    check_wanted = Signal()
    checks_wanted = Signal()
    sums_wanted = Signal()

    def __init__(self, workspace: Workspace, source: FromColumn, batch: ArchiveBatch, jobs: Jobs) -> None:
        super().__init__(source)
        self._workspace = workspace
        self._source = source
        self._batch = batch
        self._jobs = jobs
        handlers: dict[str, Callable[[], object]] = {
            "all": source.view.selectAll,
            "others": source.view.choose_others,
            "open": self._open,
            "look_inside": self._look_inside,
            "new_folder": self._new_folder,
            "rename": self._rename,
            "copy": self._copy,
            "cut": self._cut,
            "paste": self._paste,
            "trash": self._trash,
            "hidden": self._toggle_hidden,
            "list_up": workspace.up,
        }
        self.actions: dict[str, QAction] = {}
        for spec in LIST_ACTIONS:
            action = QAction(spec.words, source.view)
            action.setShortcuts([QKeySequence(keys) for keys in spec.keys])
            action.setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
            action.triggered.connect(handlers[spec.id])
            self.actions[spec.id] = action
        self.actions["hidden"].setCheckable(True)
        for view in source.pages.lists:
            self._wire_list(view)
        source.pages.added.connect(self._wire_list)
        message = source.pages.message  # in place of an empty folder, into which things can be put all the same
        message.addActions(list(self.actions.values()))
        message.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        message.customContextMenuRequested.connect(self._offer_beside)
        self._making: RunningJob | None = None
        self._to_name: Path | None = None  # a folder just made, until it is in the list
        self._to_name_within = ""  # the same in an archive
        self._copied: tuple[str, OpenArchive, list[int]] | None = None  # what of an archive is on the clipboard
        self._cut_paths: tuple[str, ...] = ()  # its paths, where it is to be moved
        source.moved_onto.connect(self.put_into)
        source.moved_within.connect(workspace.changing.move)
        source.put_within.connect(workspace.changing.add)
        source.put_onto.connect(self._put_onto)
        workspace.relisted.connect(self._name_within)
        source.open_wanted.connect(self._hand_over)
        jobs.ended.connect(self._name_next)
        self._put_in: dict[RunningJob, list[tuple[Copy, tuple[int, int]]]] = {}  # as they were when saving began
        jobs.started.connect(self._saving)
        jobs.ended.connect(self._saved)
        workspace.moved.connect(self._moved)
        workspace.restored.connect(self._name_new_folder)
        workspace.temp_copies.changed.connect(self._copy_changed)
        source.model.renamed.connect(self._renamed)
        workspace.selector.changed.connect(self._refresh)
        source.view.selectionModel().currentChanged.connect(self._refresh)
        self._refresh()

    def _wire_list(self, view: EntryView | LongView | ThumbView) -> None:
        view.addActions(list(self.actions.values()))
        view.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        view.customContextMenuRequested.connect(self._offer)
        view.drag_wanted.connect(self._drag)

    def _refresh(self, *_: object) -> None:
        on_disk = self._is_editable
        within = self._workspace.archive is not None
        shown = len(self._workspace.selection.shown)  # what is out of sight is out of reach
        count = shown if on_disk or within else 0
        self.actions["new_folder"].setEnabled(self._is_folder or within)
        self.actions["hidden"].setEnabled(on_disk)
        self.actions["cut"].setEnabled(count > 0)
        self.actions["trash"].setEnabled(count > 0)
        self.actions["copy"].setEnabled(shown > 0)
        self.actions["paste"].setEnabled(self._is_folder or within)
        current = self._spot is not None
        self.actions["open"].setEnabled(current)
        is_archive = not within or self._is_archive_entry  # on the disk content decides, when it is opened
        self.actions["look_inside"].setEnabled(current and is_archive)
        self.actions["open"].setText("Open a copy in its program" if within else "Open in its program")
        if within:
            self.actions["trash"].setText(say("Remove {count:item|items}", count=count) if count else "Remove")
        else:
            self.actions["trash"].setText(
                say("Move {count:item|items} to the trash", count=count) if count else "Move to the trash"
            )
        self.actions["rename"].setEnabled((on_disk or within) and self._source.view.currentIndex().isValid())

    @property
    def _current(self) -> int:
        index = self._source.view.currentIndex()
        return self._source.model.node(index) if index.isValid() else 0

    @property
    def _is_archive_entry(self) -> bool:
        listing, node = self._workspace.listing, self._current
        return listing is not None and node > 0 and listing.record(node).file_type is FileType.ARCHIVES

    @property
    def _spot(self) -> Spot | None:
        listing = self._workspace.listing
        return listing.spot(self._current) if listing is not None else None

    @property
    def _is_editable(self) -> bool:
        return self._workspace.listing is not None and self._workspace.listing.is_editable

    @property
    def _is_folder(self) -> bool:
        """Whether what is made or pasted here has its place here; what was found lies in many folders."""
        return self._is_editable and not self._workspace.place.find

    def menu(self) -> QMenu:
        """What the right mouse button offers: only what can be done here."""
        self._refresh()
        menu = QMenu(self._source)
        for words, task in self._tasks():
            menu.addAction(words).triggered.connect(lambda _=False, task=task: self.task_wanted.emit(task))
        count = len(self._to_check())
        if count and not (self._workspace.place.in_archive and self._workspace.selection.items):
            menu.addAction(say("Check {count:archive|archives}", count=count)).triggered.connect(self.check)
        if count == 1:
            menu.addAction("Save as a new archive …").triggered.connect(self.convert)
        for names in _MENU:
            menu.addSeparator()
            for name in names:
                if not self.actions[name].isEnabled():
                    continue
                menu.addAction(self.actions[name])
                if name == "open" and self._spot is not None and self._spot.path is not None:
                    self._add_programs(menu, self._spot.path)
        return menu

    def _tasks(self) -> list[tuple[str, Task]]:
        """What can be done with what is selected, in words."""
        selection, archives = self._workspace.selection, self._batch.form.archives
        count = selection.items
        if self._workspace.place.in_archive:
            words = say("Unpack {count:item|items}", count=count) if count else "Unpack everything"
            return [(with_others(words, selection), Task.UNPACK)]
        if not selection.items:
            return []
        unpack = (
            [(say("Unpack {count:archive|archives}", count=len(archives)), Task.UNPACK_SEVERAL)] if archives else []
        )
        return [
            *unpack,
            (with_others(say("Pack {count:item|items}", count=count), selection), Task.PACK),
        ]

    def _to_check(self) -> list[Path]:
        """The archives that can be checked here: the one where the window stands, or those that are selected."""
        opened = self._workspace.archive
        return [opened.path] if opened is not None else list(self._batch.form.archives)

    def check(self) -> None:
        """Read all of the archive, or of the selected ones, and say whether they are intact."""
        if self._workspace.archive is not None:
            self._workspace.changing.want(False)
            self._workspace.comparing.want(False)
            self._workspace.checking.want(True)
            self.check_wanted.emit()
            return
        if not self._to_check():
            self._source.notice.tell("Open an archive, or select one, to check it.")
            return
        self._workspace.sums.want(False)
        self._workspace.archive_checks.want(True)
        self.checks_wanted.emit()

    def convert(self) -> None:
        """Have the archive, or the selected one, saved as a new one, in any format; how and where is said in the columns."""
        archives, changing = self._to_check(), self._workspace.changing

        def ask() -> None:
            changing.as_new = True
            changing.want(True)
            self.to_wanted.emit()

        if self._workspace.archive is not None:
            ask()
        elif len(archives) == 1:
            changing.once_open((str(archives[0]),), ask)
            self._workspace.enter_file(archives[0])
        else:
            self._source.notice.tell("Open an archive, or select one, to save it as a new one.")

    def _add_programs(self, menu: QMenu, path: Path) -> None:
        """Offer the programs that open a file, which are looked for when their menu is opened."""
        if os.path.isdir(path):
            return
        programs = menu.addMenu("Open with")

        def fill() -> None:
            if programs.isEmpty():
                self._fill_programs(programs, path)

        programs.aboutToShow.connect(fill)

    def _fill_programs(self, menu: QMenu, path: Path) -> None:
        from rundlet.desktop.programs import programs_for  # when it is asked for

        for program in programs_for(path):
            action = menu.addAction(program.name.replace("&", "&&"))
            action.triggered.connect(lambda _=False, program=program: self._open_with(program, path))
        if menu.isEmpty():
            menu.addAction("No program here opens this").setEnabled(False)

    def _open_with(self, program: Program, path: Path) -> None:
        if not program.open(path):
            self._source.notice.tell(say("{name:shown} could not be started.", name=program.name))

    @property
    def offered(self) -> list[QAction]:
        """The actions for a menu: all but the way up, which is no matter of what lies here."""
        return [action for name, action in self.actions.items() if name != "list_up"]

    def _offer(self, at: QPoint) -> None:
        view = self._source.pages.page
        if isinstance(view, QAbstractItemView):
            self.menu().popup(view.viewport().mapToGlobal(at))

    def _offer_beside(self, at: QPoint) -> None:
        if self._is_editable:
            self.menu().popup(self._source.pages.message.mapToGlobal(at))

    def _new_folder(self) -> None:
        if self._workspace.archive is not None:
            self._to_name_within = self._workspace.changing.new_folder(self._folder_within(), time.time_ns())
            return
        parent = self._workspace.place.folder

        def work(_: Job) -> Outcome:
            from rundlet.core.fs.create_rename import new_folder

            made = new_folder(parent)
            return FolderMade(made, created=[str(made)])

        self._making = self._jobs.start(FolderMade, parent, work)

    def _folder_within(self) -> str:
        """The folder of the archive where the selection is: the one that is selected, else the one in which that lies."""
        opened, shown = self._workspace.archive, self._workspace.selection.shown
        if opened is None or len(shown) != 1:
            return self._workspace.place.inner
        path = opened.tree.path(shown[0])
        return path if opened.tree.is_folder(shown[0]) else path.rpartition("/")[0]

    def _name_next(self, running: RunningJob, result: JobResult) -> None:
        if running is self._making:
            self._making = None
            self._to_name = result.outcome.target if result.outcome is not None else None

    def _moved(self, place: Place) -> None:
        if self._to_name is not None and place != Place(self._to_name.parent):
            self._to_name = None  # it was left, and is not named on coming back

    def _name_new_folder(self, nodes: list[int]) -> None:
        """A folder that was just made can be named at once, when its row has come."""
        made, listing, self._to_name = self._to_name, self._workspace.listing, None
        if made is not None and listing is not None and [listing.path_of(node) for node in nodes] == [made]:
            self._rename()

    def _name_within(self, listing: ArchiveListing) -> None:
        """A new folder in an archive can be named at once, when its row has come."""
        path, self._to_name_within = self._to_name_within, ""
        node = listing.tree.find(path) if path else None
        if node:
            self._source.view.choose_nodes([node])
            self._source.view.setCurrentIndex(self._source.model.index_of(node))
            self._rename()

    def _rename(self) -> None:
        """Let the name be typed; of a file, what stands before the ending is selected, as the ending mostly stays."""
        view = self._source.pages.page
        if not isinstance(view, QAbstractItemView) or not view.currentIndex().isValid():
            return
        index = view.currentIndex().siblingAtColumn(0)
        view.edit(index)
        editor = view.indexWidget(index)
        if isinstance(editor, QLineEdit) and self._spot is not None:
            editor.setSelection(0, len(split_ending(editor.text())[0]))

    def _renamed(self, node: int, name: str) -> None:
        listing = self._workspace.listing
        if self._workspace.archive is not None:
            self._workspace.changing.rename(node, name)
            return
        path = listing.path_of(node) if listing is not None else None
        if path is not None:
            self.rename(path, name)

    def rename(self, path: Path, name: str) -> None:
        """Give a file or folder on the disk another name."""

        def work(_: Job) -> Outcome:
            from rundlet.core.fs.create_rename import rename

            target = rename(path, name)
            return Renamed(target, moved=[(str(path), str(target))])

        self._jobs.start(Renamed, path, work, source=[path])

    # Other programs

    def _open(self) -> None:
        """Open the current file; of an entry it is a copy, and said to be one."""
        spot, opened = self._spot, self._workspace.archive
        if spot is None:
            return
        if spot.path is not None:
            self._hand_over(spot.path)
        elif opened is not None and looks_like_a_program(spot.name):
            self._source.notice.tell(
                say(
                    "{name:name} is a program or an installer and may need the files next to it. A copy on its own may not start.",
                    name=spot.name,
                ),
                [
                    ("Unpack everything", self._unpack_all),
                    ("Open a copy anyway", lambda: self._lend(opened, spot)),
                ],
            )
        elif opened is not None:
            self._lend(opened, spot)

    def _look_inside(self) -> None:
        """Go into the current file as an archive, whatever its name says; documents of many programs are zips."""
        if self._spot is not None:
            self._workspace.enter(self._current)

    def _unpack_all(self) -> None:
        self._source.view.clearSelection()
        self.unpack_wanted.emit()

    def _lend(self, opened: OpenArchive, spot: Spot) -> None:
        temp_copies, home = self._workspace.temp_copies, self._workspace.place.folder
        origin = self._origin(opened, spot)

        def done(path: Path) -> None:
            temp_copies.watch(Copy(path, spot.name, home, origin=origin))
            if self._hand_over(path):
                self._source.notice.tell(
                    say(
                        "A copy of {name:name} is open. When you change it, you can put it back into the archive.",
                        name=spot.name,
                    )
                    if origin is not None
                    else say(
                        "A copy of {name:name} is open. Changes to it are not saved in the archive, "
                        "but you can keep the changed copy.",
                        name=spot.name,
                    )
                )

        def failed(error: BaseException) -> None:
            if not isinstance(error, Cancelled):
                self._source.tell(error)

        folder = temp_copies.new_folder(max(spot.size, 0))
        self._workspace.background.run(lambda job: lend_one(opened, spot.node, folder, job), done=done, failed=failed)

    def _origin(self, opened: OpenArchive, spot: Spot) -> Origin | None:
        """Where a copy can be put back; None for an archive within another one, which is a copy itself."""
        if self._workspace.place.outer is not None or spot.row is None:
            return None
        entry, info = opened.reader.catalog.entry(spot.row), opened.reader.info
        options = WriteOptions(info.default_level, password=opened.password)
        return Origin(opened.path, text.plain_path(entry.path), entry.mode or _USUAL_MODE, options)

    def put_back(self, copies: Sequence[Copy]) -> None:
        """Put changed copies in the place of the files of one archive that they were made of; saved with all else there."""
        changing, place = self._workspace.changing, self._workspace.place
        self._source.notice.hide()
        items = []
        for copy in copies:
            assert copy.origin is not None
            archive, origin = copy.origin.archive, copy.origin
            size, changed = copy.now()
            items.append(PackItem(origin.inner, Kind.FILE, str(copy.path), size, changed, origin.mode))
        if place.archive == archive and place.outer is None and self._workspace.archive is not None:
            changing.replace(items)
        else:
            changing.once_open((str(archive),), partial(changing.replace, items))
            self._workspace.enter_file(archive)

    def _saving(self, running: RunningJob) -> None:
        unkept = self._workspace.temp_copies.unkept
        self._put_in[running] = [(copy, copy.now()) for copy in unkept if copy.path in running.source]

    def _saved(self, running: RunningJob, result: JobResult) -> None:
        """Copies that were put back are kept now, unless they were changed once more while that was saved."""
        outcome, put_in = result.outcome, self._put_in.pop(running, [])
        if isinstance(outcome, Changed) and not outcome.problems:
            for copy, before in put_in:
                copy.unkept = copy.now() != before

    def show_list(self, path: Path) -> None:
        """Show a selected list of checksums, or open it in its program where it is none."""
        self._workspace.sums.open_list(path, self.sums_wanted.emit, partial(self._open_elsewhere, path))

    def _hand_over(self, path: Path) -> bool:
        if looks_like_a_list(path):
            self.show_list(path)
            return True
        return self._open_elsewhere(path)

    def _open_elsewhere(self, path: Path) -> bool:
        done = open_in_its_program(path)
        if not done:
            self._source.notice.tell(say("There is no program here that opens {name:name}.", name=path.name))
        return done

    def _copy_changed(self, copy: Copy) -> None:
        """Another program has changed a copy: it can be kept, as a file of its own."""
        beside, origin = copy.home, copy.origin
        back: list[tuple[str, Callable[[], object]]] = []
        if origin is not None:
            words = say("Put it back into {name:name}", name=origin.archive.name)
            back.append((words, lambda: self.put_back([copy])))
        self._source.notice.tell(
            say("{name:name} was changed. The archive still has the old version.", name=copy.path.name),
            [
                *back,
                (say("Save it in “{name:shown}”", name=beside.name), lambda: self._keep(copy, beside)),
                ("Save it elsewhere …", lambda: self._keep_elsewhere(copy, beside)),
            ],
            stays=True,
        )

    def _keep(self, copy: Copy, folder: Path) -> None:
        def work(job: Job) -> Outcome:
            outcome = Copied(folder)
            from rundlet.core.fs.moving import copy_as

            copy_as(copy.path, folder / copy.name, outcome, job)
            copy.unkept = copy.unkept and not outcome.created
            return outcome

        self._jobs.start(Copied, folder, work, source=[copy.path])

    def _keep_elsewhere(self, copy: Copy, folder: Path) -> None:
        chosen = QFileDialog.getExistingDirectory(self._source, "Choose a folder", str(folder))
        if chosen:
            self._keep(copy, Path(chosen))

    def _drag(self, actions: Qt.DropAction) -> None:
        nodes, listing = self._source.view.chosen_nodes(), self._workspace.listing
        if nodes and listing is not None:
            one = text.shown(listing.record(nodes[0]).name)
            words = one if len(nodes) == 1 else text.plural(len(nodes), "item")
            drag_out(self._source.pages.page, self._carried(nodes), words, actions)

    def _carried(self, nodes: list[int]) -> QMimeData:
        """What is dragged with rows: files as they are, entries as copies that are made when they are dropped."""
        listing, opened = self._workspace.listing, self._workspace.archive
        if listing is None:
            return QMimeData()
        if opened is None:
            return files_mime([item.path for item in listing.disk_items(nodes)])
        nodes = listing.meant(nodes)
        return EntriesMime(lambda: self._lent_now(opened, nodes))

    def _lent_now(self, opened: OpenArchive, nodes: list[int]) -> list[Path]:
        """Unpack entries while a drag waits for them; the strip shows how far it is."""
        loop = QEventLoop()
        lent: list[Path] = []

        def ready(paths: list[Path]) -> None:
            lent.extend(paths)

        running = self._lend_many(opened, nodes, ready)

        def over(which: RunningJob, _: object) -> None:
            if which is running:
                loop.quit()

        self._jobs.ended.connect(over)
        loop.exec()
        self._jobs.ended.disconnect(over)
        return lent

    def _lend_many(self, opened: OpenArchive, nodes: list[int], ready: Callable[[list[Path]], None]) -> RunningJob:
        temp_copies, tree = self._workspace.temp_copies, opened.tree
        folder = temp_copies.new_folder(sum(int(tree.size[n]) for n in nodes))
        steps = [safe_name(opened.stored_path(n)).steps for n in nodes]

        def work(job: Job) -> Outcome:
            outcome = lend(opened, nodes, folder, job)
            paths = [folder.joinpath(*step) for step in steps if step]
            self._workspace.background.tell(lambda: ready([path for path in paths if os.path.lexists(path)]))
            return outcome

        return self._jobs.start(CopiedOut, folder, work, source=[opened.path])

    # The clipboard, and from folder to folder

    def _copy(self) -> None:
        opened = self._workspace.archive
        if opened is not None:
            opened, nodes = replace(opened), list(self._workspace.selection.shown)
            mime = EntriesMime(lambda: self._lent_now(opened, nodes))
            self._copied, self._cut_paths = (mime.id, opened, nodes), ()
            to_clipboard(mime)
        else:
            copy_files(self._workspace.selector.shown_here())

    def _cut(self) -> None:
        opened = self._workspace.archive
        if opened is not None:
            paths = tuple(opened.tree.path(node) for node in self._workspace.selection.shown)
            self._copy()
            self._cut_paths = paths
            return
        copy_files(self._workspace.selector.shown_here(), cut=True)

    def _paste(self) -> None:
        """Copy what the clipboard has into this folder; what was cut here is moved."""
        data = QGuiApplication.clipboard().mimeData()
        if self._workspace.archive is not None:
            self._paste_within(data, self._workspace.place.inner)
            return
        paths = local_files(data)
        if paths and self._is_folder:
            moves = is_cut(data)
            if moves:
                QGuiApplication.clipboard().clear()  # they are not there to be pasted once more
            self.put_into(paths, self._workspace.place.folder, moves)

    def _paste_within(self, data: QMimeData, folder: str) -> None:
        """Put what the clipboard has into a folder of the archive; what was copied out of another one comes right from there."""
        changing, copied = self._workspace.changing, self._copied
        opened = self._workspace.archive
        if copied is not None and items_id(data) == copied[0]:
            if self._cut_paths and opened is not None and opened.path == copied[1].path:
                nodes = [node for path in self._cut_paths if (node := opened.tree.find(path)) is not None]
                QGuiApplication.clipboard().clear()  # they are not there to be pasted once more
                changing.move(nodes, folder)
                return
            if self._cut_paths:
                self._source.notice.tell("Items of another archive are copied. Remove them there, if they are to go.")
            changing.add_from(copied[1], copied[2], folder)
        elif paths := local_files(data):
            changing.add(paths, folder)
            if is_cut(data):
                self._source.notice.tell("The files are copied into the archive. The originals stay where they are.")
        else:
            self._source.notice.tell("There are no files to paste. Copy some first.")

    def close(self) -> None:
        """Items of an archive that wait on the clipboard go with the window, which alone can unpack them."""
        clipboard = QGuiApplication.clipboard()
        if self._copied is not None and items_id(clipboard.mimeData()) == self._copied[0]:
            clipboard.clear()

    def _put_onto(self, paths: list[Path], archive: Path) -> None:
        """Go into an archive and put files into it."""
        workspace = self._workspace
        workspace.changing.once_open((str(archive),), lambda: workspace.changing.add(paths, ""))
        workspace.enter_file(archive)

    def put_into(self, paths: list[Path], folder: Path, moves: bool) -> None:
        """Move or copy files into a folder."""
        kind = Moved if moves else Copied

        def work(job: Job) -> Outcome:
            from rundlet.core.fs.moving import copy_into, move_into

            outcome = kind(folder)
            job.begin("Moving" if moves else "Copying", total_entries=len(paths))
            (move_into if moves else copy_into)(paths, folder, outcome, job)
            return outcome

        self._jobs.start(kind, folder, work, source=paths)

    def _trash(self) -> None:
        if self._workspace.archive is not None:
            self._workspace.changing.remove(self._workspace.selection.shown)
            return
        paths = self._workspace.selector.shown_here()
        if not paths:
            return

        def work(job: Job) -> Outcome:
            job.begin("Moving to the trash", total_entries=len(paths))
            from rundlet.core.fs.trash import to_trash

            outcome = Trashed(paths[0].parent)
            to_trash(paths, outcome, job)
            outcome.files = len(outcome.trashed)
            return outcome

        self._jobs.start(Trashed, paths[0].parent, work, source=paths)

    def _toggle_hidden(self) -> None:
        self._workspace.show_hidden = self.actions["hidden"].isChecked()
