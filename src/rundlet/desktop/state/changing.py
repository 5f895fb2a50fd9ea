"""What is to be changed in archives and not saved yet: it is collected, planned, and shown among what the archive holds."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.errors import Cancelled, OutOfDate, PlanError, RundletError, file_problem
from rundlet.core.fs.safe_names import as_text, first_free
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.unpack_plan import own_folder_name
from rundlet.core.streams.parts import is_outdated
from rundlet.core.streams.sources import fingerprint_of
from rundlet.core.text import path_in, plain_path, quoted
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.state.archive_opener import Order, listing_in
from rundlet.desktop.state.packing import Packing
from rundlet.presentation.sentences import joined, say

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.formats.entry_contents import ArchiveContents
    from rundlet.core.jobs.findings import Issue
    from rundlet.core.jobs.job import Job
    from rundlet.core.model.item import PackItem
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.plans.change_plan import AddClash, ChangePlan
    from rundlet.core.plans.staged_catalog import StagedCatalog
    from rundlet.core.plans.staging import Staged, StagedChange, Staging
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.core.work.change_cost import ChangeCost
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.locations.place import OpenArchive, Place
    from rundlet.desktop.state.standpoint import Standpoint

Chain = tuple[str, ...]
"""Which archive it is; see :attr:`Place.chain`."""

About = tuple[str, dict[int, str], frozenset[int]]
"""What a row stands for: its path now, the archive's rows with theirs, and the items that are staged already."""

_MOST_NAMED = 3
_FEW = 2000  # rows, which are looked up at once
_FOLDER_MODE = 0o755
NEW_FOLDER = "New folder"


@dataclass(slots=True)
class Kept:
    """The changes of one archive, for as long as the window is there.

    Attributes:
        staging: these.
        place: the top of the archive.
        seen: what the archive was when they were made.
        keys, origins: of each item that was planned last its key, and of each that is put in its place among these, or -1.
        changes: what was planned last and holds.
        saving: whether a job is saving them.
        stands_as: what the archive on the disk is, or the one that it lies in, by which it is found under another name.
    """

    staging: Staging
    place: Place
    seen: tuple[int, ...]
    keys: tuple[int, ...] = ()
    origins: tuple[int, ...] = ()
    changes: list[StagedChange] = field(default_factory=list)
    saving: bool = False
    stands_as: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Planned:
    """What changes come to: the plan, and what a list shows of it."""

    plan: ChangePlan
    tree: ArchiveTree
    file_types: NDArray[np.int64]
    staged: StagedCatalog
    listing: ArchiveListing
    keys: tuple[int, ...]


