"""Helper processes: modules of this package that run beside this process.

The interpreter runs one thread at a time, and a small file takes mostly the interpreter: a second thread gains nothing
there, a second process does. What a helper imports should be little, as that is what its start takes.
"""

from __future__ import annotations

import contextlib
import fcntl
import io
import pickle
import subprocess
import sys
from typing import cast

from rundlet.core.limits import MIB

WORTH_IT = 6000
"""Small files from which on helpers make up for their start (some 60 ms of a core), measured with two cores."""

_PIPE = MIB  # bytes


def command(module: str, *words: str) -> list[str]:
    """The command that runs a module of this package in a process of its own.

    Nothing is imported from the working folder (``-P``), which may be one that hostile archives were unpacked into.
    """
    return [sys.executable, "-P", "-m", module, *words]


class Helper:
    """A process that takes orders, one pickle each, until there are no more. Not to be used by two threads at once.

    Args:
        words: its command.

    Raises:
        OSError: when the system has no room for one.
    """

    def __init__(self, words: list[str]) -> None:
        self._child = subprocess.Popen(
            words,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            bufsize=0,
            # Not in the terminal's group: an interrupt is for the master, which then still hears what was done.
            start_new_session=True,
        )
        self._orders, self.answers = cast(io.FileIO, self._child.stdin), cast(io.FileIO, self._child.stdout)
        with contextlib.suppress(OSError):  # then whoever writes waits for whoever reads a little more often
            fcntl.fcntl(self._orders, fcntl.F_SETPIPE_SZ, _PIPE)
            fcntl.fcntl(self.answers, fcntl.F_SETPIPE_SZ, _PIPE)

    def send(self, order: object) -> None:
        """Give an order. Raises ``OSError`` when the process is gone."""
        left = memoryview(pickle.dumps(order, pickle.HIGHEST_PROTOCOL))
        while left:
            left = left[self._orders.write(left) :]

    def no_more(self) -> None:
        """That there are no more orders; it ends when it has done those it has."""
        with contextlib.suppress(OSError):
            self._orders.close()

    def end(self) -> None:
        """Wait for its end."""
        self.no_more()
        self.answers.close()
        self._child.wait()
