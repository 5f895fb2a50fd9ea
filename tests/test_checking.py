"""Checking: each item is judged while it is read, the verdict is told apart, and what is intact can be had."""

from __future__ import annotations

import json
import zipfile
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog

from mutating import attempts
from rundlet.cli.main import main
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.jobs.findings import Reason
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.work.checker import Verdict, check
from rundlet.core.work.packer import pack
from rundlet.desktop.locations.archive import ArchiveListing
from rundlet.desktop.pages.check_page import CheckPage, CheckTarget
from rundlet.desktop.pages.checks_page import ChecksPage, ChecksTarget
from support import Raw, at_length_too, held, packed, raw_zip, rounds
from windows import Settle, Stand, click

if TYPE_CHECKING:
    from rundlet.desktop.window import Window

CTRL = Qt.KeyboardModifier.ControlModifier


def judged(archive: Path, rows: list[int] | None = None) -> dict[str, Verdict]:
    """What is found out of each item."""
    found: dict[str, Verdict] = {}
    reader = open_archive(archive)

    def tell(row: int, verdict: Verdict) -> None:
        found[reader.catalog.path(row)] = verdict

    outcome = check(reader, rows=None if rows is None else np.array(rows), tell=tell)
    reader.close()
    counts = {verdict: list(found.values()).count(verdict) for verdict in Verdict}
    assert (outcome.files, outcome.unverified) == (
        counts[Verdict.INTACT] + counts[Verdict.UNTOLD],
        counts[Verdict.UNTOLD],
    )
    assert (outcome.damaged, outcome.missing) == (counts[Verdict.DAMAGED], counts[Verdict.MISSING])
    assert outcome.unreadable == counts[Verdict.UNREADABLE] and outcome.whole == (rows is None)
    return found


def damaged_zip(folder: Path) -> Path:
    """An archive with something of everything that can be wrong with an item."""
    target = folder / "bad.zip"
    data = raw_zip(
        [
            Raw(b"good.txt", b"good"),
            Raw(b"sum.txt", b"content", crc=1),
            Raw(b"method.bin", b"x" * 20, method=77),
            Raw(b"locked.txt", b"x" * 20, flags=0x801),
            Raw(b"short.txt", b"content", method=8, packed=b"\x01\xff"),
        ]
    )
    target.write_bytes(data)
    return target


def test_what_is_wrong_is_told_apart(tmp_path: Path) -> None:
    assert judged(damaged_zip(tmp_path)) == {
        "good.txt": Verdict.INTACT,
        "sum.txt": Verdict.DAMAGED,
        "method.bin": Verdict.UNREADABLE,
        "locked.txt": Verdict.UNREADABLE,
        "short.txt": Verdict.DAMAGED,
    }
    assert set(judged(tmp_path / "bad.zip", [0, 1])) == {"good.txt", "sum.txt"}


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar", "tar.gz"])
def test_damage_and_missing_parts(tmp_path: Path, fmt: str) -> None:
    """What is intact is called so, and what a missing part takes with it is no damage."""
    whole = packed(tmp_path, fmt)
    good = Verdict.UNTOLD if fmt == "tar" else Verdict.INTACT
    found = judged(whole)
    assert {found[f"tree/{name}"] for name in ("a.txt", "b.bin", "deep/er/e.csv")} == {good}
    (tmp_path / "parts").mkdir()
    info = by_id(fmt).info
    target = tmp_path / "parts" / f"y{info.ending}"
    pack(plan_pack([tmp_path / "tree"], target=target, info=info, options=WriteOptions(0), part_size=40_000))
    next((tmp_path / "parts").glob("*.002")).unlink()
    found = judged(next((tmp_path / "parts").glob("*.001")))
    bad = {verdict for verdict in found.values() if not verdict.is_good}
    assert Verdict.MISSING in bad or Verdict.DAMAGED in bad
    if fmt in ("zip", "tar"):
        assert bad == {Verdict.MISSING} and good in found.values()


