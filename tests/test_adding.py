"""Adding to an archive: what was in it stays as it was, and it is the old one or the new one, never something between."""

from __future__ import annotations

import os
import tarfile
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

import second_reader
from rundlet.core.errors import Cancelled, Corrupt, OutOfDate, PasswordNeeded, PlanError, RundletError, WrongPassword
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.formats.sevenz import writer as seven_writer
from rundlet.core.formats.sevenz.records import Property
from rundlet.core.formats.tar.reader import TarReader
from rundlet.core.formats.zip import rewriting as zip_rewriting
from rundlet.core.jobs.job import Job
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.opening import Opening
from rundlet.core.plans.change_plan import Addition, Changes, plan_change
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.work.changer import change
from rundlet.core.work.extractor import unpack
from rundlet.core.work.packer import pack
from rundlet.presentation.findings import issue_line, issue_words
from support import Raw, contents, make_tree, pack_to, raw_zip, snapshot, unpack_to

if TYPE_CHECKING:
    from rundlet.core.formats.sevenz.new_header import Row
    from rundlet.core.jobs.outcomes import Outcome
    from rundlet.core.model.item import PackItem

FORMATS = [known.info.id for known in WRITABLE]


def add(archive: Path, items: list[Path], *, password: str = "", job: Job | None = None, workers: int = 2) -> Outcome:
    fmt = next(known.info for known in WRITABLE if archive.name.endswith(known.info.ending))
    options = WriteOptions(fmt.default_level, password=password)
    changes = Changes(added=[Addition(item) for item in items])
    return change(plan_change(archive, changes, options=options, read_back=True), job, workers=workers)


def more_of(tree: Path) -> Path:
    """Another folder of the same name: something new, the same again, something else, and a file for a folder."""
    more = tree.parent / "more" / "tree"
    (more / "in" / "new").mkdir(parents=True)
    (more / "in" / "new" / "far.txt").write_text("added later")
    (more / "in" / "large.csv").write_bytes((tree / "in" / "large.csv").read_bytes())
    (more / "plain.txt").write_text("other words")
    (more / "link").symlink_to("in/deep")
    (more / "empty folder").write_text("a file now")
    (more / "big.bin").write_bytes(os.urandom(1_200_000))
    return more


@pytest.mark.parametrize("fmt", FORMATS)
def test_adding_keeps_what_is_there(tmp_path: Path, fmt: str) -> None:
    """The entries from before come out as before, the new ones beside them, and readers of others agree."""
    tree = make_tree(tmp_path)
    os.truncate(tree / "in" / "large.csv", 200_000)
    archive = tmp_path / f"x{by_id(fmt).info.ending}"
    pack_to(archive, [tree], fmt=fmt)
    twin = tmp_path / "twin" / archive.name
    twin.parent.mkdir()
    twin.write_bytes(archive.read_bytes())
    before = snapshot(tree)
    outcome = add(archive, [more_of(tree)])
    add(twin, [tree.parent / "more" / "tree"], workers=1)
    assert archive.read_bytes() == twin.read_bytes()
    assert (outcome.kind, outcome.created, outcome.problems) == ("change", [], [])
    said = {issue.item: issue_words(issue) for issue in outcome.issues}
    assert said["tree/plain.txt"] == "is called “plain (2).txt” in the archive, as it holds one of its name"
    assert said["tree/link"] == "is in the archive already, with the same content"
    assert "tree/in" not in said
    unpack_to(archive, tmp_path / "out")
    after = snapshot(tmp_path / "out" / "tree")
    new = {"in/new", "in/new/far.txt", "plain (2).txt", "empty folder (2)", "big.bin"}
    new |= {"in/large (2).csv"} if fmt.startswith("tar") else set()  # which has no checksums to tell the same by
    assert set(after) - set(before) == new
    folders = {".", "in"}
    assert {path: node for path, node in after.items() if path not in new | folders} == {
        path: node for path, node in before.items() if path not in folders
    }
    assert (tmp_path / "out" / "tree" / "plain (2).txt").read_text() == "other words"
    names = {f"tree/{path}" for path in after if path != "."} | {"tree"}
    if fmt == "zip":
        with zipfile.ZipFile(archive) as second:
            assert {name.rstrip("/") for name in second.namelist()} == names
            assert second.read("tree/in/new/far.txt") == b"added later"
    elif fmt in ("tar", "tar.gz", "tar.bz2", "tar.xz"):
        with tarfile.open(archive) as third:
            assert set(third.getnames()) == names
    if not fmt.startswith("tar"):
        with pytest.raises(PlanError, match=r"already holds all of it"):
            add(archive, [tree])


