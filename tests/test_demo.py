"""What ``make demo`` does where there is no display."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtGui import QImage

from rundlet.demo import __main__ as demo
from support import long


def test_the_example_but_for_its_pictures(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    season = tmp_path / "River watch" / "2031 spring"
    for name in ("maps/a.svg", "notes/b.md", "photos/c.jpg", "readings/d.csv", "READ ME FIRST.txt"):
        (season / name).parent.mkdir(parents=True, exist_ok=True)
        (season / name).write_text(name)
    monkeypatch.setattr(demo, "_pictures", lambda *_: None)
    assert demo._example(season.parent, tmp_path / "out") == 0
    said = capsys.readouterr().out
    assert "Packed 5 files" in said and "Unpacked 2 files" in said and "byte for byte" in said and "is intact" in said


@long
@pytest.mark.timeout(1600)  # every picture is taken, and some wait for the trial
def test_the_example_runs_without_a_display(tmp_path: Path) -> None:
    env = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY")}
    command = [sys.executable, "-m", "rundlet.demo", "--data", str(tmp_path / "data")]
    done = subprocess.run(command, env=env, capture_output=True, text=True, timeout=1500, check=False)
    assert done.returncode == 0, done.stderr
    assert "byte for byte" in done.stdout
    for name in ("pack", "pack-dark", "unpack", "settings", "running"):
        picture = QImage(str(tmp_path / "demo-out" / "pictures" / f"{name}.png"))
        assert (picture.width(), picture.height()) == (1280, 800)
