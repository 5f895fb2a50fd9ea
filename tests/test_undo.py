"""The log and taking things back: exactly what a job put there, as long as it was not changed since."""

from __future__ import annotations

import errno
import json
import os
import shutil
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from rundlet.core.errors import FileProblem, PlanError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.fs.trash import from_trash, trash_one
from rundlet.core.jobs.outcomes import Outcome, Packed
from rundlet.core.plans.change_plan import Addition, Changes, plan_change
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_plan import UnpackClash
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.userdata.journal import Journal, Record, record_of
from rundlet.core.work.changer import change as save
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.core.work.undo import undo
from rundlet.presentation.findings import issue_line
from rundlet.presentation.undoing import undo_words
from support import make_tree, pack_to, snapshot


def unpacked(archive: Path, into: Path, journal: Journal, clash: UnpackClash = UnpackClash.RENAME) -> Record:
    reader = open_archive(archive)
    plan = plan_unpack(reader, into=into, on_clash=clash, keep_replaced=True)
    record, puts = record_of(unpack(plan, reader), [archive])
    reader.close()
    journal.add(record, puts)
    return record


def test_unpacking_is_taken_back_and_what_was_replaced_comes_back(tmp_path: Path, trash: Path) -> None:
    tree = make_tree(tmp_path)
    pack_to(tmp_path / "x.zip", [tree])
    place = tmp_path / "place"
    (place / "tree").mkdir(parents=True)
    (place / "tree" / "plain.txt").write_text("mine, and dear to me")
    (place / "tree" / "own.txt").write_text("no entry of the archive")
    before = snapshot(place, times=False)
    journal = Journal(tmp_path / "journal")
    record = unpacked(tmp_path / "x.zip", place, journal, UnpackClash.REPLACE)
    assert (trash / "plain.txt").read_text() == "mine, and dear to me"
    assert {n: node.content for n, node in snapshot(tree).items()}.items() <= {
        n: node.content for n, node in snapshot(place / "tree").items()
    }.items()
    assert undo_words(record) == "Delete what was unpacked into “place” and restore what was replaced"
    outcome = undo(record, journal.puts(record))
    assert not outcome.issues
    assert snapshot(place, times=False) == before
    journal.undone(record)
    assert journal.records()[0].undone
    with pytest.raises(PlanError, match="already"):
        undo(journal.records()[0], [])


def test_what_was_changed_since_stays(tmp_path: Path, trash: Path) -> None:
    tree = make_tree(tmp_path)
    pack_to(tmp_path / "x.7z", [tree], fmt="7z")
    journal = Journal(tmp_path / "journal")
    record = unpacked(tmp_path / "x.7z", tmp_path / "new" / "place", journal)
    place = tmp_path / "new" / "place" / "tree"
    (place / "plain.txt").write_text("edited")
    (place / "in" / "deep" / "added.txt").write_text("added")
    (place / "in" / "noise.bin").unlink()
    outcome = undo(record, journal.puts(record))
    assert sorted(path.name for path in (tmp_path / "new").rglob("*") if path.is_file()) == ["added.txt", "plain.txt"]
    assert any("plain.txt: was changed since and stays" in issue_line(issue) for issue in outcome.issues)
    assert any("deep: stays, as something else is in it" in issue_line(issue) for issue in outcome.issues)
    assert not trash.exists()

    record = unpacked(tmp_path / "x.7z", tmp_path / "other", journal)
    (tmp_path / "x.7z").unlink()
    undo(record, journal.puts(record))
    assert not (tmp_path / "other").exists()
    assert (trash / "plain.txt").read_bytes() == (tree / "plain.txt").read_bytes()