class Changing(QObject):
    """Collects changes, archive by archive.

    Attributes:
        wanted: whether the columns are to show what is changed, rather than what unpacking would do.
        as_new: whether a new archive is to be written, and the old one stays.
        only: the rows that go into such an archive, as they are the intact ones; None for all.
        damaged_too: whether damaged files go into it besides, as far as they can be read.
        new: how and where it is written.
        new_size: bytes that it will have, about; None while that is not known.
        plan, cost: what is to be saved, and an estimate of what that takes; None while that is not known.

    Signals:
        changed: something of it changed.
        shown: there is another listing of the archive where the window stands, by which rows come and go.
        refused: something can't be changed, with the error that says why.
        told: something is to be said.
        asked: something is to be decided: the words, and what is offered.
        staged: one more change was collected.
        outdated: the archive was changed by another program, and must be read anew before anything can be planned.
    """

    changed = Signal()
    shown = Signal(object)
    refused = Signal(object)
    told = Signal(str)
    asked = Signal(str, object)
    staged = Signal()
    outdated = Signal()

    def __init__(self, at: Standpoint, background: Background, settings: Settings, parent: QObject) -> None:
        super().__init__(parent)
        self._at = at
        self._background = background
        self.order: Callable[[], Order] = lambda: ("name", False)
        self._kept: dict[Chain, Kept] = {}
        self._outer: dict[Chain, RundletError] = {}  # why archives can't be changed that others lie in
        self._task = Latest(background)
        self._cost_task = Latest(background)
        self.wanted = False
        self.as_new = False
        self.only: tuple[int, ...] | None = None
        self.damaged_too = False
        self.plan: ChangePlan | None = None
        self.cost: ChangeCost | None = None
        self._after: list[tuple[Chain, Callable[[], object]]] = []  # what to do once an archive is open
        self._held: list[ArchiveContents | ArchiveReader] = []  # what is put in from other archives
        self.new = Packing(at, tuple, settings, self, suggest=self._own_name)
        self.new.changed.connect(self.changed)
        self.new_size: int | None = None
        self._new_key: tuple[object, ...] | None = None
        self._new_task = Latest(background)
        self.changed.connect(self._estimate_new)

    def _own_name(self) -> str:
        """The name of the archive without its extension."""
        return own_folder_name(self._at.archive.path) if self._at.archive is not None else "archive"

    # What there is

    @property
    def _here(self) -> Kept | None:
        return self._kept.get(self._at.place.chain)

    @property
    def count(self) -> int:
        """How many changes of the archive are not saved, where the window stands."""
        return len(self._here.staging) if self._here is not None else 0

    @property
    def staging(self) -> Staging | None:
        """These, or None."""
        return self._here.staging if self._here is not None else None

    @property
    def is_saving(self) -> bool:
        """Whether they are being saved."""
        return self._here is not None and self._here.saving

    def count_at(self, chain: Chain) -> int:
        """How many changes of an archive are not saved."""
        kept = self._kept.get(chain)
        return len(kept.staging) if kept is not None and not kept.saving else 0

    def unsaved(self) -> list[Kept]:
        """All archives with changes that are not saved; not those that are gone, of which the trash may have some."""
        self.follow()
        return [
            kept
            for kept in self._kept.values()
            if len(kept.staging) and not kept.saving and os.path.lexists(kept.place.outermost or "")
        ]

    def lost_with(self, paths: Iterable[str]) -> list[Kept]:
        """The changes of archives that went to the trash, themselves or in a folder; they come back with these."""
        gone = [Path(path) for path in paths]
        return [
            kept
            for kept in self._kept.values()
            if len(kept.staging) and any((kept.place.outermost or Path()).is_relative_to(path) for path in gone)
        ]

    def why_not(self) -> RundletError | None:
        """Why the archive can't be changed in its place, or None."""
        from rundlet.core.plans.changeable import see_that_it_can_be_changed  # with archives only

        opened, outer = self._at.archive, self._outer.get(self._at.place.chain)
        if opened is None:
            return PlanError("Open an archive to change it.")
        if outer is not None:
            return outer
        try:
            see_that_it_can_be_changed(opened.path, opened.reader, opened.password)
        except (RundletError, OSError) as error:
            return error if isinstance(error, RundletError) else PlanError("The archive is no longer there.")
        return None

    # Coming and going

    def opened(self, opened: OpenArchive) -> None:
        """An archive was gone into: what was staged of it holds again."""
        self.plan, self.cost = None, None
        self.follow()
        kept = self._here
        if kept is not None:
            kept.place = replace(self._at.place, inner="")  # an archive within another is a new private copy each time
        if not self.as_new:  # else a new archive is being described, and this one was looked at again
            self.new.set_format("7z" if opened.reader.info.id == "zip" else "zip")  # another one than it is
            self.new.form.folder = None
            self.new.form.stem_is_ours = True
            self.new.suggest_stem()
        if kept is not None and kept.saving:
            kept = None  # it is what is being saved just now, and shown as it is
        elif kept is not None and kept.seen != self._seen(opened):
            gone = kept.staging.rebase(opened.reader.catalog)
            kept.seen, kept.stands_as, kept.changes = self._seen(opened), self._stands_as(), []
            words = "{archive:name} was changed by another program. Your changes still apply."
            if gone:
                words = (
                    "{archive:name} was changed by another program. "
                    "{gone:change no longer applies|changes no longer apply}: {paths}."
                )
            self.told.emit(
                say(words, archive=opened.path.name, gone=len(gone), paths=some_names(each.path for each in gone))
            )
        self.wanted = self.count > 0 or self.as_new
        if kept is not None:
            self._plan(kept)
        for chain, then in [each for each in self._after if each[0] == self._at.place.chain]:
            self._after.remove((chain, then))
            then()
        self.changed.emit()

    def entered(self, chain: Chain, error: RundletError | None) -> None:
        """An archive within the one where the window stands is gone into; it can't be changed where that one can't be.

        Args:
            error: why that one can't be changed, or None.
        """
        self._outer.pop(chain, None)
        if error is not None:
            self._outer[chain] = error

    def once_open(self, chain: Chain, then: Callable[[], object]) -> None:
        """Do something as soon as an archive is open."""
        self._after = [(chain, then)]

    def follow(self, moved: Iterable[tuple[str, str]] = ()) -> None:
        """Keep changes with their archives: those that were moved, and those that other programs gave another name.

        Args:
            moved: what the window moved, from where to where.
        """
        pairs = [(Path(before), Path(after)) for before, after in moved]
        for kept in list(self._kept.values()):
            archive = kept.place.outermost
            if archive is None or os.path.lexists(archive):
                continue
            found = next((new for pair in pairs if (new := _moved_with(archive, *pair)) is not None), None)
            found = found or same_file_beside(archive, kept.stands_as)
            if found is not None:
                del self._kept[kept.place.chain]
                kept.place = _at_its_new_path(kept.place, found)
                self._kept[kept.place.chain] = kept

    def left(self, *, again: bool) -> None:
        """The archive was left, or is looked at again; what is staged is kept."""
        self.as_new = self.as_new and self.wanted and again and self.only is None  # whose rows may be others
        self.only = None
        self._task.drop()
        self._cost_task.drop()
        self._new_task.drop()
        self.plan, self.cost, self.wanted, self._new_key = None, None, False, None

    def _seen(self, opened: OpenArchive) -> tuple[int, ...]:
        """What tells an archive from another one; one within another is a new copy each time."""
        return opened.seen if self._at.place.outer is None else (opened.reader.source.size, len(opened.reader.catalog))

    def want(self, on: bool) -> None:
        """Show what is changed, or what unpacking would do. What can't be changed in its place may become a new archive."""
        self.wanted = on
        opened = self._at.archive
        if on and not (opened is not None and opened.needs_password) and self.why_not() is not None:
            self.as_new = True
        self.changed.emit()

    # Staging

    def about(self, node: int) -> About:
        """What a row stands for: its path now, the archive's rows with theirs, and the items that are staged already."""
        opened = self._at.archive
        assert opened is not None
        tree, staged = opened.tree, opened.staged
        rows: dict[int, str] = {}
        keys = set()
        kept = self._here
        own = tree.row(node)
        below = tree.rows_below([node]).tolist() if tree.is_folder(node) or own is None else [own]
        for row in below:
            place = staged.added.get(row) if staged is not None else None
            if place is not None and kept is not None:
                origin = kept.origins[place]
                keys.update([kept.keys[origin]] if origin >= 0 else [])
            if (staged is None or row < staged.own) and not (staged is not None and row in staged.removed):
                rows[row] = plain_path(tree.catalog.path(row))
        return tree.path(node), rows, frozenset(keys)

    def _tops(self, nodes: Iterable[int]) -> list[int]:
        """Rows without those that lie in a folder among them, which go where that goes."""
        opened, wanted = self._at.archive, dict.fromkeys(nodes)
        if opened is None:
            return []
        parent, inside = opened.tree.parent, dict[int, bool]()

        def lies_in_one(node: int) -> bool:
            above = int(parent[node])
            if above <= 0:
                return False
            if above not in inside:
                inside[above] = above in wanted or lies_in_one(above)
            return inside[above]

        return [node for node in wanted if not lies_in_one(node)]

    def stage(self, act: Callable[[Staging], object]) -> bool:
        """Collect one more change; False where that can't be, which is said."""
        opened, place = self._at.archive, self._at.place
        error = self.why_not()
        if opened is None or (error is not None and not isinstance(error, OutOfDate)):
            self.refused.emit(error)
            return False
        if self.is_saving:
            self.refused.emit(PlanError("The archive is being saved. Change it when that is done."))
            return False
        kept = self._kept.get(place.chain)
        if kept is None:
            from rundlet.core.plans.staging import Staging  # when something is to be changed

            kept = self._kept[place.chain] = Kept(
                Staging(), replace(place, inner=""), self._seen(opened), stands_as=self._stands_as()
            )
        act(kept.staging)
        self.wanted = True
        self.staged.emit()
        if error is not None:
            self.outdated.emit()  # and what is staged holds for the archive as it is then
        else:
            self._plan(kept)
        return True

    def _stands_as(self) -> tuple[int, ...]:
        """What the archive on the disk is, by which it is found under another name."""
        archive = self._at.place.outermost
        try:
            status = os.stat(archive) if archive is not None else None
        except OSError:
            status = None
        return fingerprint_of(status) if status is not None else ()

    def _with_all(self, nodes: Iterable[int], then: Callable[[list[About]], None]) -> None:
        """Find out what rows stand for, of very many beside the interface, and go on with it."""
        nodes, place = tuple(nodes), self._at.place

        def found() -> list[About]:
            return [each for each in map(self.about, self._tops(nodes)) if each[1] or each[2]]

        def done(about: list[About]) -> None:
            if place.chain == self._at.place.chain:
                then(about)

        if len(nodes) <= _FEW:
            then(found())
        else:
            self._background.run(lambda _: found(), done=done, failed=self._say_failed)

    def remove(self, nodes: Iterable[int]) -> None:
        """Remove rows, folders with everything in them."""

        def stage(found: list[About]) -> None:
            def act(staging: Staging) -> None:
                for path, rows, keys in found:
                    staging.remove(path, rows, keys)

            if found:
                self.stage(act)

        self._with_all(nodes, stage)

    def move(self, nodes: Iterable[int], folder: str) -> None:
        """Move rows into a folder of the archive, "" for its top."""

        def stage(found: list[About]) -> None:
            wrong = next((path for path, _, _ in found if folder == path or folder.startswith(f"{path}/")), None)
            if wrong is not None:
                self.refused.emit(PlanError("{path:name} can't go into itself.", path=wrong))
                return
            elsewhere = [each for each in found if each[0].rpartition("/")[0] != folder]

            def act(staging: Staging) -> None:
                for path, rows, keys in elsewhere:
                    staging.rename(path, path_in(folder, path.rpartition("/")[2]), rows, keys)

            if elsewhere:
                self.stage(act)

        self._with_all(nodes, stage)

    def rename(self, node: int, name: str) -> None:
        """Give a row another name."""
        name = name.strip()
        path, rows, keys = self.about(node)
        if not name or "/" in name or name in (".", ".."):
            self.refused.emit(PlanError("{name:name} can't be a name in an archive.", name=name))
        elif not rows and not keys:
            self.refused.emit(PlanError("{path:name} is removed already.", path=path))
        elif name != path.rpartition("/")[2]:
            folder = path.rpartition("/")[0]
            if self.stage(lambda staging: staging.rename(path, path_in(folder, name), rows, keys)):
                self._say_of_name(node, name)

    def _say_of_name(self, node: int, name: str) -> None:
        """Say what should be known of a name that was typed for a row."""
        from rundlet.core.fs.name_notes import name_notes
        from rundlet.presentation.findings import finding_words

        tree = self._at.archive.tree if self._at.archive is not None else None
        beside = (
            [each for each in tree.children(int(tree.parent[node])) if int(each) != node] if tree is not None else []
        )
        names = [tree.name(int(each)) for each in beside[:_FEW]] if tree is not None else []
        said = [finding_words(found) for found in name_notes(name, names)]
        if said:
            self.told.emit(say("{name:name}: {said}.", name=name, said="; ".join(said)))

    def new_folder(self, into: str, when_ns: int) -> str:
        """A new folder; gives its path, or "" where there can be none."""
        from rundlet.core.model.item import PackItem

        opened = self._at.archive
        if opened is None:
            return ""
        tree = opened.tree
        node = tree.find(into)
        taken = {tree.name(int(child)) for child in tree.children(node)} if node is not None else set()
        path = path_in(into, first_free(NEW_FOLDER, lambda name: name in taken))
        item = PackItem(path, Kind.DIR, "", 0, when_ns, _FOLDER_MODE)
        return path if self.stage(lambda staging: staging.add(path, [item])) else ""

    def add(self, paths: Sequence[Path], into: str) -> None:
        """Put files and folders into a folder of the archive; they are looked through in the background."""
        if (error := self.why_not()) is not None:
            self.refused.emit(error)
            return
        chain = self._at.place.chain
        archive = self._at.place.outermost

        def work(job: Job) -> list[tuple[str, list[PackItem], list[Issue]]]:
            from rundlet.core.fs.scan import walk

            found = []
            for path in paths:
                at = path_in(into, as_text(path.name))
                walked = walk(path, at, skip=(str(archive),), tick=job.checkpoint)
                found.append((at, walked.items, walked.issues))
            return found

        self._background.run(work, done=partial(self._add_found, chain), failed=self._say_failed)

    def _add_found(self, chain: Chain, found: list[tuple[str, list[PackItem], list[Issue]]]) -> None:
        def act(staging: Staging) -> None:
            left_out = [issue for _, items, issues in found if not items for issue in issues]
            for at, items, issues in found:
                if items:
                    staging.add(at, items, [*issues, *left_out])
                    left_out = []  # as they are said once

        if not any(items for _, items, _ in found):
            from rundlet.presentation.findings import issue_line

            lines = [issue_line(issue) for _, _, issues in found for issue in issues]
            self.told.emit(joined(["There is nothing to add.", *lines[:1]]))
        elif chain == self._at.place.chain:
            self.stage(act)

    def _say_failed(self, error: BaseException) -> None:
        if isinstance(error, OSError):
            error = file_problem(error, "read", self._at.place.archive or "")
        if isinstance(error, RundletError):
            self.refused.emit(error)
        elif not isinstance(error, Cancelled):
            log_failure(error)

    def add_from(self, source: OpenArchive, nodes: Sequence[int], into: str) -> None:
        """Put items of another archive into a folder of this one, without unpacking them onto the disk."""
        chain = self._at.place.chain

        def work(job: Job) -> list[tuple[str, list[PackItem], list[Issue]]]:
            from rundlet.core.formats.entry_contents import ArchiveContents
            from rundlet.core.plans.convert_plan import items_in

            reader = source.reopened()
            self._held.append(reader)
            found = []
            for node in nodes:
                rows = source.rows_below([node]).tolist()
                contents = ArchiveContents(reader, rows)
                self._held.append(contents)
                items, issues = items_in(reader, contents, rows, job)
                before = source.stored_path(node)
                at = path_in(into, before.rpartition("/")[2])
                found.append((at, [item._replace(path=at + item.path[len(before) :]) for item in items], issues))
            return found

        self._background.run(work, done=partial(self._add_found, chain), failed=self._say_failed)

    def replace(self, items: Sequence[PackItem]) -> bool:
        """Put files in the place of those that the archive has under their paths, wherever these go.

        Where one of those is to be removed, it is asked what is meant.
        """
        opened, kept = self._at.archive, self._here
        rows = _rows_of(opened, [item.path for item in items]) if opened is not None else {}
        removed = kept.staging.outcome().changes.removed if kept is not None else ()
        gone = [item for item in items if rows.get(item.path) in removed]

        def act(staging: Staging) -> None:
            for item in items:
                if item not in gone:
                    staging.replace(item, rows.get(item.path, -1))

        def put_in_again(staging: Staging) -> None:
            for item in gone:
                staging.add(item.path, [item])

        if gone:
            words = "{name:name} is to be removed from the archive, so it can't be put back there."
            offer = ("Add it as a new file", lambda: self.stage(put_in_again))
            self.asked.emit(say(words, name=gone[0].path), [offer, ("Leave it out", lambda: None)])
        return len(gone) < len(items) and self.stage(act)

    def put_in(self, look: Callable[[], Sequence[PackItem]], held: Collection[str]) -> None:
        """Put items in under their paths; those that the archive holds already are replaced.

        Args:
            look: gives the items; called beside the interface.
            held: paths of files that it holds.
        """
        chain = self._at.place.chain

        def done(items: Sequence[PackItem]) -> None:
            if chain == self._at.place.chain:
                rows = _rows_of(opened, held) if (opened := self._at.archive) is not None else {}
                self.stage(lambda staging: _put(staging, items, held, rows))

        self.want(True)
        self._background.run(lambda _: look(), done=done, failed=self._say_failed)

    def bring_up_to_date(self, folder: Path, *, delete_gone: bool, compare_content: bool = False) -> None:
        """Find out what of a folder is new or newer than in the archive, and what is gone, and collect that.

        Args:
            compare_content: whether files of the same size and time are read and compared, too.
        """
        opened, chain = self._at.archive, self._at.place.chain
        if (error := self.why_not()) is not None or opened is None:
            self.refused.emit(error)
            return
        if self.count:
            self.refused.emit(PlanError("Save the changes first, or discard them. Then the folder can be compared."))
            return

        def done(found: object) -> None:
            from rundlet.core.plans.bring_up_to_date import Differences

            assert isinstance(found, Differences)
            if chain != self._at.place.chain:
                return
            gone = found.changes.removed
            replaced = {item.path for item in found.changes.items if item.path in set(found.newer)}
            if not found.changes.items and not gone:
                self.told.emit(say("Nothing to do: {same:file is|files are} up to date.", same=found.same))
                return

            rows = _rows_of(opened, replaced)

            def act(staging: Staging) -> None:
                _put(staging, found.changes.items, replaced, rows)
                for row in gone:
                    path = plain_path(opened.reader.catalog.path(row))
                    if path not in replaced:
                        staging.remove(path, {row: path})

            self.stage(act)

        def work(job: Job) -> object:
            from rundlet.core.plans.bring_up_to_date import differences

            return differences(opened.reader, folder, delete_gone=delete_gone, compare_content=compare_content, job=job)

        self._background.run(work, done=done, failed=self._say_failed)

    # Taking out again

    def discard(self, changes: Collection[StagedChange]) -> None:
        """Take changes out again."""
        kept = self._here
        if kept is None or kept.saving:
            return
        more = kept.staging.discard(changes)
        if more:
            words = "{more:change|changes} that built on it {more:=is|are} undone, too."
            self.told.emit(say(words, more=more))
        self._plan(kept)

    def discard_last(self) -> bool:
        """Take the newest one out again; False where there is none."""
        kept = self._here
        if kept is None or not kept.staging.changes or kept.saving:
            return False
        self.discard(kept.staging.changes[-1:])
        return True

    def discard_all(self) -> None:
        """Take all of them out again."""
        kept = self._here
        if kept is not None and not kept.saving:
            kept.staging.clear()
            self._plan(kept)

    def set_clash(self, rule: AddClash) -> None:
        """Say what becomes of names that are taken."""
        if self._here is not None:
            self._here.staging.on_clash = rule
            self._plan(self._here)

    def set_rule(self, path: str, rule: AddClash | None) -> None:
        """Say what becomes of one name that is taken; None for the rule of all others."""
        if self._here is not None:
            if rule is None:
                self._here.staging.rules.pop(path, None)
            else:
                self._here.staging.rules[path] = rule
            self._plan(self._here)

    # Saving

    @property
    def kept_here(self) -> Kept | None:
        """The changes of the archive where the window stands, or None."""
        return self._here

    def begin_saving(self, kept: Kept | None) -> None:
        """Changes are being saved; they don't change until that has come to its end."""
        if kept is not None:
            kept.saving = True
            self.changed.emit()

    def end_saving(self, kept: Kept, *, saved: bool) -> None:
        """It came to its end: what was saved is not staged any more."""
        kept.saving = False
        if saved:
            self._kept = {chain: each for chain, each in self._kept.items() if each is not kept}
        elif kept is self._here and self.plan is None:
            self._plan(kept)
        self.changed.emit()

    def close(self) -> None:
        """Let go of all of it, as the window is closed."""
        self._kept.clear()
        for each in self._held:
            each.close()
        self._held.clear()

    # Planning

    @property
    def plans(self) -> bool:
        """Whether there are changes whose plan is still being worked out."""
        return self.count > 0 and self.plan is None

    def _plan(self, kept: Kept) -> None:
        """Work out what all changes come to, and show it; what can't be is taken out again, and that is said."""
        opened, place = self._at.archive, self._at.place
        self.plan, self.cost = None, None
        self._cost_task.drop()
        if opened is None:
            return
        if not kept.staging.changes:
            self._task.drop()
            self._kept.pop(place.chain, None)
            self._show_as_it_is(opened)
            if is_outdated(opened.reader.source):
                self.outdated.emit()
            return
        staged, on_clash, order = kept.staging.outcome(), kept.staging.on_clash, self.order()

        def work(job: Job) -> Planned:
            return planned(opened, place, staged, on_clash, order, job)

        def failed(error: BaseException) -> None:
            if isinstance(error, OSError):
                error = file_problem(error, "read", opened.path)
            if not isinstance(error, RundletError):
                log_failure(error)
                return
            if isinstance(error, OutOfDate):
                self.outdated.emit()
                return
            self.refused.emit(error)
            if kept.changes != kept.staging.changes:  # else it is the archive that is no longer as it was
                kept.staging.changes = list(kept.changes)
                self._plan(kept)

        def done(found: Planned) -> None:
            kept.keys, kept.origins, kept.changes = found.keys, found.plan.came_from, list(kept.staging.changes)
            if self._drop_needless(kept, found):
                return
            self.plan = found.plan
            opened.tree, opened.file_types, opened.staged = found.tree, found.file_types, found.staged
            self._at.listing = found.listing
            self.shown.emit(found.listing)
            self.changed.emit()
            self._estimate(opened, found.plan)

        self.changed.emit()
        self._task.run(work, done=done, failed=failed)

    def _drop_needless(self, kept: Kept, found: Planned) -> bool:
        """Take out what puts in only what the archive holds already, which is said; whether there is any."""
        put_in = {found.keys[origin] for origin in found.plan.came_from if origin >= 0}
        skipped = {taken.path for taken in found.plan.taken}
        needless = [
            change
            for change in kept.staging.changes
            if change.items
            and put_in.isdisjoint(change.items)
            and skipped.isdisjoint(i.path for i in change.items.values())
        ]
        if needless:
            words = "{path:name} is in the archive already, with the same content."
            self.told.emit(say(words, path=needless[0].path))
            kept.staging.discard(needless)
            self._plan(kept)
        return bool(needless)

    def _show_as_it_is(self, opened: OpenArchive) -> None:
        """There are no changes any more: show the archive as it is."""
        place, order = self._at.place, self.order()

        def work(_: Job) -> tuple[ArchiveTree, NDArray[np.int64]]:
            from rundlet.core.model.tree import ArchiveTree
            from rundlet.desktop.locations.archive import file_types_of

            tree = ArchiveTree(opened.reader.catalog)
            return tree, file_types_of(tree)

        def done(found: tuple[ArchiveTree, NDArray[np.int64]]) -> None:
            opened.tree, opened.file_types, opened.staged = *found, None
            self._at.listing = listing_in(opened, place, order)
            self.shown.emit(self._at.listing)
            self.changed.emit()

        self.changed.emit()
        self._task.run(work, done=done, failed=log_failure)

    def _estimate_new(self) -> None:
        """Estimate the size of a new archive, whenever another one is wanted."""
        opened, plan, form = self._at.archive, self.plan, self.new.form
        key = None
        if opened is not None and self.as_new and self.wanted and not self.plans:
            key = (opened.reader, form.info.id, form.level, self.only, plan)
        if key == self._new_key:
            return
        self._new_key, self.new_size = key, None
        self._new_task.drop()
        if key is None or opened is None:
            return
        info, level, only, reader = form.info, form.level, self.only, opened.reader

        def work(job: Job) -> int:
            from rundlet.core.work.change_cost import new_size_of

            gone = plan.edits.removed if plan is not None else frozenset()
            rows = [row for row in (range(len(reader.catalog)) if only is None else only) if row not in gone]
            return new_size_of(reader, rows, plan.added if plan is not None else (), info, level, job)

        def done(size: int) -> None:
            self.new_size = size
            self.changed.emit()

        def failed(error: BaseException) -> None:
            if not isinstance(error, RundletError | Cancelled):  # what can't be read is said when it is saved
                log_failure(error)

        self._new_task.run(work, done=done, failed=failed)

    def _estimate(self, opened: OpenArchive, plan: ChangePlan) -> None:
        def work(job: Job) -> ChangeCost:
            from rundlet.core.work.change_cost import cost_of

            return cost_of(plan, opened.reader, job)

        def done(cost: ChangeCost) -> None:
            self.cost = cost
            self.changed.emit()

        self._cost_task.run(work, done=done, failed=log_failure)


