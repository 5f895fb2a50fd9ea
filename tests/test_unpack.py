"""Unpacking: nothing leaves the folder, nothing is lost, nothing half done stays."""

from __future__ import annotations

import os
import stat
import threading
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rundlet.core.errors import Cancelled, NoSpace, OutOfDate
from rundlet.core.formats.detect import open_archive
from rundlet.core.fs import disk_space as space
from rundlet.core.fs.disk_space import DiskRules
from rundlet.core.fs.safe_names import numbered, safe_link, safe_name, split_ending
from rundlet.core.jobs.job import Job
from rundlet.core.plans.unpack_plan import Action, UnpackClash, own_folder_name
from rundlet.core.plans.unpack_planner import needs_own_folder, plan_unpack
from rundlet.core.streams import sinks
from rundlet.core.text import LONGEST_MESSAGE
from rundlet.core.work.extractor import unpack
from rundlet.presentation.findings import issue_line, issue_words
from support import Raw, at_length_too, make_tree, pack_to, raw_zip, rounds, snapshot, unpack_to


def test_one_line_about_one_damaged_file(tmp_path: Path) -> None:
    """Not that it came out under another name, and that it did not."""
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"bad", crc=1), Raw(b"doubted")]))
    reader = open_archive(tmp_path / "x.zip")
    reader.doubtful = frozenset({0, 1})
    outcome = unpack(plan_unpack(reader, into=tmp_path / "out"), reader)
    reader.close()
    assert [(issue.item, issue_words(issue)[:16]) for issue in outcome.problems] == [
        ("doubted", "may be damaged, "),
        ("bad", "was left out: it"),
    ]
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["doubted (may be damaged)"]


@pytest.mark.parametrize("name", [b"n" * 250, "川".encode() * 80, b"\x1b[31m" * 40])
def test_messages_about_long_names_are_short(tmp_path: Path, name: bytes) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"f/" * 20 + name + b".txt", crc=1)]))
    outcome = unpack_to(tmp_path / "x.zip", tmp_path / "out")
    assert outcome.problems and all(len(issue_line(issue)) <= LONGEST_MESSAGE for issue in outcome.issues)
    assert issue_line(outcome.problems[-1]).startswith("f/f/") and ".txt: " in issue_line(outcome.problems[-1])


HOSTILE = [
    (Raw(b"../up"), "leads upwards"),
    (Raw(b"a/../../up"), "leads upwards"),
    (Raw(b"/etc/absolute"), "begins with “/”"),
    (Raw(b"C:\\drive"), "drive letter"),
    (Raw(b""), "no name"),
    (Raw(b"x/" * 2500 + b"deep"), "longer than"),
    (Raw(b"pipe", mode=0o010644), "device or a pipe"),
    (Raw(b"device", mode=0o020644), "device or a pipe"),
    (Raw(b"link-out", b"../../etc", mode=0o120777), "link to a place outside"),
    (Raw(b"link-abs", b"/etc", mode=0o120777), "link to a place outside"),
    (Raw(b"d/link-through", b"x/../../../etc", mode=0o120777), "link to a place outside"),
    (Raw(b"link-empty", b"", mode=0o120777), "without a usable target"),
    (Raw(b"harmless/under-file"), "its folder is called “harmless (2)”"),
    (Raw(b"planted/evil"), "in the place of its folder"),
]


def test_hostile_entries_stay_out_and_the_harmless_come_out(tmp_path: Path) -> None:
    entries = [
        Raw(b"harmless"),
        Raw(b"planted", b"..", mode=0o120777),
        *(raw for raw, _ in HOSTILE),
        Raw(b"./also/fine"),
    ]
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip(entries))
    into = tmp_path / "cage" / "out"
    into.mkdir(parents=True)
    outcome = unpack_to(archive, into)
    said = "\n".join(map(issue_line, outcome.issues))
    for _, words in HOSTILE:
        assert words in said
    assert len(outcome.problems) == len(HOSTILE) + 1  # and the planted link itself
    assert sorted(snapshot(into)) == ["also", "also/fine", "harmless", "harmless (2)", "harmless (2)/under-file"]
    assert sorted(p.name for p in (tmp_path / "cage").iterdir()) == ["out"]


def test_what_is_altered_is_said(tmp_path: Path) -> None:
    long = b"n" * 300 + b".txt"
    marked = [Raw(b"set-id", mode=0o104755), Raw(b"sticky", mode=0o101644)]
    entries = [*marked, Raw(b"bell\x07\x00name"), Raw(long), Raw(b"twice"), Raw(b"twice", b"two")]
    (tmp_path / "x.zip").write_bytes(raw_zip(entries))
    outcome = unpack_to(tmp_path / "x.zip", tmp_path / "out")
    assert len(outcome.problems) == 3
    kept = "the set-user-ID, set-group-ID or sticky bits of 2 items are not kept"
    assert [(i.item, issue_words(i)) for i in outcome.issues if not i.problem] == [("x.zip", kept)]
    out = snapshot(tmp_path / "out")
    assert out["set-id"].mode == 0o755
    assert "bell__name" in out
    assert "n" * 251 + ".txt" in out
    assert (out["twice"].content, out["twice (2)"].content) == (b"content", b"two")