def test_packing_is_taken_back_with_its_originals(tmp_path: Path, trash: Path) -> None:
    tree = make_tree(tmp_path)
    before = snapshot(tree)
    journal = Journal(tmp_path / "journal")
    for lose in (False, True):
        outcome = pack(plan_pack([tree], target=tmp_path / "x.zip", info=by_id("zip").info, trash=True))
        record, puts = record_of(outcome, [tree], expected=(1000, 2.0))
        journal.add(record, puts)
        assert undo_words(record) == "Move “x.zip” to the trash and restore the originals"
        if lose:
            tree.mkdir()
        undone = undo(record, puts)
        assert (tmp_path / "x.zip").exists() == lose
        assert bool(undone.issues) == lose
        assert (snapshot(tree) == before) != lose
    assert [issue_line(issue).rpartition("/")[2] for issue in undone.issues] == [
        "tree: could not be restored (its place is taken)",
        "x.zip: stays, as not all of the originals could be restored",
    ]


@pytest.mark.parametrize(("adds", "part_size"), [(False, 0), (False, 70_000), (True, 0)])
def test_an_archive_that_was_replaced_or_added_to_comes_back(
    tmp_path: Path, trash: Path, monkeypatch: pytest.MonkeyPatch, adds: bool, part_size: int
) -> None:
    """All of it, in one step each way; where the disk has no trash, it is kept beside."""
    (tmp_path / "old").write_bytes(bytes(range(256)) * 1000)
    (tmp_path / "new").write_bytes(b"new")
    folder = tmp_path / "there"
    folder.mkdir()
    how: dict[str, Any] = {"target": folder / "x.zip", "info": by_id("zip").info, "part_size": part_size, "level": 0}
    pack(plan_pack([tmp_path / "old"], **how))
    before = snapshot(folder)
    journal = Journal(tmp_path / "journal")

    def change() -> tuple[Outcome, Record]:
        with (tmp_path / "new").open("ab") as new:
            new.write(b"er")
        outcome: Outcome
        if adds:
            outcome = save(
                plan_change(folder / "x.zip", Changes(added=[Addition(tmp_path / "new")]), keep_replaced=True)
            )
        else:
            plan = plan_pack([tmp_path / "new"], on_clash=PackClash.REPLACE, keep_replaced=True, **how)
            outcome = pack(plan)
        record, puts = record_of(outcome, [tmp_path / "new"])
        journal.add(record, puts)
        return outcome, journal.records()[0]

    def cut_off(*_: object, **__: object) -> None:
        raise OSError(errno.EIO, "")

    with monkeypatch.context() as broken:
        broken.setattr("rundlet.core.streams.sinks.os.rename", cut_off)
        with pytest.raises(FileProblem):
            change()
    assert snapshot(folder) == before and not trash.exists()

    outcome, record = change()
    assert not outcome.issues and snapshot(folder) != before
    assert sorted(path.name for path in trash.iterdir()) == sorted(before)
    assert undo_words(record) == "Restore “x.zip” as it was"
    assert not undo(record, journal.puts(record)).issues
    assert snapshot(folder) == before
    assert any(b"new" in path.read_bytes() for path in trash.iterdir())

    _, record = change()
    first = min(folder.iterdir())
    os.utime(first, (1, 1))
    assert [issue_line(issue).rpartition("/")[2] for issue in undo(record, journal.puts(record)).issues] == [
        f"{first.name}: was changed since and stays"
    ]
    _, record = change()
    for path in folder.iterdir():
        path.unlink()
    undo(record, journal.puts(record))
    assert first.stat().st_mtime == 1
    _, record = change()
    shutil.rmtree(trash.parent)
    now = snapshot(folder)
    assert all("(not in the trash)" in issue_line(issue) for issue in undo(record, journal.puts(record)).issues)
    assert snapshot(folder) == now

    monkeypatch.setattr("rundlet.core.fs.trash._cans", lambda _: iter(()))
    outcome, _ = change()
    assert not outcome.replaced and "is kept as" in issue_line(outcome.problems[-1])
    assert set(now.values()) <= set(snapshot(folder).values()) and not trash.exists()


