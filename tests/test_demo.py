"""What ``make demo`` does where there is no display."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtGui import QImage

from support import long


@long
@pytest.mark.timeout(1600)  # every picture is taken, and some wait for the trial
def test_the_example_runs_without_a_display(tmp_path: Path) -> None:
    env = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY")}
    command = [sys.executable, "-m", "rundlet.demo", "--data", str(tmp_path / "data")]
    done = subprocess.run(command, env=env, capture_output=True, text=True, timeout=1500, check=False)
    assert done.returncode == 0, done.stderr
    assert "byte for byte" in done.stdout
    for name in ("pack", "pack-dark", "unpack", "unpack-dark", "running"):
        picture = QImage(str(tmp_path / "demo-out" / "pictures" / f"{name}.png"))
        assert (picture.width(), picture.height()) == (1280, 800)
