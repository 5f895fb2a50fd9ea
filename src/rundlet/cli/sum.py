"""Checksums of files, and files held against a published list of them."""

from __future__ import annotations

import argparse
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from rundlet.cli.archives import given_password, open_given
from rundlet.cli.reading import add_reading
from rundlet.cli.render import Output, with_progress
from rundlet.core.errors import PlanError, RundletError, file_problem
from rundlet.core.model.checksum_list import Algorithm, ChecksumLine, algorithm_named, read_checksums, written_checksums
from rundlet.core.text import shown
from rundlet.core.work.checksums import EntrySums, Match, Verified, sums_of, sums_within, verify
from rundlet.presentation.sentences import say

if TYPE_CHECKING:
    from collections.abc import Sequence

_MATCHES = {
    Match.SAME: "{name}: matches",
    Match.DIFFERS: "{name}: differs",
    Match.MISSING: "{name}: is missing",
    Match.UNREADABLE: "{name}: {problem:clause}",
    Match.OUTSIDE: "{name}: leads out of the folder of the list, so it was not looked at",
}

EXAMPLES = (
    ("The SHA-256 of some files", "rundlet sum *.iso"),
    ("Check files against a published list", "rundlet sum --check SHA256SUMS"),
    ("Of the files in an archive", "rundlet sum --inside photos.zip"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What ``rundlet sum`` takes."""
    parser.add_argument("file", type=Path, nargs="+", help="a file; with --check, a list of checksums")
    names = ", ".join(algorithm.value for algorithm in Algorithm)
    parser.add_argument(
        "--algorithm",
        action="append",
        default=[],
        metavar="NAME",
        help=say("one of {names}; SHA256 by default", names=names),
    )
    what = parser.add_mutually_exclusive_group()
    what.add_argument("--check", action="store_true", help="hold the files that lists name against them")
    what.add_argument("--inside", action="store_true", help="of the files in archives, instead of the archives")
    add_reading(parser)


def run(options: argparse.Namespace, output: Output) -> int:
    """Print checksums, or hold files against lists; 1 when a file differs, is missing or can't be read."""
    if options.check:
        return _check(options.file, output)
    algorithms = _algorithms(options.algorithm)
    return _inside(options, algorithms, output) if options.inside else _print(options.file, algorithms, output)


def _inside(options: argparse.Namespace, algorithms: Sequence[Algorithm], output: Output) -> int:
    """Print the checksums of the files in archives."""
    password = given_password(options)
    found: list[EntrySums] = []
    for archive in options.file:
        with closing(open_given(archive, options, password)[0]) as reader:
            reader.require_password(np.arange(len(reader.catalog)))
            found += with_progress(lambda job, reader=reader: sums_within(reader, algorithms, job))  # type: ignore[misc]
    for each in found:
        if each.problem is not None:
            output.line(say("{name:shown}: {problem:clause}", name=each.path, problem=each.problem.sentence))
    _show([(each.path, each.sums, each.problem) for each in found], algorithms, output)
    return int(any(each.problem is not None for each in found))


def _algorithms(names: Sequence[str]) -> list[Algorithm]:
    found = []
    for name in names:
        algorithm = algorithm_named(name)
        if algorithm is None:
            known = ", ".join(each.value for each in Algorithm)
            raise PlanError("There is no checksum {name:name}.", hint="There are: {known}.", name=name, known=known)
        found.append(algorithm)
    return found or [Algorithm.SHA256]


def _print(files: Sequence[Path], algorithms: Sequence[Algorithm], output: Output) -> int:
    found = with_progress(lambda job: sums_of(files, algorithms, job))
    for each in found:
        if each.problem is not None:
            output.line(each.problem)
    _show([(str(each.path), each.sums, each.problem) for each in found], algorithms, output)
    return int(any(each.problem is not None for each in found))


def _show(
    found: Sequence[tuple[str, dict[Algorithm, str], RundletError | None]],
    algorithms: Sequence[Algorithm],
    output: Output,
) -> None:
    lines = [ChecksumLine(name, algorithm, digest) for name, sums, _ in found for algorithm, digest in sums.items()]
    if output.json:
        output.value(
            [
                {"file": name}
                | ({"error": str(problem)} if problem else {key.value: digest for key, digest in sums.items()})
                for name, sums, problem in found
            ]
        )
    elif lines:
        output.data(written_checksums(lines, named=len(algorithms) > 1).rstrip("\n"))


def _check(lists: Sequence[Path], output: Output) -> int:
    found: list[Verified] = []
    wrong = False
    for path in lists:
        try:
            text = path.read_text("utf-8", "surrogateescape")
        except OSError as error:
            raise file_problem(error, "read", path) from error
        lines, odd = read_checksums(text)
        if not lines:
            raise PlanError("{name:name} is no list of checksums.", name=path.name)
        for number in odd:
            output.line(say("Line {number} of {name:name} is no checksum with a name.", number=number, name=path.name))
        wrong |= bool(odd)
        found += with_progress(lambda job, lines=lines, path=path: verify(lines, path.absolute().parent, job))  # type: ignore[misc]
    if output.json:
        output.value(
            [
                {"file": each.line.name, "algorithm": each.line.algorithm.value, "result": each.match.value}
                for each in found
            ]
        )
    for each in found:
        problem = each.problem.sentence if each.problem is not None else ""
        output.data(say(_MATCHES[each.match], name=shown(each.line.name), problem=problem))
    return int(wrong or any(each.match is not Match.SAME for each in found))