def test_originals_stay_when_the_archive_held_some_of_them(tmp_path: Path, trash: Path) -> None:
    """Only what was read back may go to the trash, and what was in the archive before is not read."""
    for name in ("a.txt", "b.txt", "c.txt"):
        (tmp_path / name).write_text(name * 100)
    archive = tmp_path / "x.zip"
    pack_to(archive, [tmp_path / "a.txt"])
    items = [tmp_path / name for name in ("a.txt", "b.txt", "c.txt")]
    outcome = change(plan_change(archive, Changes(added=[Addition(item) for item in items]), trash=True))
    assert [item.exists() for item in items] == [True, False, False]
    assert [issue_line(issue) for issue in outcome.problems] == [
        "a.txt: stays where it is, as “a.txt” is not in the archive as it is"
    ]


@pytest.mark.parametrize("fmt", ["zip", "7z"])
def test_adding_to_what_is_locked(tmp_path: Path, fmt: str) -> None:
    """What is locked stays so, what is added is locked too, and hidden names stay hidden."""
    tree = make_tree(tmp_path)
    archive = tmp_path / f"x.{fmt}"
    options = WriteOptions(3, password="right", hide_names=fmt == "7z")
    pack(plan_pack([tree], target=archive, info=by_id(fmt).info, options=options))
    before = archive.read_bytes()
    with pytest.raises((PlanError, PasswordNeeded), match="locked"):
        add(archive, [more_of(tree)])
    with pytest.raises(WrongPassword):
        add(archive, [tree.parent / "more" / "tree"], password="wrong")
    assert archive.read_bytes() == before
    add(archive, [tree.parent / "more" / "tree"], password="right")
    if fmt == "7z":
        with pytest.raises(PasswordNeeded):
            open_archive(archive)
    reader = open_archive(archive, Opening(password="right"))
    if not reader.unlocked:
        reader.unlock("right")
    assert reader.names_hidden == (fmt == "7z")
    assert all(entry.encrypted for entry in reader.catalog if entry.kind.word == "file" and entry.size)
    assert not unpack(plan_unpack(reader, into=tmp_path / "out"), reader).problems
    assert (tmp_path / "out" / "tree" / "big.bin").read_bytes() == (tmp_path / "more" / "tree" / "big.bin").read_bytes()
    reader.close()


def test_what_is_not_added_to(tmp_path: Path) -> None:
    """Each with its reason in a sentence, and the old archive untouched."""
    tree = make_tree(tmp_path)
    seven = tmp_path / "odd.zip"
    pack_to(tmp_path / "x.7z", [tree / "plain.txt"], fmt="7z")
    seven.write_bytes((tmp_path / "x.7z").read_bytes())
    stub = tmp_path / "stub.7z"
    stub.write_bytes(b"MZ" + bytes(998) + (tmp_path / "x.7z").read_bytes())
    cut = tmp_path / "cut.tar"
    pack_to(tmp_path / "x.tar", [tree], fmt="tar")
    cut.write_bytes((tmp_path / "x.tar").read_bytes()[:100_000])
    (tmp_path / "words.zip").write_text("only words")
    (tmp_path / "folder.zip").mkdir()
    pack(plan_pack([tree], target=tmp_path / "parts.zip", info=by_id("zip").info, part_size=100_000))
    reasons = {
        stub: "behind a program",
        cut: "is damaged, so it can't be changed",
        tmp_path / "words.zip": "not an archive",
    }
    for archive, reason in reasons.items():
        before = archive.read_bytes()
        with pytest.raises(Exception, match=reason):
            add(archive, [tree / "in" / "noise.bin"])
        assert archive.read_bytes() == before
    with pytest.raises(RundletError):
        add(tmp_path / "folder.zip", [tree])
    with pytest.raises(PlanError, match="comes in parts"):
        plan_change(tmp_path / "parts.zip.001", Changes(added=[Addition(tree)]))
    add(seven, [tree / "in" / "noise.bin"])  # a name says nothing of the format
    reader = open_archive(seven)
    assert reader.info.id == "7z" and len(reader.catalog) == 2
    reader.close()


def test_adding_to_what_others_wrote(tmp_path: Path) -> None:
    """A program in front, a comment behind, and entries of methods that are not written here stay as they are."""
    new, large = tmp_path / "new.txt", tmp_path / "large"
    new.write_text("new")
    large.write_bytes(os.urandom(1_500_000))  # goes in by pieces, with its header mended afterwards
    entries = [Raw(b"a.txt", b"first"), Raw(b"odd", b"??", method=99), Raw(b"plain.txt", b"second")]
    for number, before in enumerate((b"", b"#!/bin/sh\nexit\n" * 50)):
        archive = tmp_path / f"{number}.zip"
        archive.write_bytes(raw_zip(entries, before=before, comment=b"as it was said"))
        add(archive, [new, large])
        assert archive.read_bytes().startswith(before)
        with zipfile.ZipFile(archive) as second:
            assert second.comment == b"as it was said"
            assert second.namelist() == ["a.txt", "odd", "plain.txt", "new.txt", "large"]
            assert second.read("large") == large.read_bytes()
            assert [second.read(name) for name in ("a.txt", "plain.txt", "new.txt")] == [b"first", b"second", b"new"]


