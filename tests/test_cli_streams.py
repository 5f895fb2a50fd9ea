"""What scripts rely on: standard input and output, lists of files, prompts, and the one shape of JSON."""

from __future__ import annotations

import fcntl
import io
import json
import os
import pty
import select
import shutil
import signal
import struct
import subprocess
import sys
import tarfile
import termios
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import hypothesis.strategies as st
import jsonschema
import pytest
from hypothesis import given

from rundlet.cli.main import VERBS, main
from rundlet.cli.matching import matching
from rundlet.core.formats.detect import open_archive
from rundlet.core.fs.scan import walk
from rundlet.core.model.patterns import Patterns
from support import Raw, held, make_tree, packed, raw_zip, snapshot

ROOT = Path(__file__).parent.parent
PROGRAM = [sys.executable, "-m", "rundlet"]

Pipe = Callable[..., "subprocess.CompletedProcess[bytes]"]


@pytest.fixture
def pipe(tmp_path: Path) -> Pipe:
    def call(*words: object, stdin: bytes = b"", **more: Any) -> subprocess.CompletedProcess[bytes]:
        return subprocess.run(
            [*PROGRAM, *map(str, words)], input=stdin, capture_output=True, check=False, cwd=tmp_path, **more
        )

    return call


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    """A folder that has large files too, one of which can't get smaller."""
    tree = make_tree(tmp_path)
    (tree / "large noise").write_bytes(os.urandom(2_500_000))
    (tree / "large words").write_bytes(b"a line of words\n" * 200_000)
    return tree


