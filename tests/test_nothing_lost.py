"""What must never be lost: originals, archives, what is replaced, and what others do to a folder at the same time."""

from __future__ import annotations

import errno
import json
import os
import subprocess
import sys
import tarfile
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import breaking
from rundlet.cli.main import main
from rundlet.core.errors import Cancelled, Clash, FileProblem, OutOfDate, PlanError
from rundlet.core.formats.detect import by_id, open_archive
from rundlet.core.fs import create_rename, moving
from rundlet.core.fs.moving import move_into
from rundlet.core.fs.replaced import recover_folder
from rundlet.core.fs.safe_names import first_free, safe_name
from rundlet.core.fs.trash import from_trash, to_trash, trash_one
from rundlet.core.jobs.job import Job
from rundlet.core.jobs.outcomes import Moved, Packed, Trashed
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.plans.change_plan import Addition, Changes, plan_change
from rundlet.core.plans.pack_plan import PackClash, plan_pack
from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
from rundlet.core.plans.unpack_planner import plan_unpack
from rundlet.core.streams import replacing
from rundlet.core.streams.parts import PartsSink, whole_set
from rundlet.core.streams.renaming import rename_new
from rundlet.core.userdata.journal import Journal, Put, record_of
from rundlet.core.work.changer import change
from rundlet.core.work.extractor import put_away, unpack
from rundlet.core.work.packer import pack
from rundlet.core.work.undo import undo
from rundlet.presentation.findings import finding_words, issue_line, issue_words
from rundlet.presentation.outcomes import outcome_words
from support import Raw, at_length_too, contents, pack_to, raw_zip, rounds, unpack_to

ZIP = by_id("zip").info


def _write(folder: Path, *names: str) -> list[Path]:
    folder.mkdir(parents=True, exist_ok=True)
    for name in names:
        (folder / name).write_text(name * 50)
    return [folder / name for name in names]


def _held(archive: Path) -> set[str]:
    reader = open_archive(archive)
    try:
        return {reader.catalog.path(row).rstrip("/") for row in range(len(reader.catalog))}
    finally:
        reader.close()


# Originals


@pytest.mark.parametrize(
    ("names", "clash", "made", "held", "gone"),
    [
        # An archive that has the name that was asked for is an item like any other when the new one is numbered.
        (["D.zip", "a.txt", "b.txt"], "rename", "D (2).zip", {"D.zip", "a.txt", "b.txt"}, {"D.zip", "a.txt", "b.txt"}),
        (["D.zip"], "rename", "D (2).zip", {"D.zip"}, {"D.zip"}),
        # One that is replaced can't go into the new one, which is said, and is no original.
        (["D.zip", "a.txt"], "replace", "D.zip", {"a.txt"}, {"a.txt"}),
    ],
)
def test_only_what_the_archive_holds_goes_to_the_trash(
    tmp_path: Path, trash: Path, names: list[str], clash: str, made: str, held: set[str], gone: set[str]
) -> None:
    pack_to(tmp_path / "D.zip", _write(tmp_path / "before", "old.txt"))
    _write(tmp_path, "a.txt", "b.txt")
    items = [tmp_path / name for name in names]
    plan = plan_pack(items, target=tmp_path / "D.zip", info=ZIP, trash=True, on_clash=PackClash(clash))
    said = [issue_line(issue) for issue in plan.issues]
    assert said == (["D.zip: was left out, as the new archive takes its place"] if clash == "replace" else [])
    pack(plan)
    assert _held(tmp_path / made) == held
    assert {path.name for path in trash.iterdir()} == gone
    assert all((tmp_path / name).exists() for name in {"D.zip", "a.txt", "b.txt"} - gone)


def test_an_archive_in_the_packed_folder_is_packed_or_named(tmp_path: Path) -> None:
    _write(tmp_path / "f", "a.txt")
    pack_to(tmp_path / "f" / "x.zip", [tmp_path / "f" / "a.txt"])
    plan = plan_pack([tmp_path / "f"], target=tmp_path / "f" / "x.zip", info=ZIP, on_clash=PackClash.REPLACE)
    assert [issue.item for issue in plan.issues if issue.problem] == ["f/x.zip"]
    plan = plan_pack([tmp_path / "f"], target=tmp_path / "f" / "x.zip", info=ZIP, on_clash=PackClash.RENAME)
    assert not plan.issues and "f/x.zip" in {item.path for item in plan.items}