def test_what_belongs_to_no_item_or_to_two(tmp_path: Path) -> None:
    """Junk between items is said, padding and descriptors are none, and bytes of two items are told apart from damage."""
    plain = raw_zip([Raw(b"a.txt", b"first"), Raw(b"b.txt", b"second")])
    at = plain.index(b"PK\x03\x04", 4)
    cases = {"junk": b"left behind by somebody", "padding": bytes(40)}
    for name, between in cases.items():
        data = bytearray(plain[:at] + between + plain[at:])
        second, end = data.index(b"PK\x01\x02", data.index(b"PK\x01\x02") + 4), data.index(b"PK\x05\x06")
        for place in (second + 42, end + 16):
            value = int.from_bytes(data[place : place + 4], "little") + len(between)
            data[place : place + 4] = value.to_bytes(4, "little")
        (tmp_path / f"{name}.zip").write_bytes(data)
    found = {}
    for name in cases:
        with closing(open_archive(tmp_path / f"{name}.zip")) as reader:
            found[name] = check(reader)
    assert [issue.reason for issue in found["junk"].issues] == [Reason.JUNK_BETWEEN]
    assert found["junk"].issues[0].finding.facts["count"] == len(cases["junk"]) and not found["junk"].problems
    assert not found["padding"].issues
    (tmp_path / "shared.zip").write_bytes(raw_zip([Raw(b"a", b"one"), Raw(b"b", b"two", offset=0)]))
    with closing(open_archive(tmp_path / "shared.zip")) as reader:
        assert {issue.reason for issue in check(reader).issues} == {Reason.SHARED_BYTES}


@at_length_too
def test_no_check_tells_a_lie() -> None:
    """Wherever an archive is damaged: nothing is called intact that is not, nor damaged that comes out as it was."""
    wrong, said = attempts(rounds(210, 2000), seed=1)
    assert not wrong
    assert all(said[verdict.name] for verdict in (Verdict.INTACT, Verdict.UNTOLD, Verdict.DAMAGED))


def test_a_name_in_front_that_is_another(tmp_path: Path) -> None:
    """A zip says the name of each item twice."""
    archive = tmp_path / "x.zip"
    with zipfile.ZipFile(archive, "w") as out:
        out.writestr("harmless.txt", b"content")
        out.writestr("größe.txt", b"content")
    data = archive.read_bytes()
    archive.write_bytes(data.replace(b"harmless.txt", b"dangerous.sh", 1))
    reader = open_archive(archive)
    outcome = check(reader)
    (told,) = outcome.issues
    reader.close()
    assert (told.item, told.reason, outcome.files) == ("harmless.txt", Reason.NAME_IN_FRONT, 2)
    assert told.finding.facts["name"] == "dangerous.sh" and not outcome.problems


def test_several_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    good, bad = packed(tmp_path, "zip"), damaged_zip(tmp_path)
    (tmp_path / "none.zip").write_bytes(b"no archive")
    assert main(["check", str(good)]) == 0
    capsys.readouterr()
    assert main(["check", str(good), str(bad), str(tmp_path / "none.zip")]) == 1
    out, err = capsys.readouterr()
    assert "is intact" in out and "1 of 5 items" in out and "2 items are damaged. 2 items can't be read." in out
    assert "is not an archive" in err and "sum.txt" in err
    assert main(["check", "--json", str(good), str(bad)]) == 1
    first, second = json.loads(capsys.readouterr().out)["result"]
    assert first["damaged"] == 0 and {"path": "tree/a.txt", "result": "intact"} in first["items"]
    assert {"path": "sum.txt", "result": "damaged"} in second["items"] and second["damaged"] == second[
        "unreadable"
    ] == 2


def notes(window: Window) -> dict[str, str]:
    listing = window.workspace.listing
    assert isinstance(listing, ArchiveListing)
    return {listing.tree.path(node): listing.record(node).note for node in range(1, len(listing.tree))}


def test_the_page(window: Window, settle: Settle, stand: Stand, home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """C1, C4: verdicts on the rows, the whole in a sentence, a report, and what is intact selected, unpacked and kept."""
    stand(damaged_zip(home))
    window.how.within.chosen.emit("check")
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, CheckPage) and isinstance(to, CheckTarget)
    assert to.verdict.text() == "Not checked yet" and to.go.text() == "Check 5 files"
    window.window_actions["how"].trigger()
    assert how.lock.edit.hasFocus()
    to.go.click()
    to.go.click()
    settle()
    assert notes(window) == {
        "good.txt": "✓ intact",
        "sum.txt": "✗ damaged",
        "method.bin": "✗ can't be read",
        "locked.txt": "✗ can't be read",
        "short.txt": "✗ damaged",
    }
    assert to.verdict.text().startswith("1 of 5 items of “bad.zip” is intact. 2 items are damaged.")
    assert to.wrong.count() == 4 and to.go.text() == "Check again" and window.workspace.checking.found is not None
    to.copy.click()
    assert "✗ damaged  sum.txt" in QApplication.clipboard().text()
    for name, begins in (("report.txt", str(home / "bad.zip")), ("report.json", "{")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, name=name: (str(home / name), ""))
        to.save.click()
        assert (home / name).read_text().startswith(begins)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(home / "nowhere" / "x"), ""))
    to.save.click()
    assert "Could not write" in to.facts.text()
    to.select_bad.click()
    settle()
    assert window.workspace.selection.items == 4 and to.go.text() == "Check 4 files"
    to.damaged_too.click()
    to.save_good.click()
    settle()
    tree = window.target.change.view
    assert tree.model().rowCount() == 1 and tree.model().index(0, 0).data() == "good.txt"
    assert window.how.change.statement.text() == "A new archive of 1 intact file"
    window.target.go.click()
    settle()
    assert held(home / "bad.7z") == {"good.txt": b"good", "sum (damaged).txt": b"content"}
    assert "✗ can't be read  locked.txt" in (home / "bad report.txt").read_text()
    assert window.strip.problems_button.isVisible()
    window.window_actions["undo"].trigger()
    settle()
    assert not (home / "bad.7z").exists() and not (home / "bad report.txt").exists() and (home / "bad.zip").exists()
    window.how.within.chosen.emit("check")
    to.unpack_good.click()
    settle()
    assert window.target.go.text() == "Unpack 1 item" and notes(window)["good.txt"] == ""
    window.target.go.click()
    settle()
    assert [path.name for path in home.rglob("good.txt")] == ["good.txt"]


