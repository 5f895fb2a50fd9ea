"""Checksums: made in one read, read in every form they are published in, and never led out of their folder."""

from __future__ import annotations

import hashlib
import json
import os
import time
import zlib
from pathlib import Path
from typing import TYPE_CHECKING

import hypothesis.strategies as st
import pytest
from hypothesis import given
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog

from rundlet.cli.main import main
from rundlet.core.errors import Cancelled
from rundlet.core.jobs.job import Job
from rundlet.core.model.checksum_list import Algorithm, ChecksumLine, read_checksums, written_checksums
from rundlet.core.model.published import Answer, answers, published_in
from rundlet.core.userdata.sum_cache import SumCache
from rundlet.core.work.checksums import Match, sums_of, verify
from rundlet.desktop.pages.sums_page import SumsPage, SumsTarget
from support import held, packed
from windows import Settle, Stand, click

if TYPE_CHECKING:
    from rundlet.desktop.window import Window

CTRL = Qt.KeyboardModifier.ControlModifier

_LENGTHS = {"SHA256": 64, "SHA512": 128, "SHA1": 40, "MD5": 32, "BLAKE2b": 128, "CRC32": 8}
NAMES = st.text(min_size=1, max_size=20).filter(
    lambda name: name == name.strip() and "".join(name.splitlines()) == name
)


def expected(data: bytes) -> dict[Algorithm, str]:
    """What the standard library says."""
    return {
        Algorithm.SHA256: hashlib.sha256(data).hexdigest(),
        Algorithm.SHA512: hashlib.sha512(data).hexdigest(),
        Algorithm.SHA1: hashlib.sha1(data).hexdigest(),
        Algorithm.MD5: hashlib.md5(data).hexdigest(),
        Algorithm.BLAKE2B: hashlib.blake2b(data).hexdigest(),
        Algorithm.CRC32: f"{zlib.crc32(data):08x}",
    }


def test_all_of_them_in_one_read(tmp_path: Path) -> None:
    datas = [b"", b"some words", os.urandom(3_000_001)]
    paths = [tmp_path / str(number) for number in range(3)]
    for path, data in zip(paths, datas, strict=True):
        path.write_bytes(data)
    os.mkfifo(tmp_path / "pipe")
    job = Job()
    found = sums_of([*paths, tmp_path / "none", tmp_path / "pipe", tmp_path], list(Algorithm), job)
    assert [each.sums for each in found[:3]] == [expected(data) for data in datas]
    assert job.snapshot().done_bytes >= 3_000_011
    assert [bool(each.problem) and not each.sums for each in found[3:]] == [True] * 3
    job.cancel()
    with pytest.raises(Cancelled):
        sums_of(paths, [Algorithm.MD5], job)


