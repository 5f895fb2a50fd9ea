"""Archives changed by plan: what was asked for and nothing else, saved in one step, checked, undone, and from the command line."""

from __future__ import annotations

import ensurepip
import gzip
import io
import json
import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from contextlib import closing
from pathlib import Path
from typing import Any

import hypothesis.strategies as st
import openpyxl
import pytest
from hypothesis import event, given, settings

from rundlet.cli.main import main
from rundlet.core.errors import Cancelled, OutOfDate, PlanError, RundletError, WrongPassword
from rundlet.core.formats.detect import WRITABLE, by_id, open_archive
from rundlet.core.formats.entry_contents import ArchiveContents
from rundlet.core.formats.rewriting import rewrite
from rundlet.core.fs import scan
from rundlet.core.jobs.findings import Reason
from rundlet.core.jobs.job import Job
from rundlet.core.model.contents import BytesContent
from rundlet.core.model.entry import Kind
from rundlet.core.model.format_info import WriteOptions
from rundlet.core.model.item import PackItem
from rundlet.core.model.opening import Opening
from rundlet.core.plans.bring_up_to_date import differences
from rundlet.core.plans.change_plan import AddClash, Addition, Changes, moved_below, plan_change, rows_below
from rundlet.core.plans.convert_plan import plan_convert
from rundlet.core.plans.pack_plan import plan_pack
from rundlet.core.plans.staged_catalog import staged_catalog
from rundlet.core.plans.staging import Staging
from rundlet.core.text import plain_path
from rundlet.core.userdata.journal import Journal, record_of
from rundlet.core.work import changer
from rundlet.core.work.changer import change
from rundlet.core.work.packer import pack
from rundlet.core.work.undo import undo
from support import foreign_archives, held, long, pack_to, packed, read_whole, rounds, scratch, snapshot, some_tree

FORMATS = [known.info.id for known in WRITABLE]
LOCKED = [("zip", "word"), ("7z", "word"), *((fmt, "") for fmt in FORMATS)]


NAMES = st.sampled_from(["n", "Grüße 川.txt", "a.txt", "deep", "x" * 120, "in/side", "tree/deep/new", "tree/a.txt"])


@pytest.mark.parametrize(("fmt", "password"), LOCKED)
@settings(max_examples=rounds(6, 60))
@given(data=st.data())
def test_any_changes_of_any_archive(fmt: str, password: str, data: st.DataObject) -> None:
    """The changed archive holds what a fresh one of the result would; a plan that can't be has one sentence."""
    with scratch() as folder:
        archive = packed(folder, fmt, password)
        before = held(archive, password)
        raw = archive.read_bytes()
        with closing(open_archive(archive, Opening(password=password or None))) as reader:
            paths = {row: reader.catalog.path(row).rstrip("/") for row in range(len(reader.catalog))}
        rows = st.sampled_from(sorted(paths))
        removed = data.draw(st.sets(rows, max_size=4), "removed")
        renamed = {row: data.draw(NAMES) + f" {row}" for row in data.draw(st.sets(rows, max_size=3), "renamed")}
        new = folder / "more"
        new.mkdir()
        names = data.draw(st.lists(st.sampled_from(["a.txt", "z.txt", "deep"]), max_size=3, unique=True), "added")
        for name in names:
            (new / name).write_bytes(data.draw(st.binary(max_size=50)))
        into = data.draw(st.sampled_from(["", "tree", "brand/new"]), "into")
        rule = data.draw(st.sampled_from(list(AddClash)), "rule")
        changes = Changes(
            added=[Addition(new / name, into) for name in names],
            removed=removed,
            renamed=renamed,
            folders=data.draw(st.sampled_from([[], ["fresh/folder"]]), "folders"),
        )
        options = WriteOptions(1, password=password)
        try:
            plan = plan_change(archive, changes, options=options, on_clash=rule, read_back=True)
        except PlanError as error:
            assert error.message.endswith(".") and archive.read_bytes() == raw
            return
        expected = {path: before[path] for row, path in paths.items() if row not in plan.edits.removed}
        for row, path in plan.edits.renamed.items():
            expected.pop(paths[row], None)
            expected[path] = before[paths[row]]
        for item in plan.added:
            assert item.path not in expected
            expected[item.path] = Path(item.source).read_bytes() if item.kind == Kind.FILE else None
        outcome = change(plan)
        assert held(archive, password) == expected and not outcome.problems
        for taken in plan.taken:
            assert {AddClash.SKIP: taken.result == "", AddClash.REPLACE: taken.result == taken.path}.get(
                taken.rule, taken.result not in ("", taken.path)
            )
        with pytest.raises(OutOfDate):
            change(plan)
        second_look(archive, fmt, password, expected)


