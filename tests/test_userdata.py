"""What is kept over restarts: two windows lose nothing of each other's, and what lay elsewhere before is found."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from rundlet.core.fs.base_folders import moved_from
from rundlet.core.userdata.journal import Journal
from rundlet.core.userdata.places import Places
from rundlet.core.userdata.presets import Presets, SavedSettings
from rundlet.core.userdata.store import Store

_WINDOW = """
import sys
from pathlib import Path
from rundlet.core.userdata.journal import Journal, record_of
from rundlet.core.userdata.places import Places
from rundlet.core.userdata.presets import SavedSettings, Presets
folder, name = Path(sys.argv[1]), sys.argv[2]
ways, places, journal = Presets.read(folder / "ways.json"), Places.read(folder / "places.json"), Journal(folder / "journal")
for number in range(40):
    ways.keep(f"{name}{number}", SavedSettings("zip", number % 10))
    places.toggle_favourite(Path(f"/{name}{number}"))
    if number % 2:
        ways.forget(f"{name}{number - 1}")
        places.toggle_favourite(Path(f"/{name}{number - 1}"))
    places.write()
    journal.add(*record_of(Packed(folder / f"{name}{number}"), [folder]))
"""


def test_windows_that_write_at_once_lose_nothing(tmp_path: Path) -> None:
    names = ("a", "b", "c")
    running = [subprocess.Popen([sys.executable, "-c", _WINDOW, str(tmp_path), name]) for name in names]
    assert [process.wait() for process in running] == [0, 0, 0]
    odd = {f"{name}{number}" for name in names for number in range(1, 40, 2)}
    assert set(Presets.read(tmp_path / "ways.json").saved) == odd
    assert set(Places.read(tmp_path / "places.json").favourites) == {f"/{name}" for name in odd}
    kept = [record.outcome.target.name for record in Journal(tmp_path / "journal").records()]
    assert sorted(kept) == sorted(f"{name}{number}" for name in names for number in range(40))
    assert {path.name for path in tmp_path.iterdir()} == {
        *("ways.json", "places.json", "journal", ".ways.json.lock", ".places.json.lock")
    }


def test_what_another_window_kept_is_seen_with_the_next_change(tmp_path: Path) -> None:
    one, two = (Presets.read(tmp_path / "ways.json") for _ in range(2))
    one.keep("mail", SavedSettings("zip", 5))
    two.keep("home", SavedSettings("7z", 9))
    assert set(two.saved) == {"mail", "home"}
    two.forget("mail")
    one.keep("third", SavedSettings("tar", 0))
    assert set(one.saved) == {"home", "third"}


@pytest.mark.parametrize("content", ["", "[]", '{"favourites": 3, "last": null}', "half a {", "\udcff"])
def test_files_that_make_no_sense_are_as_good_as_none(tmp_path: Path, content: str) -> None:
    for name in ("ways.json", "places.json"):
        (tmp_path / name).write_text(content, "utf-8", "surrogateescape")
    saved, places = Presets.read(tmp_path / "ways.json"), Places.read(tmp_path / "places.json")
    assert not saved.saved and not places.favourites
    saved.keep("mail", SavedSettings("zip", 5))
    places.note_folder(Path("/somewhere"))
    places.write()
    assert set(Presets.read(tmp_path / "ways.json").saved) == {"mail"}
    assert Places.read(tmp_path / "places.json").folders == ["/somewhere"]


def test_each_kind_is_in_its_own_folder_and_moves_there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for kind in ("CONFIG", "STATE", "DATA"):
        monkeypatch.setenv(f"XDG_{kind}_HOME", str(tmp_path / kind.lower()))
    old = tmp_path / "data" / "rundlet"
    Presets.read(old / "ways.json").keep("mail", SavedSettings("zip", 5))
    places = Places.read(old / "places.json")
    places.toggle_favourite(Path("/dear"))
    places.write()
    (old / "journal").mkdir()
    (old / "journal" / "jobs.jsonl").write_text("")
    assert set(Presets.read().saved) == {"mail"} and Places.read().favourites == ["/dear"]
    assert Journal().folder == tmp_path / "state" / "rundlet" / "journal" and Journal().records() == []
    assert (tmp_path / "config" / "rundlet" / "ways.json").exists()
    assert (tmp_path / "state" / "rundlet" / "places.json").exists()
    assert not [path for path in old.iterdir() if not path.name.endswith(".lock")]
    (tmp_path / "file").touch()

    real = Path.rename

    def other_window(path: Path, target: Path) -> None:
        """Is a little quicker."""
        real(path, target)
        raise FileNotFoundError

    with monkeypatch.context() as patched:
        patched.setattr(Path, "rename", other_window)
        assert moved_from(tmp_path / "file", tmp_path / "new") == tmp_path / "new"
    (tmp_path / "new").rename(tmp_path / "file")
    assert moved_from(tmp_path / "file", tmp_path / "file" / "below") == tmp_path / "file"


def test_a_store_that_can_not_be_written_still_answers(tmp_path: Path) -> None:
    (tmp_path / "file").write_text(json.dumps({"a": 1}))
    assert Store(tmp_path / "file" / "below").change(lambda values: values.update(b=2)) == {"b": 2}
