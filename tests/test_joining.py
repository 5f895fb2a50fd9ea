"""C2: the parts of a plain file are joined in one step, and what is missing, short or wrong is told before."""

from __future__ import annotations

import hashlib
import json
import os
import random
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from PySide6.QtWidgets import QFileDialog

from rundlet.cli.main import main
from rundlet.core.errors import Cancelled, OutOfDate
from rundlet.core.jobs.job import Job
from rundlet.core.work.joiner import join, plan_join
from rundlet.desktop.pages.check_page import CheckTarget
from rundlet.desktop.pages.join_page import JoinPage, JoinTarget
from support import pack_to
from windows import Settle, Stand, click

if TYPE_CHECKING:
    from rundlet.desktop.window import Window

SIZE = 100_000


def split(folder: Path, name: str = "film.mkv", parts: int = 4) -> bytes:
    """A file in parts, the last one shorter."""
    data = random.Random(7).randbytes((parts - 1) * SIZE + 123)
    for number in range(parts):
        (folder / f"{name}.{number + 1:03}").write_bytes(data[number * SIZE : (number + 1) * SIZE])
    return data


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    data = split(tmp_path)
    out = tmp_path / "film.mkv"
    part = tmp_path / "film.mkv.003"
    assert main(["join", "--dry-run", str(part), str(out)]) == 0
    assert "Would join 4 parts" in capsys.readouterr().out and not out.exists()
    assert main(["join", str(part), str(out)]) == 0
    assert out.read_bytes() == data and "Joined 4 parts into “film.mkv”" in capsys.readouterr().out
    assert main(["join", str(part), str(out)]) == 2  # its name is taken
    assert main(["join", "--json", "--on-clash", "rename", str(part), str(out)]) == 0
    capsys.readouterr()
    (tmp_path / "film.mkv.002").rename(tmp_path / "away")
    (tmp_path / "film.mkv.003").write_bytes(data[:10])
    assert main(["join", "--dry-run", "--json", str(part), str(tmp_path / "x")]) == 1
    told, said = capsys.readouterr()
    assert "Part 2 is not all here: 0 of 100,000 bytes." in said and "Part 3 is not all here: 10 of" in said
    assert [each["there"] for each in json.loads(told)["result"]["parts"]] == [SIZE, 0, 10, 123]
    assert main(["join", str(part), str(tmp_path / "x")]) == 2
    assert "Part 2, “film.mkv.002”, is not here" in capsys.readouterr().err and not (tmp_path / "x").exists()
    assert main(["join", str(out), str(tmp_path / "x")]) == 2
    assert "is not one of several parts" in capsys.readouterr().err


def test_a_wrong_part_and_a_broken_off_join_leave_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    data = split(tmp_path)
    names = [f"film.mkv.{number:03}" for number in range(1, 5)]
    sums = [f"{hashlib.sha256((tmp_path / name).read_bytes()).hexdigest()}  {name}\n" for name in names]
    (tmp_path / "film.mkv.sha256").write_text("".join(sums))
    part, out = tmp_path / names[0], tmp_path / "film.mkv"
    assert main(["join", str(part), str(out)]) == 0 and out.read_bytes() == data
    out.unlink()
    (tmp_path / names[2]).write_bytes(b"x" * SIZE)
    capsys.readouterr()
    assert main(["join", str(part), str(out)]) == 2
    assert (
        "“film.mkv.003” is not what the checksum file beside the parts says. Fetch it again." in capsys.readouterr().err
    )
    (tmp_path / "film.mkv.sha256").unlink()
    plan = plan_join(part)
    assert plan is not None and not plan.holds_archive
    job = Job()
    job.cancel()
    with pytest.raises(Cancelled):
        join(plan, out, job)
    os.utime(tmp_path / names[1], (1, 1))
    with pytest.raises(OutOfDate):
        join(plan, out)
    assert sorted(path.name for path in tmp_path.iterdir()) == names


