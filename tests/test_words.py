"""Numbers, names and progress in a person's words."""

from __future__ import annotations

import errno
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from rundlet.core import text
from rundlet.core.errors import RundletError, file_problem
from rundlet.core.jobs.findings import Reason, issue
from rundlet.core.jobs.job import Job, Progress
from rundlet.core.jobs.outcomes import Changed, Checked, Copied, Moved, Outcome, Salvaged, Trashed, Undone
from rundlet.core.model.file_type import FileType, file_type_of, word_for
from rundlet.core.plans.unpack_plan import own_folder_name
from rundlet.core.sentences import fill
from rundlet.desktop.views.basics import short_path
from rundlet.desktop.views.job_strip import progress_words
from rundlet.presentation.outcomes import outcome_words

TABLE = [
    (text.size, 0, "0 bytes"),
    (text.size, 1, "1 byte"),
    (text.size, 4_100_000, "4.1 MB"),
    (text.size, 999_999, "1.0 MB"),
    (text.duration, 0.2, "less than 1 s"),
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


def _changed(**counts: Any) -> Changed:
    return Changed(Path("x.zip"), bytes_out=2000, seconds=3.0, **counts)


_BAD = [issue("a", Reason.NOT_THERE)]
RESULTS: list[tuple[Outcome, str]] = [
    (Trashed(Path("h")), "Nothing was moved to the trash."),
    (Trashed(Path("h"), trashed=["a"]), "Moved 1 item to the trash."),
    (Trashed(Path("h"), trashed=["a", "b"]), "Moved 2 items to the trash."),
    (Trashed(Path("h"), issues=_BAD), "Nothing was moved to the trash. 1 problem: a: no longer exists."),
    (Moved(Path("h/in")), "Nothing was moved into “in”."),
    (Moved(Path("h/in"), moved=[("a", "b")]), "Moved 1 item into “in”."),
    (Moved(Path("h/in"), moved=[("a", "b")] * 1200), "Moved 1,200 items into “in”."),
    (Copied(Path("h/in")), "Nothing was copied into “in”."),
    (Copied(Path("h/in"), files=1, created=["a"]), "Copied 1 file into “in”."),
    (Copied(Path("h/in"), files=2, created=["a", "b"]), "Copied 2 files into “in”."),
    (Undone(Path("x.zip")), "There was nothing left to undo."),
    (Undone(Path("x.zip"), issues=_BAD), "Nothing could be undone. 1 problem: a: no longer exists."),
    (Undone(Path("x.zip"), files=1), "Undone: 1 file removed."),
    (Undone(Path("x.zip"), created=["a", "b"]), "Undone: 2 items restored."),
    (Undone(Path("x.zip"), files=2, created=["a"]), "Undone: 2 files removed and 1 item restored."),
    (_changed(added=1, counts={"added": 1, "added_files": 1}), "Added 1 item to “x.zip” in 3 s."),
    (_changed(added=4, counts={"added": 1, "added_files": 3}), "Added 1 item (3 files) to “x.zip” in 3 s."),
    (_changed(added=2), "Added 2 items to “x.zip” in 3 s."),
    (_changed(removed=5, counts={"removed": 1, "removed_files": 3}), "Saved “x.zip”, 2.0 kB, in 3 s. 1 item removed (3 files)."),
    (_changed(renamed=1, new=2), "Saved “x.zip”, 2.0 kB, in 3 s. 2 items replaced, 1 item renamed."),
    (Checked(Path("x.zip"), files=1), "“x.zip” is intact: 1 item read."),
    (Checked(Path("x.zip"), files=4, unverified=3), "1 of 4 items of “x.zip” is intact. 3 items could be read, "
        "but can't be verified: they have no checksum."),
    (Checked(Path("x.tar"), files=2, unverified=2), "2 items of “x.tar” could be read, but can't be verified: they have no checksum."),
    (Checked(Path("x.zip"), files=1, damaged=1, doubtful=2), "1 of 4 items of “x.zip” is intact. "
        "2 items may be damaged. 1 item is damaged."),
    (Salvaged(Path("x.zip"), files=0, parts=1, bytes_out=9), "Saved 0 items as “x.zip”, 9 bytes, in less than 1 s. "
        "1 damaged file is in it as far as it could be read."),
    (Salvaged(Path("x.zip"), files=1, bytes_out=9), "Saved 1 item as “x.zip”, 9 bytes, in less than 1 s. It is intact."),
    (Salvaged(Path("x.zip"), files=3, bytes_out=9), "Saved 3 items as “x.zip”, 9 bytes, in less than 1 s. All of them are intact."),
    (Salvaged(Path("x.zip"), files=3, doubtful=1, bytes_out=9), "Saved 3 items as “x.zip”, 9 bytes, in less than 1 s. "
        "1 item may be damaged, which its name says."),
]  # fmt: skip
"""Sentences of results with none, one, two and many, as a person reads them."""


@pytest.mark.parametrize(("outcome", "words"), RESULTS, ids=[words[:40] for _, words in RESULTS])
def test_results_say_what_and_how_many(outcome: Outcome, words: str) -> None:
    assert outcome_words(outcome) == words


def test_estimates_of_less_than_a_second() -> None:
    assert [fill("{s:about}", {"s": seconds}) for seconds in (0.2, 5)] == ["less than 1 s", "about 5 s"]