FORMATS = ["zip", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst"]


@pytest.mark.parametrize("fmt", FORMATS)
def test_through_pipes_and_back(pipe: Pipe, tree: Path, tmp_path: Path, fmt: str) -> None:
    """What is written forwards is read by others and by all verbs that read, and comes out as it went in."""
    made = pipe("pack", "--format", fmt, "-", "tree")
    assert made.returncode == 0 and b"Packed" in made.stderr
    if fmt == "zip":
        listed = zipfile.ZipFile(io.BytesIO(made.stdout))
        assert listed.testzip() is None
        assert listed.read("tree/large words") == (tree / "large words").read_bytes()
    elif fmt != "tar.zst":
        with tarfile.open(fileobj=io.BytesIO(made.stdout), mode="r:*") as other:
            assert sum(member.isfile() for member in other) == 8
    (tmp_path / "kept").write_bytes(made.stdout)
    assert held(tmp_path / "kept")["tree/large noise"] == (tree / "large noise").read_bytes()
    assert json.loads(pipe("list", "-", "--json", stdin=made.stdout).stdout)["result"]["format"] == fmt
    checked = pipe("check", "-", stdin=made.stdout)
    assert checked.returncode == 0 and b"standard input" in checked.stdout
    assert pipe("unpack", "-", "--into", "out", stdin=made.stdout).returncode == 0
    assert snapshot(tmp_path / "out" / "tree", times=False) == snapshot(tree, times=False)


@pytest.mark.parametrize("level", [0, 6])
@pytest.mark.parametrize("locked", [False, True])
def test_zips_without_going_back(pipe: Pipe, tree: Path, tmp_path: Path, level: int, locked: bool) -> None:
    """The checksum and the sizes of large files stand behind them; a zip whose list was cut off still gives them."""
    (tmp_path / "pw").write_text("word\n")
    with (tmp_path / "pw").open() as file:
        words = ["--password-fd", file.fileno()] if locked else []
        made = pipe("pack", "--format", "zip", "--level", level, *words, "-", "tree", pass_fds=[file.fileno()])
    (tmp_path / "x.zip").write_bytes(made.stdout)
    found = held(tmp_path / "x.zip", "word" if locked else "")
    assert found["tree/large words"] == (tree / "large words").read_bytes()
    described = [info for info in zipfile.ZipFile(io.BytesIO(made.stdout)).infolist() if info.flag_bits & 8]
    # Whoever reads forwards alone can't tell where data ends that is stored as it is.
    assert len(described) == 2 and (not level or all(info.compress_type for info in described))
    if not locked and level:
        (tmp_path / "cut.zip").write_bytes(made.stdout[: made.stdout.rindex(b"PK\x01\x02")])
        pipe("salvage", "cut.zip", "new.zip")
        assert held(tmp_path / "new.zip")["tree/large noise"] == (tree / "large noise").read_bytes()


def test_what_is_read_from_a_pipe(pipe: Pipe, tmp_path: Path) -> None:
    """Words as for a file: passwords, what is chosen, what is said of each item, and a plan; a 7z says why not."""
    refused = pipe("unpack", "-", "--into", "out", stdin=packed(tmp_path, "7z").read_bytes())
    assert refused.returncode == 2 and b"its file list is at its end" in refused.stderr
    shutil.rmtree(tmp_path / "tree")
    data = packed(tmp_path, "zip", "word").read_bytes()
    refused = pipe("unpack", "-", "--into", "out", stdin=data)
    assert refused.returncode == 2 and b"locked" in refused.stderr and not (tmp_path / "out").exists()
    (tmp_path / "pw").write_text("word\n")

    def opened(*words: str) -> subprocess.CompletedProcess[bytes]:
        with (tmp_path / "pw").open() as file:
            return pipe(*words, "--password-fd", file.fileno(), stdin=data, pass_fds=[file.fileno()])

    (tmp_path / "names").write_text("tree/a.txt\n")
    assert opened("unpack", "-", "--into", "some", "--files-from", "names", "--only", "e.csv").returncode == 0
    assert set(snapshot(tmp_path / "some")) == {"tree", "tree/a.txt", "tree/deep", "tree/deep/er", "tree/deep/er/e.csv"}
    for words in (["--only", "nothing"], ["--files-from", "pw"]):
        refused = opened("unpack", "-", "--into", "none", *words)
        assert refused.returncode == 2 and not (tmp_path / "none").exists()
    planned = json.loads(opened("unpack", "-", "--into", "none", "--dry-run", "--json").stdout)["result"][0]
    assert len(planned["steps"]) == 11 and planned["files"] == 7 and not (tmp_path / "none").exists()
    assert b"Would unpack 7 files" in opened("unpack", "-", "--into", "none", "--dry-run").stdout
    assert "✓ intact  tree/a.txt".encode() in opened("check", "-v", "-").stdout
    assert b"tree/a.txt\n" in opened("unpack", "-v", "-", "--into", "all", "--exclude", "deep").stdout
    (tmp_path / "x.zip").write_bytes(data)
    (tmp_path / "-").write_bytes(raw_zip([Raw(b"not this")]))
    listed = [opened("list", "-").stdout, opened("list", "x.zip").stdout]
    assert pipe("list", "-", stdin=data).stdout == listed[1].replace(b" \xe2\x86\x92 a.txt", b"")
    listed = [opened("list", "-").stdout, opened("list", "x.zip").stdout]
    assert listed[0].replace(b" \xe2\x86\x92 a.txt", b"") == listed[1].replace(b" \xe2\x86\x92 a.txt", b"")
    assert b"empty" in pipe("list", "-").stderr


def _let_be_interrupted() -> None:
    """Ctrl+C ends what is started, also where whoever runs the tests has it ignored."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def test_what_ends_a_pipe(tree: Path, tmp_path: Path) -> None:
    """A reader that goes is no error to speak of; an archive that does not come can be given up."""
    line = " ".join([*PROGRAM, "pack", "-q", "--format", "tar", "-", str(tree)])
    done = subprocess.run(f"{line} | head -c 10", shell=True, capture_output=True, check=False)
    assert len(done.stdout) == 10 and done.stderr == b""
    read, write = os.pipe()
    with subprocess.Popen(
        [*PROGRAM, "list", "-"],
        stdin=read,
        stderr=subprocess.PIPE,
        cwd=tmp_path,
        preexec_fn=_let_be_interrupted,
    ) as waits:
        os.write(write, b"PK")
        until = time.monotonic() + 60
        while struct.unpack("i", fcntl.ioctl(read, termios.FIONREAD, bytes(4)))[0]:  # it has not begun to read
            assert time.monotonic() < until
            time.sleep(0.01)
        waits.send_signal(signal.SIGINT)
        try:
            assert waits.wait(30) == 130 and waits.stderr is not None and b"Cancelled" in waits.stderr.read()
        finally:
            waits.kill()
    os.close(read)
    os.close(write)


def test_a_dry_run_of_a_pipe(pipe: Pipe, tree: Path, tmp_path: Path) -> None:
    done = pipe("pack", "--dry-run", "--format", "tar", "-", "tree")
    assert done.returncode == 0 and b"Would make" in done.stdout and not (tmp_path / "-").exists()


def test_lists_of_files(pipe: Pipe, tmp_path: Path) -> None:
    """One a line, or with NULs, which any name can stand before."""
    odd = os.fsdecode(b"line\nbreak \xe9")
    for name in ("a", "b", odd):
        (tmp_path / name).write_bytes(os.fsencode(name))
    assert pipe("pack", "x.tar", "--files-from", "-", stdin=b"a\nb\n").returncode == 0
    assert set(held(tmp_path / "x.tar")) == {"a", "b"}
    assert pipe("pack", "y.tar", "a", "--files-from", "-", stdin=os.fsencode(f"b\0{odd}\0")).returncode in (0, 1)
    assert len(held(tmp_path / "y.tar")) == 3
    (tmp_path / "list").write_text("b\n")
    assert pipe("unpack", "y.tar", "--into", "out", "--files-from", "list").returncode == 0
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["b"]
    (tmp_path / "list").write_text("b\nnowhere\n")
    refused = pipe("unpack", "y.tar", "--into", "more", "--files-from", "list")
    assert refused.returncode == 2 and "“nowhere”".encode() in refused.stderr and not (tmp_path / "more").exists()
    assert pipe("add", "x.tar", "--files-from", "list").returncode in (1, 2)
    assert b"is empty" in pipe("pack", "z.zip", "--files-from", "-").stderr


def _at_a_terminal(folder: Path, words: list[str], typed: list[str]) -> tuple[int, str]:
    """Run the program at a terminal, and type a line at each question."""
    child, terminal = pty.fork()
    if not child:
        os.chdir(folder)
        os.execv(PROGRAM[0], [*PROGRAM, *words])  # noqa: S606
    said, lines = "", list(typed)
    try:
        while select.select([terminal], [], [], 60)[0]:
            said += os.read(terminal, 4096).decode()
            if said.endswith(": ") and lines:
                os.write(terminal, f"{lines.pop(0)}\n".encode())
                said += "\n"
    except OSError:
        pass  # it has ended
    os.close(terminal)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), said


def test_passwords_at_a_terminal(tmp_path: Path) -> None:
    """They are asked for where they are needed, twice where a slip would lock for good, and never shown."""
    (tmp_path / "a").write_text("content")
    status, said = _at_a_terminal(tmp_path, ["pack", "--lock", "--hide-names", "x.7z", "a"], ["word", "wrod"])
    assert status == 2 and "don't match" in said and "wrod" not in said and not (tmp_path / "x.7z").exists()
    for words, answers in (
        (["pack", "--lock", "--hide-names", "x.7z", "a"], ["word", "word"]),
        (["list", "x.7z"], ["word"]),
        (["check", "x.7z"], ["word"]),
        (["convert", "x.7z", "y.zip"], ["word"]),
        (["add", "y.zip", "x.7z"], ["word"]),
        (["unpack", "y.zip"], ["word"]),
    ):
        status, said = _at_a_terminal(tmp_path, words, answers)
        assert status == 0 and "Password" in said and "word\r\n" not in said.replace("assword", ""), said
    assert (tmp_path / "y" / "a").read_text() == "content"
    assert held(tmp_path / "y.zip", "word")["a"] == b"content"
    assert _at_a_terminal(tmp_path, ["check", "x.7z"], ["wrod"])[0] == 2


def test_quiet_and_verbose(pipe: Pipe, tmp_path: Path) -> None:
    (tmp_path / "bad.zip").write_bytes(raw_zip([Raw(b"a", crc=5), Raw(b"b")]))
    assert pipe("check", "-q", "bad.zip").stdout == b""
    loud = pipe("check", "-v", "bad.zip")
    assert "✗ damaged  a\n✓ intact  b".encode() in loud.stdout
    (tmp_path / "cut.7z").write_bytes(packed(tmp_path, "7z").read_bytes()[:-5])
    assert b"[" in pipe("list", "-v", "cut.7z").stderr and b"[" not in pipe("list", "cut.7z").stderr
    assert pipe("list", "-q", "bad.zip").stdout.startswith(b"   7 bytes")
    assert pipe("pack", "-v", "x.zip", "bad.zip").stdout.splitlines()[0] == b"bad.zip"
    assert (
        b"usage" in pipe("pack", "-q", "-v", "x.zip", "a").stderr or pipe("pack", "-q", "-v", "y", "a").returncode == 2
    )


def _strict(schema: Any) -> Any:
    """The schema with nothing left to chance: no field that it does not name."""
    if isinstance(schema, dict):
        closed = {key: _strict(value) for key, value in schema.items()}
        if "required" in closed and "properties" in closed and "additionalProperties" not in closed:
            closed["additionalProperties"] = False
        return closed
    return [_strict(each) for each in schema] if isinstance(schema, list) else schema


def test_json_is_as_described(
    tree: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Every verb, done, planned and failed, prints one object that the schema allows."""
    schema = _strict(json.loads((ROOT / "docs" / "rundlet.schema.json").read_text()))
    jsonschema.Draft202012Validator.check_schema(schema)
    monkeypatch.chdir(tmp_path)
    (tmp_path / "cut.zip").write_bytes(raw_zip([Raw(b"a", crc=5), Raw(b"b")])[:-30])
    for number in (1, 2):
        (tmp_path / f"film.mkv.00{number}").write_bytes(b"x" * 1000)
    seen = set()
    for line, status in (
        ("pack x.zip tree", 0), ("pack x.zip tree", 2), ("pack --dry-run y.7z tree", 0), ("list x.zip", 0),
        ("list cut.zip", 1), ("list nowhere", 2), ("check x.zip", 0), ("check x.zip cut.zip nowhere", 1), ("unpack x.zip", 0),
        ("unpack --dry-run x.zip cut.zip", 1), ("unpack nowhere x.zip", 1), ("compare x.zip tree", 0), ("compare cut.zip tree", 1),
        ("add x.zip cut.zip", 0), ("add --dry-run x.zip film.mkv.001", 0), ("remove x.zip cut.zip", 0), ("remove x.zip nothing", 2),
        ("rename x.zip tree/plain.txt plain", 0), ("update x.zip tree --dry-run", 0), ("update x.zip tree", 0),
        ("update x.zip tree", 0), ("convert x.zip x.tar.gz", 0), ("convert --dry-run x.zip z.7z", 0),
        ("salvage cut.zip saved.zip", 1), ("sum x.zip nowhere", 1), ("sum --inside cut.zip", 1), ("sum --check SUMS", 1),
        ("join --dry-run film.mkv.001 f", 0), ("join film.mkv.001 film.mkv", 0), ("settings", 0), ("settings nothing", 2),
        ("desktop status", 1), ("desktop remove", 0), ("pack --nothing", 2), ("unpack", 2),
    ):  # fmt: skip
        if "SUMS" in line:
            (tmp_path / "SUMS").write_text(f"{'0' * 64}  x.zip\n{'1' * 64}  none\n")
        verb, *words = line.split()
        assert main([verb, "--json", *words]) == status, line
        told = json.loads(capsys.readouterr().out)
        jsonschema.Draft202012Validator(schema).validate(told)
        assert (told["verb"], told["status"]) == (verb, status) and (status != 2 or told["errors"])
        seen.add(verb)
    assert seen == set(VERBS)
    assert main(["list", "--json", "nowhere"]) == 2
    error = json.loads(capsys.readouterr().out)["errors"][0]
    assert error["kind"] == "file-problem" and "not there" in error["message"]


_STEPS = st.text("ab.[*", min_size=1, max_size=3).filter(lambda name: name not in (".", ".."))
_PATHS = st.lists(st.lists(_STEPS, min_size=1, max_size=3).map("/".join), min_size=1, max_size=6)


@given(_PATHS, st.lists(st.one_of(_STEPS, st.sampled_from(["a*", "*/b", "a/*", "?", "[ab]", "a/", "./a"])), max_size=2))
def test_one_rule_for_patterns(tmp_path_factory: pytest.TempPathFactory, paths: list[str], patterns: list[str]) -> None:
    """What is left out on the disk is what the same patterns choose in an archive."""
    folder = tmp_path_factory.mktemp("r")
    for path in paths:
        try:
            (folder / "t" / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / "t" / path).touch()
        except (FileExistsError, NotADirectoryError, IsADirectoryError):
            pass  # it is a folder already, or was to lie in a file
    kept = {item.path for item in walk(folder / "t", "t", exclude=patterns).items}
    everything = {item.path for item in walk(folder / "t", "t").items}
    chosen = Patterns(patterns)
    assert kept == {path for path in everything if not chosen.choose(path)}
    if kept:
        (folder / "x.zip").write_bytes(raw_zip([Raw(path.encode(), b"") for path in sorted(everything)]))
        reader = open_archive(folder / "x.zip")
        rows = matching(reader, patterns, needed=False)
        assert {reader.catalog.path(row) for row in rows} == everything - kept
        reader.close()
