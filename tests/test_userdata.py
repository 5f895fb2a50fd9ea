"""What is kept over restarts: two windows lose nothing of each other's, and what lay elsewhere before is found."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

from rundlet.core.formats.detect import WRITABLE
from rundlet.core.fs.base_folders import moved_from
from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.core.settings import (
    HIDDEN_FILES,
    PACK_FORMAT,
    PACK_LEVEL,
    PACK_VERIFY,
    SETTINGS,
    TEXT_SIZE,
    UNPACK_CLASH,
    UNPACK_MEMORY,
    Setting,
    setting_named,
)
from rundlet.core.userdata.journal import Journal
from rundlet.core.userdata.places import Places
from rundlet.core.userdata.presets import Presets, SavedSettings
from rundlet.core.userdata.settings_file import Settings
from rundlet.core.userdata.store import Store
from rundlet.desktop.app import make_app
from rundlet.desktop.theme.theme import theme
from rundlet.desktop.window import Window
from support import pack_to
from windows import files_in

if TYPE_CHECKING:
    from pytestqt.qtbot import QtBot

_WINDOW = """
import sys
from pathlib import Path
from rundlet.core.jobs import outcomes
from rundlet.core.userdata.journal import Journal, record_of
from rundlet.core.userdata.places import Places
from rundlet.core.userdata.presets import SavedSettings, Presets
from rundlet.core.userdata.settings_file import Settings
from rundlet.core.settings import PACK_LEVEL, TEXT_SIZE, UNPACK_MEMORY
folder, name = Path(sys.argv[1]), sys.argv[2]
ways, places, journal = Presets.read(folder / "ways.json"), Places.read(folder / "places.json"), Journal(folder / "journal")
settings = Settings.read(folder / "settings.json")
for number in range(40):
    setting, least = {"a": (TEXT_SIZE, 100), "b": (UNPACK_MEMORY, 1 << 30), "c": (PACK_LEVEL, 0)}[name]
    settings.set(setting, least + number % 9)
    ways.keep(f"{name}{number}", SavedSettings("zip", number % 10))
    places.toggle_favourite(Path(f"/{name}{number}"))
    if number % 2:
        ways.forget(f"{name}{number - 1}")
        places.toggle_favourite(Path(f"/{name}{number - 1}"))
    places.write()
    journal.add(*record_of(outcomes.Packed(folder / f"{name}{number}"), [folder]))
"""


def test_windows_that_write_at_once_lose_nothing(tmp_path: Path) -> None:
    names = ("a", "b", "c")
    running = [subprocess.Popen([sys.executable, "-c", _WINDOW, str(tmp_path), name]) for name in names]
    assert [process.wait() for process in running] == [0, 0, 0]
    odd = {f"{name}{number}" for name in names for number in range(1, 40, 2)}
    assert set(Presets.read(tmp_path / "ways.json").saved) == odd
    assert set(Places.read(tmp_path / "places.json").favourites) == {f"/{name}" for name in odd}
    kept = [record.outcome.target.name for record in Journal(tmp_path / "journal").records()]
    settings = Settings.read(tmp_path / "settings.json")
    assert [settings.get(each) for each in (TEXT_SIZE, UNPACK_MEMORY, PACK_LEVEL)] == [103, (1 << 30) + 3, 3]
    assert sorted(kept) == sorted(f"{name}{number}" for name in names for number in range(40))
    assert {path.name for path in tmp_path.iterdir()} == {
        *("ways.json", "places.json", "settings.json", "journal"),
        *(".ways.json.lock", ".places.json.lock", ".settings.json.lock"),
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


@pytest.mark.parametrize("setting", SETTINGS, ids=lambda setting: setting.id)
def test_every_setting_is_read_as_it_is_shown_and_never_out_of_bounds(setting: Setting[Any], tmp_path: Path) -> None:
    assert setting.fits(setting.default) and setting.parse(setting.show(setting.default)) == setting.default
    assert setting.help and setting.words and setting_named(setting.id) is setting
    file = tmp_path / "settings.json"
    odds: tuple[object, ...] = (None, [], {}, "", "nonsense", -2, 1 << 80, 2.5, True, "yes")
    for odd in odds:
        file.write_text(json.dumps({setting.id: odd, "from.a.later.version": 7}))
        settings = Settings.read(file)
        assert setting.fits(settings.get(setting))
        assert settings.get(setting) == (odd if setting.fits(odd) else setting.default)
        settings.set(setting, setting.default)
        assert json.loads(file.read_text()) == {setting.id: setting.default, "from.a.later.version": 7}
        settings.reset(setting)
        assert not settings.is_set(setting) and json.loads(file.read_text()) == {"from.a.later.version": 7}
    with pytest.raises(ValueError, match="nonsense"):
        settings.set(setting, "nonsense")
    with pytest.raises(ValueError, match="nonsense"):
        setting.parse("nonsense")


def test_the_choices_of_settings_are_those_there_are() -> None:
    assert {known.info.id for known in WRITABLE} == set(PACK_FORMAT.words.split(", "))
    assert {rule.value for rule in UnpackClash} == set(UNPACK_CLASH.words.split(", "))


def test_the_window_starts_as_it_was_set(qtbot: QtBot, home: Path) -> None:
    files_in(home, "a.txt .hidden")
    pack_to(home / "x.zip", [home / "a.txt"])
    settings = Settings.read(home / ".data" / "settings.json")
    chosen: tuple[tuple[Setting[Any], str], ...] = (
        (PACK_FORMAT, "7z"),
        (PACK_LEVEL, "9"),
        (PACK_VERIFY, "no"),
        (UNPACK_CLASH, "skip"),
    )
    for setting, words in chosen:
        settings.set(setting, setting.parse(words))
    settings.set(HIDDEN_FILES, True)
    window = Window(home / ".data")
    try:
        form = window.workspace.packing.form
        assert (form.info.id, form.level, form.read_back) == ("7z", 9, False)
        window.workspace.open([home])
        qtbot.waitUntil(lambda: window.workspace.listing is not None)
        assert window.workspace.listing.node_of(home / ".hidden") is not None
        window.workspace.show_hidden = False
        assert not Settings.read(settings.file).get(HIDDEN_FILES)
        window.workspace.open([home / "x.zip"])
        qtbot.waitUntil(lambda: window.workspace.archive is not None)
        assert window.workspace.unpacking.form.on_clash == UnpackClash.SKIP
    finally:
        window.close_now()


def test_light_dark_and_text_size_are_as_they_were_set() -> None:
    app = make_app()
    try:
        usual = theme.sizes.body
        for look, dark in (("dark", True), ("light", False)):
            theme.prefer(look=look, text_size=150)
            theme.apply(app)
            assert (theme.dark, theme.sizes.body) == (dark, round(usual * 1.5))
    finally:
        theme.prefer(look="desktop", text_size=100)
        theme.apply(app, dark=False)
