"""Promises about the code itself."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

import rundlet
from support import pack_to

PACKAGE = Path(rundlet.__file__).parent
TOKENS = PACKAGE / "desktop" / "theme" / "tokens.py"

BLOCKED = """
import sys
class NoWindow:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in ("PySide6", "shiboken6"):
            raise ImportError(name)
sys.meta_path.insert(0, NoWindow())
import importlib, pkgutil, rundlet.core, rundlet.cli.main
packages = (rundlet.core, rundlet.cli)
modules = [m for p in packages for m in pkgutil.walk_packages(p.__path__, p.__name__ + ".")]
for module in modules:
    importlib.import_module(module.name)
sys.exit(rundlet.cli.main.main(["--version"]))
"""


def test_core_and_command_line_work_without_the_window_toolkit() -> None:
    done = subprocess.run([sys.executable, "-c", BLOCKED], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


_HEAVY = ("numpy", "cryptography", "isal", "deflate", "backports", "pyppmd", "inflate64", "bcj", "charset_normalizer")

_IN_A_FOLDER = """
import sys
from PySide6.QtCore import QTimer
from rundlet.desktop import app
class Opened(app.Window):
    def __init__(self):
        super().__init__()
        self.workspace.listed.connect(lambda _: QTimer.singleShot(0, self.close))
app.Window = Opened
app.main([sys.argv[1]])
"""


@pytest.mark.parametrize(
    ("code", "without"),
    [
        ("from rundlet.cli.main import main; main(['--version']); main(['help'])", (*_HEAVY, "PySide6")),
        ("from rundlet.cli.main import main; main(['list', sys.argv[2]])", (*_HEAVY, "PySide6")),
        (_IN_A_FOLDER, _HEAVY),
    ],
)
def test_what_is_loaded_early_is_little(tmp_path: Path, code: str, without: tuple[str, ...]) -> None:
    """Neither words about the program nor a window with a folder in it wait for codecs and numeric libraries."""
    (tmp_path / "a.txt").write_text("content")
    pack_to(tmp_path / "x.zip", [tmp_path / "a.txt"])
    code = f"import sys\n{code}\nprint(*[name for name in {without!r} if name in sys.modules], file=sys.stderr)"
    words = [sys.executable, "-c", code, str(tmp_path), str(tmp_path / "x.zip")]
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    assert done.stderr.split() == []


def test_colours_stand_in_one_file() -> None:
    colour = re.compile(r"#[0-9A-Fa-f]{6}\b|QColor\(\s*\d|\brgba?\(")
    sizes = re.compile(r"\d+px")
    for path in [*PACKAGE.glob("desktop/**/*.py"), *PACKAGE.glob("desktop/**/*.qss")]:
        if path != TOKENS:
            source = path.read_text("utf-8")
            assert not colour.search(source), path
            assert not sizes.search(source), path


def test_what_is_to_happen_soon_ends_with_whoever_wanted_it() -> None:
    """A call that comes when its window is gone takes the whole process with it: each has an object that it ends with."""
    alone = re.compile(r"singleShot\([^,()]+, (lambda|[\w.]+\))")
    for path in PACKAGE.glob("desktop/**/*.py"):
        assert not alone.search(path.read_text("utf-8")), path


def test_every_colour_is_readable_on_its_ground() -> None:
    from rundlet.desktop.theme.tokens import DARK, LIGHT

    def light(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def contrast(a: str, b: str) -> float:
        high, low = sorted((light(a), light(b)), reverse=True)
        return (high + 0.05) / (low + 0.05)

    for p in (LIGHT, DARK):
        for ink in (p.ink, p.soft, p.moss, p.amber, p.slate):
            assert contrast(ink, p.card) >= 4.5
        assert contrast(p.on_wine, p.wine) >= 4.5
        assert contrast(p.ink, p.wine_wash) >= 4.5