@given(
    st.lists(
        st.builds(lambda n, a: ChecksumLine(n, a, "ab" * (_LENGTHS[a.value] // 2)), NAMES, st.sampled_from(Algorithm))
    )
)
def test_a_list_comes_back(lines: list[ChecksumLine]) -> None:
    read, odd = read_checksums("# a comment\n\n" + written_checksums(lines, named=True))
    assert (read, odd) == (lines, [])
    told = [line for line in lines if line.algorithm is not Algorithm.BLAKE2B]
    assert read_checksums(written_checksums(told, named=False))[0] == told


@pytest.mark.parametrize(
    ("text", "name", "algorithm"),
    [
        ("D41D8CD98F00B204E9800998ECF8427E *a b.txt", "a b.txt", Algorithm.MD5),
        ("\\d41d8cd98f00b204e9800998ecf8427e  a\\\\b\\nc", "a\\b\nc", Algorithm.MD5),
        ("MD5 (a (1).txt) = d41d8cd98f00b204e9800998ecf8427e", "a (1).txt", Algorithm.MD5),
        ("SHA-1(a) = da39a3ee5e6b4b0d3255bfef95601890afd80709", "a", Algorithm.SHA1),
        ("; made by hand\nfolder/a b.txt 0000ABCD", "folder/a b.txt", Algorithm.CRC32),
        ("\ufeff" + "0" * 128 + "  a\r\n", "a", Algorithm.SHA512),
        ("BLAKE2b (a) = " + "0" * 128, "a", Algorithm.BLAKE2B),
    ],
)
def test_every_form_is_read(text: str, name: str, algorithm: Algorithm) -> None:
    (line,), odd = read_checksums(text)
    assert (line.name, line.algorithm, odd) == (name, algorithm, []) and line.digest == line.digest.lower()


@given(st.text(max_size=200))
def test_anything_is_read_without_an_error(text: str) -> None:
    lines, odd = read_checksums(text)
    assert all(line.name and line.digest for line in lines) and all(number > 0 for number in odd)


def test_a_list_is_held_against_its_files(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    (folder / "deep").mkdir(parents=True)
    (tmp_path / "secret").write_bytes(b"secret")
    (folder / "deep" / "a").write_bytes(b"a")
    (folder / "b").write_bytes(b"changed")
    (folder / "link").symlink_to(tmp_path / "secret")
    (folder / "gone").symlink_to("nowhere")
    names = ("deep/a", "b", "c", "link", "../secret", "/etc/passwd", "deep/../../secret", "deep", "gone")
    sums = expected(b"a")
    lines = [ChecksumLine(name, Algorithm.SHA256, sums[Algorithm.SHA256]) for name in names]
    lines.append(ChecksumLine("deep/a", Algorithm.CRC32, sums[Algorithm.CRC32]))
    found = verify(lines, folder)
    assert [each.match for each in found] == [
        Match.SAME, Match.DIFFERS, Match.MISSING, *[Match.OUTSIDE] * 4, Match.UNREADABLE, Match.UNREADABLE, Match.SAME,
    ]  # fmt: skip
    assert found[1].found == expected(b"changed")[Algorithm.SHA256]


def test_on_the_command_line(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("a b").write_bytes(b"content")
    assert main(["sum", "a b"]) == 0
    out = capsys.readouterr().out
    assert out == f"{hashlib.sha256(b'content').hexdigest()}  a b\n"
    Path("SUMS").write_text(out + "nothing of sense\n")
    assert main(["sum", "--check", "SUMS"]) == 1
    out, err = capsys.readouterr()
    assert out == "a b: matches\n" and "Line 2 of “SUMS”" in err
    assert main(["sum", "--algorithm", "md5", "--algorithm", "blake2b", "a b"]) == 0
    Path("SUMS").write_text(capsys.readouterr().out)
    assert main(["sum", "--check", "SUMS"]) == 0
    capsys.readouterr()
    Path("a b").write_bytes(b"another")
    assert main(["sum", "--check", "--json", "SUMS"]) == 1
    told = json.loads(capsys.readouterr().out)["result"]
    assert [each["result"] for each in told] == ["differs", "differs"]
    assert main(["sum", "a b", "none"]) == 1
    assert "Could not read “none”: it is not there." in capsys.readouterr().err
    for arguments in (["--algorithm", "rot13", "a b"], ["--check", "a b"], ["--check", "none"]):
        assert main(["sum", *arguments]) == 2
    assert "There is no checksum “rot13”" in capsys.readouterr().err


PUBLISHED = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"  # of the word "test"
_GROUPS = " ".join(PUBLISHED[at : at + 8] for at in range(0, 64, 8))


@pytest.mark.parametrize(
    ("pasted", "digests", "names"),
    [
        (PUBLISHED, [PUBLISHED], [""]),
        (PUBLISHED.upper(), [PUBLISHED], [""]),
        (f"  {PUBLISHED}\n", [PUBLISHED], [""]),
        (_GROUPS, [PUBLISHED], [""]),
        (f"{PUBLISHED[:32]}\n{PUBLISHED[32:]}", [PUBLISHED], [""]),
        (":".join(PUBLISHED[at : at + 2].upper() for at in range(0, 64, 2)), [PUBLISHED], [""]),
        (f"The SHA-256 is {PUBLISHED}. Be sure to compare it.", [PUBLISHED], [""]),
        (f"SHA256: {_GROUPS}", [PUBLISHED], [""]),
        (f"{PUBLISHED}  a.iso\n{'0' * 40} *b.iso", [PUBLISHED, "0" * 40], ["a.iso", "b.iso"]),
        (f"MD5 (a.iso) = {'1' * 32}", ["1" * 32], ["a.iso"]),
        ("D87F7E0C", ["d87f7e0c"], [""]),
        ("; made by hand\na.bin D87F7E0C\nb.bin 00000000", ["d87f7e0c", "00000000"], ["a.bin", "b.bin"]),
        (PUBLISHED[:-1], [PUBLISHED[:-1]], [""]),
        ("nothing of the kind, a bad facade", [], []),
        ("", [], []),
    ],
)
def test_whatever_is_pasted(pasted: str, digests: list[str], names: list[str]) -> None:
    """C3: one, many, a list, or a sentence with one in it."""
    found = published_in(pasted)
    assert [each.digest for each in found] == digests and [each.name for each in found] == names


def test_a_near_miss_says_where(tmp_path: Path) -> None:
    sums = {tmp_path / "a.iso": expected(b"test"), tmp_path / "b.iso": expected(b"other")}

    def answer(text: str) -> Answer:
        (found,) = answers(text, sums)
        return found

    right = answer(PUBLISHED)
    assert right.matches and right.path == tmp_path / "a.iso" and right.algorithm == Algorithm.SHA256
    wrong = answer(PUBLISHED[:10] + "0" + PUBLISHED[11:40] + "11" + PUBLISHED[42:])
    assert not wrong.matches and wrong.path == tmp_path / "a.iso" and wrong.differing == (10, 40, 41)
    for place in (0, 20, 63):
        short = answer(PUBLISHED[:place] + PUBLISHED[place + 1 :])
        assert short.path == tmp_path / "a.iso" and place in range(short.differing[0], short.differing[-1] + 2)
    assert answer("0" * 64).path is None
    named = answer(f"{'0' * 64}  a.iso")
    assert named.path == tmp_path / "a.iso" and not named.differing and not named.matches
    assert answer(expected(b"test")[Algorithm.BLAKE2B]).algorithm == Algorithm.BLAKE2B


def test_what_was_computed_is_kept_until_the_file_changes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    cache = SumCache(tmp_path / "sums.json")
    path = tmp_path / "large"
    path.write_bytes(b"x" * 2_000_000)
    os.utime(path, (10**9, 10**9))
    now = time.time_ns()
    monkeypatch.setattr("time.time_ns", lambda: now + 10**10)
    (first,) = sums_of([path], [Algorithm.SHA256], cache=cache)
    job = Job()
    (again,) = sums_of([path], [Algorithm.SHA256], job, cache=SumCache(tmp_path / "sums.json"))
    assert again.sums == first.sums and not job.snapshot().done_bytes
    both = sums_of([path], [Algorithm.SHA256, Algorithm.MD5], cache=cache)[0].sums
    assert both == {one: expected(b"x" * 2_000_000)[one] for one in (Algorithm.SHA256, Algorithm.MD5)}
    path.write_bytes(b"y" * 2_000_000)
    os.utime(path, (10**9, 10**9))
    assert sums_of([path], [Algorithm.SHA256], cache=cache)[0].sums != first.sums
    (tmp_path / "sums.json").write_text("{broken")
    assert sums_of([path], [Algorithm.SHA256], cache=cache)[0].sums


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar.gz"])
def test_of_files_in_an_archive(tmp_path: Path, fmt: str, capsys: pytest.CaptureFixture[str]) -> None:
    archive = packed(tmp_path, fmt)
    assert main(["sum", "--inside", "--json", "--algorithm", "md5", str(archive)]) == 0
    value = json.loads(capsys.readouterr().out)["result"]
    files = {each["file"]: each["MD5"] for each in value}
    wanted = {path: hashlib.md5(data or b"").hexdigest() for path, data in held(archive).items()}
    assert {path: digest for path, digest in files.items() if path in wanted} == files and len(files) >= 5
    assert main(["sum", "--inside", str(archive)]) == 0
    lines, odd = read_checksums(capsys.readouterr().out)
    assert not odd and {line.name for line in lines} == set(files)


def test_the_page(window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """C3: computed, pasted and answered, saved as a list, and the list checked: what is missing, what is extra."""
    (home / "d").mkdir()
    for name, data in (("a.iso", b"test"), ("b.iso", b"other"), ("d/c.iso", b"third")):
        (home / name).write_bytes(data)
    stand(home)
    click(window, "a.iso")
    click(window, "b.iso", CTRL)
    click(window, "d", CTRL)
    settle()
    window.how.what.chosen.emit("sums")
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, SumsPage) and isinstance(to, SumsTarget)
    window.window_actions["how"].trigger()
    assert how.paste.hasFocus() and to.go.text() == "Compute checksums"
    to.go.click()
    to.go.click()
    settle()
    sha = expected(b"test")[Algorithm.SHA256]
    assert (
        to.list.count() == 3 and sha in to.list.item(0).text().replace(" ", "") and to.verdict.text() == "3 files read"
    )
    how.paste.setPlainText(f"SHA256: {sha.upper()}")
    assert to.verdict.text() == "✓ Matches “a.iso” (SHA-256)." and how.told.text() == "SHA-256"
    how.paste.setPlainText("1" + sha[1:])
    near = "1" if sha[0] != "1" else "2"
    how.paste.setPlainText(near + sha[1:])
    assert to.verdict.text().startswith(
        "Almost the checksum of “a.iso”: character 1 differs."
    ) and to.more.text().startswith(f"[{sha[0]}]")
    how.paste.setPlainText("not a checksum")
    assert how.told.text() == "This isn't a checksum." and to.verdict.text() == "3 files read"
    how.paste.setPlainText(expected(b"third")[Algorithm.MD5])
    assert to.go.text() == "Compare" and to.verdict.text() == "3 files read"
    to.go.click()
    settle()
    assert to.verdict.text() == "✓ Matches “c.iso” (MD5)."
    how.paste.setPlainText(f"{sha}  a.iso\n{sha}  b.iso\n{'0' * 64}  z.iso")
    assert to.verdict.text() == "1 of 3 checksums matches." and to.list.count() == 6
    how.paste.setPlainText("")
    (home / "a.iso").write_bytes(b"TEST")
    window.workspace.refresh()
    settle()
    assert to.verdict.text() == "Not computed yet" and to.go.text() == "Compute checksums"
    to.go.click()
    settle()
    for name in ("list.sha256", "nowhere/x"):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, name=name: (str(home / name), ""))
        to.save.click()
    assert "Could not write" in to.facts.text()
    lines, odd = read_checksums((home / "list.sha256").read_text())
    assert not odd and {line.name for line in lines} == {"a.iso", "b.iso", "d/c.iso"}
    (home / "b.iso").write_bytes(b"changed")
    (home / "d/c.iso").unlink()
    (home / "extra.txt").write_bytes(b"extra")
    window.window_actions["refresh"].trigger()
    settle()
    click(window, "list.sha256")
    settle()
    assert how.statement.text() == "Check 3 files against the list" and to.go.text() == "Check 3 files"
    to.go.click()
    settle()
    assert to.verdict.text() == (
        "1 of 3 files matches. 1 file differs. 1 file is missing. 1 file here is not in the list."
    )
    texts = [to.list.item(row).text() for row in range(to.list.count())]
    assert set(texts) == {"✗ differs  b.iso", "✗ is missing  d/c.iso", "✓ matches  a.iso", "not in the list  extra.txt"}
    to.copy.click()
    assert "✗ differs  b.iso" in QApplication.clipboard().text()
    window.how.what.chosen.emit("pack")
    settle()
    assert window.target.go.text() == "Pack 1 item"


def test_many_are_answered_at_once(tmp_path: Path) -> None:
    sums = {tmp_path / f"{number}.bin": {Algorithm.MD5: f"{number:032x}"} for number in range(5000)}
    text = "".join(f"{number:032x}  {number}.bin\n" for number in range(5000)).replace("  77.bin", "  78.bin")
    found = answers(text, sums)
    assert [answer.published.name for answer in found if not answer.matches] == ["78.bin"] and len(found) == 5000
