"""What the one button does: the sentence that the columns make becomes a job."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from rundlet.core.jobs.job import Job
from rundlet.core.jobs.report import Report
from rundlet.core.plans.pack import plan_pack, suggested_stem
from rundlet.core.plans.unpack import Afterwards
from rundlet.core.text import plural, quoted
from rundlet.core.work.pack import pack
from rundlet.core.work.several import unpack_several
from rundlet.core.work.unpack import put_away, unpack
from rundlet.desktop.jobs import Jobs
from rundlet.desktop.several import Several
from rundlet.desktop.trials import Trials
from rundlet.desktop.workspace import Workspace


class Starter:
    """Starts the window's packing and unpacking.

    Args:
        note_folder: told of each folder that something is put into.
    """

    def __init__(
        self, workspace: Workspace, several: Several, trials: Trials, jobs: Jobs, note_folder: Callable[[Path], None]
    ) -> None:
        self._workspace = workspace
        self._several = several
        self._trials = trials
        self._jobs = jobs
        self._note_folder = note_folder

    def start_pack(self) -> None:
        """Pack what is chosen, as the sentence says; behind what is being packed already."""
        ws = self._workspace
        items, desk = ws.chosen_paths(), ws.pack
        if not items:
            return
        self._note_folder(ws.pack_folder)
        point = self._trials.point
        expected = (point.size, point.seconds) if point is not None else (0, 0.0)
        if not desk.each:
            self._pack(list(items), ws.asked_target, ws.pack_target.name, expected)
            return
        for item in items:
            target = ws.pack_folder / (suggested_stem([item]) + desk.info.ending)
            self._pack([item], target, target.name, (0, 0.0))

    def _pack(self, items: list[Path], target: Path, name: str, expected: tuple[int, float]) -> None:
        desk, clash = replace(self._workspace.pack), self._workspace.pack_clash

        def work(job: Job) -> Report:
            job.begin("Looking through the files")
            plan = plan_pack(
                items,
                target=target,
                info=desk.info,
                options=desk.options,
                part_size=desk.part_size,
                exclude=desk.exclude,
                leave_out=desk.leave_out,
                follow=desk.follow,
                read_back=desk.read_back,
                trash=desk.trash,
                on_clash=clash,
                keep_replaced=True,
                job=job,
            )
            return pack(plan, job)

        self._jobs.start(f"Packing {quoted(name)}", work, source=items, expected=expected, queued=True)

    def start_unpack(self) -> None:
        """Unpack as the landing tree says."""
        plan, opened = self._workspace.plan, self._workspace.archive
        if plan is None or opened is None:
            return
        self._note_folder(self._workspace.unpack_folder)
        path, desk = opened.path, self._workspace.unpack
        after = desk.after
        if self._workspace.place.outer is not None:
            after = Afterwards.STAYS  # it is a copy, and goes by itself

        def work(job: Job) -> Report:
            reader = opened.reopened()
            try:
                report = unpack(plan, reader, job)
                put_away(plan, reader, report, job, after)
                return report
            finally:
                reader.close()

        self._jobs.start(f"Unpacking {quoted(path.name)}", work, source=[path], shows=desk.show)

    def start_several(self) -> None:
        """Unpack the archives that are chosen on the disk."""
        desk, into = replace(self._several.desk), self._several.folder
        self._note_folder(into)
        ready = [outlook.path for outlook in desk.ready]
        rules = {path: dict(own) for path, own in desk.rules.items()}

        def work(job: Job) -> Report:
            return unpack_several(
                ready,
                into=into,
                on_clash=desk.on_clash,
                rules=rules,
                keep_replaced=True,
                after=Afterwards.TRASH if desk.trash else Afterwards.STAYS,
                job=job,
            )

        self._jobs.start(f"Unpacking {plural(len(ready), 'archive')}", work, source=ready, shows=desk.show)
