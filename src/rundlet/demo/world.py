"""The Tansy Brook river watch: readings, photos, sound, maps, notes and archives of them.

Everything is invented and comes out the same on every run: the same names, contents and times.
"""

from __future__ import annotations

import io
import json
import math
import os
import wave
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QBuffer, QIODevice
from PySide6.QtGui import QImage

from rundlet.core.formats.detect import WRITABLE, by_ending
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.work.packer import pack

if TYPE_CHECKING:
    from numpy.typing import NDArray

_SEED = 20310301
_SPRING = datetime(2031, 3, 1, 9, 0, tzinfo=UTC)
_STATIONS = ("weir", "footbridge", "outfall", "mill pond", "ford", "spring head")
_PHOTOS = (
    "weir-upstream",
    "weir-downstream",
    "heron-bank",
    "outfall-pipe",
    "gauge-board",
    "footbridge",
    "ford after rain",
    "mill-pond east",
)
_MINUTES = ("January", "February", "March", "April")
_PHOTO_SIZE = (2400, 1600)


def make_world(root: Path) -> Path:
    """Write the world below ``root`` and give its folder; what is there already is written over.

    Raises:
        OSError: when the disk does not let it.
    """
    world = root / "River watch"
    season = world / "2031 spring"
    rng = np.random.default_rng(_SEED)
    _write(season / "READ ME FIRST.txt", _READ_ME.encode())
    for station in _STATIONS:
        _write(season / "readings" / f"{station}-2031.csv", _readings(rng, station))
    for number, name in enumerate(_PHOTOS):
        _write(season / "photos" / f"{name}.jpg", _photo(rng, number))
    for channel in "abc":
        _write(season / "sound" / f"hydrophone-{channel}-21h.wav", _sound(rng))
    _write(season / "maps" / "tansy-brook.geojson", _brook_map(rng))
    _write(season / "maps" / "overview.svg", _overview(rng))
    for month in _MINUTES:
        _write(season / "notes" / f"minutes {month}.md", _minutes(rng, month))
    for name, letter in _LETTERS.items():
        _write(season / "notes" / name, letter.encode())
    _write(season / "invitation.pdf", _invitation())
    _write(world / "For the council" / "agenda.txt", b"1. Welcome\n2. The outfall\n3. Any other business\n")
    _write(world / "For the council" / "spring-survey" / "photos" / "gauge-board.jpg", _photo(rng, 20))
    for number, words in _small_files(rng):
        _write(world / "Old logbook" / f"{number // 100:02d}" / f"day {number:04d}.txt", words)
    _date_everything(world)
    _make_archives(world)
    return world


def _write(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)


def _date_everything(world: Path) -> None:
    """Times that belong to the story, deepest first so that folders keep theirs."""
    paths = sorted(world.rglob("*"), key=lambda p: (-len(p.parts), str(p)))
    for number, path in enumerate(p for p in paths if "Archives" not in p.parts and p.suffix != ".zip"):
        moment = (_SPRING + timedelta(hours=7 * (number % 150), minutes=number % 60)).timestamp()
        os.utime(path, (moment, moment))


def _make_archives(world: Path) -> None:
    """One of each format, locked ones (their password is "heron"), ones in parts, a damaged one, one of thousands."""
    season = world / "2031 spring"
    _pack(
        world / "spring-survey.zip",
        [season / "photos", season / "readings", season / "maps", season / "READ ME FIRST.txt"],
    )
    _pack(season / "last year.zip", [season / "notes", season / "sound" / "hydrophone-a-21h.wav"])
    _pack(world / "Old logbook.zip", [world / "Old logbook"])
    file_actions = world / "Archives"
    file_actions.mkdir(exist_ok=True)
    for known in WRITABLE:
        _pack(file_actions / f"notes{known.info.ending}", [season / "notes"])
    _pack(file_actions / "members only.zip", [season / "notes"], password="heron")
    _pack(file_actions / "names hidden.7z", [season / "notes"], password="heron")
    _pack(file_actions / "hydrophone-night.zip", [season / "sound"], part_size=1_000_000)
    _pack(file_actions / "part missing.zip", [season / "sound"], part_size=1_000_000)
    (file_actions / "part missing.zip.003").unlink(missing_ok=True)
    _pack(file_actions / "hydrophone.7z", [season / "sound"])
    _pack(file_actions / "all of it.zip", [file_actions / "hydrophone.7z", season / "notes"])
    (file_actions / "hydrophone.7z").unlink()
    _pack(file_actions / "damaged.zip", [season / "readings"])
    with (file_actions / "damaged.zip").open("r+b") as out:
        out.seek(400_000)
        out.write(b"spilt tea")
    os.utime(file_actions / "damaged.zip", ((_SPRING + timedelta(days=17)).timestamp(),) * 2)