def second_look(archive: Path, fmt: str, password: str, expected: dict[str, bytes | None]) -> None:
    """What the standard library says, as far as it reads the format."""
    files = {path: data for path, data in expected.items() if data is not None}
    if fmt == "zip" and not password:
        with zipfile.ZipFile(archive) as second:
            assert read_whole(second)
            assert {n.rstrip("/") for n in second.namelist()} == set(expected)
            assert {path: second.read(path) for path in files} == files
    elif fmt in ("tar", "tar.gz", "tar.bz2", "tar.xz"):
        with tarfile.open(archive) as second:
            assert {member.name for member in second} == set(expected)
            assert all(second.extractfile(m).read() == files[m.name] for m in second if m.isreg())  # type: ignore[union-attr]


@pytest.mark.parametrize("fmt", FORMATS)
def test_folders_go_and_move_whole_and_it_is_undone(tmp_path: Path, trash: Path, fmt: str) -> None:
    archive = packed(tmp_path, fmt)
    raw, before = archive.read_bytes(), held(archive)
    with closing(open_archive(archive)) as reader:
        gone = rows_below(reader, "tree/deep/er")
        moved = moved_below(reader, "tree/deep", "tree/else/where")
    changes = Changes(removed=gone, renamed=moved, added=[Addition(tmp_path / "tree" / "a.txt", "tree", "new.txt")])
    plan = plan_change(archive, changes, keep_replaced=True, read_back=True)
    outcome = change(plan)
    wanted = {p: d for p, d in before.items() if not p.startswith("tree/deep")} | {
        p.replace("tree/deep", "tree/else/where"): d for p, d in before.items()
        if p.startswith("tree/deep") and not p.startswith("tree/deep/er")
    } | {"tree/new.txt": before["tree/a.txt"]}  # fmt: skip
    assert held(archive) == wanted
    assert (outcome.added, outcome.removed, outcome.renamed) == (1, 3, 3)
    journal = Journal(tmp_path / "journal")
    record, puts = record_of(outcome, [])
    journal.add(record, puts, [])
    undo(journal.records()[0], journal.puts(record))
    assert archive.read_bytes() == raw


