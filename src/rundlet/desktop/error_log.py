"""Errors that nobody could be shown: kept in a small file in the state folder, for whoever looks into them."""

from __future__ import annotations

import logging
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rundlet.core.fs.base_folders import state_folder
from rundlet.core.limits import KIB
from rundlet.core.streams.private import private_folder

if TYPE_CHECKING:
    from types import TracebackType

_LARGEST = 256 * KIB  # of the file; when it is full it becomes the old one, and the one before that goes

_log = logging.getLogger(__name__)


def log_failure(error: BaseException) -> None:
    """For work whose failure the window does not depend on."""
    _log.warning("A background task failed: %s", error)


def start_error_log(folder: Path | None = None) -> logging.Handler | None:
    """Write warnings and errors to a file from now on, those that nothing catches too.

    Args:
        folder: where; by default the program's folder for states.

    Returns:
        What writes them; None where no file can be kept.
    """
    from logging.handlers import RotatingFileHandler  # loads much, and is not needed before the window stands

    folder = folder or state_folder()
    try:
        path = private_folder(folder) / "errors.log"
        path.touch(mode=0o600)
        handler = RotatingFileHandler(path, maxBytes=_LARGEST, backupCount=1, encoding="utf-8", errors="replace")
    except OSError:
        return None
    handler.setLevel(logging.WARNING)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)
    sys.excepthook = _uncaught
    threading.excepthook = _uncaught_in_thread
    return handler


def _uncaught(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    _log.error("An error that nothing caught", exc_info=(kind, error, trace))
    sys.__excepthook__(kind, error, trace)


def _uncaught_in_thread(arguments: Any) -> None:
    if arguments.exc_value is not None:
        _uncaught(arguments.exc_type, arguments.exc_value, arguments.exc_traceback)
