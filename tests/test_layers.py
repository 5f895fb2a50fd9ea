"""Promises about the code itself."""

from __future__ import annotations

import re
import subprocess
import sys
from dataclasses import asdict
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


def _contrast(a: str, b: str) -> float:
    """The contrast of two colours, from 1 to 21, as the guidelines for accessible content define it."""

    def light(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    high, low = sorted((light(a), light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


_GROUNDS = ("card", "paper", "wine_wash", "oak_wash")


def test_every_colour_stands_out_from_every_ground() -> None:
    """Text at 4.5 to 1, and edges, icons and fillings at 3 to 1: in light and dark, on selected rows too."""
    from rundlet.desktop.theme.tokens import DARK, LIGHT

    wanted = {(ink, ground): 4.5 for ink in ("ink", "soft", "moss", "amber", "slate") for ground in _GROUNDS}
    wanted |= {(ink, ground): 4.5 for ink in ("wine_deep",) for ground in ("card", "paper")}  # links under the mouse
    wanted |= {("on_wine", "wine"): 4.5, ("on_wine", "wine_deep"): 4.5, ("card", "ink"): 4.5}
    wanted |= {(edge, ground): 3 for edge in ("frame",) for ground in ("card", "paper")}
    wanted |= {(drawn, ground): 3 for drawn in ("wine", "oak") for ground in _GROUNDS}
    for palette in (LIGHT, DARK):
        colours = asdict(palette)
        known = set(colours) - {"line", *_GROUNDS}
        assert known == {ink for ink, _ in wanted} - {"card"}, "a new colour says here where it is seen"
        low = {
            pair: got
            for pair, least in wanted.items()
            if (got := _contrast(colours[pair[0]], colours[pair[1]])) < least
        }
        assert not low, low


def test_the_style_sheet_pairs_only_colours_that_stand_out() -> None:
    """What is written on a ground of its own can be read there; what can be pressed or typed in has an edge to be seen."""
    from rundlet.desktop.theme.tokens import DARK, LIGHT

    sheet = (PACKAGE / "desktop" / "theme" / "style.qss").read_text("utf-8")
    rules = re.findall(r"([^{}]+)\{((?:[^{}]|\$\{\w+\})*)\}", sheet)
    assert len(rules) > 50
    seen = 0
    for palette in (LIGHT, DARK):
        colours = asdict(palette)
        for where, what in rules:
            told = dict(re.findall(r"([\w-]+):[^;]*\$(\w+)\s*;", what))
            ground = told.get("background", "card")
            least = 3 if ":disabled" in where else 4.5
            if ink := told.get("color"):
                seen += 1
                assert _contrast(colours[ink], colours[ground]) >= least, (where, ink, ground)
            edge = told.get("border") or told.get("border-color")
            if edge and re.search("QPushButton|QToolButton|QLineEdit|QComboBox(?! QAbstract)", where):
                seen += 1
                assert edge != "line" and _contrast(colours[edge], colours["card"]) >= 3, (where, edge)
    assert seen > 40
