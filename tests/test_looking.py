"""Looking in without unpacking: previews, small pictures, the space map."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import wave
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QBuffer, QIODevice, QPoint, Qt, QUrl
from PySide6.QtGui import QColor, QImage
from PySide6.QtTest import QTest

from rundlet.core.fs.content_preview import BytesLook, PictureLook, SoundLook, TableLook, TextLook, look_at
from rundlet.core.model.file_type import FileType
from rundlet.desktop.locations.areas import Area, placed
from rundlet.desktop.theme.theme import theme
from support import Raw, pack_to, raw_zip
from windows import LEFT, NONE, Settle, Stand, chosen, click, files_in, row

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget
    from pytestqt.qtbot import QtBot

    from rundlet.desktop.window import Window


def picture(width: int = 60, height: int = 40, form: str = "PNG") -> bytes:
    image = QImage(width, height, QImage.Format.Format_RGB32)
    image.fill(QColor(theme.palette.wine))
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, form)  # type: ignore[call-overload]
    return bytes(buffer.data().data())


def sound(seconds: float = 0.5, *, channels: int = 2, width: int = 2) -> bytes:
    memory = io.BytesIO()
    count = int(8000 * seconds)
    loud = np.repeat(np.linspace(0, 0.9, count) * np.resize([1, -1], count), channels)  # up and down in turns
    kinds = {1: lambda x: (x * 127 + 128).astype(np.uint8), 2: lambda x: (x * 32767).astype("<i2")}
    kinds[4] = lambda x: (x * (2**31 - 1)).astype("<i4")
    with wave.open(memory, "wb") as out:
        out.setparams((channels, width, 8000, 0, "NONE", ""))
        out.writeframes(kinds[width](loud).tobytes())
    return memory.getvalue()


SVG = b'<svg xmlns="http://www.w3.org/2000/svg" width="30" height="20"><rect width="30" height="20"/></svg>'

_KINDS: dict[str, bytes | tuple[bytes, str, str]] = {
    "weir.png": (picture(), "picture", "weir.png · PNG picture"),
    "weir.jpg": (picture(form="JPEG"), "picture", "weir.jpg · JPEG picture"),
    "overview.svg": (SVG, "picture", "overview.svg · SVG drawing"),
    "not a picture.png": (b"just words", "text", "not a picture.png"),
    "broken.png": (picture()[:60] + bytes(30), "text", "broken.png"),
    "notes.txt": ("Grüße vom Mühlteich".encode(), "text", "notes.txt · Plain text · 22 bytes"),
    "old.txt": ("Le gué est praticable, le café fermé à midi. Où êtes-vous passés cet été ? " * 5).encode("cp1252"),
    "wide.txt": ("\ufeff" + "水はきれいです").encode("utf-16"),
    "minutes.md": (b"# Minutes\n\n1. Welcome\n\n![x](file:///etc/hostname)\n", "marked", "minutes.md"),
    "readings.csv": (b"time;level\n09:00;0,42\n09:05;0,43\n", "table", "readings.csv · CSV table"),
    "no table.csv": (b"only one column\nof words\n", "text", "no table.csv"),
    "night.wav": (sound(), "wave", "8,000 Hz · 2 channels"),
    "compressed.wav": (b"RIFF\0\0\0\0WAVEfmt ", "text", "compressed.wav"),
    "noise.bin": (bytes(range(256)) * 400, "text", "the beginning of it"),
    "empty": (b"", "nothing", "empty"),
}
TEXTS = {
    "not a picture.png": "just words",
    "broken.png": "89 50 4e 47",
    "notes.txt": "Grüße vom Mühlteich",
    "old.txt": "Où êtes-vous passés cet été",
    "wide.txt": "水はきれいです",
    "no table.csv": "only one column",
    "compressed.wav": "52 49 46 46",
    "noise.bin": "000010  10 11 12 13",
}
KINDS: dict[str, tuple[bytes, str, str]] = {
    name: value if isinstance(value, tuple) else (value, "text", "read as") for name, value in _KINDS.items()
}


@pytest.mark.parametrize("fmt", ["disk", "zip", "7z", "tar.gz"])
def test_every_kind_of_file_can_be_looked_at(
    window: Window, settle: Settle, stand: Stand, home: Path, fmt: str
) -> None:
    """L4: what a file is, shown in place, on the disk and in archives alike; nothing is written."""
    folder = home / "things"
    folder.mkdir()
    for name, (data, _, _) in KINDS.items():
        (folder / name).write_bytes(data)
    if fmt != "disk":
        pack_to(home / f"things.{fmt}", [folder], fmt=fmt)
    stand(folder if fmt == "disk" else home / f"things.{fmt}")
    before = sorted(home.rglob("*"))
    preview = window.source.preview
    window.source.view.setFocus()
    QTest.keyClick(window.source.view, Qt.Key.Key_Space)
    assert preview.isVisible()
    for name, (_, page, words) in KINDS.items():
        click(window, name if fmt == "disk" else f"things/{name}")
        settle()
        assert preview.page is getattr(preview, page), name
        assert words in preview.words.text(), name
        if page == "text":
            assert TEXTS[name] in preview.text.toPlainText(), name
        if page == "marked":
            assert preview.marked.toPlainText().startswith("Minutes\nWelcome")
            assert preview.marked.loadResource(2, QUrl("file:///etc/hostname")) is None  # and so is any picture in it
    click(window, "readings.csv" if fmt == "disk" else "things/readings.csv")
    settle()
    model = preview.table_model
    assert [model.headerData(i, Qt.Orientation.Horizontal) for i in range(2)] == ["time", "level"]
    assert [[model.data(model.index(r, c)) for c in range(2)] for r in range(2)] == [
        ["09:00", "0,42"],
        ["09:05", "0,43"],
    ]
    assert sorted(home.rglob("*")) == before
    QTest.keyClick(window.source.view, Qt.Key.Key_Space)
    assert not preview.isVisible()


def test_a_look_at_what_is_damaged_or_locked_says_so(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    (home / "x.zip").write_bytes(raw_zip([Raw(b"bad.txt", crc=1), Raw(b"odd.txt", method=99), Raw(b"good.txt")]))
    stand(home / "x.zip")
    window.source.set_looking(True)
    for name, words in {"bad.txt": "checksum", "odd.txt": "method", "good.txt": ""}.items():
        click(window, name)
        settle()
        preview = window.source.preview
        shown = preview.nothing.words.text() if preview.page is preview.nothing else preview.text.toPlainText()
        assert (words or "content") in shown


@given(st.binary(max_size=3000), st.sampled_from(["a.wav", "a.csv", "a.png", "a.txt", "a.md", "a"]), st.booleans())
def test_any_bytes_give_something_to_show(data: bytes, name: str, whole: bool) -> None:
    for beginning in (data, b"RIFF\xff\xff\xff\xffWAVEfmt \x10\0\0\0\x01\0\x01\0" + data, b"a,b\n" + data):
        look = look_at(name, beginning, whole=whole)
        assert isinstance(look, TextLook | TableLook | SoundLook | PictureLook | BytesLook)


@pytest.mark.parametrize(("channels", "width"), [(1, 1), (1, 2), (2, 2), (2, 4)])
def test_a_sound_has_its_length_and_its_shape(channels: int, width: int) -> None:
    look = look_at("a.wav", sound(2, channels=channels, width=width), whole=True)
    assert isinstance(look, SoundLook)
    assert (look.seconds, look.rate, look.channels) == (2.0, 8000, channels)
    assert look.peaks[-1].tolist() == pytest.approx([-0.9, 0.9], abs=0.02)
    assert look.peaks[0, 1] == pytest.approx(0, abs=0.02)
    assert len(look.peaks) == 600


@pytest.mark.parametrize("fmt", ["disk", "zip", "7z"])
def test_a_folder_of_pictures_as_small_pictures(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path, fmt: str
) -> None:
    folder = home / "photos"
    folder.mkdir()
    for number in range(12):
        (folder / f"{number}.png").write_bytes(picture(200 + number, 100))
    (folder / "broken.jpg").write_bytes(b"no picture")
    files_in(folder, "notes.txt")
    if fmt != "disk":
        pack_to(home / f"photos.{fmt}", [folder], fmt=fmt)
        stand(home / f"photos.{fmt}")
        QTest.keyClick(window.source.view, Qt.Key.Key_Down)
        window.workspace.enter(window.workspace.listing.node_of("photos"))
        settle()
    else:
        stand(folder)
    window.source.view_buttons["thumbs"].click()
    view, thumbs = window.source.pages.thumbs, window.thumbs
    assert view.isVisible()
    names = [f"{n}.png" for n in range(12)] if fmt == "disk" else [f"photos/{n}.png" for n in range(12)]
    indexes = [row(window, name) for name in names]
    nodes = [window.source.model.node(index) for index in indexes]
    view.grab()
    qtbot.waitUntil(lambda: thumbs.at_rest and thumbs.picture(nodes[0]) is not None, timeout=20_000)
    sizes = [thumbs.picture(node).size().toTuple() for node in nodes]
    assert sizes == [(200 + n, 100) for n in range(12)]
    prefix = "" if fmt == "disk" else "photos/"
    for name in ("broken.jpg", "notes.txt"):
        assert thumbs.picture(window.source.model.node(row(window, prefix + name))) is None
    QTest.mouseClick(view.viewport(), LEFT, NONE, view.visualRect(indexes[0]).center())
    QTest.mouseClick(view.viewport(), LEFT, Qt.KeyboardModifier.ShiftModifier, view.visualRect(indexes[2]).center())
    tick = view.visualRect(indexes[1]).topLeft() + QPoint(theme.sizes.gap + 6, theme.sizes.gap + 6)
    QTest.mouseClick(view.viewport(), LEFT, NONE, tick)
    settle()
    assert window.workspace.selection.items == 2
    window.source.view_buttons["list"].click()
    assert sorted(window.source.view.chosen_nodes()) == sorted([nodes[0], nodes[2]])


def test_the_space_map_on_the_disk_and_in_archives(
    window: Window, qtbot: QtBot, settle: Settle, stand: Stand, home: Path
) -> None:
    """A2: area is bytes, two levels deep; a click goes in."""
    work = home / "work"
    for name, size in {"big/one": 600_000, "big/two": 200_000, "small/three": 100_000, "four.txt": 100_000}.items():
        (work / name).parent.mkdir(parents=True, exist_ok=True)
        (work / name).write_bytes(os.urandom(size))
    pack_to(home / "work.zip", [work / "big", work / "small", work / "four.txt"])
    for place in (work, home / "work.zip"):
        stand(place)
        window.source.view_buttons["map"].click()
        settle()
        space = window.source.pages.map
        qtbot.waitUntil(lambda space=space: space.total == 1_000_000)  # type: ignore[misc]
        by_name = {p.area.name: p for p in space.placed}
        assert set(by_name) == {"big", "small", "four.txt", "one", "two", "three"}
        whole = space.width() * space.height()
        assert by_name["big"].width * by_name["big"].height == pytest.approx(0.8 * whole, rel=0.02)
        one, two = by_name["one"], by_name["two"]
        assert one.width * one.height == pytest.approx(3 * two.width * two.height, rel=0.02)
        assert "big: 800.0 kB, 80% of it" in space.accessibleDescription()

        def press(space: QWidget, where: object) -> None:
            at = QPoint(int(where.x + where.width / 2), int(where.y + theme.sizes.gap))  # type: ignore[attr-defined]
            QTest.mouseClick(space, LEFT, NONE, at)
            settle()

        press(space, by_name["four.txt"])
        assert window.workspace.selection.items == 1
        press(space, by_name["big"])
        assert {p.area.name for p in space.placed} == {"one", "two"}
        window.workspace.up()
        settle()
        qtbot.waitUntil(lambda space=space: space.total == 1_000_000)  # type: ignore[misc]
        space.setFocus()
        for key in (Qt.Key.Key_Right, Qt.Key.Key_Left, Qt.Key.Key_Return):
            QTest.keyClick(space, key)
        settle()
        assert {p.area.name for p in space.placed} == {"one", "two"}
        window.source.view_buttons["list"].click()
    assert chosen(window) == []


@given(st.lists(st.integers(1, 10**12), min_size=1, max_size=200), st.floats(50, 2000), st.floats(50, 2000))
def test_areas_fill_their_frame_and_keep_to_it(sizes: list[int], width: float, height: float) -> None:
    ordered = sorted(sizes, reverse=True)
    areas = [Area(str(i), size, FileType.OTHER) for i, size in enumerate(ordered[:36])]
    found = placed([Area("all", sum(ordered), FileType.FOLDERS, 1, tuple(areas))], width, height, title=20, gap=4)
    for place in found:
        assert place.x >= -1e-6 and place.y >= -1e-6
        assert place.x + place.width <= width * (1 + 1e-9) and place.y + place.height <= height * (1 + 1e-9)
    inner = [p for p in found if p.depth]
    if inner:
        room = (width - 8) * (height - 24)
        assert sum(p.width * p.height for p in inner) == pytest.approx(room, rel=1e-6)


_CONNECTING = """
import faulthandler, sys, threading
from PySide6.QtCore import QEventLoop, QSize, QTimer
from PySide6.QtGui import QGuiApplication
from rundlet.desktop.images import decoded

faulthandler.dump_traceback_later(100, exit=True)
app = QGuiApplication([])
drawing = b'<svg xmlns="http://www.w3.org/2000/svg" width="20" height="20"><rect width="9" height="9"/></svg>'
ended, seen = threading.Event(), []

def look():
    while not ended.is_set():
        seen.append(decoded(drawing, QSize(10, 10)).width() + decoded(b"no picture", QSize(10, 10)).width())

class Receiver:
    def got(self):
        pass

threads = [threading.Thread(target=look) for _ in range(2)]
for thread in threads:
    thread.start()
for _ in range(5000):
    loop, timer, receiver = QEventLoop(), QTimer(), Receiver()
    timer.setSingleShot(True)
    timer.timeout.connect(receiver.got)
    timer.timeout.connect(loop.quit)
    timer.start(0)
    loop.exec()
    del receiver
ended.set()
for thread in threads:
    thread.join()
assert seen and set(seen) == {10}, set(seen)
"""


def test_pictures_are_decoded_while_signals_come_and_go() -> None:
    """Two threads that decode and one that makes and ends connections do not wait for each other for ever."""
    done = subprocess.run([sys.executable, "-c", _CONNECTING], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