def test_parts_of_an_archive_are_checked_against_their_sums(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "noise.bin").write_bytes(random.Random(1).randbytes(50_000))
    assert main(["pack", str(tmp_path / "x.tar"), str(tmp_path / "noise.bin"), "--part-size", "20kB"]) == 0
    assert main(["check", str(tmp_path / "x.tar.001")]) == 0
    with (tmp_path / "x.tar.002").open("r+b") as file:
        file.seek(50)
        file.write(b"another")
    capsys.readouterr()
    assert main(["check", str(tmp_path / "x.tar.001")]) == 1
    assert "x.tar.002: is not what the checksum file beside the parts says" in capsys.readouterr().err


def test_the_page(
    window: Window, settle: Settle, stand: Stand, home: Path, trash: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Join is offered for parts that hold no archive; a missing part is found elsewhere; undo takes the file away."""
    data = split(home)
    (home / "elsewhere").mkdir()
    (home / "film.mkv.002").rename(home / "elsewhere" / "a download")
    (home / "tree").mkdir()
    (home / "tree" / "a.bin").write_bytes(random.Random(2).randbytes(50_000))
    assert main(["pack", str(home / "x.zip"), str(home / "tree"), "--part-size", "20kB"]) == 0
    stand(home)
    click(window, "x.zip.001")
    settle()
    assert window.how.what.offered == ["unpack", "check", "pack", "sums"]
    click(window, "film.mkv.003")
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, JoinPage) and isinstance(to, JoinTarget)
    assert window.how.what.offered == ["join", "pack", "sums"] and how.statement.text() == "Join 4 parts"
    assert [how.list.item(row).text() for row in range(4)][1] == "✗ film.mkv.002 is missing, 100.0 kB"
    assert to.facts.text() == "Part 2 is not all here." and not to.go.isEnabled()
    (finder,) = to.finders.buttons
    assert finder.text() == "Find part 2 …"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(home / "elsewhere" / "a download"), ""))
    finder.click()
    settle()
    assert (home / "film.mkv.002").read_bytes() == data[SIZE : 2 * SIZE] and not to.finders.buttons
    assert to.go.isEnabled() and to.go.text() == "Join 4 parts"
    window.how.what.chosen.emit("pack")
    assert window.target.go.text() == "Pack 1 item"
    window.how.what.chosen.emit("join")
    to.go.click()
    to.go.click()
    settle()
    assert (home / "film.mkv").read_bytes() == data and not list(home.glob("film*(2)*"))
    window.window_actions["undo"].trigger()
    settle()
    assert not (home / "film.mkv").exists() and (trash / "film.mkv").exists()
    (home / "x.zip.002").rename(home / "elsewhere" / "a download")
    window.workspace.enter_file(home / "x.zip.001")
    settle()
    window.how.within.chosen.emit("check")
    check = window.target.page
    assert isinstance(check, CheckTarget)
    (finder,) = check.finders.buttons
    (home / "elsewhere" / "a download").rename(home / "elsewhere" / "part two")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(home / "elsewhere" / "part two"), ""))
    finder.click()
    settle()
    window.workspace.refresh()
    settle()
    assert (home / "x.zip.002").exists() and window.workspace.archive is not None and not check.finders.buttons
    window.window_actions["up"].trigger()
    settle()
    assert window.source.notice.isHidden()
    with (home / "x.zip.002").open("r+b") as file:
        file.write(b"XXXX")
    window.workspace.enter_file(home / "x.zip.001")
    settle()
    assert "x.zip.002: is not what the checksum file beside the parts says" in window.source.notice.words.text()
    window.window_actions["up"].trigger()
    settle()
    pack_to(home / "y.zip", [home / "tree"])
    (home / "y.zip").rename(home / "y.dat.001")
    window.window_actions["refresh"].trigger()
    settle()
    click(window, "y.dat.001")
    settle()
    assert "join" not in window.how.what.offered
