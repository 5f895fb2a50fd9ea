"""The command line is a contract: statuses, one line each on standard error, JSON for programs."""

from __future__ import annotations

import io
import json
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

from rundlet import __version__
from rundlet.cli import unpack as unpack_verb
from rundlet.cli.main import main
from rundlet.core.errors import Cancelled
from rundlet.core.jobs.job import Job
from rundlet.core.userdata.journal import Journal
from support import Raw, make_tree, raw_zip, snapshot

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader
    from rundlet.core.jobs.outcomes import Unpacked
    from rundlet.core.plans.unpack_plan import UnpackPlan

Run = Callable[..., tuple[int, str, list[str]]]
"""Runs the command line: its status, what it printed, and the lines that it said."""


@pytest.fixture
def run(capsys: pytest.CaptureFixture[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Run:
    monkeypatch.chdir(tmp_path)

    def call(*words: object) -> tuple[int, str, list[str]]:
        status = main([str(word) for word in words])
        out, err = capsys.readouterr()
        return status, out, err.splitlines()

    return call


def test_the_whole_way_round(run: Run, tmp_path: Path) -> None:
    tree = make_tree(tmp_path)
    assert run("pack", "x.zip", "tree", "--level", 9)[0] == 0
    status, out, err = run("list", "--json", "x.zip")
    listed = json.loads(out)["result"]
    assert (status, err, listed["format"]) == (0, [], "zip")
    by_path = {entry["path"]: entry for entry in listed["items"]}
    assert by_path["tree/plain.txt"]["mtime"] == "2030-03-17T17:46:41Z"
    assert by_path["tree/link"] | {"mtime": 0, "mode": 0} == {
        "path": "tree/link", "size": 7, "packed": 7, "kind": "link", "mtime": 0, "mode": 0,
        "encrypted": False, "target": "in/deep",
    }  # fmt: skip
    assert by_path["tree/in/deep/er/run.sh"]["mode"] == 0o750
    assert by_path["tree/empty folder"]["kind"] == "dir"
    assert "tree/link → in/deep" in run("list", "x.zip")[1]
    assert run("unpack", "x.zip", "--into", "out")[::2] == (0, [])
    assert snapshot(tmp_path / "out" / "tree") == snapshot(tree)
    records = Journal().records()[:2]
    assert [record.outcome.kind for record in records] == ["unpack", "pack"]  # the log has them, too
    assert records[0].can_undo and records[0].source == (str(tmp_path / "x.zip"),)
    assert run("check", "x.zip")[0] == 0
    assert json.loads(run("check", "--json", "x.zip")[1])["result"][0]["issues"] == []


def test_choosing_folders_and_clashes(run: Run, tmp_path: Path) -> None:
    make_tree(tmp_path)
    run("pack", "x.zip", "tree", "--exclude", "*.bin", "--exclude", "deep")
    (tmp_path / "y.zip").write_bytes(raw_zip([Raw(b"a"), Raw(b"sub/b.txt"), Raw(b"sub/c.md")]))
    assert not [
        e
        for e in json.loads(run("list", "--json", "x.zip")[1])["result"]["items"]
        if "deep/" in e["path"] or "bin" in e["path"]
    ]
    run("unpack", "y.zip", "--into", "some", "--only", "sub/*.md")
    assert sorted(snapshot(tmp_path / "some")) == ["sub", "sub/c.md"]
    assert run("unpack", "y.zip", "--exclude", "sub/*.md", "--exclude", "nothing")[0] == 0
    assert sorted(snapshot(tmp_path / "y")) == ["a", "sub", "sub/b.txt"]
    run("unpack", "y.zip", "--into", "folder", "--only", "sub")
    assert sorted(snapshot(tmp_path / "folder")) == ["sub", "sub/b.txt", "sub/c.md"]
    assert run("unpack", "y.zip", "x.zip", "--into", "both")[0] == 0
    assert sorted(p.name for p in (tmp_path / "both").iterdir()) == ["x", "y"]
    run("unpack", "y.zip", "--into", "own", "--own-folder")
    assert (tmp_path / "own" / "y" / "sub" / "b.txt").exists()
    (tmp_path / "both" / "y" / "a").write_bytes(b"mine")
    run("unpack", "y.zip", "--into", "both", "--own-folder", "--on-clash", "skip")
    assert (tmp_path / "both" / "y" / "a").read_bytes() == b"mine"
    status, out, _ = run("unpack", "y.zip", "--into", "both/y", "--dry-run", "--json")
    plan = json.loads(out)["result"][0]
    assert status == 0
    assert plan["steps"][0] == {"item": "a", "target": str(tmp_path / "both/y/a (2)"), "action": "number", "note": ""}
    assert not (tmp_path / "both" / "y" / "a (2)").exists()


def test_packing_plans_and_clashes(run: Run, tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x" * 5000)
    status, out, _ = run("pack", "x.zip", "a", "--dry-run", "--json", "--level", 0)
    plan = json.loads(out)["result"]
    assert (status, plan["files"], plan["size"], plan["level"]) == (0, 1, 5000, 0)
    assert not (tmp_path / "x.zip").exists()
    outcome = json.loads(run("pack", "x.zip", "a", "--json")[1])["result"]
    assert outcome["bytes_in"] == 5000 and outcome["bytes_out"] == (tmp_path / "x.zip").stat().st_size
    assert run("pack", "x.zip", "a")[0] == 2
    assert run("pack", "x.zip", "a", "--on-clash", "rename")[0] == 0
    assert (tmp_path / "x (2).zip").exists()
    assert run("pack", "odd.ending", "a", "--format", "zip")[0] == 0
    (tmp_path / "b").write_bytes(b"y" * 5000)
    status, out, _ = run("add", "x.zip", "a", "b", "--dry-run")
    assert "Would change 1 item of" in out and "add  b" in out  # the other one is in it already
    status, out, _ = run("add", "x.zip", "a", "b", "--verify")
    assert status == 0 and out.startswith("Saved ") and "1 item added" in out
    assert [line.split()[-1] for line in run("list", "x.zip")[1].splitlines()[:2]] == ["a", "b"]


@pytest.mark.usefixtures("usual_signals")
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_what_ends_the_program_cancels_its_work(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: signal.Signals
) -> None:
    make_tree(tmp_path)
    run("pack", "x.zip", "tree")
    advance = Job.advance
    written: list[object] = []

    def told_to_end(job: Job, *words: int, **named: int) -> None:
        if not written and (tmp_path / "out").exists():
            written.extend((tmp_path / "out").rglob("*"))
            signal.pthread_kill(threading.get_ident(), number)  # which does not wake the main thread by itself
            for _ in range(2000):
                if job.cancelled:
                    break
                time.sleep(0.01)
        advance(job, *words, **named)

    monkeypatch.setattr(Job, "advance", told_to_end)
    assert run("unpack", "x.zip", "--into", "out") == (
        128 + number,
        "",
        ["rundlet: Cancelled. Nothing was left behind."],
    )
    assert written and not (tmp_path / "out").exists()


def test_what_is_whole_is_counted(run: Run, tmp_path: Path) -> None:
    whole = raw_zip([Raw(b"a"), Raw(b"b")])
    for name, data, words in (
        ("whole", whole, "“whole” is intact: 2 items read."),
        ("cut", whole[:-30], "2 items of “cut” are intact. The archive itself is damaged."),
        ("bad", raw_zip([Raw(b"a", crc=5), Raw(b"b")]), "1 of 2 items of “bad” is intact. 1 item is damaged."),
        ("both", raw_zip([Raw(b"a", crc=5), Raw(b"b")])[:-30], "1 of 2 items of “both” is intact. 1 item is damaged."),
    ):
        (tmp_path / name).write_bytes(data)
        assert run("check", name)[1].strip() == words


FAILURES: list[tuple[Sequence[str], int, str]] = [
    (["list", "nope.zip"], 2, "not there"),
    (["list", "folder"], 2, "is a folder"),
    (["list", "text.zip"], 2, "not an archive that Rundlet can read"),
    (["list", "empty.zip"], 2, "is empty"),
    (["list", "cut.zip"], 1, "its file list is missing; 2 items were found without it"),
    (["pack", "x.zip"], 2, "No files or folders are named."),
    (["pack", "x.odd", "text.zip"], 2, "stands for no format"),
    (["pack", "x.zip", "text.zip", "--format", "odd"], 2, "no format “odd”"),
    (["pack", "x.zip", "nope"], 2, "nothing to pack"),
    (["pack", "no/x.zip", "text.zip"], 2, "no folder"),
    (["pack", "x.zip", "text.zip", "--level", "11"], 2, "invalid choice"),
    (["pack", "x.zip", "text.zip", "nope"], 1, "nope: could not be read (it is not there)"),
    (["unpack", "good.zip", "--into", "o", "--only", "zzz"], 2, "matches “zzz”"),
    (["unpack", "text.zip", "good.zip", "--into", "o"], 1, "not an archive"),
    (["unpack", "evil.zip", "--into", "o"], 1, "\\x1b[31mred/../..: was left out"),
    (["unpack", "good.zip", "--into", "text.zip/x"], 2, "text.zip/x"),
    (["check", "bad.zip"], 1, "a: its content fails its checksum"),
]


@pytest.mark.parametrize(("words", "status", "said"), FAILURES, ids=[" ".join(w) for w, _, _ in FAILURES])
def test_what_goes_wrong_is_one_line(run: Run, tmp_path: Path, words: Sequence[str], status: int, said: str) -> None:
    (tmp_path / "folder").mkdir()
    (tmp_path / "text.zip").write_text("only words")
    (tmp_path / "empty.zip").touch()
    good = raw_zip([Raw(b"a"), Raw(b"b")])
    (tmp_path / "good.zip").write_bytes(good)
    (tmp_path / "cut.zip").write_bytes(good[:-25])
    (tmp_path / "bad.zip").write_bytes(raw_zip([Raw(b"a", crc=5), Raw(b"b")]))
    (tmp_path / "evil.zip").write_bytes(raw_zip([Raw(b"\x1b[31mred/../.."), Raw(b"fine")]))
    got, _, lines = run(*words)
    assert got == status, lines
    assert len(lines) == 1
    assert said in lines[0]
    assert "Error" not in lines[0] and "Traceback" not in lines[0]


def test_version_and_help(run: Run) -> None:
    assert run("--version") == (0, f"rundlet {__version__}\n", [])
    assert "rundlet unpack" in run("--help")[1]
    assert "--into" in run("unpack", "--help")[1]


def _not_there(*_: object) -> None:
    raise OSError


def test_without_a_display_it_says_so(run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    status, _, lines = run(".")
    assert (status, len(lines)) == (2, 1)
    assert "no display" in lines[0]
    monkeypatch.setenv("DISPLAY", ":0")
    with monkeypatch.context() as without:
        without.setattr("ctypes.CDLL", _not_there)
        _, _, lines = run()
        assert "lacks" in lines[0] and "libxcb-cursor.so.0" in lines[0] and "libEGL.so.1" in lines[0]
        assert "wayland" not in lines[0] and (shutil.which("apt-get") is None or "libxcb-cursor0 " in lines[1])
    monkeypatch.setitem(sys.modules, "rundlet.desktop.app", None)
    status, _, lines = run()
    assert (status, len(lines)) == (2, 1)
    assert "a part of the system is missing" in lines[0]


def test_as_a_command_with_a_closed_pipe(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"entry %d" % i) for i in range(20_000)]))
    command = f"{sys.executable} -m rundlet list {tmp_path / 'x.zip'} | head -n 1"
    done = subprocess.run(command, shell=True, capture_output=True, text=True, check=False)
    assert "entry 0" in done.stdout
    assert done.stderr == ""


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["lsit", "x.zip"], "There is no verb “lsit”. Did you mean “list”?"),
        (["unpakc"], "There is no verb “unpakc”. Did you mean “unpack”?"),
        (["nowhere.zip"], "There is no file, folder or verb “nowhere.zip”; “rundlet --help” says what there is."),
        (["--lst"], "There is no option “--lst”; “rundlet --help” says what there is."),
        (["pack", "-", ".", "--format", "7z"], "7z can't be written to standard output, as its beginning is written"),
        (["pack", "-", ".", "--format", "tar", "--verify"], "--verify needs an archive in a file, not on standard"),
        (["unpack", "-"], "An archive from standard input has no name for its folder. Say where to with --into."),
        (["pack", "x.zip", ".", "--exlude", "a"], "no option “--exlude”; did you mean “--exclude”?"),
        (["pack", "x.zip", "--lock", "."], "The password can't be asked for without a terminal."),
        (["unpack", "x.zip", "--files-from", "nowhere"], "it is not there"),
        (["list", "x.zip", "--password-fd", "77"], "can't be read from the open file number 77"),
        (["pack", "x.zip", ".", "--part-size", "1k"], "in parts of 1.0 kB would be up to 5,000 files. Choose larger"),
        (["pack", "x" * 300 + ".zip", "."], "is too long for a disk. Choose a shorter one."),
        (["list", "x" * 300 + ".zip"], "the name is too long for this disk"),
    ],
)
def test_slips_are_called_by_their_name(run: Run, tmp_path: Path, words: list[str], said: str) -> None:
    with (tmp_path / "large").open("wb") as large:
        large.truncate(5_000_000)
    status, out, lines = run(*words)
    assert (status, out, len(lines)) == (2, "", 1) and said in lines[0] and len(lines[0]) < 330
    assert sorted(path.name for path in tmp_path.iterdir()) == ["large"]