def _pack(target: Path, items: list[Path], *, password: str = "", part_size: int = 0) -> None:
    found = by_ending(target)
    assert found is not None
    hide = bool(password) and found.info.can_hide_names
    options = WriteOptions(found.info.default_level, password=password, hide_names=hide)
    plan = plan_pack(
        items, target=target, info=found.info, options=options, part_size=part_size, on_clash=PackClash.REPLACE
    )
    moment = (_SPRING + timedelta(days=16)).timestamp()
    for made in pack(plan).created:
        os.utime(made, (moment, moment))


def _readings(rng: np.random.Generator, station: str) -> bytes:
    """A reading every five minutes for three months."""
    count = 12 * 24 * 92
    hours = np.arange(count) / 12
    temperature = 8 + 3 * np.sin(hours / 24 * 2 * math.pi) + 0.02 * hours / 24 + rng.normal(0, 0.15, count)
    turbidity = np.abs(6 + np.cumsum(rng.normal(0, 0.08, count)))
    level = 0.42 + 0.05 * np.sin(hours / 90) + rng.normal(0, 0.004, count)
    lines = ["time,station,temperature_c,turbidity_ntu,level_m"]
    for i in range(count):
        moment = (_SPRING + timedelta(minutes=5 * i)).strftime("%Y-%m-%d %H:%M")
        lines.append(f"{moment},{station},{temperature[i]:.2f},{turbidity[i]:.1f},{level[i]:.3f}")
    return ("\n".join(lines) + "\n").encode()


def _photo(rng: np.random.Generator, number: int) -> bytes:
    """A landscape of sky, hills and water with the grain of a real camera, as JPEG."""
    width, height = _PHOTO_SIZE
    x = np.linspace(0, 1, width)[None, :]
    y = np.linspace(0, 1, height)[:, None]
    sky = np.stack([150 + 60 * (1 - y) + 0 * x, 180 + 40 * (1 - y) + 0 * x, 205 + 30 * (1 - y) + 0 * x], axis=2)
    picture = sky
    for hill in range(3):
        ridge = 0.42 + 0.12 * hill + 0.06 * np.sin(x * (4 + hill) + number + hill * 2) + 0.02 * np.sin(x * 23 + number)
        green = np.array([70 + 20 * hill, 110 - 18 * hill, 70 - 12 * hill])
        picture = np.where((y > ridge)[:, :, None], green * (0.8 + 0.4 * y[:, :, None]), picture)
    bank = 0.78 + 0.03 * np.sin(x * 5 + number * 1.7)
    ripples = 10 * np.sin(y * 260 + 6 * np.sin(x * 30 + number))
    water = np.stack([120 + ripples + 0 * x, 150 + ripples + 0 * x, 165 + ripples + 0 * x], axis=2)
    picture = np.where((y > bank)[:, :, None], water, picture)
    grain = rng.normal(0, 7, (height, width, 1)) + rng.normal(0, 4, (height, width, 3))
    return _jpeg(np.clip(picture + grain, 0, 255).astype(np.uint8))


def _jpeg(pixels: NDArray[np.uint8]) -> bytes:
    height, width, _ = pixels.shape
    image = QImage(np.ascontiguousarray(pixels).tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "JPEG", 88)  # type: ignore[call-overload]  # the stub wants bytes, the call wants text
    return bytes(buffer.data().data())