def test_what_appears_or_changes_while_packing_stays(tmp_path: Path, trash: Path) -> None:
    """Each original by itself: what is not in the archive as it is now stays, and is named."""
    _write(tmp_path / "folder", "a.txt")
    _write(tmp_path, "b.txt", "c.txt")
    (tmp_path / "link").symlink_to("c.txt")

    class Busy(Job):
        def begin(self, phase: str, **more: int) -> None:
            if "originals" in phase:
                (tmp_path / "folder" / "late.txt").write_text("made while packing")
                (tmp_path / "b.txt").write_text("x" * 250)
                os.utime(tmp_path / "b.txt", ns=(0, status.st_mtime_ns))
            super().begin(phase, **more)

    status = (tmp_path / "b.txt").stat()
    items = [tmp_path / name for name in ("folder", "b.txt", "c.txt", "link")]
    outcome = pack(plan_pack(items, target=tmp_path / "x.tar", info=by_id("tar").info, trash=True), Busy())
    assert [issue_line(issue) for issue in outcome.problems] == [
        "folder: stays where it is, as “folder/late.txt” is not in the archive as it is",
        "b.txt: stays where it is, as “b.txt” was changed since it was packed",
    ]
    assert sorted(path.name for path in trash.iterdir()) == ["c.txt", "link"]


def test_followed_links_and_hard_links(tmp_path: Path, trash: Path) -> None:
    """A link is not in the archive when what it leads to was packed; a second name of a file is."""
    (a,) = _write(tmp_path, "a.txt")
    (tmp_path / "link").symlink_to("a.txt")
    pack(plan_pack([tmp_path / "link"], target=tmp_path / "x.zip", info=ZIP, trash=True, follow=True))
    assert a.exists() and (tmp_path / "link").is_symlink()
    os.link(a, tmp_path / "again.txt")
    outcome = pack(
        plan_pack([a, tmp_path / "again.txt"], target=tmp_path / "x.tar", info=by_id("tar").info, trash=True)
    )
    # The first one that goes changes the other's time of change, so that one stays: better than to be wrong about it.
    assert len(outcome.trashed) + len(outcome.problems) == 2 and not (a.exists() and (tmp_path / "again.txt").exists())


def test_cancelling_while_originals_go_says_what_stayed(tmp_path: Path, trash: Path) -> None:
    items = _write(tmp_path, "a.txt", "b.txt", "c.txt")

    class Stopped(Job):
        def advance(self, count: int = 0, *, entries: int = 0) -> None:
            super().advance(count, entries=entries)
            if trash.exists():
                self.cancel()

    outcome = pack(plan_pack(items, target=tmp_path / "x.zip", info=ZIP, trash=True), Stopped())
    assert _held(tmp_path / "x.zip") == {"a.txt", "b.txt", "c.txt"}
    assert [path.exists() for path in items] == [False, True, True]
    assert [issue_line(issue) for issue in outcome.problems] == [
        "x.zip: was packed; 2 originals stayed where they are, as you cancelled"
    ]


# Archives that go once they are unpacked


@pytest.mark.parametrize("after", [Afterwards.TRASH, Afterwards.INTO])
@pytest.mark.parametrize(
    ("how", "why"),
    [
        ({}, ""),
        ({"rows": [1]}, "only some of it is unpacked"),
        ({"on_clash": UnpackClash.SKIP}, "1 file is skipped"),
        ({"keep_folders": False}, "its folders are not unpacked"),
        ({"bad": True}, "1 item can't be unpacked"),
        ({"on_clash": UnpackClash.SKIP, "leave_same": True}, ""),
    ],
)
def test_an_archive_goes_only_when_everything_came_out(
    tmp_path: Path, trash: Path, after: Afterwards, how: dict[str, Any], why: str
) -> None:
    how = dict(how)
    entries = [Raw(b"f/", b"", mode=0o40755), Raw(b"f/a.txt", b"in it"), Raw(b"f/b.txt", b"too")]
    if how.pop("bad", False):
        entries.append(Raw(b"../out.txt", b"never"))
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip(entries))
    into = tmp_path / "into"
    (into / "f").mkdir(parents=True)
    (into / "f" / "a.txt").write_text("in it" if how.get("leave_same") else "mine")
    rows = np.array(how.pop("rows"), np.int64) if "rows" in how else None
    reader = open_archive(archive)
    plan = plan_unpack(reader, rows, into=into, **how)
    assert (finding_words(plan.lacking) if plan.lacking is not None else "") == why
    outcome = unpack(plan, reader)
    put_away(plan, reader, outcome, Job(), after)
    reader.close()
    assert archive.exists() == bool(why)
    if why:
        assert f"x.zip: stays where it is, as {why}" in [issue_line(issue) for issue in outcome.issues]
    elif after == Afterwards.INTO:
        assert (into / "x.zip").exists()
    else:
        assert (trash / "x.zip").exists()