def test_help_and_version_have_their_usual_names(run: Run) -> None:
    assert run("help") == run("--help") and run("-V") == run("--version")
    assert run("help", "pack") == run("pack", "--help")


@pytest.mark.parametrize(
    ("streams", "status", "said"),
    [
        ("> /dev/full", 2, "Can't write output: no space left"),
        (">&-", 0, ""),
        ("2>&-", 0, ""),
        ("< /dev/null", 0, ""),
        ("--password-stdin <&-", 2, "standard input, which is closed"),
        ("--password-stdin < latin", 0, ""),
    ],
)
def test_standard_streams_that_are_full_closed_or_odd(tmp_path: Path, streams: str, status: int, said: str) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw("Grüße 川".encode())]))
    (tmp_path / "latin").write_bytes("Tür\n".encode("latin-1"))
    command = f"PYTHONIOENCODING=latin-1 {sys.executable} -m rundlet list x.zip {streams}"
    done = subprocess.run(command, shell=True, capture_output=True, encoding="latin-1", check=False, cwd=tmp_path)
    assert done.returncode == status and said in done.stderr and "Traceback" not in done.stderr + done.stdout


def test_a_terminal_with_few_letters(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw("川.txt".encode())]))
    words = [sys.executable, "-m", "rundlet", "list", "x.zip"]
    environment = {**os.environ, "PYTHONIOENCODING": "latin-1"}
    done = subprocess.run(words, capture_output=True, check=False, cwd=tmp_path, env=environment)
    assert done.returncode == 0 and rb"\u5ddd.txt" in done.stdout