@pytest.mark.parametrize("step", ["rewrite", "read_back", "same_as_before", "commit"])
def test_whatever_fails_the_old_archive_is_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: str) -> None:
    archive = packed(tmp_path, "zip")
    raw = archive.read_bytes()
    names = set(os.listdir(tmp_path))
    with closing(open_archive(archive)) as reader:
        plan = plan_change(archive, Changes(removed=rows_below(reader, "tree/b.bin")), read_back=True)

    def fail(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    if step == "commit":
        monkeypatch.setattr("rundlet.core.streams.sinks.ArchiveSink.commit", fail)
    else:
        monkeypatch.setattr(changer, step, fail)
    with pytest.raises((OSError, RundletError)):
        change(plan)
    assert archive.read_bytes() == raw and set(os.listdir(tmp_path)) == names
    job = Job()
    job.cancel()
    with pytest.raises(Cancelled):
        change(plan, job)
    assert archive.read_bytes() == raw and set(os.listdir(tmp_path)) == names


def test_a_check_finds_what_was_not_copied(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A disk that gives back other bytes than it took is found out, and the old archive stays."""
    for fmt in ("zip", "tar", "7z", "tar.gz"):
        folder = tmp_path / fmt
        folder.mkdir()
        archive = packed(folder, fmt)
        raw = archive.read_bytes()
        with closing(open_archive(archive)) as reader:
            plan = plan_change(archive, Changes(removed=rows_below(reader, "tree/a.txt")), read_back=True)
        usual = rewrite

        def spoil(reader, sink, *args, usual=usual, **words):  # type: ignore[no-untyped-def]
            usual(reader, sink, *args, **words)
            at = sink.tell() // 2
            sink.patch(at, bytes(255 - byte for byte in sink.read_at(at, 8)))

        with monkeypatch.context() as patched:
            patched.setattr(changer, "rewrite", spoil)
            with pytest.raises(RundletError):
                change(plan)
        assert archive.read_bytes() == raw, fmt


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        (Changes(), "would change"),
        (Changes(renamed={1: "tree/b.bin"}), "in the archive already"),
        (Changes(renamed={1: "tree/b.bin/inside"}), "is a file"),
        (Changes(renamed={1: "../out"}), "can't be a name"),
        (Changes(renamed={1: "a//b/../c"}), "can't be a name"),
        (Changes(folders=["tree"]), "in the archive already"),
        (Changes(folders=["tree/a.txt/x"]), "is a file"),
        (Changes(folders=["n" * 5000]), "too long"),
    ],
)
def test_what_can_not_be_is_said(tmp_path: Path, changes: Changes, words: str) -> None:
    archive = packed(tmp_path, "zip")
    with pytest.raises(PlanError, match=words):
        plan_change(archive, changes)


def test_why_an_archive_can_not_be_changed(tmp_path: Path) -> None:
    tree = some_tree(tmp_path)
    options = WriteOptions(1, password="word")
    pack(plan_pack([tree], target=tmp_path / "locked.zip", info=by_id("zip").info, options=options))
    pack(plan_pack([tree], target=tmp_path / "parts.zip", info=by_id("zip").info, part_size=30_000))
    pack_to(tmp_path / "cut.zip", [tree])
    (tmp_path / "cut.zip").write_bytes((tmp_path / "cut.zip").read_bytes()[:-30])
    (tmp_path / "lone.gz").write_bytes(gzip.compress(b"alone"))
    changes = Changes(folders=["new"])
    for name, words in (
        ("locked.zip", "is locked"), ("parts.zip.001", "in parts"), ("cut.zip", "is damaged"), ("lone.gz", "can't be changed"),
    ):  # fmt: skip
        with pytest.raises(PlanError, match=words) as caught:
            plan_change(tmp_path / name, changes)
        assert caught.value.hint
    with pytest.raises(WrongPassword):
        plan_change(tmp_path / "locked.zip", changes, options=WriteOptions(1, password="wrong"))


def test_signed_packages_and_documents_are_said(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "doc.odt", "w") as made:
        for name in ("mimetype", "content.xml", "META-INF/CERT.SF"):
            made.writestr(name, "x" * 30)
    (tmp_path / "mimetype").write_text("other")
    plan = plan_change(
        tmp_path / "doc.odt", Changes(added=[Addition(tmp_path / "mimetype")]), on_clash=AddClash.REPLACE
    )
    assert {found.reason for found in plan.issues} == {Reason.SIGNATURE_BREAKS, Reason.MUST_BE_FIRST}
    plan = plan_change(tmp_path / "doc.odt", Changes(renamed={1: "other.xml"}))
    change(plan)
    with zipfile.ZipFile(tmp_path / "doc.odt") as made:
        first = made.infolist()[0]
        assert (first.filename, first.compress_type) == ("mimetype", zipfile.ZIP_STORED)


def test_what_is_added_is_kept_as_packing_keeps_it(tmp_path: Path, trash: Path) -> None:
    """Odd times, locks that a format can't give, a file for a folder, and originals that hold the archive."""
    archive = packed(tmp_path, "tar")
    (tmp_path / "late.txt").write_text("late")
    os.utime(tmp_path / "late.txt", ns=(0, 10**19))
    plan = plan_change(archive, Changes(added=[Addition(tmp_path / "late.txt")]))
    change(plan)
    assert held(archive)["late.txt"] == b"late"
    assert Reason.LOST_DATES in {found.reason for found in plan.issues}
    raw = archive.read_bytes()
    (tmp_path / "real").mkdir()
    shutil.copy(archive, tmp_path / "real" / "x.tar")
    (tmp_path / "link").symlink_to("real")
    new = Addition(tmp_path / "tree" / "b.bin", "late.txt/in")
    for changes, words, more in (
        (Changes(added=[new]), "“late.txt” is a file", {}),
        (
            Changes(added=[Addition(tmp_path / "tree")]),
            "can't be locked",
            {"options": WriteOptions(1, password="word")},
        ),
        (Changes(added=[Addition(tmp_path / "link" / ".." / "real")]), "together with the folder", {"trash": True}),
    ):
        with pytest.raises(PlanError, match=words):
            plan_change(archive if "together" not in words else tmp_path / "link" / "x.tar", changes, **more)
    assert archive.read_bytes() == raw


def test_what_can_not_be_looked_at_is_not_gone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A folder that can't be read stays in the archive, and so does one that is a file by now, unless it is gone for good."""
    archive = packed(tmp_path, "zip")
    tree = tmp_path / "tree"
    usual = scan._below

    def refused(folder: str, *more: Any) -> Any:
        if folder.endswith("deep"):
            raise PermissionError(13, "Permission denied")
        return usual(folder, *more)

    with closing(open_archive(archive)) as reader:
        with monkeypatch.context() as patched:
            patched.setattr(scan, "_below", refused)
            found = differences(reader, tree, delete_gone=True)
        assert found.gone == () and not found.changes.removed and len(found.issues) == 1
        shutil.rmtree(tree / "deep")
        (tree / "deep").write_text("a file now")
        found = differences(reader, tree)
        assert [issue.reason for issue in found.issues] == [Reason.FOLDER_IN_THE_WAY] and not found.changes.items
        change(plan_change(archive, differences(reader, tree, delete_gone=True).changes))
    assert held(archive)["tree/deep"] == b"a file now" and "tree/deep/c.txt" not in held(archive)


def test_all_may_go(tmp_path: Path) -> None:
    for fmt in FORMATS:
        (tmp_path / fmt).mkdir()
        archive = packed(tmp_path / fmt, fmt)
        with closing(open_archive(archive)) as reader:
            plan = plan_change(archive, Changes(removed=range(len(reader.catalog))), read_back=True)
        change(plan)
        assert held(archive) == {}


def test_bringing_up_to_date(tmp_path: Path) -> None:
    """New and newer files go in, what is gone goes if that is wanted, and nothing else is packed again."""
    for fmt in FORMATS:
        folder = tmp_path / fmt
        folder.mkdir()
        archive = packed(folder, fmt)
        tree = folder / "tree"
        with closing(open_archive(archive)) as reader:
            assert not differences(reader, tree, delete_gone=True).changes.items
            os.utime(tree / "a.txt", (1, 1))  # another time, and the same content
            (tree / "deep" / "c.txt").write_bytes(b"changed")
            (tree / "new").mkdir()
            (tree / "new" / "n.txt").write_bytes(b"new")
            (tree / "deep" / "er" / "e.csv").unlink()
            found = differences(reader, tree)
            assert (found.new, found.gone) == (("tree/new", "tree/new/n.txt"), ("tree/deep/er/e.csv",))
            same_by_sum = fmt in ("zip", "7z")  # a tar keeps no sums, so another time counts as another file
            assert found.newer == (("tree/deep/c.txt",) if same_by_sum else ("tree/a.txt", "tree/deep/c.txt"))
            outcome = change(plan_change(archive, differences(reader, tree, delete_gone=True).changes, read_back=True))
            assert (outcome.added, outcome.new, outcome.removed) == (2, len(found.newer), 1)
        assert held(archive) == {
            f"tree/{p.relative_to(tree)}": (
                os.readlink(p).encode() if p.is_symlink() else p.read_bytes() if p.is_file() else None
            )
            for p in tree.rglob("*")
        } | {"tree": None}  # fmt: skip


@pytest.mark.parametrize("fmt", FORMATS)
@pytest.mark.parametrize("source", ["zip", "7z", "tar.gz"])
def test_converting(tmp_path: Path, fmt: str, source: str) -> None:
    """The same content in another format, with a lock where that can be, and nothing of it on the disk on the way."""
    archive = packed(tmp_path, source, "word" if source != "tar.gz" else "")
    password = "word" if source != "tar.gz" else ""
    info = by_id(fmt).info
    options = WriteOptions(1, password="other" if info.can_lock else "")
    target = tmp_path / f"new{info.ending}"
    with closing(open_archive(archive, Opening(password=password or None))) as reader:
        if password:
            reader.unlock(password)
        contents = ArchiveContents(reader, range(len(reader.catalog)))
        try:
            outcome = pack(plan_convert(reader, contents, target=target, info=info, options=options, read_back=True))
        finally:
            contents.close()
    assert not outcome.problems
    assert held(target, options.password) == held(archive, password)


def told(
    capsys: pytest.CaptureFixture[str], *words: object, stdin: str = "", monkeypatch: pytest.MonkeyPatch
) -> tuple[int, str]:
    monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(stdin.encode())))
    status = main(list(map(str, words)))
    out = capsys.readouterr()
    return status, out.out + out.err


