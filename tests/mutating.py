"""Damage at many places of every format, held against what a check says of it; used by the tests and by ``make torture``.

Run as a program, it tries so many damaged archives and prints what it tried::

    python tests/mutating.py [--rounds N]
"""

from __future__ import annotations

import argparse
import contextlib
import random
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np

from rundlet.core.errors import RundletError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.model.entry import Kind
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.checker import Verdict, check
from rundlet.core.work.packer import pack

FORMATS = ("zip", "7z", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst")
CAN_NOT_TELL = ("tar",)
"""Formats without checksums of contents."""

_STEP = 256


def tree(folder: Path) -> dict[str, bytes]:
    """A few small files of several kinds, by their paths in an archive of the folder."""
    chance = random.Random(5)
    found = {}
    for number in range(9):
        text = (f"line {number} of the minutes\n" * (20 * number)).encode()
        data = chance.randbytes(700 * number) if number % 3 else text
        name = f"tree/{number % 2}/file {number}"
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        found[name] = data
    return found


def archives(folder: Path) -> dict[str, bytes]:
    """An archive of each format of the tree, and of some with a lock."""
    made = {}
    for fmt in FORMATS:
        target = folder / f"x.{fmt}"
        pack(plan_pack([folder / "tree"], target=target, info=by_id(fmt).info, level=3))
        made[fmt] = target.read_bytes()
    return made


def damaged(data: bytes, chance: random.Random) -> bytes:
    """Some bytes changed, zeroed, taken out, put in, or cut off."""
    how, at = chance.randrange(6), chance.randrange(len(data))
    length = int(2 ** chance.uniform(0, 9))
    if how < 2:
        return data[:at] + bytes([data[at] ^ 1 << chance.randrange(8)]) + data[at + 1 :]
    if how == 2:
        return data[:at] + bytes(min(length, len(data) - at)) + data[at + length :]
    if how == 3:
        return data[:at] + data[at + length :]
    if how == 4:
        return data[:at] + chance.randbytes(length) + data[at:]
    return data[:at]


def lies(archive: Path, fmt: str, original: dict[str, bytes]) -> tuple[list[str], Counter[str]]:
    """What a check says that is not so, and how often it says what."""
    said: Counter[str] = Counter()
    wrong: list[str] = []
    try:
        reader = open_archive(archive)
    except RundletError:
        said["not opened"] += 1
        return wrong, said
    with contextlib.closing(reader):
        verdicts: dict[int, Verdict] = {}
        try:
            check(reader, tell=verdicts.__setitem__)
        except RundletError as error:
            said[f"not read: {type(error).__name__}"] += 1
            return wrong, said
        contents: dict[int, bytes | None] = {}
        rows = np.array(sorted(verdicts), np.int64)
        for unit in reader.units(rows):
            for row, chunks in unit.stream():
                try:
                    contents[row] = b"".join(map(bytes, chunks))
                except RundletError:
                    contents[row] = None
        for row, verdict in verdicts.items():
            said[verdict.name] += 1
            path, content = reader.catalog.path(row), contents.get(row)
            if reader.catalog.kind[row] != Kind.FILE or path not in original:
                continue
            if verdict is Verdict.INTACT and fmt not in CAN_NOT_TELL and content != original[path]:
                wrong.append(f"{path} is called intact, and is not")
            if verdict is Verdict.DAMAGED and content == original[path] and row not in reader.doubtful:
                wrong.append(f"{path} is called damaged, and comes out as it was")
    return wrong, said


def attempts(rounds: int, seed: int = 0) -> tuple[list[str], Counter[str]]:
    """Try so many damaged archives; what was wrong, and what was said."""
    said: Counter[str] = Counter()
    wrong: list[str] = []
    with tempfile.TemporaryDirectory(prefix="rundlet-tests-") as name:
        folder = Path(name)
        original = tree(folder)
        whole = archives(folder)
        for number in range(rounds):
            chance = random.Random(f"{seed} {number}")
            fmt = FORMATS[number % len(FORMATS)]
            broken = folder / f"broken.{fmt}"
            broken.write_bytes(damaged(whole[fmt], chance))
            found, told = lies(broken, fmt, original)
            wrong += [f"{fmt}, round {number}: {each}" for each in found]
            said += told
    return wrong, said


def main() -> int:
    """Try many, and print what came of it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=10_000)
    options = parser.parse_args()
    wrong, said = attempts(options.rounds)
    told = ", ".join(f"{count} {what}" for what, count in said.most_common())
    sys.stdout.write("\n".join([f"{options.rounds} damaged archives checked: {told}", *wrong]) + "\n")
    return int(bool(wrong))


if __name__ == "__main__":
    sys.exit(main())
