"""What the beginning of a file looks like to a person: text, a table, a picture, a sound, or else its bytes."""

from __future__ import annotations

import codecs
import csv
import io
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.limits import KIB, MIB
from rundlet.core.model.file_type import FileType, file_type_of

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

ENOUGH = 64 * KIB
"""Bytes of a file that a person looks at in passing."""

WHOLE = 64 * MIB
"""The largest picture or sound that is read to its end for a look."""

_ROWS, _COLUMNS = 400, 60
_HEX_BYTES = 4 * KIB
_PER_LINE = 16
_BUCKETS = 600
_GUESS_FROM = 32 * KIB
_ODD_SHARE = 0.02
_MARKS = {
    codecs.BOM_UTF8: "utf-8-sig",
    codecs.BOM_UTF32_LE: "utf-32",
    codecs.BOM_UTF32_BE: "utf-32",
    codecs.BOM_UTF16_LE: "utf-16",
    codecs.BOM_UTF16_BE: "utf-16",
}
_DRAWINGS = ("svg", "svgz")


@dataclass(frozen=True, slots=True)
class TextLook:
    """Text.

    Attributes:
        encoding: the name of the encoding that it is in or was taken to be in.
        markdown: whether it is marked up.
        cut: whether there is more of it.
    """

    text: str
    encoding: str
    markdown: bool = False
    cut: bool = False


@dataclass(frozen=True, slots=True)
class TableLook:
    """Rows of a table; the first one may be its heading.

    Attributes:
        cut: whether there is more of it.
    """

    rows: tuple[tuple[str, ...], ...]
    cut: bool = False


@dataclass(frozen=True, slots=True)
class SoundLook:
    """A plain sound.

    Attributes:
        seconds: how long it lasts.
        rate: samples a second.
        channels: how many there are.
        peaks: the lowest and the highest sample of each stretch, between -1 and 1; shape (stretches, 2).
    """

    seconds: float
    rate: int
    channels: int
    peaks: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class PictureLook:
    """The bytes of a picture, for a decoder of pictures."""

    data: bytes


@dataclass(frozen=True, slots=True)
class BytesLook:
    """Bytes in lines of sixteen, as numbers and as letters.

    Attributes:
        cut: whether there is more of it.
    """

    lines: str
    cut: bool = False


Look = TextLook | TableLook | SoundLook | PictureLook | BytesLook


def wanted_of(name: str) -> int:
    """How many bytes of a file of this name are worth reading for a look."""
    return WHOLE if _is_picture(name) or name.lower().endswith(".wav") else ENOUGH


def look_at(name: str, data: bytes, *, whole: bool, pictures: bool = True) -> Look:
    """What these first bytes of a file show; whatever they are, there is something to show.

    Args:
        whole: whether the bytes are all of the file.
        pictures: whether what is named like a picture is taken for one.
    """
    if pictures and _is_picture(name) and whole and data:
        return PictureLook(data)
    if name.lower().endswith(".wav") and (sound := _sound(data)) is not None:
        return sound
    read = _text(data[:ENOUGH], whole=whole and len(data) <= ENOUGH)
    if read is None:
        return BytesLook(hex_lines(data[:_HEX_BYTES]), cut=not whole or len(data) > _HEX_BYTES)
    if file_type_of(name) == FileType.TABLES and (table := _table(read)) is not None:
        return table
    ending = name.rpartition(".")[2].lower()
    return TextLook(read.text, read.encoding, ending in ("md", "markdown"), read.cut)


def _is_picture(name: str) -> bool:
    return file_type_of(name) == FileType.PICTURES or name.rpartition(".")[2].lower() in _DRAWINGS


def _text(data: bytes, *, whole: bool) -> TextLook | None:
    """The bytes as text, or None when they are none."""
    mark = next((encoding for mark, encoding in _MARKS.items() if data.startswith(mark)), None)
    encoding = mark or ("utf-8" if _decoded(data, "utf-8", whole=whole) is not None else _guessed(data))
    text = _decoded(data, encoding, whole=whole) if encoding else None
    if text is None or encoding is None:
        return None
    odd = sum(c < " " and c not in "\t\n\r\f\x1b" for c in text)
    if odd > _ODD_SHARE * len(text):
        return None
    return TextLook(text.replace("\0", "\N{REPLACEMENT CHARACTER}"), encoding, cut=not whole)


def _decoded(data: bytes, encoding: str, *, whole: bool) -> str | None:
    try:
        return codecs.getincrementaldecoder(encoding)().decode(data, final=whole)
    except (UnicodeDecodeError, LookupError):
        return None


def _guessed(data: bytes) -> str | None:
    """The encoding that bytes are in which are no UTF-8; None when they are no text."""
    sample = data[:_GUESS_FROM]
    if b"\0" in sample:
        return None
    from charset_normalizer import from_bytes  # slow to import, and needed for old texts only

    best = from_bytes(sample).best()
    return best.encoding if best is not None else None


def _table(read: TextLook) -> TableLook | None:
    """The text as a table, or None when it has no columns."""
    sample = read.text[:_GUESS_FROM]
    try:
        dialect: type[csv.Dialect] = csv.Sniffer().sniff(sample, delimiters=",;\t|")
    except csv.Error:
        dialect = csv.excel
    rows: list[tuple[str, ...]] = []
    lines = io.StringIO(read.text, newline="")
    try:
        for cells in csv.reader(lines, dialect):
            rows.append(tuple(cells[:_COLUMNS]))
            if len(rows) == _ROWS:
                break
    except csv.Error:
        return None
    more = bool(lines.read(1)) or read.cut
    if max(map(len, rows), default=0) < 2:
        return None
    return TableLook(tuple(rows), cut=more)


def _sound(data: bytes) -> SoundLook | None:
    """A PCM sound, or None when it is of another kind."""
    import wave  # seldom needed, and so is numpy

    import numpy as np

    try:
        with wave.open(io.BytesIO(data)) as sound:
            channels, width, rate, frames = sound.getparams()[:4]
            raw = sound.readframes(frames)
    except (wave.Error, EOFError, ValueError, OverflowError):
        return None
    if width not in (1, 2, 4) or not channels or not rate:
        return None
    there = len(raw) // (width * channels) * channels
    if width == 1:
        samples = np.frombuffer(raw, np.uint8, there).astype(np.float64) / 128 - 1
    else:
        samples = np.frombuffer(raw, f"<i{width}", there) / float(1 << (8 * width - 1))
    mixed = samples.reshape(-1, channels).mean(axis=1)
    edges = np.linspace(0, len(mixed), min(_BUCKETS, len(mixed)) + 1).astype(np.int64)[:-1]
    peaks = np.zeros((0, 2))
    if len(edges):
        peaks = np.stack([np.minimum.reduceat(mixed, edges), np.maximum.reduceat(mixed, edges)], axis=1)
    return SoundLook(frames / rate, rate, channels, peaks)


def hex_lines(data: bytes) -> str:
    """Bytes as lines of their place, their numbers and their letters."""
    lines = []
    for at in range(0, len(data), _PER_LINE):
        piece = data[at : at + _PER_LINE]
        letters = "".join(chr(b) if 32 <= b < 127 else "·" for b in piece)
        lines.append(f"{at:06x}  {piece.hex(' '):<{3 * _PER_LINE}} {letters}")
    return "\n".join(lines)
