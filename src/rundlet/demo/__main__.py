"""``make demo``: make the demo data and open the window in it; without a display, run the whole example and say so."""

from __future__ import annotations

import argparse
import filecmp
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

from rundlet.core.text import size


def main() -> int:
    """Run the demo; 1 when any step of the example fails."""
    parser = argparse.ArgumentParser(prog="rundlet.demo", description=__doc__)
    parser.add_argument("--data", type=Path, default=Path("demo-data"), help="where the demo data is made")
    parser.add_argument("--pictures", type=Path, help="only take the pictures for the documentation, into this folder")
    parser.add_argument("--headless", action="store_true", help="run the example even where there is a display")
    options = parser.parse_args()
    has_display = bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))
    headless = options.headless or options.pictures is not None or not has_display
    if headless:
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    if headless:  # the demo's trash and log are its own, and where the trash is, is settled by what is imported first
        os.environ["XDG_DATA_HOME"] = str(options.data.absolute() / ".data")
    world = _world(options.data.absolute(), anew=headless)
    if options.pictures is not None:
        _pictures(world, options.pictures)
        return 0
    if headless:
        return _example(world, options.data.absolute().parent / "demo-out")
    from rundlet.desktop.app import main as open_window

    return open_window([str(world / "2031 spring")])


def _world(data: Path, *, anew: bool) -> Path:
    from rundlet.demo.world import make_world

    if anew and data.exists():
        shutil.rmtree(data)
    if not (data / "River watch").exists():
        print(f"Making the demo data in {data} …")
        make_world(data)
    return data / "River watch"


def _example(world: Path, out: Path) -> int:
    """Pack, list, unpack some, compare, check, and take the pictures."""
    shutil.rmtree(out, ignore_errors=True)
    out.mkdir(parents=True)
    archive = out / "spring.zip"
    season = world / "2031 spring"
    items = [season / name for name in ("maps", "notes", "photos", "readings", "READ ME FIRST.txt")]
    print("No display here, so this is the full example without a window.")
    packed = _told("pack", archive, *items)
    print(f"Packed {packed['files']} files, {size(packed['bytes_in'])} into {size(packed['bytes_out'])}.")
    listed = _told("list", archive)
    print(f"Listed {len(listed['items'])} items of a {listed['format']} archive.")
    landing = out / "some of it"
    (some,) = _told("unpack", archive, "--into", landing, "--only", "photos", "--only", "*.md")
    print(f"Unpacked {some['files']} files, {size(some['bytes_out'])}.")
    _compare(season, landing, some["files"])
    print("Every one of them is the same as the original, byte for byte.")
    print(_rundlet("check", archive).strip())
    _pictures(world, out / "pictures")
    return 0


def _told(verb: str, *words: object) -> Any:
    """What a verb tells programs."""
    return json.loads(_rundlet(verb, "--json", *words))["result"]


def _rundlet(*words: object) -> str:
    command = [sys.executable, "-m", "rundlet", *map(str, words)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        print(done.stderr, file=sys.stderr)
        raise SystemExit(f"“rundlet {words[0]}” ended with {done.returncode}.")
    return done.stdout


def _compare(original: Path, landing: Path, files: int) -> None:
    found = [path for path in landing.rglob("*") if path.is_file()]
    if len(found) != files or not files:
        raise SystemExit(f"{files} files should have been unpacked, and {len(found)} are there.")
    for path in found:
        if not filecmp.cmp(original / path.relative_to(landing), path, shallow=False):
            raise SystemExit(f"{path} differs from what was packed.")


def _pictures(world: Path, folder: Path) -> None:
    from rundlet.demo.pictures import take_pictures

    made = take_pictures(world, folder)
    print(f"Took {len(made)} pictures in {folder}: {', '.join(path.name for path in made)}.")


if __name__ == "__main__":
    sys.exit(main())
