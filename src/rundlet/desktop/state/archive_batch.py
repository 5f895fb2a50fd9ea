"""Archives that are chosen on the disk, to be unpacked one after the other, each in a folder of its own."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from rundlet.core.fs.content_type import file_type_on_disk
from rundlet.core.model.file_type import FileType
from rundlet.core.model.natural import natural_key
from rundlet.core.plans.unpack_plan import Steps, UnpackClash
from rundlet.core.streams.private import no_core_dumps
from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.locations.landing_rows import LandingListing

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.core.work.extract_many import Outlook
    from rundlet.desktop.state.workspace import Workspace


class Task(Enum):
    """What the button would do; the columns show the pages for it."""

    NOTHING = "nothing"
    PACK = "pack"
    UNPACK = "unpack"
    UNPACK_SEVERAL = "unpack several"
    CHANGE = "change"
    CHECK = "check"
    COMPARE = "compare"
    SUMS = "checksums"
    JOIN = "join"
    CHECK_SEVERAL = "check several"


@dataclass(slots=True)
class BatchForm:
    """What unpacking the chosen archives would do.

    Attributes:
        archives: those; none while something else is chosen too.
        wanted: whether they are to be unpacked rather than packed.
        folder: where they go; None for the folder one stands in.
        on_clash: what becomes of names that are taken.
        rules: other rules for single names of each archive.
        trash: whether each archive goes to the trash when all of it went well.
        show: whether what came out is shown in the file manager afterwards.
        typed: the password that was typed last, which is tried on all that are locked.
        tries: how many were typed.
        outlooks: what would come of each; empty while that is not known.
        landing: the same as a tree; None while that is not known.
    """

    archives: tuple[Path, ...] = ()
    wanted: bool = True
    folder: Path | None = None
    on_clash: UnpackClash = UnpackClash.RENAME
    rules: dict[Path, dict[Steps, UnpackClash]] = field(default_factory=dict)
    trash: bool = False
    show: bool = False
    typed: str = field(default="", repr=False)
    tries: int = 0
    outlooks: tuple[Outlook, ...] = ()
    landing: LandingListing | None = None

    @property
    def ready(self) -> list[Outlook]:
        """Those that can be unpacked."""
        return [outlook for outlook in self.outlooks if outlook.plan is not None]

    @property
    def locked(self) -> list[Path]:
        """Those whose password is not known."""
        return [outlook.path for outlook in self.outlooks if outlook.locked]


class ArchiveBatch(QObject):
    """Follows the choice on the disk.

    Signals:
        changed: other archives are chosen, something of how they are unpacked, or what would come of them.
    """

    changed = Signal()

    def __init__(self, workspace: Workspace, background: Background) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._task = Latest(background)
        self.form = BatchForm()
        workspace.selector.changed.connect(self._follow)

    def _follow(self, _: object) -> None:
        """When only archives are chosen, they are to be unpacked, unless the person says otherwise."""
        paths = self._workspace.selector.paths()
        archives = tuple(whole_archives(paths)) if paths and all(map(_looks_like_one, paths)) else ()
        if archives != self.form.archives:
            self.form = BatchForm(archives, on_clash=self.form.on_clash, trash=False)
            self._plan()

    def change(self, change: Callable[[BatchForm], None]) -> None:
        """Change something of how the archives are unpacked."""
        change(self.form)
        self._plan()

    def unlock(self, password: str) -> None:
        """Try a password on all that are locked."""
        no_core_dumps()

        def change(form: BatchForm) -> None:
            form.typed = password
            form.tries += 1

        self.change(change)

    def plan_again(self) -> None:
        """Work out anew what would come of them, after the disk has changed."""
        if self.unpacks:
            self._plan()

    def _plan(self) -> None:
        form = self.form
        form.outlooks, form.landing = (), None
        self.changed.emit()
        if not self.unpacks:
            self._task.drop()
            return
        archives, into, on_clash = form.archives, self.folder, form.on_clash
        rules = {path: dict(own) for path, own in form.rules.items()}
        opener, typed = self._workspace.opener, form.typed
        passwords = {path: [word for word in (opener.password_of(path), typed) if word] for path in archives}

        def work(job: Job) -> tuple[list[Outlook], LandingListing]:
            from rundlet.core.work.extract_many import look_ahead

            found = look_ahead(
                archives, into=into, on_clash=on_clash, rules=rules, passwords=passwords, keep_replaced=True, job=job
            )
            plans = [outlook.plan for outlook in found if outlook.plan is not None]
            problems = [(outlook.path.name, outlook.problem) for outlook in found if outlook.problem]
            return found, LandingListing(into, plans, problems)

        def done(result: tuple[list[Outlook], LandingListing]) -> None:
            for outlook in result[0]:
                if outlook.password:
                    opener.remember_password(outlook.path, outlook.password)
            if self.form is form:
                form.outlooks, form.landing = tuple(result[0]), result[1]
                self.changed.emit()

        self._task.run(work, done=done, failed=log_failure)

    @property
    def folder(self) -> Path:
        """Where they are unpacked into."""
        return self.form.folder or self._workspace.unpacking.usual_folder or self._workspace.place.folder

    @property
    def unpacks(self) -> bool:
        """Whether the button unpacks them."""
        return not self._workspace.place.in_archive and bool(self.form.archives) and self.form.wanted

    @property
    def task(self) -> Task:
        """What fits where the window stands and what is selected there."""
        if self._workspace.place.in_archive:
            if self._workspace.changing.wanted:
                return Task.CHANGE
            if self._workspace.comparing.wanted:
                return Task.COMPARE
            return Task.CHECK if self._workspace.checking.wanted else Task.UNPACK
        if self._workspace.sums.wanted and self._workspace.selection.items:
            return Task.SUMS
        if self._workspace.archive_checks.wanted and self.form.archives:
            return Task.CHECK_SEVERAL
        if self._workspace.joining.offered and self._workspace.joining.wanted:
            return Task.JOIN
        if self.unpacks:
            return Task.UNPACK_SEVERAL
        return Task.PACK if self._workspace.selection.items else Task.NOTHING


def _looks_like_one(path: Path) -> bool:
    try:
        return os.path.isfile(path) and file_type_on_disk(path, path.stat().st_size) is FileType.ARCHIVES
    except OSError:
        return False


def whole_archives(paths: Iterable[Path]) -> Iterator[Path]:
    """The archives among files, each once: of numbered parts the first that is chosen stands for all."""
    seen: set[Path] = set()
    for path in sorted(paths, key=lambda path: natural_key(path.name)):
        is_part = path.suffix[1:].isdigit() and len(path.suffix) >= len(".001")
        whole = path.with_suffix("") if is_part else path
        if whole not in seen:
            seen.add(whole)
            yield path
