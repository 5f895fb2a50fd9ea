"""What all tests share. Any Python or Qt warning fails a test; so do threads that outlive it."""

from __future__ import annotations

import atexit
import gc
import os
import shutil
import signal
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import hypothesis
import pytest

# As in the program itself: objects of the toolkit that are left over in circles must not end in another thread.
gc.disable()

# No test is up to the clock, however slow the machine.
# The automatic check of a change tries the same examples each time, so that it fails by what was changed and by nothing else.
hypothesis.settings.register_profile("untimed", deadline=None, derandomize=bool(os.environ.get("CI")))
hypothesis.settings.load_profile("untimed")

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.pop("DBUS_SESSION_BUS_ADDRESS", None)  # no test speaks to the desktop that it is run on
# Where the trash is, is settled once for the whole process.
_DATA = Path(tempfile.mkdtemp(prefix="rundlet-tests-"))
os.environ["XDG_DATA_HOME"] = str(_DATA)
os.environ["XDG_STATE_HOME"] = str(_DATA / "state")
os.environ["XDG_CACHE_HOME"] = str(_DATA / "cache")
os.environ["XDG_CONFIG_HOME"] = str(_DATA / "config")
atexit.register(shutil.rmtree, _DATA, ignore_errors=True)


from windows import qapp, settle, stand, window  # noqa: E402, F401 - after the platform is settled


@pytest.fixture(autouse=True)
def no_thread_outlives_its_test() -> Iterator[None]:
    before = set(threading.enumerate())
    yield
    left = [t for t in threading.enumerate() if t not in before and t.is_alive() and not t.daemon]
    assert not left, f"threads are still alive: {left}"


@pytest.fixture(autouse=True)
def garbage_ends_on_this_thread() -> Iterator[None]:
    yield
    gc.collect(1)


@pytest.fixture(autouse=True, scope="session")
def nothing_waits_for_the_disk() -> Iterator[None]:
    """What is written is not awaited on the disk: no test can see that, and each would wait for what the others write."""
    with pytest.MonkeyPatch.context() as quick:
        quick.setattr(os, "fsync", os.fstat)  # which refuses what is not open, too
        for module in ("rundlet.core.work.extractor", "rundlet.core.fs.moving"):
            quick.setattr(f"{module}.sync_disk", os.fstat)
        yield


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """An empty home folder."""
    place = tmp_path / "home"
    place.mkdir()
    monkeypatch.setenv("HOME", str(place))
    return place


@pytest.fixture
def usual_signals() -> Iterator[None]:
    """What ends programs does so, also where the tests were started to ignore it, as in the background."""
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    for number in before:
        signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)
    yield
    for number, handler in before.items():
        signal.signal(number, handler)


@pytest.fixture
def trash() -> Iterator[Path]:
    """The folder with what was moved to the trash; empty at first, whatever tests before have left in it."""
    shutil.rmtree(_DATA / "Trash", ignore_errors=True)
    yield _DATA / "Trash" / "files"
    shutil.rmtree(_DATA / "Trash", ignore_errors=True)
