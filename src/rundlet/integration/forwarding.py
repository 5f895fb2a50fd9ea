"""Handing what is to be opened to a Rundlet that runs already."""

from __future__ import annotations

import os
from collections.abc import Sequence

_PATIENCE = 3  # seconds; a Rundlet that answers later than that is no help


def forward(paths: Sequence[str], task: str = "") -> bool:
    """Have a running Rundlet open some paths, or come to the front; whether there was one that does.

    Follows the Desktop Entry Specification, section 8 (D-Bus activation).

    Args:
        task: what the paths are to be selected for; "" to look at them.
    """
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return False
    from jeepney import DBusAddress, MessageType, message_bus, new_method_call
    from jeepney.io.blocking import Proxy

    from rundlet.integration.bus_names import BUS_NAME, INTERFACE, OBJECT_PATH, open_bus, uris

    told = {
        "activation-token": ("s", os.environ.get("XDG_ACTIVATION_TOKEN", "")),
        "desktop-startup-id": ("s", os.environ.get("DESKTOP_STARTUP_ID", "")),
    }
    told = {name: value for name, value in told.items() if value[1]}
    address = DBusAddress(OBJECT_PATH, BUS_NAME, INTERFACE)
    listed = uris(list(paths))
    if task:
        message = new_method_call(address, "ActivateAction", "sava{sv}", (task, [("as", listed)], told))
    elif listed:
        message = new_method_call(address, "Open", "asa{sv}", (listed, told))
    else:
        message = new_method_call(address, "Activate", "a{sv}", (told,))
    try:
        with open_bus() as connection:
            if not Proxy(message_bus, connection, timeout=_PATIENCE).NameHasOwner(BUS_NAME)[0]:
                return False
            answer = connection.send_and_get_reply(message, timeout=_PATIENCE)
    except Exception:  # noqa: BLE001 - whatever is wrong with the bus, this Rundlet starts by itself
        return False
    return answer.header.message_type is MessageType.method_return