def same_file_beside(path: Path, stands_as: tuple[int, ...]) -> Path | None:
    """A file that has another name in its folder by now; None where there is none.

    Args:
        path: where it was.
        stands_as: its device, file number, size and time of change: the number alone may be that of a newer file by now.
    """
    if len(stands_as) < 4:
        return None
    try:
        with os.scandir(path.parent) as entries:
            for entry in entries:
                if entry.inode() == stands_as[1] and fingerprint_of(entry.stat(follow_symlinks=False)) == stands_as[:4]:
                    return path.with_name(entry.name)
    except OSError:
        pass
    return None


def _moved_with(path: Path, before: Path, after: Path) -> Path | None:
    """Where a path is once a file or a folder above it was moved; None where that has nothing to do with it."""
    return after / path.relative_to(before) if path.is_relative_to(before) else None


def _at_its_new_path(place: Place, archive: Path) -> Place:
    """The place in an archive that was moved, or in one that lies in it."""
    if place.outer is None:
        return replace(place, folder=archive.parent, archive=archive)
    return replace(place, folder=archive.parent, outer=_at_its_new_path(place.outer, archive))


def some_names(paths: Iterable[str]) -> str:
    """The first few of some paths, in quotation marks."""
    names = [quoted(path) for path in paths]
    return ", ".join(names[:_MOST_NAMED]) + (" …" if len(names) > _MOST_NAMED else "")


