"""Numbers, names and progress in a person's words."""

from __future__ import annotations

import errno
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from rundlet.core import text
from rundlet.core.errors import RundletError, file_problem
from rundlet.core.jobs.job import Job, Progress
from rundlet.core.model.file_type import FileType, file_type_of, word_for
from rundlet.core.plans.unpack_plan import own_folder_name
from rundlet.desktop.views.basics import short_path
from rundlet.desktop.views.job_strip import progress_words

TABLE = [
    (text.size, 0, "0 bytes"),
    (text.size, 1, "1 byte"),
    (text.size, 4_100_000, "4.1 MB"),
    (text.size, 999_999, "1.0 MB"),
    (text.duration, 0.2, "under 1 s"),
    (text.duration, 59.4, "59 s"),
    (text.duration, 125, "2 min 5 s"),
    (text.duration, 1900, "32 min"),
    (text.duration, 7300, "2 h 1 min"),
    (text.shown, "plain ü 川", "plain ü 川"),
    (text.shown, "\x1b[31m\n\u202egpj", "\\x1b[31m\\n\\u202egpj"),
    (text.shown, "\udcff", "\\xff"),
    (text.iso_time, 1_900_000_001_000_000_000, "2030-03-17T17:46:41Z"),
    (text.iso_time, 1_500_000_000_120_000_000, "2017-07-14T02:40:00.12Z"),
    (text.iso_time, -1_000_000_000, "1969-12-31T23:59:59Z"),
    (file_type_of, "x.JPG", FileType.PICTURES),
    (file_type_of, "x.tar.gz", FileType.ARCHIVES),
    (file_type_of, "x.zip.003", FileType.ARCHIVES),
    (file_type_of, "README", FileType.OTHER),
    (word_for, "a.png", "PNG picture"),
    (word_for, "a.unknown", "File"),
    (word_for, "a.xyz", "XYZ file"),
    (own_folder_name, Path("a.tar.gz"), "a"),
    (own_folder_name, Path("a.7z.002"), "a"),
    (own_folder_name, Path(".zip"), ".zip"),
]


@pytest.mark.parametrize(("function", "value", "words"), TABLE)
def test_words(function: Callable[[Any], str], value: object, words: str) -> None:
    assert function(value) == words


@pytest.mark.parametrize(("count", "words"), [(0, "0 entries"), (1, "1 entry"), (12_500, "12,500 entries")])
def test_plurals(count: int, words: str) -> None:
    assert text.plural(count, "entry") == words
    assert text.plural(2, "day") == "2 days"


def test_reasons_of_the_system() -> None:
    assert (
        str(file_problem(OSError(errno.ENOSPC, ""), "write", "a\x07b"))
        == "Could not write “a\\x07b”: the disk is full."
    )
    assert str(file_problem(OSError(errno.EXDEV, "Odd Thing"), "read", "x")) == "Could not read “x”: odd thing."
    assert str(RundletError("It is so.", hint="Do that.")) == "It is so. Do that."


def test_progress() -> None:
    assert progress_words(Progress("Looking", 0, 0, 0, 0, 0.0, paused=False)) == "Looking"
    assert progress_words(Progress("Looking", 0, 0, 0, 0, 0.0, paused=True)) == "Looking · paused"
    half = Progress("Packing", 50, 100, 1, 2, 10.0, paused=False)
    assert progress_words(half) == "50% · 5 bytes/s · 10 s left"
    assert progress_words(Progress("Packing", 50, 100, 1, 2, 10.0, paused=True)) == "50% · paused"
    assert Progress("", 0, 0, 1, 4, 0.0, paused=False).fraction == 0.25
    job = Job()
    job.begin("Packing", total_bytes=10)
    job.advance(4, entries=1)
    job.pause()
    first, second = job.snapshot(), job.snapshot()
    assert first == second
    assert (first.done_bytes, first.done_entries, first.paused) == (4, 1, True)
    job.resume()
    assert not job.snapshot().paused


def test_paths_in_short(home: Path) -> None:
    assert short_path(home / "a") == "~/a"
    assert short_path(Path("/usr")) == "/usr"