def test_an_archive_that_was_replaced_meanwhile_stays(tmp_path: Path, trash: Path) -> None:
    archive = tmp_path / "x.zip"
    pack_to(archive, _write(tmp_path / "f", "a.txt"))
    reader = open_archive(archive)
    plan = plan_unpack(reader, into=tmp_path / "out")
    outcome = unpack(plan, reader)
    pack_to(archive, _write(tmp_path / "f", "another.txt"))
    put_away(plan, reader, outcome, Job(), Afterwards.TRASH)
    reader.close()
    assert archive.exists() and not trash.exists()


# What is replaced


def test_cancelling_gives_back_what_was_replaced(tmp_path: Path, trash: Path) -> None:
    """Also where what is replaced is not to be kept, and for links."""
    archive = tmp_path / "x.zip"
    archive.write_bytes(
        raw_zip([Raw(b"a.txt", b"new"), Raw(b"link", b"a.txt", mode=0o120777), Raw(b"b.bin", bytes(200_000))])
    )
    into = tmp_path / "into"
    _write(into, "a.txt", "b.bin", "link")
    before = breaking.digest(into)

    class Stopped(Job):
        def checkpoint(self) -> None:
            if (into / "link").is_symlink():  # which comes last
                self.cancel()
            super().checkpoint()

    reader = open_archive(archive)
    with pytest.raises(Cancelled):
        unpack(plan_unpack(reader, into=into, on_clash=UnpackClash.REPLACE), reader, Stopped(), workers=1)
    reader.close()
    assert breaking.digest(into) == before and not list(into.glob(".*")) and not trash.exists()


def test_an_archive_keeps_its_owner_and_permissions(tmp_path: Path) -> None:
    archive = tmp_path / "x.zip"
    items = _write(tmp_path, "a.txt", "b.txt")
    pack_to(archive, items[:1])
    archive.chmod(0o600)
    if os.getuid() == 0:
        os.chown(archive, 1234, 1234)
    for does in (
        lambda: change(plan_change(archive, Changes(added=[Addition(items[1])]))),
        lambda: pack(plan_pack(items[1:], target=archive, info=ZIP, on_clash=PackClash.REPLACE)),
    ):
        does()
        status = archive.stat()
        assert status.st_mode & 0o777 == 0o600
        assert os.getuid() or (status.st_uid, status.st_gid) == (1234, 1234)
    (tmp_path / "link.zip").symlink_to("x.zip")
    pack(plan_pack(items, target=tmp_path / "link.zip", info=ZIP, on_clash=PackClash.REPLACE))
    assert (tmp_path / "link.zip").is_symlink() and _held(archive) == {"a.txt", "b.txt"}
    (tmp_path / "lost.zip").symlink_to("nowhere.zip")
    with pytest.raises(PlanError, match="link that leads nowhere"):
        plan_pack(items, target=tmp_path / "lost.zip", info=ZIP, on_clash=PackClash.REPLACE)


def test_unpacking_follows_the_mask_of_the_process(tmp_path: Path) -> None:
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip([Raw(b"a.txt", mode=0o100666), Raw(b"f/", b"", mode=0o40777)]))
    words = "import os, sys; os.umask(0o027); from rundlet.cli.main import main; sys.exit(main(sys.argv[1:]))"
    out = tmp_path / "out"
    subprocess.run([sys.executable, "-c", words, "unpack", str(archive), "--into", str(out)], check=True)
    assert [oct((out / name).stat().st_mode & 0o777) for name in ("a.txt", "f")] == ["0o640", "0o750"]


# Archives in parts


def _in_parts(tmp_path: Path, name: str, size: int = 3000) -> Path:
    (tmp_path / name).write_bytes(os.urandom(10_000))
    target = tmp_path / "x.zip"
    options = WriteOptions(0)
    plan = plan_pack(
        [tmp_path / name], target=target, info=ZIP, options=options, part_size=size, on_clash=PackClash.REPLACE
    )
    pack(plan)
    return target