def test_the_trash_gives_back_the_newest_of_a_name(tmp_path: Path, trash: Path) -> None:
    path = tmp_path / "Grüße %20 川.txt"
    for words in ("old", "new"):
        path.write_text(words)
        trash_one(path)
    from_trash(path)
    assert path.read_text() == "new"
    with pytest.raises(FileProblem, match=r"place of .* is taken"):
        from_trash(path)
    path.unlink()
    from_trash(path)
    assert path.read_text() == "old"
    with pytest.raises(FileProblem, match="not in the trash"):
        from_trash(tmp_path / "never was")
    assert not list(trash.iterdir())


def test_the_trash_of_another_disk(tmp_path: Path, trash: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is made where it is missing, says where things were from the top of the disk, and is not one that leads elsewhere."""
    top, elsewhere = tmp_path / "disk", tmp_path / "elsewhere"
    for folder in (top / "in", elsewhere, top / ".Trash"):
        folder.mkdir(parents=True)
    own = top / f".Trash-{os.getuid()}"
    monkeypatch.setattr("rundlet.core.fs.trash._cans", lambda _: iter([(top / ".Trash" / "0", top), (own, top)]))
    path = top / "in" / "a b.txt"
    path.write_text("one")
    own.symlink_to(elsewhere)
    with pytest.raises(FileProblem, match="its disk has no trash"):
        trash_one(path)
    assert path.exists() and not any(elsewhere.iterdir()) and not any((top / ".Trash").iterdir())
    own.unlink()
    info = Path(trash_one(path))
    assert info.parent == own / "info" and "Path=in/a%20b.txt\n" in info.read_text() and not path.exists()
    from_trash(path, str(info))
    assert path.read_text() == "one"


def test_very_many_sources_do_not_fill_the_journal(tmp_path: Path) -> None:
    record, _ = record_of(Packed(tmp_path / "x.zip"), [tmp_path / str(i) for i in range(20_000)])
    journal = Journal(tmp_path / "journal")
    journal.add(record, [])
    assert journal.records() == [record]
    assert record.source[0] == str(tmp_path / "0") and len(record.source) < 1000


def test_the_journal_outlives_damage_and_stays_small(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("rundlet.core.userdata.journal._LARGEST", 200_000)
    monkeypatch.setattr("rundlet.core.userdata.journal._KEPT", 50)
    journal = Journal(tmp_path / "journal")
    assert journal.records() == []
    record = Record("a", "2031-03-10T10:00:00+00:00", Packed(Path("/y.zip")), ("/x",), why="words \udce9")
    journal.add(record, [])
    with (tmp_path / "journal" / "jobs.jsonl").open("a") as lines:
        lines.write('{"half a li\n{"undone": "unknown"}\n' + json.dumps({"id": 1}) + "\n[]\n")
    journal.add(replace(record, id="b"), [])
    assert [known.id for known in journal.records()] == ["b", "a"]
    assert journal.records()[1] == record
    assert journal.puts(record) == []
    for number in range(90):
        journal.add(replace(record, id=f"n{number}", why="many words " * 400), [])
    assert len(journal.records()) <= 60
    assert journal.records()[0].id == "n89"
    (tmp_path / "file").touch()
    Journal(tmp_path / "file" / "below").add(record, [])


@pytest.mark.parametrize(
    ("archive", "kept"), [("as it was", False), ("gone", True), ("another", True), ("a folder", True)]
)
def test_what_is_nowhere_else_goes_to_the_trash(tmp_path: Path, trash: Path, archive: str, kept: bool) -> None:
    (tmp_path / "a.txt").write_text("the only one")
    target = tmp_path / "x.zip"
    pack_to(target, [tmp_path / "a.txt"])
    journal = Journal(tmp_path / "journal")
    record = unpacked(target, tmp_path / "place", journal)
    if archive != "as it was":
        target.unlink()
    if archive == "another":
        (tmp_path / "b.txt").write_text("something else")
        pack_to(target, [tmp_path / "b.txt"])
        later = os.stat(target).st_mtime + 10
        os.utime(target, (later, later))
    elif archive == "a folder":
        target.mkdir()
    assert not undo(record, journal.puts(record)).issues
    assert not (tmp_path / "place").exists()
    assert trash.exists() == kept and [path.name for path in trash.glob("*")] == ["a.txt"] * kept