def test_nothing_is_written_through_links_that_are_there(tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    out = tmp_path / "out"
    out.mkdir()
    (out / "folder").symlink_to(outside)
    (out / "file").symlink_to(outside / "target")
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"folder/evil"), Raw(b"file", b"new"), Raw(b"fine")]))
    outcome = unpack_to(tmp_path / "x.zip", out, clash=UnpackClash.REPLACE)
    assert not list(outside.iterdir())
    assert (out / "file").read_bytes() == b"new"
    assert not (out / "file").is_symlink()
    assert [issue.item for issue in outcome.problems] == ["folder/evil"]


def test_a_link_planted_after_the_plan_stops_nothing_else(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"folder/evil"), Raw(b"fine")]))
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=tmp_path / "out")
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "folder").symlink_to(tmp_path / "elsewhere")
    outcome = unpack(plan, reader)
    reader.close()
    assert "nothing is written through links" in issue_line(outcome.problems[0])
    assert not list((tmp_path / "elsewhere").iterdir())
    assert (tmp_path / "out" / "fine").exists()


CLASHES = [
    # rule, entry time against the file there, expected content of "a", of "a (2)"
    (UnpackClash.RENAME, +10, b"old", b"new"),
    (UnpackClash.REPLACE, -10, b"new", None),
    (UnpackClash.NEWER, +10, b"new", None),
    (UnpackClash.NEWER, -10, b"old", None),
    (UnpackClash.SKIP, +10, b"old", None),
]


@pytest.mark.parametrize(("rule", "newer", "first", "second"), CLASHES)
def test_names_that_are_taken(
    tmp_path: Path, rule: UnpackClash, newer: int, first: bytes, second: bytes | None
) -> None:
    (tmp_path / "a").write_bytes(b"new")
    pack_to(tmp_path / "x.zip", [tmp_path / "a"])
    out = tmp_path / "out"
    out.mkdir()
    (out / "a").write_bytes(b"old")
    (out / "dir").mkdir()
    stamp = (tmp_path / "a").stat().st_mtime - newer
    os.utime(out / "a", (stamp, stamp))
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=out, on_clash=rule)
    assert plan.taken == 1
    unpack(plan, reader)
    reader.close()
    assert (out / "a").read_bytes() == first
    assert ((out / "a (2)").read_bytes() if (out / "a (2)").exists() else None) == second


def test_a_folder_is_never_replaced_by_a_file(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"dir", b"file"), Raw(b"f/", b"", mode=0o040755), Raw(b"f/in")]))
    out = tmp_path / "out"
    (out / "dir" / "kept").mkdir(parents=True)
    (out / "f").write_bytes(b"a file in the way")
    outcome = unpack_to(tmp_path / "x.zip", out, clash=UnpackClash.REPLACE)
    assert len(outcome.problems) == 3
    assert (out / "dir" / "kept").is_dir()
    assert (out / "f").read_bytes() == b"a file in the way"


def test_own_folders(tmp_path: Path) -> None:
    loose, single = tmp_path / "loose.zip", tmp_path / "single"
    loose.write_bytes(raw_zip([Raw(b"a"), Raw(b"b")]))
    single.write_bytes(raw_zip([Raw(b"top/a"), Raw(b"top/b")]))
    for path, needs in ((loose, True), (single, False)):
        reader = open_archive(path)
        assert needs_own_folder(reader) == needs
        plan = plan_unpack(reader, into=tmp_path, own_folder=own_folder_name(path))
        # "single" has no ending: its own folder can't have its own name
        assert plan.root.name == ("loose" if path == loose else "single (2)")
        assert plan.root_is_new
        reader.close()


def test_just_the_files(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"a/", b"", mode=0o040755), Raw(b"a/f.txt"), Raw(b"b/f.txt")]))
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=tmp_path / "out", keep_folders=False)
    unpack(plan, reader)
    reader.close()
    assert sorted(snapshot(tmp_path / "out")) == ["f (2).txt", "f.txt"]


