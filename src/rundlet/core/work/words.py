"""What became of a job, in a sentence: for the strip, the log and the command line alike."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.formats.detect import WRITABLE
from rundlet.core.text import duration, number, plural, quoted, sentence, size

if TYPE_CHECKING:
    from rundlet.core.jobs.report import Issue, Report


def words_of(report: Report, expected: tuple[int, float] = (0, 0.0)) -> str:
    """A report in a sentence or two.

    Args:
        expected: bytes and seconds that were foretold of an archive, or zeros.
    """
    words = {
        "pack": _packed,
        "add": lambda r: f"Added {plural(r.files, 'file')} to {quoted(r.target.name)} in {duration(r.seconds)}.",
        "unpack": _unpacked,
        "trash": lambda r: f"Moved {plural(len(r.trashed), 'item')} to the trash.",
        "copy": lambda r: f"Copied {plural(r.files, 'file')} into {quoted(r.target.name)}.",
        "move": lambda r: f"Moved {plural(len(r.moved), 'item')} into {quoted(r.target.name)}.",
        "rename": lambda r: f"Renamed {quoted(Path(r.moved[0][0]).name)} to {quoted(r.target.name)}.",
        "folder": lambda r: f"Made the folder {quoted(r.target.name)}.",
        "lend": lambda r: f"Copied {plural(r.files, 'file')} out of the archive.",
        "undo": _taken_back,
    }[report.verb](report)
    if expected[0]:
        words += f" Foretold were {size(expected[0])} in {duration(expected[1])}."
    if report.problems:
        words += f" {problem_words(report.problems)}"
    return words + _afterwards(report)


def problem_words(problems: Sequence[Issue]) -> str:
    """How many there are, and the first of them, in a sentence."""
    first = ", the first" if len(problems) > 1 else ""
    return f"{plural(len(problems), 'problem')}{first}: {problems[0]}."


def _packed(report: Report) -> str:
    saved = report.bytes_in - report.bytes_out
    gain = f", {size(saved)} saved" if saved > 0 else ""
    return (
        f"Packed {quoted(report.target.name)}: {size(report.bytes_out)} from {size(report.bytes_in)}{gain}, "
        f"in {duration(report.seconds)}."
    )


def _unpacked(report: Report) -> str:
    words = (
        f"Unpacked {plural(report.files, 'file')}, {size(report.bytes_out)}, into {quoted(report.target.name)} "
        f"in {duration(report.seconds)}."
    )
    return " ".join(filter(None, (words, otherwise(report))))


def otherwise(report: Report) -> str:
    """What became of files that were not unpacked under their own names, in a sentence, or ""."""
    more = [
        f"{number(report.same)} already there with the same content" if report.same else "",
        f"{number(report.skipped)} skipped" if report.skipped else "",
        f"{number(report.renamed)} renamed" if report.renamed else "",
        f"{number(report.left_out)} left out" if report.left_out else "",
    ]
    said = ", ".join(filter(None, more))
    return f"{said[0].upper()}{said[1:]}." if said else ""


def _taken_back(report: Report) -> str:
    taken = [f"{plural(report.files, 'file')} removed"] if report.files else []
    taken += [f"{plural(len(report.created), 'item')} given back"] if report.created else []
    return f"Undone: {' and '.join(taken) or 'nothing was left to do'}."


def _originals(report: Report) -> str:
    if not report.trashed:
        return ""
    if any("stay" in issue.message for issue in report.problems):
        return f" {plural(len(report.trashed), 'original')} moved to the trash."
    return " The originals are in the trash."


def _not_kept(report: Report) -> str:
    """What the format could not keep of what was packed, which is said under the format's name."""
    formats = {known.info.id for known in WRITABLE}
    said = [issue.message for issue in report.issues if not issue.problem and issue.about in formats]
    return "".join(f" {sentence(message)}" for message in said)


def _afterwards(report: Report) -> str:
    if report.verb in ("pack", "add"):
        return _originals(report) + _not_kept(report)
    words = ""
    if report.verb == "unpack" and report.trashed:
        words = f" {plural(len(report.trashed), 'file')} moved to the trash."
    if report.verb == "unpack" and report.moved:
        words += " The archive lies with them now."
    stayed = next((i for i in report.issues if not i.problem and i.message.startswith("stays where it is")), None)
    if report.verb == "unpack" and stayed is not None:
        words += f" {quoted(stayed.about)} {stayed.message}."
    return words