def test_checking_again_and_elsewhere(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """What was found out holds for the archive as it was, and is there on coming back; a tar says what it can't tell."""
    archive = packed(home, "tar")
    stand(archive)
    window.window_actions["check"].trigger()
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, CheckPage) and isinstance(to, CheckTarget)
    assert "keeps no checksums" in how.kinds.text() and "can't be verified: they have no checksum" in to.verdict.text()
    assert notes(window)["tree/a.txt"] == "? no checksum"
    window.window_actions["how"].trigger()
    assert QApplication.focusWidget() is window.how.within.first
    window.workspace.refresh()
    settle()
    assert window.target.page is to and to.go.text() == "Check again"
    click(window, "tree/a.txt")
    settle()
    assert to.go.text() == "Check 1 file"
    stand(home)
    stand(archive)
    window.how.within.chosen.emit("check")
    settle()
    assert notes(window)["tree/a.txt"] == "? no checksum" and to.go.text() == "Check again"
    packed_again = archive.read_bytes()
    archive.unlink()
    archive.write_bytes(packed_again)
    stand(home)
    stand(archive)
    window.how.within.chosen.emit("check")
    settle()
    assert notes(window)["tree/a.txt"] == "" and to.verdict.text() == "Not checked yet"


def test_several_archives_at_once(window: Window, settle: Settle, stand: Stand, home: Path) -> None:
    """C1: archives that are selected on the disk are checked at once, with one line for each."""
    packed(home, "7z")
    damaged_zip(home)
    (home / "none.zip").write_bytes(b"\0 no archive")
    stand(home)
    click(window, "y.7z" if (home / "y.7z").exists() else next(home.glob("*.7z")).name)
    for name in ("bad.zip", "none.zip"):
        click(window, name, CTRL)
    settle()
    assert window.how.what.offered == ["unpack", "check", "pack", "sums"]
    window.how.what.chosen.emit("check")
    settle()
    how, to = window.how.page, window.target.page
    assert isinstance(how, ChecksPage) and isinstance(to, ChecksTarget)
    assert how.statement.text() == "Check 3 archives" and to.verdict.text() == "Not checked yet"
    window.window_actions["how"].trigger()
    assert window.how.what.first.hasFocus()
    to.go.click()
    to.go.click()
    settle()
    assert to.verdict.text() == "1 of 3 archives is intact." and to.go.text() == "Check again"
    texts = sorted(to.list.item(row).text() for row in range(to.list.count()))
    assert [text[:1] for text in texts] == ["✓", "✗", "✗"] and len(window.history.journal.records()) == 3
    assert any("1 of 5 items of “bad.zip” is intact" in text for text in texts)
    assert any(text.startswith("✗ “none.zip” is not an archive") for text in texts)
    to.copy.click()
    assert "    sum.txt: " in QApplication.clipboard().text()
    (bad,) = (to.list.item(row) for row in range(3) if "bad.zip" in to.list.item(row).text())
    to.list.itemActivated.emit(bad)
    settle()
    assert isinstance(window.target.page, CheckTarget) and notes(window)["sum.txt"] == "✗ damaged"
    window.window_actions["up"].trigger()
    settle()
    window.window_actions["check"].trigger()
    settle()
    assert isinstance(window.target.page, ChecksTarget)
    window.source.view.clearSelection()
    settle()
    assert not isinstance(window.target.page, ChecksTarget)
