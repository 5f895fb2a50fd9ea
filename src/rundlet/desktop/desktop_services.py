"""What a window has to do with the rest of the desktop: it is used again, tells of its jobs, and keeps the computer awake."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from rundlet.core.settings import NOTIFY, STAY_AWAKE
from rundlet.desktop.error_log import log_failure
from rundlet.desktop.session_bus import SessionBus
from rundlet.integration.awake import may_sleep, stay_awake
from rundlet.integration.bus_names import BUS_NAME, INTERFACE, OBJECT_PATH, open_bus, paths_of
from rundlet.integration.icons import APP_ID

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

    from rundlet.core.jobs.job import Job
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.userdata.settings_file import Settings
    from rundlet.desktop.background import Background
    from rundlet.desktop.jobs import JobResult, Jobs, RunningJob

_log = logging.getLogger(__name__)

_NOTIFICATIONS = "org.freedesktop.Notifications"
_LAUNCHER = "com.canonical.Unity.LauncherEntry"
_OURS = "application://" + APP_ID + ".desktop"
_LONG = 5.0  # seconds after which a job is worth a word when it ends
_STARTED = 3.0  # seconds after which the computer is kept awake for it
_TASKS = ("pack", "unpack", "unpack-here", "check")


class DesktopServices(QObject):
    """Follows the jobs of a window.

    Signals:
        open_wanted: paths, what they are to be selected for, and the token that lets the window come to the front.
        show_wanted: what came of a job.
        undo_wanted: the id of a job.
        front_wanted: the token that lets the window come to the front.

    Attributes:
        bus: the session bus; None where there is none, or not yet.
        in_front: whether the window is the one that is used.
        owns_name: whether this is the Rundlet that others find on the bus.
    """

    open_wanted = Signal(object, str, str)
    show_wanted = Signal(object)
    undo_wanted = Signal(str)
    front_wanted = Signal(str)

    def __init__(self, jobs: Jobs, background: Background, settings: Settings, parent: QObject) -> None:
        super().__init__(parent)
        self._jobs, self._background, self._settings = jobs, background, settings
        self.in_front: Callable[[], bool] = lambda: True
        self.bus: SessionBus | None = None
        self._began: dict[str, float] = {}
        self._said: dict[int, tuple[str, Path | None]] = {}
        self._token = ""
        self._awake = -1
        self._asking = False
        self._shown = -1
        self.owns_name = False
        self._is_closed = False
        self._connection: DBusConnection | None = None
        jobs.started.connect(self._started)
        jobs.progressed.connect(self._progressed)
        jobs.ended.connect(self._ended)

    def join(self) -> None:
        """Go onto the session bus, where there is one."""
        if os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
            self._background.run(lambda _: self._opened(), done=self._joined, failed=_not_joined)

    def _opened(self) -> DBusConnection:
        """A connection, made beside the interface; it is closed where the window has gone meanwhile, as nobody takes it then."""
        self._connection = connection = open_bus()
        if self._is_closed:
            connection.close()
        return connection

    def _joined(self, connection: DBusConnection) -> None:
        bus = self.bus = SessionBus(connection, self)
        bus.lost.connect(self._lost)
        bus.told.connect(self._told)
        bus.offer(OBJECT_PATH, INTERFACE, "Activate", self._activate)
        bus.offer(OBJECT_PATH, INTERFACE, "Open", self._open)
        bus.offer(OBJECT_PATH, INTERFACE, "ActivateAction", self._activate_action)
        bus.own(BUS_NAME, self._owned)
        bus.listen(_NOTIFICATIONS)

    def _owned(self, owns: bool) -> None:
        self.owns_name = owns

    def _lost(self) -> None:
        self.bus = None

    def close(self) -> None:
        """The window goes."""
        may_sleep(self._awake)
        self._awake = -1
        self._is_closed = True
        if self.bus is not None:
            self.bus.close()
            self.bus = None
        elif self._connection is not None:
            self._connection.close()

    # What others call

    def _activate(self, told: dict[str, Any]) -> None:
        self.front_wanted.emit(_token(told))

    def _open(self, uris: list[str], told: dict[str, Any]) -> None:
        self.open_wanted.emit(paths_of(uris), "", _token(told))

    def _activate_action(self, action: str, parameters: list[Any], told: dict[str, Any]) -> None:
        if action not in _TASKS:
            raise ValueError(action)
        uris = parameters[0][1] if parameters and parameters[0][0] == "as" else []
        self.open_wanted.emit(paths_of(uris), action, _token(told))

    # Jobs

    def _started(self, running: RunningJob) -> None:
        self._began[running.id] = monotonic()

    def _progressed(self, running: RunningJob) -> None:
        if self._awake < 0 and not self._asking and self._takes(running) > _STARTED and self._settings.get(STAY_AWAKE):
            self._keep_awake(running.title)
        known = [progress for job in self._jobs.running if (progress := job.job.snapshot()).total_bytes]
        if self.bus is not None and known and self._takes(running) > _STARTED:
            done, total = sum(each.done_bytes for each in known), sum(each.total_bytes for each in known)
            self._show_progress(min(done * 100 // total, 100))

    def _takes(self, running: RunningJob) -> float:
        return monotonic() - self._began.get(running.id, monotonic())

    def _keep_awake(self, why: str) -> None:
        self._asking = True

        def work(_: Job) -> int:
            return stay_awake(why)

        def done(descriptor: int) -> None:
            if self._jobs.running:
                self._awake = descriptor
                self._asking = descriptor < 0  # else it would be asked ten times a second where nobody answers
            else:
                self._asking = False
                may_sleep(descriptor)

        self._background.run(work, done=done, failed=log_failure)

    def _ended(self, running: RunningJob, result: JobResult) -> None:
        took = self._takes(running)
        self._began.pop(running.id, None)
        if not self._jobs.running:
            may_sleep(self._awake)
            self._awake, self._asking = -1, False
            self._show_progress(-1)
        if took >= _LONG and not result.cancelled and not self.in_front() and self._settings.get(NOTIFY):
            self._notify(running, result)

    def _show_progress(self, share: int) -> None:
        """Show so many percent on the launcher, where there is one that listens; -1 for none."""
        if self.bus is None or share == self._shown:
            return
        self._shown = share
        values = {"progress": ("d", max(share, 0) / 100), "progress-visible": ("b", share >= 0)}
        self.bus.emit_signal(OBJECT_PATH, _LAUNCHER, "Update", "sa{sv}", (_OURS, values))

    def _notify(self, running: RunningJob, result: JobResult) -> None:
        if self.bus is None:
            return
        actions = ["default", "Show the window"]
        actions += ["show", "Show"] if result.show is not None else []
        actions += ["undo", "Undo"] if _can_undo(result.outcome) else []
        hints = {"desktop-entry": ("s", APP_ID), "urgency": ("y", 1 if result.good else 2)}
        body = (APP_ID, 0, APP_ID, running.title, result.words, actions, hints, -1)

        def done(answer: tuple[Any, ...] | None) -> None:
            if answer is not None:
                self._said[answer[0]] = running.id, result.show

        self.bus.call(
            _NOTIFICATIONS, "/org/freedesktop/Notifications", _NOTIFICATIONS, "Notify", "susssasa{sv}i", body, done
        )

    def _told(self, interface: str, member: str, body: tuple[Any, ...]) -> None:
        if interface != _NOTIFICATIONS or len(body) < 2 or body[0] not in self._said:
            return
        if member == "ActivationToken":
            self._token = str(body[1])
        elif member == "NotificationClosed":
            self._said.pop(body[0])
        elif member == "ActionInvoked":
            job, show = self._said[body[0]]
            token, self._token = self._token, ""
            if body[1] == "show":
                self.show_wanted.emit(show)
            elif body[1] == "undo":
                self.undo_wanted.emit(job)
            else:
                self.front_wanted.emit(token)


def _not_joined(error: BaseException) -> None:
    _log.info("There is no session bus: %s", error)


def _can_undo(outcome: Outcome | None) -> bool:
    return outcome is not None and bool(outcome.created or outcome.trashed or outcome.moved)


def _token(told: dict[str, Any]) -> str:
    for name in ("activation-token", "desktop-startup-id"):
        if name in told and told[name][1]:
            return str(told[name][1])
    return ""