def test_an_archive_in_a_folder_that_can_not_be_looked_into(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "x.zip.001").write_bytes(b"x")

    def refused(*_: object, **__: object) -> None:
        raise PermissionError(13, "")

    monkeypatch.setattr(os, "listdir", refused)
    assert run("list", "x.zip.001") == (2, "", ["rundlet: Could not open the folder “.”: you have no permission."])


def test_a_plain_tar_is_not_called_intact(run: Run, tmp_path: Path) -> None:
    """It keeps no checksums of contents; around a compressed one there are some."""
    (tmp_path / "a").write_text("content")
    for name, said in (
        ("x.tar", "1 item of “x.tar” could be read, but can't be verified: it has no checksum."),
        ("x.tar.gz", "is intact: 1 item read."),
    ):
        assert run("pack", name, "a")[0] == 0
        status, out, _ = run("check", name)
        assert status == 0 and said in out
    assert json.loads(run("check", "x.tar", "--json")[1])["result"][0]["unverified"] == 1


def test_the_result_says_what_was_skipped_renamed_and_left_out(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"a"), Raw(b"b"), Raw(b"../c"), Raw(b"d", b"other")]))
    (tmp_path / "out").mkdir()
    for name in ("a", "d"):
        (tmp_path / "out" / name).write_text("content")
    _, out, _ = run("unpack", "x.zip", "--into", "out", "--leave-same")
    assert "Unpacked 2 files" in out
    assert "1 already there with the same content, 1 renamed, 1 left out." in out
    _, out, _ = run("unpack", "x.zip", "--into", "out", "--on-clash", "skip")
    assert "3 skipped, 1 left out." in out


