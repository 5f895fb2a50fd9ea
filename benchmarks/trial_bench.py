"""The trial: what was predicted of several kinds of folder against what came of packing them and reading them back."""

from __future__ import annotations

import shutil
import sys
import time
from pathlib import Path

from benchmarks.measure import MIB, mixed_corpus, scratch
from rundlet.core.formats.detect import by_id
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.work.packer import pack
from rundlet.core.work.trial import predicted
from rundlet.demo.world import make_world

_CHOICES = (
    ("zip", 1),
    ("zip", 5),
    ("zip", 9),
    ("7z", 1),
    ("7z", 5),
    ("7z", 9),
    ("tar.gz", 5),
    ("tar.bz2", 9),
    ("tar.xz", 5),
    ("tar.zst", 5),
)


def run() -> None:
    """Print the table."""
    print("\n### The trial: real over predicted (goal: size 0.90 to 1.10, time 0.67 to 1.50)\n")
    print("| folder | " + " | ".join(f"{fmt} {level}" for fmt, level in _CHOICES) + " |")
    print("|---|" + "---|" * len(_CHOICES))
    with scratch() as folder:
        for name, root in _folders(folder).items():
            cells = [_cell(root, folder / "x", fmt, level) for fmt, level in _CHOICES]
            print(f"| {name} | " + " | ".join(cells) + " |", flush=True)


def _folders(folder: Path) -> dict[str, Path]:
    mixed = mixed_corpus(folder, 100 * MIB)
    photos = folder / "photos"
    photos.mkdir()
    make_world(folder / "demo")
    for picture in sorted((folder / "demo").rglob("*.jpg")):
        shutil.copyfile(picture, photos / picture.name)
    code = folder / "source"
    shutil.copytree(Path(sys.prefix) / "lib", code, ignore=_only_code, dirs_exist_ok=True)
    return {
        "demo": folder / "demo",
        "source code": code,
        "programs": mixed / "programs",
        "photos": photos,
        "mixed": mixed,
    }


def _only_code(place: str, names: list[str]) -> set[str]:
    return {name for name in names if not (Path(place, name).is_dir() or name.endswith(".py")) or name == "PySide6"}


def _cell(root: Path, target: Path, fmt: str, level: int) -> str:
    info = by_id(fmt).info
    plan = plan_pack([root], target=target, info=info, level=level, on_clash=PackClash.REPLACE, read_back=True)
    before = predicted(plan.items, info, level, read_back=True)
    begin = time.perf_counter()
    pack(plan)
    took = time.perf_counter() - begin
    after = predicted(plan.items, info, level, read_back=True)  # the machine's own speed may swing meanwhile
    size = target.stat().st_size
    return f"{size / before.size:.2f}, {2 * took / (before.seconds + after.seconds):.2f}"
