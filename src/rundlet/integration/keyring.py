"""Passwords of archives in the desktop's keyring, by the Secret Service specification; only those that a person has put there.

Everything here waits for the keyring, and for the person where it is locked, so it is called beside the interface.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.core.errors import RundletError
from rundlet.integration.bus_names import open_bus

if TYPE_CHECKING:
    import secretstorage

_SCHEMA = {"xdg:schema": "rundlet.Password"}
_TRIES = 3


class KeyringProblem(RundletError):
    """The keyring can't be used, or was not unlocked."""


def has_keyring() -> bool:
    """Whether the desktop has a keyring."""
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return False
    import secretstorage

    try:
        with _connection() as connection:
            return bool(secretstorage.check_service_availability(connection))
    except KeyringProblem:
        return False


def password_of(archive: Path) -> str | None:
    """The password that is kept of an archive, or None.

    Raises:
        KeyringProblem: when there is one and the keyring stays locked.
    """
    with _connection() as connection:
        for item in _items(connection, archive):
            _unlock(item)
            return bytes(item.get_secret()).decode("utf-8", "surrogateescape")
    return None


def keep_password(archive: Path, password: str) -> None:
    """Keep the password of an archive, in place of one that is kept already.

    Raises:
        KeyringProblem: when the keyring can't be used, or stays locked.
    """
    import secretstorage

    with _connection() as connection:
        collection = secretstorage.get_default_collection(connection)
        _unlock(collection)
        collection.create_item(
            f"Rundlet: {archive.name}",
            _SCHEMA | {"path": str(archive)},
            password.encode("utf-8", "surrogateescape"),
            replace=True,
        )


def kept_passwords() -> list[Path]:
    """Of which archives passwords are kept.

    Raises:
        KeyringProblem: when the keyring can't be used.
    """
    import secretstorage

    found = []
    with _connection() as connection:
        for item in _items(connection):
            with suppress(secretstorage.exceptions.ItemNotFoundException):  # it was deleted just now
                found.append(Path(item.get_attributes().get("path", "")))
    return sorted(found)


def delete_password(archive: Path) -> None:
    """Delete what is kept of an archive.

    Raises:
        KeyringProblem: when the keyring can't be used, or stays locked.
    """
    with _connection() as connection:
        for item in _items(connection, archive):
            _unlock(item)
            item.delete()


@contextmanager
def _connection() -> Iterator[Any]:
    """A connection, on which whatever goes wrong is said in one way."""
    import secretstorage
    from secretstorage.util import add_match_rules

    try:
        connection = open_bus()
    except OSError as error:
        raise KeyringProblem("The keyring can't be reached.") from error
    try:
        add_match_rules(connection)
        yield connection
    except secretstorage.exceptions.PromptDismissedException as error:
        raise KeyringProblem("The keyring was not unlocked.") from error
    except (secretstorage.exceptions.SecretStorageException, OSError, KeyError) as error:
        raise KeyringProblem("The keyring can't be used: {reason:shown}", reason=str(error)) from error
    finally:
        connection.close()


def _items(connection: Any, archive: Path | None = None) -> list[secretstorage.Item]:
    import secretstorage

    wanted = _SCHEMA if archive is None else _SCHEMA | {"path": str(archive)}
    for _ in range(_TRIES):
        with suppress(secretstorage.exceptions.ItemNotFoundException):  # one of them was deleted just now: ask again
            return list(secretstorage.search_items(connection, wanted))
    return []


def _unlock(what: Any) -> None:
    """Have the keyring asked for its own password where it is locked. Raises ``KeyringProblem`` when it stays so."""
    if what.is_locked() and what.unlock():
        raise KeyringProblem("The keyring was not unlocked.")
