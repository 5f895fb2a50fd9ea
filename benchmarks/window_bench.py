"""The window: how soon it is there, and how quick it answers while work goes on."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np

from benchmarks.measure import MIB, head, million_entries, mixed_corpus, row, scratch, seconds

_BARE = """
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.show()
QTimer.singleShot(0, app.quit)
app.exec()
"""

_OURS = """
import gc
gc.disable()  # as the command does
from PySide6.QtCore import QTimer
from rundlet.desktop import app
class Opened(app.Window):
    def __init__(self):
        super().__init__()
        self.workspace.listed.connect(lambda _: QTimer.singleShot(0, self.close))
app.Window = Opened
app.main(["/usr"])
"""

_LIST = """
import sys
from rundlet.cli.main import main
sys.exit(main(["list", sys.argv[1]]))
"""

_MEASURED = """
import sys, time, json
from pathlib import Path
from PySide6.QtCore import QTimer, Qt
from rundlet.desktop.app import main
from rundlet.desktop import app
gaps = []
class Measured(app.Window):
    def __init__(self):
        super().__init__(Path(sys.argv[1]).parent / "data")
        self.begun = False
        self.last = time.perf_counter()
        self.beat = QTimer(self)
        self.beat.setInterval(5)
        self.beat.timeout.connect(self.tick)
        self.beat.start()
        self.watch()
    def tick(self):
        now = time.perf_counter()
        if self.begun:
            gaps.append(now - self.last)
        self.last = now
    def end(self):
        self.begun = None
        self.close()
"""

_PACKING = """
class Packing(Measured):
    def watch(self):
        self.workspace.listed.connect(lambda _: QTimer.singleShot(1000, self.begin))  # when it stands there
        self.jobs.ended.connect(lambda *_: QTimer.singleShot(500, self.end))
    def begin(self):
        if self.begun is False:
            self.begun = True
            self.source.view.selectAll()
            self.starter.start_pack()
app.Window = Packing
"""

_LOOKING = """
class ListedWindow(Measured):
    def watch(self):
        self.begun = True
        self.steps = [self.go_in, *[self.scroll] * 20, self.by_size, self.source.view.selectAll, *[self.scroll] * 20]
        self.steps += [self.source.view.clearSelection, *[self.find] * 40]
        self.workspace.listed.connect(lambda _: QTimer.singleShot(300, self.step))
    def step(self):
        if not self.steps:
            self.end()
        elif (step := self.steps.pop(0)) == self.go_in:
            step()
        else:
            step()
            QTimer.singleShot(50, self.step)
    def go_in(self):
        self.source.view.entered.emit(self.workspace.listing.children(0)[0])
    def scroll(self):
        bar = self.source.pages.page.verticalScrollBar()
        bar.setValue((bar.value() + bar.maximum() // 7 + 200) % bar.maximum())
    def find(self):
        self.finder.setText("0077*1.txt"[: 10 - len(self.steps) // 4])
    def by_size(self):
        self.source.pages.page.sortByColumn(2, Qt.SortOrder.DescendingOrder)
app.Window = ListedWindow
"""

_BARE_BESIDE = """
import json, lzma, os, sys, threading, time
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMainWindow
sys.setswitchinterval(0.00005)
app = QApplication([])
window = QMainWindow()
window.show()
gaps, last, data, running = [], time.perf_counter(), os.urandom(8 << 20), True
def tick():
    global last
    now = time.perf_counter()
    gaps.append(now - last)
    last = now
def work():
    while running:
        lzma.compress(data, preset=1)
threads = [threading.Thread(target=work) for _ in range(4)]
for thread in threads:
    thread.start()
beat = QTimer()
beat.setInterval(5)
beat.timeout.connect(tick)
beat.start()
QTimer.singleShot(20_000, app.quit)
app.exec()
running = False
for thread in threads:
    thread.join()
print(json.dumps(gaps))
"""

_RUN = """
main(sys.argv[1:])
print(json.dumps(gaps))
"""


def run() -> None:
    """Print the table."""
    head("window")
    bare, ours = seconds(lambda: _start(_BARE)), seconds(lambda: _start(_OURS))
    row("start to usable window", "a bare window of the toolkit", bare / ours, "0.4", f"{ours:.2f} s")
    with scratch() as folder:
        with zipfile.ZipFile(folder / "x.zip", "w") as small_one:
            small_one.writestr("a.txt", "content")
        listed = seconds(lambda: _start(_LIST, str(folder / "x.zip")))
    row("list a small zip, with the interpreter's start", "0.15 s", 0.15 / listed, "1", f"{listed:.2f} s")
    _gaps("a bare window of the toolkit stands beside four threads of a codec", _BARE_BESIDE, Path())
    with scratch() as folder:
        _answers("packing, 160 MiB", mixed_corpus(folder, 160 * MIB))
    with scratch() as folder:
        small = folder / "small"
        small.mkdir()
        for number in range(20_000):
            (small / f"note {number:05d}.txt").write_text(f"Day {number}: the brook was clear.\n" * 20)
        _answers("choosing and packing 20,000 small files", small)
    with scratch() as folder:
        large = folder / "large"
        large.mkdir()
        with (large / "hydrophone.raw").open("wb") as out:
            out.truncate(5_000_000_000)
        _answers("choosing and packing one file of 5 GB", large)
    with scratch() as folder:
        archive = million_entries(folder, "many/entry {1:07d}.txt")
        _answers(
            "opening, going through, sorting, choosing and finding 1,000,000 entries in one folder", archive, _LOOKING
        )


def _start(code: str, *words: str) -> None:
    kept = os.environ | {"PYTHONDONTWRITEBYTECODE": ""}  # an installed program is compiled once, not at each start
    subprocess.run(
        [sys.executable, "-c", code, *words], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=kept
    )


def _answers(what: str, place: Path, acts: str = _PACKING) -> None:
    """How long the window takes to answer while it is used."""
    _gaps(what, _MEASURED + acts + _RUN, place)


def _gaps(what: str, code: str, place: Path) -> None:
    done = subprocess.run([sys.executable, "-c", code, str(place)], check=True, capture_output=True, text=True)
    gaps = np.array(json.loads(done.stdout.splitlines()[-1])) * 1000
    worst = np.percentile(gaps, 99)
    late = int((gaps > 100).sum())
    note = f"{worst:.0f} ms; longest {gaps.max():.0f} ms; {late} of {len(gaps)} over 100 ms"
    row(f"event loop while {what}, 99th percentile", "50 ms", 50 / worst, "1", note)