def _sound(rng: np.random.Generator, seconds: int = 40, rate: int = 22_050) -> bytes:
    """Running water with a few clicks, as 16-bit mono WAV."""
    count = seconds * rate
    noise = rng.normal(0, 1, count)
    water = np.convolve(noise, np.ones(24) / 24, mode="same")
    swell = 0.6 + 0.4 * np.sin(np.arange(count) / rate * 0.7)
    samples = water * swell * 9000
    for at in rng.integers(0, count - 400, 30):
        samples[at : at + 400] += 12_000 * np.exp(-np.arange(400) / 60) * np.sin(np.arange(400) / 3)
    memory = io.BytesIO()
    with wave.open(memory, "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(rate)
        out.writeframes(np.clip(samples, -32_768, 32_767).astype("<i2").tobytes())
    return memory.getvalue()


def _brook_map(rng: np.random.Generator) -> bytes:
    """The brook and its stations in made-up coordinates."""
    steps = rng.normal(0, 0.4, (9000, 2)).cumsum(axis=0) / 1000
    line = [[round(float(x), 6), round(float(y) + i / 900, 6)] for i, (x, y) in enumerate(steps)]
    features: list[dict[str, object]] = [
        {
            "type": "Feature",
            "properties": {"name": "Tansy Brook"},
            "geometry": {"type": "LineString", "coordinates": line},
        }
    ]
    for number, station in enumerate(_STATIONS):
        point = {"type": "Point", "coordinates": line[number * 1400]}
        features.append({"type": "Feature", "properties": {"station": station}, "geometry": point})
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1).encode()


def _overview(rng: np.random.Generator) -> bytes:
    points = " ".join(f"{40 + i * 3:.0f},{200 + y:.1f}" for i, y in enumerate(rng.normal(0, 9, 240).cumsum() / 3))
    return (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 800 400">'
        f'<polyline points="{points}" fill="none" stroke="#3F5B73" stroke-width="6"/></svg>\n'
    ).encode()


def _minutes(rng: np.random.Generator, month: str) -> bytes:
    words = _WORDS.split()
    lines = [f"# Minutes, {month} 2031", "", "Tansy Brook river watch", ""]
    for number in range(1, 30):
        lines.append(f"{number}. " + " ".join(rng.choice(words, 60)) + ".")
    return "\n".join(lines).encode()


def _small_files(rng: np.random.Generator) -> Iterator[tuple[int, bytes]]:
    words = _WORDS.split()
    for number in range(1, 2401):
        yield number, (f"Day {number}\n" + " ".join(rng.choice(words, int(rng.integers(20, 90)))) + "\n").encode()


def _invitation() -> bytes:
    """A small PDF with one line of text (PDF 1.4, hand-made)."""
    stream = b"BT /F1 24 Tf 72 700 Td (The river watch meets at the mill pond.) Tj ET"
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R "
        b"/Resources << /Font << /F1 << /Type /Font /Subtype /Type1 /BaseFont /Helvetica >> >> >> >>",
        b"<< /Length %d >>\nstream\n%s\nendstream" % (len(stream), stream),
    ]
    out = b"%PDF-1.4\n"
    places = []
    for number, body in enumerate(objects, 1):
        places.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    table = len(out)
    out += b"xref\n0 5\n0000000000 65535 f \n" + b"".join(b"%010d 00000 n \n" % place for place in places)
    return out + b"trailer << /Size 5 /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % table


_READ_ME = """\
Tansy Brook river watch, spring 2031

readings  one table a station, a line every five minutes
photos    from the walks on the first Saturday
sound     hydrophone, three channels, from 21 h on
maps      the brook and the stations
notes     minutes and letters
"""

_LETTERS = {
    "Grüße vom Mühlteich.txt": "Liebe alle,\nder Pegel am Mühlteich stimmt wieder.\n",
    "compte rendu – été.txt": "Le gué est praticable.\n",
    "川の記録.txt": "水はきれいです。\n",
    "σημειώσεις.txt": "Το νερό είναι καθαρό.\n",
    "a very long name that somebody once gave to a note about the ford, the weir and everything in between.txt": "Short note.\n",
}

_WORDS = (
    "the brook was clear today and we saw two herons near the weir while the level at the footbridge stayed low "
    "after rain turbidity rose at the outfall so samples were taken twice and the gauge board needs new paint "
    "somebody left a net by the ford the mill pond is green in the corner kingfisher otter tracks willow cut back"
)