def test_the_verbs(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, home: Path
) -> None:
    """add, remove, rename, update and convert, each with a plan that is shown and does nothing."""
    tree = some_tree(tmp_path)
    archive = tmp_path / "x.zip"
    pack_to(archive, [tree])

    def run(*words: object, stdin: str = "") -> tuple[int, str]:
        return told(capsys, *words, stdin=stdin, monkeypatch=monkeypatch)

    (tmp_path / "n.txt").write_text("new")
    before = snapshot(tmp_path)
    status, said = run("add", archive, tmp_path / "n.txt", "--into", "tree/deep", "--dry-run")
    assert status == 0 and "add  tree/deep/n.txt" in said and "the rest is copied" in said
    status, said = run("remove", archive, "*.csv", "empty", "--dry-run", "--json")
    assert {step["path"] for step in json.loads(said)["result"]["steps"]} == {"tree/deep/er/e.csv", "tree/empty"}
    assert snapshot(tmp_path) == before
    assert run("add", archive, tmp_path / "n.txt", "--into", "tree/deep", "--verify")[0] == 0
    assert held(archive)["tree/deep/n.txt"] == b"new"
    (tmp_path / "n.txt").write_text("newer")
    status, said = run("add", archive, tmp_path / "n.txt", "--into", "tree/deep", "--on-clash", "skip")
    assert status == 2 and "would change" in said
    status, said = run("add", archive, tmp_path / "n.txt", "--into", "tree/deep", "--on-clash", "replace")
    assert (status, held(archive)["tree/deep/n.txt"]) == (0, b"newer") and "1 item replaced" in said
    assert run("add", archive, tmp_path / "n.txt", "--into", "tree/deep")[0] == 2  # it is in there, as it is
    assert run("remove", archive, "no such thing")[0] == 2
    assert run("remove", archive, "*.csv", "empty")[0] == 0
    assert not {"tree/deep/er/e.csv", "tree/empty"} & set(held(archive))
    assert run("rename", archive, "tree/nowhere", "x")[0] == 2
    assert run("rename", archive, "tree/deep", "moved")[0] == 0
    assert held(archive)["moved/n.txt"] == b"newer" and "tree/deep/c.txt" not in held(archive)
    status, said = run("update", archive, tree, "--delete-gone")
    assert status == 0 and held(archive)["tree/deep/c.txt"] == (tree / "deep" / "c.txt").read_bytes()
    status, said = run("update", archive, tree, "--delete-gone")
    assert status == 0 and said.startswith("Nothing to do")
    status, said = run(
        "convert", archive, tmp_path / "y.7z", "--new-password-stdin", "--hide-names", "--verify", stdin="word\n"
    )
    assert status == 0 and held(tmp_path / "y.7z", "word") == held(archive), said
    assert run("convert", tmp_path / "y.7z", tmp_path / "z.tar.gz")[0] == 2  # it is locked
    status, said = run("convert", tmp_path / "y.7z", tmp_path / "z.tar.gz", "--password-stdin", stdin="word\n")
    assert status == 2 and "can't be locked" in said
    assert (
        run("convert", tmp_path / "y.7z", tmp_path / "z.tar.gz", "--password-stdin", "--unlock", stdin="word\n")[0] == 0
    )
    assert held(tmp_path / "z.tar.gz") == held(archive)
    assert run("convert", archive, tmp_path / "p.zip", "--part-size", "30000", "--only", "*.bin")[0] == 0
    assert set(held(tmp_path / "p.zip.001")) == {"tree/b.bin", "tree/deep/twin.bin", "moved/twin.bin"}
    kinds = [record.outcome.kind for record in Journal().records()]
    assert kinds.count("change") == 5 and kinds.count("pack") == 3


