"""The window: how soon it is there, and how quick it answers while work goes on."""

from __future__ import annotations

import json
import subprocess
import sys

import numpy as np

from benchmarks.measure import MIB, head, mixed_corpus, row, scratch, seconds

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
from PySide6.QtCore import QTimer
from rundlet.desktop.app import make_app
from rundlet.desktop.window import Window
from pathlib import Path
app = make_app()
window = Window()
window.show()
window.workspace.listed.connect(lambda _: QTimer.singleShot(0, window.close))
window.workspace.open([Path("/usr")])
app.exec()
"""

_LOOP = """
import sys, time, json
from pathlib import Path
from PySide6.QtCore import QTimer
from rundlet.desktop.app import main
from rundlet.desktop import app
gaps = []
class Measured(app.Window):
    def __init__(self):
        super().__init__()
        self.last = time.perf_counter()
        self.beat = QTimer(self)
        self.beat.setInterval(5)
        self.beat.timeout.connect(self.tick)
        self.beat.start()
        self.workspace.listed.connect(self.begin)
        self.begun = False
        self.jobs.ended.connect(lambda *_: self.close())
    def tick(self):
        now = time.perf_counter()
        if self.jobs.running:
            gaps.append(now - self.last)
        self.last = now
    def begin(self, _):
        if not self.begun:
            self.begun = True
            self.source.view.selectAll()
            self.start_pack()
app.Window = Measured
main(sys.argv[1:])
print(json.dumps(gaps))
"""


def run() -> None:
    """Print the table."""
    head("window")
    bare = seconds(lambda: subprocess.run([sys.executable, "-c", _BARE], check=True, stderr=subprocess.DEVNULL))
    ours = seconds(lambda: subprocess.run([sys.executable, "-c", _OURS], check=True, stderr=subprocess.DEVNULL))
    row("start to usable window", "a bare window of the toolkit", bare / ours, "0.67", f"{ours:.2f} s")
    with scratch() as folder:
        corpus = mixed_corpus(folder, 160 * MIB)
        done = subprocess.run([sys.executable, "-c", _LOOP, str(corpus)], check=True, capture_output=True, text=True)
        gaps = np.array(json.loads(done.stdout.splitlines()[-1])) * 1000
        worst = np.percentile(gaps, 99)
        row(
            "event loop while packing, 99th percentile",
            "50 ms",
            50 / worst,
            "1",
            f"{worst:.0f} ms; longest {gaps.max():.0f} ms",
        )
