"""Changing archives from the command line: what patterns and paths mean, the archive within its own folder, several jobs at once."""

from __future__ import annotations

import itertools
import json
import logging
import os
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from rundlet.cli.main import main
from rundlet.core.fs.base_folders import state_folder
from rundlet.core.fs.recovery import clear_up
from rundlet.core.fs.unfinished import noted
from rundlet.core.streams import replacing
from support import held, pack_to, read_whole, rounds

Run = Callable[..., tuple[int, str]]


@pytest.fixture
def run(capsys: pytest.CaptureFixture[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Run:
    monkeypatch.chdir(tmp_path)

    def call(line: str) -> tuple[int, str]:
        status = main(line.split())
        out, err = capsys.readouterr()
        return status, out + err

    return call


def _write(*paths: str) -> None:
    for path in map(Path, paths):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"{path} " * 20)


@pytest.mark.parametrize(
    ("line", "left"),
    [
        ("remove x.zip [Content_Types].xml", {"C.xml", "a*.txt", "ab.txt"}),
        ("remove x.zip [CD].xml", {"[Content_Types].xml", "a*.txt", "ab.txt"}),
        ("remove x.zip a*.txt", {"[Content_Types].xml", "C.xml", "ab.txt"}),
        ("remove x.zip a?.txt", {"[Content_Types].xml", "C.xml"}),
        ("convert x.zip x.tar --only a*.txt", {"a*.txt"}),
        ("unpack x.zip --into out --only [Content_Types].xml", {"[Content_Types].xml"}),
        ("unpack x.zip --into out --exclude a*.txt", {"[Content_Types].xml", "C.xml", "ab.txt"}),
    ],
)
def test_an_exact_path_wins_over_the_pattern(run: Run, line: str, left: set[str]) -> None:
    names = ("[Content_Types].xml", "C.xml", "a*.txt", "ab.txt")
    _write(*names)
    pack_to(Path("x.zip"), [Path(name) for name in names])
    status, said = run(line)
    assert status == 0, said
    if Path("out").exists():
        assert set(os.listdir("out")) == left
    else:
        assert set(held(Path("x.tar" if "x.tar" in line else "x.zip"))) == left


@pytest.mark.parametrize(
    ("line", "status", "said"),
    [
        ("add x.zip nowhere", 2, "Nothing would be added. “nowhere”: it is not there."),
        ("add x.zip x.zip", 2, "Nothing in “x.zip” would change."),
        ("remove x.zip nowhere", 2, "Nothing in “x.zip” matches “nowhere”."),
    ],
)
def test_why_nothing_is_changed(run: Run, line: str, status: int, said: str) -> None:
    _write("a.txt")
    pack_to(Path("x.zip"), [Path("a.txt")])
    assert run(line) == (status, f"rundlet: {said}\n")


def test_what_is_kept_beside_counts_for_the_status(run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    _write("a.txt", "b.txt")
    pack_to(Path("x.zip"), [Path("a.txt")])
    monkeypatch.setattr("rundlet.core.fs.trash._cans", lambda _: iter(()))
    status, said = run("add x.zip b.txt")
    assert status == 1 and "x (2).zip" in said
    assert set(held(Path("x.zip"))) == {"a.txt", "b.txt"} and set(held(Path("x (2).zip"))) == {"a.txt"}


@pytest.mark.parametrize("place", ["d/x.zip", "d/deep/x.zip"])
def test_the_archive_is_no_item_of_the_folder_that_it_lies_in(run: Run, tmp_path: Path, place: str) -> None:
    _write("d/a.txt", "d/deep/b.txt")
    pack_to(Path("x.zip"), [Path("d/a.txt"), Path("d/deep")])
    Path("x.zip").rename(place)
    link = tmp_path / "link"
    link.symlink_to("d")
    for folder in ("d", "link"):
        status, said = run(f"update {place} {folder}")
        assert status == 0 and "2 files are up to date" in said, said
        status, said = run(f"compare --certain --json {place} {folder}")
        found = json.loads(said)["result"]
        assert status == 0 and not found["items"] and found["all_there"], said


def test_standard_output_takes_the_format_of_the_settings(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("a")
    words = [sys.executable, "-m", "rundlet", "pack", "-", "a.txt"]
    done = subprocess.run(words, capture_output=True, check=False, cwd=tmp_path)
    assert done.returncode == 0 and done.stdout.startswith(b"PK"), done.stderr


# What is noted while names change


def test_relative_folders_are_noted_by_their_whole_paths(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As the next start stands somewhere else."""
    monkeypatch.chdir(tmp_path)
    with noted([Path()]):
        (note,) = (state_folder() / "unfinished").iterdir()
        assert note.read_bytes() == os.fsencode(tmp_path)
    assert not note.exists()


def test_a_folder_with_something_left_in_it_stays_noted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    left = tmp_path / replacing.hidden_name(".tmp")
    with noted([tmp_path]):
        left.touch()
    monkeypatch.setattr(replacing, "_YOUNG", 0.0)
    clear_up()
    assert not left.exists() and not any((state_folder() / "unfinished").iterdir())


@pytest.mark.parametrize("content", [b"{", b'{"aside": "', b""])
def test_a_list_of_names_that_was_cut_off_is_swept(tmp_path: Path, content: bytes) -> None:
    """No name has changed then, as the list is on the disk before any does."""
    cut = tmp_path / replacing.hidden_name(".swap")
    cut.write_bytes(content)
    replacing.recover(tmp_path)
    assert not cut.exists()


def test_a_note_that_can_not_be_read_is_said(caplog: pytest.LogCaptureFixture) -> None:
    notes = state_folder() / "unfinished"
    notes.mkdir(parents=True, exist_ok=True)
    (notes / "odd").write_bytes(b".")
    with caplog.at_level(logging.WARNING):
        clear_up()
    assert "can't be read" in caplog.text and not (notes / "odd").exists()


# Two at once

_CHANGES = {
    "add": "add x.zip new.txt",
    "remove": "remove x.zip b.txt",
    "rename": "rename x.zip a.txt z.txt",
    "update": "update x.zip d --into d",
    "replace": "pack x.zip a.txt b.txt new.txt --on-clash replace",
    "convert": "convert y.7z x.zip --on-clash replace",
}


@pytest.mark.parametrize(("one", "other"), list(itertools.combinations_with_replacement(_CHANGES, 2)))
def test_two_jobs_change_one_archive_at_once(tmp_path: Path, one: str, other: str) -> None:
    """Both are done, or one of them is refused and says that another job is at it; nothing is lost."""
    for number in range(rounds(1, 12)):
        root = tmp_path / str(number)
        root.mkdir()
        for name in ("a.txt", "b.txt", "new.txt", "d/c.txt"):
            (root / name).parent.mkdir(exist_ok=True)
            (root / name).write_bytes(os.urandom(200_000))
        os.utime(root / "d" / "c.txt", (2e9, 2e9))
        pack_to(root / "x.zip", [root / "a.txt", root / "b.txt"])
        pack_to(root / "y.7z", [root / "a.txt"], fmt="7z")
        lines = [_CHANGES[one], _CHANGES[other]]
        command = [sys.executable, "-m", "rundlet"]
        jobs = [
            subprocess.Popen([*command, *line.split()], cwd=root, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL)
            for line in lines
        ]
        said = [job.communicate()[1].decode() for job in jobs]
        ended = [job.returncode for job in jobs]
        assert set(ended) <= {0, 2} and 0 in ended, said
        for status, words in zip(ended, said, strict=True):
            expected = ("Another job", "meanwhile", "Nothing in", "There is no", "already")
            assert status == 0 or any(each in words for each in expected), words
            assert "program" not in words or "by another program meanwhile" in words, words
        with zipfile.ZipFile(root / "x.zip") as archive:
            assert read_whole(archive)
            there = {name.rstrip("/") for name in archive.namelist()}
        for line, status in zip(lines, ended, strict=True):
            if status == 0 and {one, other}.isdisjoint({"replace", "convert"}):
                wanted, gone = {
                    "add": ({"new.txt"}, set[str]()),
                    "remove": (set[str](), {"b.txt"}),
                    "rename": ({"z.txt"}, {"a.txt"}),
                    "update": ({"d/c.txt"}, set[str]()),
                }[line.split()[0]]
                assert wanted <= there and not gone & there, (lines, ended, there)
        assert not list(root.glob(".rundlet*"))