def test_a_stranger_beside_parts_is_left_alone(tmp_path: Path) -> None:
    """Neither replaced with them, nor taken for one of them."""
    target = _in_parts(tmp_path, "old")
    for name in ("x.zip.2024", "x.zip.0002", "x.zip.007"):
        (tmp_path / name).write_text("somebody else's")
    assert [path.name for path in whole_set(target)] == [*(f"x.zip.00{n}" for n in range(1, 5)), "x.zip.sha256"]
    _in_parts(tmp_path, "new", 6000)
    assert {path.name for path in tmp_path.glob("x.zip.*")} == {
        *("x.zip.001", "x.zip.002", "x.zip.sha256"),
        *("x.zip.2024", "x.zip.0002", "x.zip.007"),
    }
    for name in ("x.zip.0002", "x.zip.007"):
        (tmp_path / name).unlink()
    assert _held(tmp_path / "x.zip.001") == {"new"}


def test_a_folder_named_like_a_part_stops_the_work_and_nothing_is_lost(tmp_path: Path) -> None:
    target = _in_parts(tmp_path, "old", 6000)
    (tmp_path / "x.zip.003").mkdir()
    before = {path: path.read_bytes() for path in whole_set(target)}
    with pytest.raises(Clash):
        _in_parts(tmp_path, "new", 3000)
    assert {path: path.read_bytes() for path in whole_set(target)} == before and (tmp_path / "x.zip.003").is_dir()
    assert _held(target.with_name("x.zip.001")) == {"old"}
    assert not list(tmp_path.glob(".*"))


def test_two_jobs_that_replace_the_same_parts(tmp_path: Path) -> None:
    target = _in_parts(tmp_path, "old")
    sinks = [PartsSink(target, 4000, replace=True) for _ in range(2)]
    for number, sink in enumerate(sinks):
        sink.write(bytes([number]) * 9000)
    backup = sinks[0].commit()
    assert backup is not None
    backup.discard()
    with pytest.raises(OutOfDate):
        sinks[1].commit()
    assert b"".join(path.read_bytes() for path in whole_set(target)[:-1]) == bytes(9000)
    assert not list(tmp_path.glob(".*"))


def test_a_rollback_that_fails_too_loses_nothing(tmp_path: Path) -> None:
    """What could not be put back stays beside, and is put back the next time."""
    target = _in_parts(tmp_path, "old")
    real, calls = os.rename, []

    def failing(*words: Any, **more: Any) -> None:
        calls.append(words)
        if len(calls) > 1:
            raise OSError(errno.EIO, "")
        real(*words, **more)

    with pytest.MonkeyPatch.context() as broken:
        broken.setattr("rundlet.core.streams.replacing.os.rename", failing)
        with pytest.raises(FileProblem):
            _in_parts(tmp_path, "new")
    assert len(calls) > 2 and list(tmp_path.glob(".rundlet-*"))
    recover_folder(tmp_path)
    assert _held(target.with_name("x.zip.001")) == {"old"} and not list(tmp_path.glob(".rundlet-*"))


def test_two_jobs_that_add_to_one_archive(tmp_path: Path) -> None:
    """The second is refused, whether it comes while the first is at it or has been planned before the first ended."""
    items = _write(tmp_path, "a.txt", "b.txt", "c.txt")
    archive = tmp_path / "x.zip"
    pack_to(archive, items[:1])
    plans = [plan_change(archive, Changes(added=[Addition(item)])) for item in items[1:]]

    class Meanwhile(Job):
        def begin(self, phase: str, **more: int) -> None:
            super().begin(phase, **more)
            if phase == "Saving":
                with pytest.raises(OutOfDate, match="Another job"):
                    change(plans[1])

    change(plans[0], Meanwhile())
    with pytest.raises(OutOfDate, match="changed meanwhile"):
        change(plans[1])
    assert _held(archive) == {"a.txt", "b.txt"}

    class Behind(Job):
        """Another program replaces the archive just before it is replaced here."""

        def begin(self, phase: str, **more: int) -> None:
            super().begin(phase, **more)
            if phase == "Checking":
                (tmp_path / "other").write_bytes(archive.read_bytes())
                (tmp_path / "other").replace(archive)

    with pytest.raises(OutOfDate):
        change(plan_change(archive, Changes(added=[Addition(items[2])]), read_back=True), Behind())
    assert _held(archive) == {"a.txt", "b.txt"} and not list(tmp_path.glob(".*"))