def test_foreign_archives_are_changed(tmp_path: Path) -> None:
    """Archives of other writers: a change is read by the standard library, and what nobody touched is as it was."""
    tried = set()
    for source in foreign_archives((".whl", ".jar", ".zip", ".gz", ".7z")):
        archive = tmp_path / source.name
        shutil.copy(source, archive)
        try:
            plan = plan_change(archive, Changes(folders=["of our own"], removed=[0]), read_back=True)
            before = held(archive)
        except RundletError:
            continue  # a lone file, or one that says what would be lost
        change(plan)
        tried.add(source.suffix)
        after = held(archive)
        first = next(iter(before))
        assert {p: d for p, d in after.items() if p != "of our own"} == {p: d for p, d in before.items() if p != first}
        if source.suffix in (".whl", ".jar", ".zip", ".docx", ".odt"):
            with zipfile.ZipFile(archive) as second:
                assert read_whole(second)
    assert tried >= {".whl", ".jar", ".gz"}


NEW_NAMES = st.sampled_from(["n", "Grüße 川.txt", "a.txt", "deep", "z"])


@settings(max_examples=rounds(25, 300))
@given(data=st.data())
def test_what_is_shown_of_staged_changes_is_what_is_saved(data: st.DataObject) -> None:
    """In any order, with any of them undone: rows that are shown as staying are what the archive holds afterwards."""
    with scratch() as folder:
        archive = packed(folder, data.draw(st.sampled_from(["zip", "7z", "tar"])))
        content = held(archive)
        staging = Staging()
        with closing(open_archive(archive)) as reader:
            catalog = reader.catalog
            own = {row: plain_path(catalog.path(row)) for row in range(len(catalog))}

            def now() -> dict[str, tuple[dict[int, str], set[int]]]:
                """The items as they are called by now: the rows of the archive, and the items that were staged."""
                staged = staging.outcome()
                found: dict[str, tuple[dict[int, str], set[int]]] = {}
                rows = {row: staged.changes.renamed.get(row, path) for row, path in own.items()}
                items = dict(zip(staged.keys, staged.changes.items, strict=True))
                kept = {row: path for row, path in rows.items() if row not in staged.changes.removed}
                for path in [*kept.values(), *(item.path for item in items.values())]:
                    below = {row: at for row, at in kept.items() if at == path or at.startswith(f"{path}/")}
                    put_in = {key for key, item in items.items() if (item.path + "/").startswith(f"{path}/")}
                    found[path] = below, put_in
                return found

            for _ in range(data.draw(st.integers(1, 6))):
                there = now()
                path = data.draw(st.sampled_from(sorted(there))) if there else ""
                what = data.draw(st.sampled_from(["remove", "rename", "move", "add", "replace"]))
                name = data.draw(NEW_NAMES)
                above = path.rpartition("/")[0]
                if what == "remove" and there:
                    staging.remove(path, *there[path])
                elif what == "rename" and there:
                    staging.rename(path, f"{above}/{name}" if above else name, *there[path])
                elif what == "move" and there:
                    staging.rename(path, f"moved/{path.rpartition('/')[2]}", *there[path])
                else:
                    at = f"{above}/{name}" if above else name
                    item = PackItem(at, Kind.FILE, "", 4, 0, 0o644, content=BytesContent(b"new!"))
                    staging.replace(item) if what == "replace" else staging.add(at, [item])
            for place in sorted(data.draw(st.sets(st.integers(0, 5), max_size=2)), reverse=True):
                staging.discard(staging.changes[place : place + 1])
            staged = staging.outcome()
            assert not staged.idle
            try:
                plan = plan_change(
                    archive,
                    staged.changes,
                    on_clash=data.draw(st.sampled_from(list(AddClash))),
                    rules=staged.rules,
                    reader=reader,
                )
            except PlanError as error:
                assert error.message.endswith(".")
                event("refused")
                return
            shown = staged_catalog(reader, plan)
        change(plan)
        files = {}
        for row in range(len(shown.catalog)):
            path = plain_path(shown.catalog.path(row))
            if row not in shown.removed:
                assert path not in files
                put_in = shown.added.get(row)
                files[path] = content[own[row]] if put_in is None else b"new!"
        assert held(archive) == files
        staging.discard(list(staging.changes))
        assert not staging.changes and not staging.outcome().changes.items