def test_an_archive_that_lost_something_is_not_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Reading back sees that all names from before are there again."""
    for name in ("a.txt", "b.txt"):
        (tmp_path / name).write_text(name)
    archive = tmp_path / "x.zip"
    pack_to(archive, [tmp_path / "a.txt"])
    before = archive.read_bytes()
    records = zip_rewriting.raw_records  # type: ignore[attr-defined]
    monkeypatch.setattr(
        zip_rewriting,
        "raw_records",
        lambda *asked: (records(*asked)[0].replace(b"a.txt", b"z.txt"), records(*asked)[1]),
    )
    with pytest.raises(Corrupt, match="not all that was in it"):
        add(archive, [tmp_path / "b.txt"])
    assert archive.read_bytes() == before


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar.gz"])
def test_a_change_that_fails_half_way_leaves_the_old_one(tmp_path: Path, fmt: str) -> None:
    """X3: cancelled while writing, or changed by others since the plan."""
    tree = make_tree(tmp_path)
    archive = tmp_path / f"x.{fmt}"
    pack_to(archive, [tree], fmt=fmt)
    before, listed = archive.read_bytes(), sorted(os.listdir(tmp_path))

    class Stopped(Job):
        def advance(self, count: int = 0, *, entries: int = 0) -> None:
            if self.snapshot().done_bytes > 300_000:
                self.cancel()
            super().advance(count, entries=entries)

    noise = tmp_path / "tree" / "in" / "more noise.bin"
    noise.write_bytes(os.urandom(3_000_000))
    with pytest.raises(Cancelled):
        add(archive, [noise], job=Stopped())
    assert (archive.read_bytes(), sorted(os.listdir(tmp_path))) == (before, listed)
    plan = plan_change(archive, Changes(added=[Addition(noise)]))
    pack_to(archive, [tree / "plain.txt"], fmt=fmt)
    with pytest.raises(OutOfDate):
        change(plan)
    reader = open_archive(archive)
    assert list(contents(reader)) == ["plain.txt"]
    reader.close()


def test_what_holds_for_a_tars_old_entries_does_not_for_new_ones(tmp_path: Path) -> None:
    """Global attributes of a pax archive end where ours begin, for other readers too."""
    archive = tmp_path / "x.tar"
    held = {"mtime": "1000000000", "uname": "somebody", "uid": "4711", "comment": "theirs", "path": "", "size": ""}
    with tarfile.open(archive, "w", format=tarfile.PAX_FORMAT, pax_headers={k: v for k, v in held.items() if v}) as tar:
        tar.addfile(tarfile.TarInfo("old.txt"))
    (tmp_path / "new.txt").write_text("new")
    os.utime(tmp_path / "new.txt", (1_900_000_000, 1_900_000_000))
    add(archive, [tmp_path / "new.txt"])
    with tarfile.open(archive) as tar:
        old, new = tar.getmembers()
        assert (old.mtime, old.uname, old.uid) == (1_000_000_000, "somebody", 4711)
        assert (new.mtime, new.uname, new.uid, new.size) == (1_900_000_000, "", 0, 3)
        assert not new.pax_headers.get("comment")
    reader = open_archive(archive)
    assert isinstance(reader, TarReader)
    assert reader.catalog.entry(1).mtime_ns == 1_900_000_000 * 10**9 and reader.index.globals >= {b"uname", b"comment"}
    reader.close()


def test_all_times_and_marks_of_a_7z_are_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What our own archives don't hold, but others' do: more times, start positions, and items that only take away."""
    real = seven_writer.new_row  # type: ignore[attr-defined]

    def rich(item: PackItem) -> Row:
        row = real(item)
        row.times = {Property.CTIME: 11, Property.ATIME: 12, Property.MTIME: 1 << 62, Property.START_POS: 13}
        row.is_anti = item.path.endswith("gone")
        return row

    archive = tmp_path / "x.7z"
    (tmp_path / "a.txt").write_text("content")
    (tmp_path / "gone").touch()
    with monkeypatch.context() as richly:
        richly.setattr(seven_writer, "new_row", rich)
        pack_to(archive, [tmp_path / "a.txt", tmp_path / "gone"], fmt="7z")
    before = {entry.name: entry for entry in second_reader.read(archive.read_bytes())}
    (tmp_path / "b.txt").write_text("more")
    add(archive, [tmp_path / "b.txt"])
    after = {entry.name: entry for entry in second_reader.read(archive.read_bytes())}
    assert set(after) == {"a.txt", "gone", "b.txt"} and after["gone"].anti and not after["b.txt"].anti
    for name in ("a.txt", "gone"):
        assert (before[name].created, before[name].accessed, before[name].changed, before[name].start) == (
            11,
            12,
            1 << 62,
            13,
        )
        assert after[name] == before[name]