@pytest.mark.parametrize("named", [False, True], ids=["without a name", "with a temporary name"])
@pytest.mark.parametrize("ending", ["cancel", "full", "fault"])
def test_work_that_ends_early_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ending: str, named: bool
) -> None:
    tree = make_tree(tmp_path)
    archive = tmp_path / "x.zip"
    pack_to(archive, [tree])
    out = tmp_path / "out"
    out.mkdir()
    (out / "mine").write_bytes(b"was here before")
    if named:
        monkeypatch.setattr(sinks, "_need_names", {out.stat().st_dev})
    reader = open_archive(archive)
    plan = plan_unpack(reader, into=out / "new" / "er")
    job = _EndsEarly(ending)
    with pytest.raises({"cancel": Cancelled, "full": NoSpace, "fault": ZeroDivisionError}[ending]):
        unpack(plan, reader, job)
    reader.close()
    assert sorted(snapshot(out)) == ["mine"]


class _EndsEarly(Job):
    """Ends the work after a few steps, in one of the ways in which work ends."""

    def __init__(self, how: str) -> None:
        super().__init__()
        self._how = how
        self._left = 5

    def advance(self, count: int = 0, *, entries: int = 0) -> None:
        self._left -= 1
        if self._left < 0:
            if self._how == "cancel":
                self.cancel()
            elif self._how == "fault":
                _ = 1 / 0
            elif count:  # where bytes are written, which is where a disk says that it is full
                raise OSError(28, "No space left on device")
        super().advance(count, entries=entries)


def test_space_and_changes_are_seen_before(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip([Raw(b"a")]))
    reader = open_archive(archive)
    plan = plan_unpack(reader, into=tmp_path / "out")
    archive.write_bytes(raw_zip([Raw(b"a"), Raw(b"b")]))
    with pytest.raises(OutOfDate, match="was changed meanwhile"):
        unpack(plan, reader)
    plan = plan_unpack(reader, into=tmp_path / "out")
    monkeypatch.setattr("rundlet.core.work.extractor.free_bytes", lambda _: 3)
    with pytest.raises(NoSpace, match="only 3 bytes are free"):
        unpack(plan, reader)
    reader.close()
    assert not (tmp_path / "out").exists()
    assert space.free_bytes(tmp_path / "not" / "there" / "yet") > 0


def test_pausing_holds_the_work(tmp_path: Path) -> None:
    archive = tmp_path / "x.zip"
    archive.write_bytes(raw_zip([Raw(b"%d" % i) for i in range(50)]))
    reader = open_archive(archive)
    job = Job()
    job.pause()
    assert job.snapshot().paused
    thread = threading.Thread(target=unpack, args=(plan_unpack(reader, into=tmp_path / "out"), reader, job))
    thread.start()
    assert not list(tmp_path.glob("out/*"))
    job.resume()
    thread.join()
    reader.close()
    assert len(list((tmp_path / "out").iterdir())) == 50


def test_the_plan_says_what_the_work_does(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(b"d/a"), Raw(b"d/b"), Raw(b"../c"), Raw(b"d/", b"", mode=0o040700)]))
    (tmp_path / "out" / "d").mkdir(parents=True)
    (tmp_path / "out" / "d" / "a").touch()
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=tmp_path / "out")
    assert [step.action for step in plan.steps] == [Action.NUMBER, Action.MAKE, Action.REFUSE, Action.JOIN]
    assert (plan.files, plan.size, plan.taken, len(plan.issues)) == (2, 14, 1, 1)
    outcome = unpack(plan, reader)
    reader.close()
    assert sorted(outcome.created) == [str(tmp_path / "out" / "d" / name) for name in ("a (2)", "b")]


@given(st.text(min_size=1, max_size=60))
@at_length_too
@settings(max_examples=rounds(150, 1000))
def test_any_name_is_safe_or_refused(name: str) -> None:
    safe = safe_name(name)
    assert bool(safe.steps) != bool(safe.refused)
    for step in safe.steps:
        assert step not in ("", ".", "..")
        assert "/" not in step and "\0" not in step
        assert len(os.fsencode(step) if step.isprintable() else step.encode("utf-8", "surrogatepass")) <= 255 + 60
    again = safe_name("/".join(safe.steps)) if safe.steps else safe
    assert again.steps == safe.steps


@given(st.lists(st.sampled_from(["..", "a", "b", ".", ""]), max_size=6), st.integers(1, 4))
def test_any_link_stays_inside(steps: list[str], depth: int) -> None:
    link = tuple("x" * depth)
    target = "/".join(steps)
    if not safe_link(link, target):
        place = os.path.normpath("/".join(("/root", *link[:-1], target)))
        assert place == "/root" or place.startswith("/root/")


def test_very_many_entries_of_one_name_of_full_length(tmp_path: Path) -> None:
    name = b"a" * 255
    (tmp_path / "x.zip").write_bytes(raw_zip([Raw(name)] * 3000))
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=tmp_path / "out")
    assert len({step.target for step in plan.steps}) == 3000
    reader.close()


