"""The session bus in a window: calls that do not wait for their answers, and what others call and tell."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QSocketNotifier, Signal

if TYPE_CHECKING:
    from jeepney import Message
    from jeepney.io.blocking import DBusConnection

_log = logging.getLogger(__name__)

Answer = Callable[[tuple[Any, ...] | None], None]
"""Takes what a call gave, or None where it failed."""

Method = Callable[..., None]
"""Takes what a caller has sent."""


class SessionBus(QObject):
    """A connection whose messages are taken as they come.

    Args:
        connection: as :func:`rundlet.integration.bus_names.open_bus` gives it.

    Signals:
        told: with interface, member and body of a signal that was asked for by :meth:`listen`.
        lost: the bus has gone.
    """

    told = Signal(str, str, object)
    lost = Signal()

    def __init__(self, connection: DBusConnection, parent: QObject) -> None:
        super().__init__(parent)
        self._connection = connection
        self._waiting: dict[int, Answer] = {}
        self._methods: dict[tuple[str, str, str], Method] = {}
        self._notifier = QSocketNotifier(connection.sock.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._take)

    def call(
        self, name: str, path: str, interface: str, method: str, signature: str, body: tuple[Any, ...], done: Answer
    ) -> None:
        """Call a method of somebody; ``done`` is told what it gave, on this thread."""
        from jeepney import DBusAddress, new_method_call

        message = new_method_call(DBusAddress(path, name, interface), method, signature or None, body)
        serial = next(self._connection.outgoing_serial)
        self._waiting[serial] = done
        self._send(message, serial)

    def emit_signal(self, path: str, interface: str, member: str, signature: str, body: tuple[Any, ...]) -> None:
        """Tell everybody something."""
        from jeepney import DBusAddress, new_signal

        self._send(new_signal(DBusAddress(path, interface=interface), member, signature, body))

    def listen(self, interface: str) -> None:
        """Be told of all signals of an interface."""
        from jeepney import MatchRule

        rule = MatchRule(type="signal", interface=interface)
        self._bus("AddMatch", "s", (rule.serialise(),), lambda _: None)

    def own(self, name: str, done: Callable[[bool], None]) -> None:
        """Take a name, where nobody has it; ``done`` is told whether that is so."""
        do_not_queue, owner = 4, 1
        self._bus("RequestName", "su", (name, do_not_queue), lambda body: done(body is not None and body[0] == owner))

    def offer(self, path: str, interface: str, method: str, take: Method) -> None:
        """Let others call a method, which gives nothing back."""
        self._methods[path, interface, method] = take

    def close(self) -> None:
        """Leave the bus."""
        self._notifier.setEnabled(False)
        self._connection.close()

    def _bus(self, method: str, signature: str, body: tuple[Any, ...], done: Answer) -> None:
        self.call(
            "org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus", method, signature, body, done
        )

    def _send(self, message: Message, serial: int | None = None) -> None:
        try:
            self._connection.send(message, serial=serial)
        except OSError as error:
            self._leave(error)

    def _leave(self, error: BaseException) -> None:
        if not self._notifier.isEnabled():
            return  # it has been left already
        _log.info("The session bus has gone: %s", error)
        self.close()
        waiting, self._waiting = self._waiting, {}
        for done in waiting.values():
            done(None)
        self.lost.emit()

    def _take(self) -> None:
        while self._notifier.isEnabled():
            try:
                message = self._connection.receive(timeout=0)
            except TimeoutError:
                return
            except Exception as error:  # noqa: BLE001 - whatever it sends, the window goes on without the bus
                self._leave(error)
                return
            self._handle(message)

    def _handle(self, message: Message) -> None:
        from jeepney import HeaderFields, MessageType

        kind, fields = message.header.message_type, message.header.fields
        if kind in (MessageType.method_return, MessageType.error):
            done = self._waiting.pop(fields.get(HeaderFields.reply_serial, -1), None)
            if done is not None:
                done(message.body if kind is MessageType.method_return else None)
        elif kind is MessageType.signal:
            self.told.emit(fields.get(HeaderFields.interface, ""), fields.get(HeaderFields.member, ""), message.body)
        elif kind is MessageType.method_call:
            self._answer(message)

    def _answer(self, message: Message) -> None:
        from jeepney import HeaderFields, new_error, new_method_return

        fields = message.header.fields
        key = tuple(fields.get(part, "") for part in (HeaderFields.path, HeaderFields.interface, HeaderFields.member))
        take = self._methods.get(key)
        if take is None:
            self._send(new_error(message, "org.freedesktop.DBus.Error.UnknownMethod"))
            return
        try:
            take(*message.body)
        except (TypeError, ValueError, IndexError):
            self._send(new_error(message, "org.freedesktop.DBus.Error.InvalidArgs"))
            return
        self._send(new_method_return(message))
