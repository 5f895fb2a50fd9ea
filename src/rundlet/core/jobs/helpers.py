"""Helper processes: Python modules of this package that are run beside this process."""

from __future__ import annotations

import sys


def command(module: str, *words: str) -> list[str]:
    """The command that runs a module of this package in a process of its own.

    Nothing is imported from the working folder (``-P``), which may be one that hostile archives were unpacked into.
    """
    return [sys.executable, "-P", "-m", module, *words]
