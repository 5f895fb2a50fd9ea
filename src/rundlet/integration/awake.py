"""Keeping the computer awake while work is under way."""

from __future__ import annotations

import os

_PATIENCE = 3  # seconds


def stay_awake(why: str) -> int:
    """Ask the session manager not to let the computer sleep.

    Follows the inhibitor locks of ``org.freedesktop.login1``.

    Args:
        why: the reason that a person is told.

    Returns:
        A descriptor that is to be closed when the computer may sleep again; -1 where nobody is there to be asked.
    """
    from jeepney import DBusAddress, MessageType, new_method_call

    from rundlet.integration.bus_names import open_bus

    address = DBusAddress("/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager")
    message = new_method_call(address, "Inhibit", "ssss", ("sleep:idle", "Rundlet", why, "block"))
    try:
        with open_bus("SYSTEM", enable_fds=True) as connection:
            answer = connection.send_and_get_reply(message, timeout=_PATIENCE)
    except Exception:  # noqa: BLE001 - then nobody is there to be asked
        return -1
    if answer.header.message_type is not MessageType.method_return:
        return -1
    return int(answer.body[0].to_raw_fd())


def may_sleep(descriptor: int) -> None:
    """Let the computer sleep again."""
    if descriptor >= 0:
        os.close(descriptor)