def planned(opened: OpenArchive, place: Place, staged: Staged, on_clash: AddClash, order: Order, job: Job) -> Planned:
    """Work out what changes come to, and what a list of the archive shows then.

    Raises:
        RundletError: when they can't be made.
    """
    from rundlet.core.model.tree import ArchiveTree
    from rundlet.core.plans.change_plan import plan_change
    from rundlet.core.plans.staged_catalog import staged_catalog
    from rundlet.desktop.locations.archive import file_types_of

    plan = plan_change(
        opened.path,
        staged.changes,
        options=options_of(opened),
        on_clash=on_clash,
        rules=staged.rules,
        read_back=True,
        keep_replaced=True,
        reader=opened.reader,
        job=job,
    )
    moves = dict(staged.moves)
    for taken in plan.taken:
        if taken.path in moves and taken.result != taken.path:
            before = moves.pop(taken.path)
            moves |= {taken.result: before} if taken.result else {}
    shown = replace(staged_catalog(opened.reader, plan), moves=moves, gone=staged.gone)
    tree = ArchiveTree(shown.catalog)
    file_types = file_types_of(tree)
    listing = listing_in(replace(opened, tree=tree, file_types=file_types, staged=shown), place, order)
    return Planned(plan, tree, file_types, shown, listing, staged.keys)


def options_of(opened: OpenArchive) -> WriteOptions:
    """How what is put into an archive is written: at the usual level, locked as the archive is."""
    return WriteOptions(-1, password=opened.password if opened.is_locked else "")


def _rows_of(opened: OpenArchive, paths: Collection[str]) -> dict[str, int]:
    """The rows that an archive has for some paths, as it is without changes."""
    catalog, wanted = opened.reader.catalog, set(paths)
    found = ((plain_path(catalog.path(row)), row) for row in range(len(catalog)))
    return {path: row for path, row in found if path in wanted}


def _put(staging: Staging, items: Sequence[PackItem], held: Collection[str], rows: Mapping[str, int]) -> None:
    """Put items in the place of what the archive holds of their paths, or in beside it."""
    for item in items:
        if item.path in held:
            staging.replace(item, rows.get(item.path, -1))
        else:
            staging.add(item.path, [item])
