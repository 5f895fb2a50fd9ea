"""The desktop's keyring in a window: it opens what it has a password of, and is offered those that were typed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from rundlet.desktop.background import Background, Latest
from rundlet.desktop.error_log import log_failure
from rundlet.integration.keyring import KeyringProblem, has_keyring, keep_password, password_of
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from rundlet.core.jobs.job import Job
    from rundlet.desktop.job_starter import JobStarter
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob
    from rundlet.desktop.state.workspace import Workspace
    from rundlet.desktop.views.notice import Notice


class KeyringOffers(QObject):
    """Follows what is opened and unlocked in a window. Nothing is kept that was not asked for."""

    def __init__(
        self,
        workspace: Workspace,
        jobs: Jobs,
        starter: JobStarter,
        notice: Notice,
        background: Background,
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self._workspace, self._starter, self._notice, self._background = workspace, starter, notice, background
        self._task = Latest(background)
        self._from_keyring: set[Path] = set()
        self._asked: set[Path] = set()
        workspace.listed.connect(self._look_up)
        workspace.names_hidden.connect(self._look_up)
        workspace.opener.unlocked.connect(self._unlocked)
        workspace.opener.unlock_failed.connect(self._refused)
        jobs.ended.connect(self._job_ended)

    def _look_up(self, _: object = None) -> None:
        """Ask the keyring for the password of the archive that the window stands in, once."""
        place = self._workspace.place
        archive = place.archive
        if archive is None or place.outer is not None or archive in self._asked or not self._workspace.needs_password:
            return
        self._asked.add(archive)

        def work(_: Job) -> str | None:
            return password_of(archive) if has_keyring() else None

        def done(password: str | None) -> None:
            if password is not None and self._workspace.place.archive == archive and self._workspace.needs_password:
                self._from_keyring.add(archive)
                self._workspace.unlock(password)

        self._task.run(work, done=done, failed=self._failed)

    def _failed(self, error: BaseException) -> None:
        if isinstance(error, KeyringProblem):
            self._notice.tell(str(error))
        else:
            log_failure(error)

    def _unlocked(self, archive: Path, password: str) -> None:
        if archive in self._from_keyring or self._workspace.place.outer is not None:
            self._from_keyring.discard(archive)
            return
        self._offer(archive, password)

    def _refused(self, _: object) -> None:
        """What the keyring has does not fit any more: what is typed then is offered to it."""
        self._from_keyring.clear()

    def _job_ended(self, running: RunningJob, result: JobResult) -> None:
        password = self._starter.locks.pop(running.id, "")
        if password and result.outcome is not None and result.outcome.shown is not None:
            self._offer(result.outcome.shown, password)

    def _offer(self, archive: Path, password: str) -> None:
        """Ask whether the password is to be kept, where there is a keyring to keep it in."""

        def done(there: bool) -> None:
            if there:
                self.ask(archive, password)

        self._background.run(lambda _: has_keyring(), done=done, failed=log_failure)

    def ask(self, archive: Path, password: str) -> None:
        """Ask whether a password is to be kept."""
        self._notice.tell(
            say("Keep the password of {name:name} in the desktop's keyring?", name=archive.name),
            [("Keep it", lambda: self._keep(archive, password))],
        )

    def _keep(self, archive: Path, password: str) -> None:
        self._background.run(
            lambda _: keep_password(archive, password),
            done=lambda _: self._notice.tell(
                say("The password of {name:name} is in the keyring now.", name=archive.name)
            ),
            failed=self._failed,
        )