def test_numbering_keeps_endings() -> None:
    assert numbered("notes.txt", 2) == "notes (2).txt"
    assert numbered("a.tar.gz", 3) == "a (3).tar.gz"
    assert numbered(".hidden", 2) == ".hidden (2)"
    for name in ("a" * 255, "a" * 251 + ".txt", "é" * 127, "川" * 80 + ".tar.gz"):
        batch = {numbered(name, number) for number in range(2, 20)}
        assert len(batch) == 18 and max(len(one.encode()) for one in batch) <= 255
    assert split_ending("v1.2 final") == ("v1.2 final", "")
    assert stat.S_ISREG(0o100644)


def test_what_is_there_already_is_left_alone_and_single_names_have_rules_of_their_own(tmp_path: Path) -> None:
    """U4: the same content is known by size and checksum; any name can be decided about by itself."""
    entries = [Raw(name) for name in (b"same", b"other", b"longer", b"own", b"in/same", b"edited")]
    (tmp_path / "x.zip").write_bytes(raw_zip(entries))
    place = tmp_path / "place"
    (place / "in").mkdir(parents=True)
    there = {"same": "content", "other": "CONTENT", "longer": "content!", "own": "content", "edited": "contend"}
    for name, content in there.items():
        (place / name).write_text(content)
    (place / "in" / "same").write_text("content")
    reader = open_archive(tmp_path / "x.zip")
    rules: dict[tuple[str, ...], UnpackClash] = {("own",): UnpackClash.RENAME, ("other",): UnpackClash.REPLACE}
    plan = plan_unpack(reader, into=place, on_clash=UnpackClash.SKIP, rules=rules, leave_same=True)
    found = {"/".join(step.asked): step.action for step in plan.steps}
    assert found == {
        "same": Action.SAME,
        "other": Action.REPLACE,
        "longer": Action.SKIP,
        "own": Action.NUMBER,
        "in/same": Action.SAME,
        "edited": Action.SKIP,
    }
    outcome = unpack(plan, reader)
    assert not outcome.problems
    assert (place / "own (2)").read_text() == (place / "other").read_text() == "content"
    assert (place / "longer").read_text() == "content!"
    assert not any(step.action == Action.SAME for step in plan_unpack(reader, into=place).steps)
    reader.close()


def test_a_disk_that_keeps_less(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a disk for sticks can't keep is shown in the plan with what becomes of it."""
    rules = DiskRules(largest=10, folds_case=True, forbidden=':?"')
    monkeypatch.setattr("rundlet.core.plans.unpack_planner.disk_rules", lambda _: rules)
    names = (b"Notes.txt", b"notes.TXT", b"what?.txt", b"Folder/a", b"folder/b", b"folder/A", b"dots...", b"x/link")
    entries = [Raw(name) for name in names[:-1]] + [Raw(b"link", mode=0o120777), Raw(b"large", data=b"12345678901")]
    (tmp_path / "x.zip").write_bytes(raw_zip(entries))
    (tmp_path / "place").mkdir()
    (tmp_path / "place" / "WHAT_.TXT").write_text("here first")
    reader = open_archive(tmp_path / "x.zip")
    plan = plan_unpack(reader, into=tmp_path / "place")
    landed = [("/".join(step.target), step.action) for step in plan.steps]
    assert landed == [
        ("Notes.txt", Action.MAKE),
        ("notes (2).TXT", Action.NUMBER),
        ("what_ (2).txt", Action.NUMBER),
        ("Folder/a", Action.MAKE),
        ("folder/b", Action.MAKE),
        ("folder/A (2)", Action.NUMBER),
        ("dots___", Action.MAKE),
        ("link", Action.REFUSE),
        ("large", Action.REFUSE),
    ]
    said = {issue.item: issue_words(issue) for issue in plan.issues}
    assert "differ only in upper and lower case" in said["notes.TXT"]
    assert "can't be kept on that disk" in said["what?.txt"]
    assert said["large"] == "was left out: that disk keeps no file of more than 10 bytes"
    reader.close()


@pytest.mark.parametrize(("rule", "kept"), [(UnpackClash.RENAME, "mine"), (UnpackClash.REPLACE, "theirs")])
def test_a_name_taken_in_a_folder_that_the_archive_lists(tmp_path: Path, rule: UnpackClash, kept: str) -> None:
    (tmp_path / "f").mkdir()
    for name in ("a", "b"):
        (tmp_path / "f" / name).write_text("theirs")
    pack_to(tmp_path / "x.zip", [tmp_path / "f"])
    (tmp_path / "out" / "f").mkdir(parents=True)
    (tmp_path / "out" / "f" / "b").write_text("mine")
    assert not unpack_to(tmp_path / "x.zip", tmp_path / "out", clash=rule).problems
    assert (tmp_path / "out" / "f" / "b").read_text() == kept
    assert (tmp_path / "out" / "f" / "b (2)").exists() == (rule == UnpackClash.RENAME)