def changed(archive: Path, changes: Changes) -> None:
    outcome = change(plan_change(archive, changes, on_clash=AddClash.REPLACE, read_back=True))
    assert not outcome.problems


@long
def test_changed_archives_serve_their_own_programs(tmp_path: Path) -> None:
    """A package that still installs, a workbook that still opens, a program that still runs."""
    wheel = next((Path(ensurepip.__file__).parent / "_bundled").glob("pip-*.whl"), None)
    if wheel is None:  # where the system keeps them elsewhere
        wheel = next(path for path in foreign_archives((".whl",), most=1000) if path.name.startswith("pip-"))
    ours = tmp_path / wheel.name
    shutil.copy(wheel, ours)
    (tmp_path / "note.txt").write_text("of our own")
    changed(ours, Changes(added=[Addition(tmp_path / "note.txt", "pip")], folders=["pip/empty"]))
    pip = [sys.executable, str(ours / "pip")]
    command = [*pip, "install", "-q", "--no-index", "--no-deps", "--target", str(tmp_path / "there"), str(ours)]
    subprocess.run(command, check=True, capture_output=True)
    assert (tmp_path / "there" / "pip" / "note.txt").read_text() == "of our own"

    book = openpyxl.Workbook()
    assert book.active is not None
    book.active["A1"] = 1234
    book.save(tmp_path / "x.xlsx")
    with zipfile.ZipFile(tmp_path / "x.xlsx") as inside:
        sheet = inside.read("xl/worksheets/sheet1.xml")
    (tmp_path / "sheet1.xml").write_bytes(sheet.replace(b"1234", b"4321"))
    changed(tmp_path / "x.xlsx", Changes(added=[Addition(tmp_path / "sheet1.xml", "xl/worksheets")]))
    again = openpyxl.load_workbook(tmp_path / "x.xlsx").active
    assert again is not None and again["A1"].value == 4321

    (tmp_path / "Main.java").write_text(
        "class Main { public static void main(String[] a) throws Exception {"
        ' System.out.print(new String(Main.class.getResourceAsStream("/word.txt").readAllBytes())); } }'
    )
    if shutil.which("javac") is None:
        return  # on a machine without it there is nobody to run the program
    subprocess.run(["javac", "Main.java"], cwd=tmp_path, check=True, capture_output=True)
    (tmp_path / "word.txt").write_text("before")
    subprocess.run(
        ["jar", "cfe", "x.jar", "Main", "Main.class", "word.txt"], cwd=tmp_path, check=True, capture_output=True
    )
    (tmp_path / "word.txt").write_text("afterwards")
    changed(tmp_path / "x.jar", Changes(added=[Addition(tmp_path / "word.txt")], folders=["more"]))
    done = subprocess.run(["java", "-jar", "x.jar"], cwd=tmp_path, check=True, capture_output=True, text=True)
    assert done.stdout == "afterwards"