def test_two_new_folders_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A name that is taken between the look and the making is not an error, but one more name that is taken."""
    usual = first_free

    def slow(name: str, taken: Callable[[str], bool]) -> str:
        found = usual(name, taken)
        if found == "New folder":
            (tmp_path / found).mkdir()
        return found

    monkeypatch.setattr(create_rename, "first_free", slow)
    assert create_rename.new_folder(tmp_path).name == "New folder (2)"


def test_kept_parts_can_not_be_taken_for_new_ones(tmp_path: Path, trash: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """On a disk without a trash, the old parts are kept together in a folder."""

    def refused(*_: object) -> None:
        raise OSError(errno.EROFS, "")

    _in_parts(tmp_path, "old", 3000)
    monkeypatch.setattr("rundlet.core.fs.trash._cans", lambda _: iter(()))
    (tmp_path / "new").write_bytes(os.urandom(9_000))
    how: dict[str, Any] = {"target": tmp_path / "x.zip", "info": ZIP, "options": WriteOptions(0), "part_size": 6000}
    outcome = pack(plan_pack([tmp_path / "new"], on_clash=PackClash.REPLACE, keep_replaced=True, **how))
    assert "is kept as “x.zip (before)”" in issue_line(outcome.issues[-1])
    assert _held(tmp_path / "x.zip.001") == {"new"} and not (tmp_path / "x.zip.003").exists()
    assert _held(tmp_path / "x.zip (before)" / "x.zip.001") == {"old"}


# Moving, undoing, and what others do at the same time


def test_moving_to_another_disk_removes_only_what_it_copied(
    tmp_path: Path, trash: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, into = tmp_path / "source", tmp_path / "into"
    _write(source / "in", "a.txt", "b.txt")
    into.mkdir()

    def elsewhere(*_: object) -> None:
        raise OSError(errno.EXDEV, "")

    monkeypatch.setattr(moving, "_rename", elsewhere)
    synced: list[str] = []

    def sync(folder: Path) -> None:
        synced.append("sync")
        if len(synced) == 1:
            _write(source / "in", "late.txt")
            (source / "in" / "b.txt").write_text("changed")

    monkeypatch.setattr(moving, "_write_through", sync)
    outcome = Moved(into)
    move_into([source], into, outcome, Job())
    assert synced and not outcome.moved
    assert sorted(path.name for path in source.rglob("*.txt")) == ["b.txt", "late.txt"]
    assert sorted(path.name for path in (into / "source").rglob("*.txt")) == ["a.txt", "b.txt"]
    assert "stays here too" in issue_line(outcome.problems[0])
    monkeypatch.setattr(moving, "_write_through", synced.append)
    outcome = Moved(into)
    move_into([source], into, outcome, Job())
    assert not source.exists() and outcome.moved == [(str(source), str(into / "source (2)"))]


def test_nothing_is_renamed_over_what_was_made_meanwhile(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    a, b, c = _write(tmp_path, "a", "b", "c")
    with pytest.raises(FileExistsError):
        rename_new(a, b)
    monkeypatch.setattr("rundlet.core.streams.renaming._call", lambda _: None)
    with pytest.raises(FileExistsError):
        rename_new(a, b)
    rename_new(a, tmp_path / "d")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["b", "c", "d"]
    assert c.read_text() == "c" * 50


def test_undo_follows_no_folder_that_was_swapped_for_a_link(tmp_path: Path, trash: Path) -> None:
    pack_to(tmp_path / "x.zip", _write(tmp_path / "f", "a.txt"))
    outcome = unpack_to(tmp_path / "x.zip", tmp_path / "out" / "deep")
    record, puts = record_of(outcome, [tmp_path / "x.zip"])
    foreign = tmp_path / "foreign"
    foreign.mkdir()
    (foreign / "a.txt").write_bytes((tmp_path / "f" / "a.txt").read_bytes())
    mine = (tmp_path / "out" / "deep" / "a.txt").stat()
    os.utime(foreign / "a.txt", ns=(mine.st_atime_ns, mine.st_mtime_ns))
    (tmp_path / "out" / "deep").rename(tmp_path / "moved away")
    (tmp_path / "out" / "deep").symlink_to(foreign)
    undone = undo(record, puts)
    assert (foreign / "a.txt").exists() and (tmp_path / "out" / "deep").is_symlink()
    assert issue_words(undone.problems[0]) == "was changed since and stays"


def test_undo_gives_back_its_own_and_not_the_newest(tmp_path: Path, trash: Path) -> None:
    path = tmp_path / "a.txt"
    first = Trashed(tmp_path)
    for words in ("one", "two"):
        path.write_text(words)
        outcome = Trashed(tmp_path)
        to_trash([path], outcome, Job())
        first = first if first.trashed else outcome
    record, puts = record_of(first, [path])
    undo(record, puts)
    assert path.read_text() == "one"
    path.unlink()
    from_trash(path)
    assert path.read_text() == "two"


def test_a_link_that_leads_nowhere_goes_to_the_trash_and_comes_back(tmp_path: Path, trash: Path) -> None:
    link = tmp_path / "link"
    for target in ("nowhere", "nowhere else"):
        link.symlink_to(target)
        last = trash_one(link)
        assert not os.path.lexists(link)
    from_trash(link, last)
    assert os.readlink(link) == "nowhere else" and len(list(trash.iterdir())) == 1


def test_a_failed_undo_can_be_tried_again(tmp_path: Path, trash: Path) -> None:
    items = _write(tmp_path, "a.txt", "b.txt")
    journal = Journal(tmp_path / "journal")
    record, puts = record_of(pack(plan_pack(items, target=tmp_path / "x.zip", info=ZIP, trash=True)), items)
    journal.add(record, puts)
    items[1].write_text("in the way")
    outcome = undo(journal.records()[0], journal.puts(record))
    journal.tried(record, outcome.created)
    assert outcome.problems and (tmp_path / "x.zip").exists() and items[0].exists()
    items[1].unlink()
    again = undo(journal.records()[0], journal.puts(record))
    assert not again.problems and not (tmp_path / "x.zip").exists()
    assert [path.read_text() for path in items] == ["a.txt" * 50, "b.txt" * 50]


def test_many_jobs_note_themselves_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No line is lost, and no record of a job that has not written its line yet."""
    monkeypatch.setattr("rundlet.core.userdata.journal._LARGEST", 4000)
    monkeypatch.setattr("rundlet.core.userdata.journal._KEPT", 1000)
    (tmp_path / "f").write_text("f")
    put = Put(str(tmp_path / "f"), 1, 1)

    def note(_: int) -> None:
        for _ in range(20):
            record, _none = record_of(Packed(tmp_path / "x.zip"), [])
            Journal(tmp_path / "journal").add(record, [put])

    threads = [threading.Thread(target=note, args=(n,)) for n in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    journal = Journal(tmp_path / "journal")
    assert len(journal.records()) == 80
    assert all(journal.puts(record) == [put] for record in journal.records())


def test_leftovers_of_killed_jobs_go_and_those_of_living_ones_stay(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(replacing, "_YOUNG", 0.0)
    stale, held = tmp_path / replacing.hidden_name(".tmp"), tmp_path / replacing.hidden_name(".tmp")
    for path in (stale, held, tmp_path / ".rundlet-mine.tmp"):
        path.write_text("half")
    fd = os.open(held, os.O_RDWR)
    try:
        replacing.hold(fd)
        pack_to(tmp_path / "x.zip", _write(tmp_path, "a.txt"))
        assert not stale.exists() and held.exists() and (tmp_path / ".rundlet-mine.tmp").exists()
    finally:
        os.close(fd)


def test_no_archive_gives_orders_to_us(tmp_path: Path) -> None:
    """A list of names to change is taken from nobody else: neither from an archive, nor for other names than ours."""
    order = ".rundlet-0123456789abcdef.swap"
    assert safe_name(f"f/{order}").steps == ("f", f"_{order}")
    _write(tmp_path, "thesis.txt")
    number = (tmp_path / "thesis.txt").stat().st_ino
    (tmp_path / order).write_text(json.dumps({"aside": "", "old": [], "new": [["x", "thesis.txt", number]]}))
    replacing.recover(tmp_path)
    assert (tmp_path / "thesis.txt").exists()


@pytest.mark.parametrize("name", ["link", "again"])
def test_links_are_replaced_in_one_step(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    with tarfile.open(tmp_path / "x.tar", "w") as tar:
        info = tarfile.TarInfo("a")
        tar.addfile(info)
        link = tarfile.TarInfo(name)
        link.type, link.linkname = (tarfile.SYMTYPE, "a") if name == "link" else (tarfile.LNKTYPE, "a")
        tar.addfile(link)
    _write(tmp_path / "out", name)
    removed: list[object] = []
    real = os.unlink
    monkeypatch.setattr(os, "unlink", lambda path, **more: (removed.append(path), real(path, **more))[1])
    reader = open_archive(tmp_path / "x.tar")
    unpack(plan_unpack(reader, into=tmp_path / "out", on_clash=UnpackClash.REPLACE), reader, workers=1)
    reader.close()
    assert name not in [path for path in removed if isinstance(path, str) and ".rundlet" not in path][:-1]
    assert (tmp_path / "out" / name).is_symlink() == (name == "link")


def test_a_disk_without_permissions_or_second_names_loses_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As sticks and some network disks are: what can't be kept is said, and every file is there."""
    items = _write(tmp_path / "f", "a.txt", "b.txt")
    (tmp_path / "f" / "c.bin").write_bytes(os.urandom(100_000))
    pack_to(tmp_path / "x.zip", [tmp_path / "f"])

    def refused(*_: object, **__: object) -> None:
        raise PermissionError(errno.EPERM, "")

    for name in ("fchmod", "chmod", "utime", "link"):
        monkeypatch.setattr(os, name, refused)
    monkeypatch.setattr("rundlet.core.streams.sinks._names_can_come_later", False)
    outcome = unpack_to(tmp_path / "x.zip", tmp_path / "out")
    assert not outcome.problems and "can't keep the times or permissions of 4 files and folders" in issue_line(
        outcome.issues[0]
    )
    assert breaking.digest(tmp_path / "out" / "f") == breaking.digest(tmp_path / "f")
    unpack_to(tmp_path / "x.zip", tmp_path / "out", clash=UnpackClash.REPLACE)
    assert breaking.digest(tmp_path / "out" / "f") == breaking.digest(tmp_path / "f")
    for clash in (PackClash.REPLACE, PackClash.RENAME):
        pack(plan_pack(items, target=tmp_path / "x.zip", info=ZIP, on_clash=clash))
    assert _held(tmp_path / "x.zip") == {"a.txt", "b.txt"} == _held(tmp_path / "x (2).zip")
    assert not list(tmp_path.rglob(".rundlet*"))


# Broken off


@at_length_too
@pytest.mark.parametrize("scene", breaking.scenes(), ids=lambda scene: scene.name)
def test_jobs_that_are_killed_or_refused_lose_nothing(scene: breaking.Scene) -> None:
    """At a number of their steps; ``make torture`` tries all of them, in every way."""
    words = [sys.executable, breaking.__file__, "--scene", scene.name, "--stride", str(rounds(16, 3))]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert done.stdout.count("nothing lost") == len(breaking.WAYS)


# What formats and disks can't keep


def test_what_a_format_can_not_keep_is_said_once(tmp_path: Path) -> None:
    (a,) = _write(tmp_path, "a.txt")
    os.link(a, tmp_path / "twin.txt")
    os.utime(a, ns=(0, 10**19))  # in the year 2286
    try:
        os.setxattr(a, "user.note", b"dear")
        marked = 2
    except OSError:
        marked = 0
    for fmt, twins in (("zip", 1), ("7z", 1), ("tar", 0)):
        options = WriteOptions(1, owners=True)
        info = by_id(fmt).info
        plan = plan_pack([a, tmp_path / "twin.txt"], target=tmp_path / f"x.{fmt}", info=info, options=options)
        said = [issue_words(issue) for issue in plan.issues]
        assert all(not issue.problem for issue in plan.issues)
        assert ["1 hard link becomes a separate file"] * twins == said[:twins]
        assert ["file owners are not kept; tar keeps them"] * twins == said[twins : 2 * twins]
        assert "the dates of 2 files are too early or too late to be kept exactly" in said
        assert ("the extended attributes of 2 files are not kept" in said) == bool(marked)
        words = outcome_words(pack(plan))
        assert "The dates of 2 files are too early or too late to be kept exactly." in words
        assert _held(tmp_path / f"x.{fmt}") == {"a.txt", "twin.txt"}


def test_files_that_state_no_size_are_packed_whole(tmp_path: Path) -> None:
    """As those of the process file system."""
    source = Path("/proc/version")
    for fmt in ("zip", "7z", "tar", "tar.gz"):
        archive = tmp_path / f"x.{fmt}"
        pack_to(archive, [source], fmt=fmt)
        reader = open_archive(archive)
        assert contents(reader)["version"] == source.read_bytes()
        reader.close()


def test_holes_need_no_room(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A sparse file is unpacked where there is room for its data, and a disk with little room is not a full one."""
    with (tmp_path / "sparse").open("wb") as file:
        file.write(b"begin")
        file.truncate(40 << 20)
    pack_to(tmp_path / "x.tar.gz", [tmp_path / "sparse"], fmt="tar.gz")
    monkeypatch.setattr("rundlet.core.plans.unpack_planner.free_bytes", lambda _: 2 << 20)
    monkeypatch.setattr("rundlet.core.work.extractor.free_bytes", lambda _: 2 << 20)
    monkeypatch.setattr("rundlet.core.plans.pack_plan.free_bytes", lambda _: 1000)
    assert not unpack_to(tmp_path / "x.tar.gz", tmp_path / "out").problems
    assert (tmp_path / "out" / "sparse").stat().st_size == 40 << 20
    pack_to(tmp_path / "y.zip", _write(tmp_path, "a.txt"))


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar.gz", "tar.bz2", "tar.xz", "tar.zst"])
@pytest.mark.parametrize("level", [1, 9])
def test_every_encoder_can_be_stopped_within_a_step(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fmt: str, level: int
) -> None:
    """Counted in bytes and not in seconds: after Cancel, no thread takes more than it had begun with."""
    monkeypatch.setattr("rundlet.core.formats.sevenz.sorting._LOOKING", 1 << 40)
    (tmp_path / "f").mkdir()
    table = b"".join(b"%d,%d\n" % (i, i * i % 977) for i in range(500_000))
    for number in range(2):
        (tmp_path / "f" / f"{number}.csv").write_bytes(table)
    told: list[int] = []

    class Stopped(Job):
        def advance(self, count: int = 0, *, entries: int = 0) -> None:
            told.append(count)
            progress = self.snapshot()
            assert (progress.fraction or 0) < 1
            if sum(told) > 1 << 20:
                self.cancel()
            super().advance(count, entries=entries)

    info = by_id(fmt).info
    plan = plan_pack([tmp_path / "f"], target=tmp_path / f"x{info.ending}", info=info, level=level)
    with pytest.raises(Cancelled):
        pack(plan, Stopped(), workers=2)
    largest = 4 << 20 if fmt in ("zip", "tar.gz") else 128 << 10  # pieces that are quick are packed at once
    assert max(told) <= largest and sum(told) <= (1 << 20) + 8 * largest
    assert [path.name for path in tmp_path.iterdir()] == ["f"]


@pytest.mark.parametrize("fmt", ["zip", "7z", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst"])
def test_progress_moves_from_the_start_and_adds_up(tmp_path: Path, fmt: str) -> None:
    """Looking at the files before they are sorted into blocks counts, too."""
    (tmp_path / "f").mkdir()
    for number in range(600):
        (tmp_path / "f" / f"{number}.csv").write_bytes(b"%d," % number * 500)
    steps: list[tuple[int, int]] = []

    class Noted(Job):
        def advance(self, count: int = 0, *, entries: int = 0) -> None:
            super().advance(count, entries=entries)
            now = self.snapshot()
            if now.phase == "Packing":
                steps.append((now.done_bytes, now.total_bytes))

    pack_to(tmp_path / f"x.{fmt}", [tmp_path / "f"], fmt=fmt, job=Noted())
    done, total = steps[-1]
    assert 0.98 * total <= done <= 1.02 * total  # headers and rounding
    if fmt == "7z":
        assert sum(count < total // 30 for count, _ in steps) > 4


def test_links_keep_their_times_and_replaced_parts_are_named_in_the_plan(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "link").symlink_to("a")
    os.utime(tmp_path / "link", ns=(10**18, 10**18), follow_symlinks=False)
    for fmt in ("zip", "7z", "tar"):
        pack_to(tmp_path / f"x.{fmt}", [tmp_path / "link"], fmt=fmt)
        unpack_to(tmp_path / f"x.{fmt}", tmp_path / fmt)
        assert (tmp_path / fmt / "link").lstat().st_mtime_ns == 10**18
    _in_parts(tmp_path, "old", 6000)
    monkeypatch.chdir(tmp_path)
    words = ["pack", "x.zip", "old", "--part-size", "8kB", "--on-clash", "replace", "--dry-run"]
    assert main(words) == 0
    said = [line.rpartition("/")[2] for line in capsys.readouterr().out.splitlines() if "  replaced  " in line]
    assert said == ["x.zip.001", "x.zip.002", "x.zip.sha256"]