def test_cancelling_the_second_archive_says_that_the_first_stays(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("x.zip", "y.zip"):
        (tmp_path / name).write_bytes(raw_zip([Raw(b"a")]))
    real = unpack_verb.unpack  # type: ignore[attr-defined]

    def second_is_cancelled(plan: UnpackPlan, reader: ArchiveReader, job: Job) -> Unpacked:
        if plan.archive == "y.zip":
            raise Cancelled
        return real(plan, reader, job)

    monkeypatch.setattr(unpack_verb, "unpack", second_is_cancelled)
    status, _, lines = run("unpack", "x.zip", "y.zip", "--into", "out")
    assert (status, lines) == (130, ["rundlet: Cancelled; 1 archive before “y.zip” stayed unpacked."])
    assert (tmp_path / "out" / "x" / "a").exists()


@pytest.mark.parametrize("fmt", ["zip", "7z"])
def test_passwords_in_every_spelling_and_not_without_end(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fmt: str
) -> None:
    """Composed or decomposed accents are the same to a person; a password of megabytes is refused at once."""
    (tmp_path / "a").write_text("content")

    def typed(words: str) -> None:
        monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(f"{words}\n".encode())))

    typed("Tür")
    assert run("pack", f"x.{fmt}", "a", "--password-stdin", *(["--hide-names"] if fmt == "7z" else []))[0] == 0
    typed("Tu\u0308r")
    assert run("check", f"x.{fmt}", "--password-stdin")[0] == 0
    typed("x" * 2000)
    status, _, lines = run("check", f"x.{fmt}", "--password-stdin")
    assert status == 2 and "at most 1,000 characters" in lines[0]
    typed("x" * 2000)
    assert run("pack", f"y.{fmt}", "a", "--password-stdin")[0] == 2


def test_settings_are_shown_and_changed(run: Run, tmp_path: Path) -> None:
    status, out, _ = run("settings")
    assert status == 0 and "pack.level = -1 (default)" in out and "unpack.memory = " in out
    assert run("settings", "unpack.memory", "64MiB")[0] == 0
    assert "unpack.memory = 64 MiB" in run("settings", "unpack.memory")[1]
    assert json.loads(run("settings", "unpack.memory", "--json")[1])["result"][0]["value"] == 64 << 20
    (tmp_path / "a.bin").write_bytes(b"a" * 100)
    assert run("pack", tmp_path / "x.7z", tmp_path / "a.bin", "--level", "1")[0] == 0
    assert run("check", tmp_path / "x.7z")[0] == 0
    assert "(default)" in run("settings", "unpack.memory", "--reset")[1]
    for words in (("nonsense",), ("unpack.memory", "1k"), ("pack.level", "12"), ("list.hidden-files", "maybe")):
        status, out, err = run("settings", *words)
        assert status == 2 and not out and len(err) == 1 and err[0].startswith("rundlet: ")
