"""Jobs that are killed, or refused by the system, at every step that changes a disk; used by the tests and by ``make torture``.

Run as a program, it tries every step of every job in every way, in processes of their own, and prints what it tried::

    python tests/breaking.py [--rounds N]

The steps are calls of the C library, which a library that is built from ``faults.c`` and preloaded counts and lets fail, in the
helper processes of a job too.
"""

from __future__ import annotations

import argparse
import errno
import hashlib
import itertools
import mmap
import os
import random
import shutil
import struct
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rundlet.core.jobs.outcomes import Moved, Outcome

WAYS = ("kill", "EIO", "ENOSPC", "full")
"""The process ends at a step; the step fails once; the disk is full from that step on."""

_NEVER = "never"
_ENOUGH = 1500  # steps; no job here has as many
_COUNTER = struct.Struct("lll")  # of ``faults.c``: calls so far, the one that fails, and in which way

Ended = str
"""How a job came to its end: ``"done"``, ``"problems"``, ``"failed"`` or ``"killed"``."""


@dataclass(frozen=True)
class Scene:
    """A job that is broken off.

    Attributes:
        before: makes what is there beforehand.
        work: the job; gives an outcome, or the exit status of a verb.
        holds: raises ``AssertionError`` where something is lost; told how the job ended.
    """

    name: str
    before: Callable[[Path], None]
    work: Callable[[Path], object]
    holds: Callable[[Path, Ended], None]


class Breaker:
    """Lets the n-th call that changes a disk fail, or ends the process there; see ``faults.c``."""

    def __init__(self, counter: Path) -> None:
        with counter.open("r+b") as file:
            self._map = mmap.mmap(file.fileno(), _COUNTER.size)

    def set(self, at: int, way: str) -> None:
        """Count from here on, in all processes that share the counter."""
        self._map[:] = _COUNTER.pack(0, at, (*WAYS, _NEVER).index(way) + 1)

    @property
    def done(self) -> int:
        """How many calls were counted."""
        return int(_COUNTER.unpack(self._map[:])[0])

    def off(self) -> None:
        """Count no more."""
        self._map[:] = _COUNTER.pack(self.done, 0, 0)


def build_faults(folder: Path) -> dict[str, str]:
    """Build the library in a folder; the environment in which a process is counted."""
    library, counter = folder / "faults.so", folder / "counter"
    source = Path(__file__).with_name("faults.c")
    subprocess.run(["cc", "-shared", "-fPIC", "-O2", "-Wall", "-Werror", "-o", library, source, "-ldl"], check=True)
    counter.write_bytes(bytes(_COUNTER.size))
    return {"LD_PRELOAD": str(library), "FAULTS_COUNTER": str(counter)}


def digest(folder: Path) -> dict[str, str]:
    """Every file below a folder with a digest of its content; nothing where there is no folder."""
    return {
        str(path.relative_to(folder)): hashlib.sha1(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def contents(archive: Path) -> dict[str, str]:
    """The same of an archive, read to its end."""
    from rundlet.core.formats.detect import open_archive
    from rundlet.core.model.entry import Kind
    from rundlet.core.work.checker import check
    from support import contents as read

    reader = open_archive(archive)
    try:
        assert not check(reader).problems
        return {name: hashlib.sha1(data).hexdigest() for name, data in read(reader, [Kind.FILE]).items()}
    finally:
        reader.close()


def _files(root: Path, seed: int, *names: str) -> None:
    noise = random.Random(seed)
    for name in names:
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(noise.randbytes(noise.randrange(2_000, 9_000)))


OLD, NEW = ("old/a.bin", "old/b.bin"), ("new/c.bin", "new/deep/d.bin", "new/e.bin")


def _sources(root: Path) -> None:
    _files(root / "from", 1, *OLD)
    _files(root / "from", 2, *NEW)
    (root / "to").mkdir()


def _pack(root: Path, what: str, name: str = "x.zip", **how: Any) -> Outcome:
    from rundlet.core.formats.detect import by_id
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.plans.pack_plan import PackClash, plan_pack
    from rundlet.core.work.packer import pack

    target = root / "to" / name
    fmt = next(f for f in ("zip", "7z", "tar") if name.endswith(f))
    clash = how.pop("on_clash", PackClash.REPLACE)
    plan = plan_pack(
        [root / "from" / what], target=target, info=by_id(fmt).info, options=WriteOptions(0), on_clash=clash, **how
    )
    return pack(plan, workers=1)


def _there(root: Path) -> dict[str, dict[str, str]]:
    """All archives that are there by name, each read to its end; of one in parts the first stands for all."""
    there = {}
    for path in sorted((root / "to").rglob("*")):
        if path.name.endswith((".zip", ".7z", ".tar", ".001")):
            there[path.name] = contents(path)
    return there


def _packed_as(root: Path, what: str) -> dict[str, str]:
    return {name: value for name, value in digest(root / "from").items() if name.startswith(f"{what}/")}


def _in_trash() -> Path:
    return Path(os.environ["XDG_DATA_HOME"]) / "Trash" / "files"


def _no_leftovers(root: Path) -> None:
    left = list(root.rglob(".rundlet-*"))
    assert not left, left


def _add(root: Path, what: str, archive: str) -> object:
    from rundlet.core.model.format_info import WriteOptions
    from rundlet.core.plans.change_plan import Addition, Changes, plan_change
    from rundlet.core.work.changer import change

    changes = Changes(added=[Addition(root / "from" / what)])
    plan = plan_change(root / "to" / archive, changes, options=WriteOptions(0), keep_replaced=True)
    return change(plan, workers=1)


def _pack_scene(name: str, archive: str, *, old: bool, parts: int = 0, trash: bool = False, add: bool = False) -> Scene:
    from rundlet.core.plans.pack_plan import PackClash

    def before(root: Path) -> None:
        _sources(root)
        if old:
            _pack(root, "old", archive, part_size=parts)

    def work(root: Path) -> object:
        if add:
            return _add(root, "new", archive)
        clash = PackClash.REPLACE
        return _pack(root, "new", archive, on_clash=clash, part_size=parts and 2000, trash=trash, keep_replaced=old)

    def holds(root: Path, ended: Ended) -> None:
        done = ended == "done"
        new = {**_packed_as(root, "new")}
        if trash and not (root / "from" / "new").exists():
            new = {f"new/{n}": v for n, v in digest(_in_trash() / "new").items()}
        else:
            assert len(new) == len(NEW)
        was = {**_packed_as(root, "old")} if old else {}
        wanted = {**was, **new} if add else new
        there = _there(root)
        key = f"{archive}.001" if parts else archive
        if key in there:
            assert there[key] in ([was] if old else []) + [wanted], there
        else:
            assert not old and not done
            assert not there, there
        if done:
            assert there[key] == wanted
        if trash and not (root / "from" / "new").exists():
            assert there[key] == wanted

    return Scene(name, before, work, holds)


def _unpack_scene(name: str, *, over: bool, after: str = "stays") -> Scene:
    def before(root: Path) -> None:
        _sources(root)
        _pack(root, "new")
        if over:
            _files(root / "out", 3, *NEW)

    def work(root: Path) -> object:
        from rundlet.core.formats.detect import open_archive
        from rundlet.core.jobs.job import Job
        from rundlet.core.plans.unpack_plan import Afterwards, UnpackClash
        from rundlet.core.plans.unpack_planner import plan_unpack
        from rundlet.core.work.extractor import put_away, unpack

        reader = open_archive(root / "to" / "x.zip")
        try:
            plan = plan_unpack(reader, into=root / "out", on_clash=UnpackClash.REPLACE, keep_replaced=True)
            outcome = unpack(plan, reader, workers=1)
            put_away(plan, reader, outcome, Job(), Afterwards(after))
            return outcome
        finally:
            reader.close()

    def holds(root: Path, ended: Ended) -> None:
        done = ended == "done"
        wanted = _packed_as(root, "new")
        there = digest(root / "out")
        mine = digest_of(3, NEW) if over else {}
        for path in NEW:
            if over:
                assert mine[path] in {*there.values(), *digest(_in_trash()).values()}, f"{path} as it was is nowhere"
            assert there.get(path) in (None, wanted[path], mine.get(path)), f"{path} is something else"
        if done:
            assert {path: there[path] for path in NEW} == wanted
        archive = root / "to" / "x.zip"
        if not archive.exists():
            assert after != "stays"
            assert {path: there[path] for path in NEW} == wanted

    return Scene(name, before, work, holds)


def digest_of(seed: int, names: tuple[str, ...]) -> dict[str, str]:
    """What :func:`digest` gives of the files made with a seed."""
    with tempfile.TemporaryDirectory() as place:
        _files(Path(place), seed, *names)
        return digest(Path(place))


def _move_scene() -> Scene:
    def before(root: Path) -> None:
        _sources(root)

    def work(root: Path) -> object:
        from rundlet.core.fs import moving
        from rundlet.core.jobs.job import Job

        def elsewhere(*_: object) -> None:
            raise OSError(errno.EXDEV, "")

        moving._rename = elsewhere  # type: ignore[assignment]
        outcome = Moved(root / "to")
        moving.move_into([root / "from" / "new"], root / "to", outcome, Job())
        return outcome

    def holds(root: Path, ended: Ended) -> None:
        done = ended == "done"
        wanted = digest_of(2, NEW)
        here, there = digest(root / "from"), digest(root / "to")
        for path in NEW:
            assert wanted[path] in (here.get(path), there.get(path)), f"{path} is nowhere"
        if done:
            assert {path: there[path] for path in NEW} == wanted

    return Scene("move to another disk", before, work, holds)


def _undo_scene(name: str, *, parts: int) -> Scene:
    def before(root: Path) -> None:
        from rundlet.core.userdata.journal import Journal, record_of

        _sources(root)
        _pack(root, "old", part_size=parts)
        outcome = _pack(root, "new", part_size=parts and 2000, keep_replaced=True)
        Journal(root / "journal").add(*record_of(outcome, [root / "from" / "new"]))

    def work(root: Path) -> object:
        from rundlet.core.userdata.journal import Journal
        from rundlet.core.work.undo import undo

        journal = Journal(root / "journal")
        (record,) = journal.records()
        outcome = undo(record, journal.puts(record))
        if outcome.problems:
            journal.tried(record, outcome.created)
        else:
            journal.undone(record)
        return outcome

    def holds(root: Path, ended: Ended) -> None:
        done = ended == "done"
        from rundlet.core.userdata.journal import Journal

        was, new = _packed_as(root, "old"), _packed_as(root, "new")
        there = _there(root)["x.zip.001" if parts else "x.zip"]
        assert there in (was, new)
        assert len(Journal(root / "journal").records()) == 1
        if done:
            assert there == was
        if there == new:
            for path in itertools.chain((root / "to").rglob("*"), _in_trash().rglob("*")):
                if path.name.endswith((".zip", ".001")) and contents(path) == was:
                    break
            else:
                raise AssertionError("the old archive is nowhere")

    return Scene(name, before, work, holds)


@dataclass(frozen=True)
class _Line:
    """A line of the command, run where its files are; the archives are those that ``_verb_files`` makes.

    Attributes:
        words: of the line.
        target: what it writes, below where it runs.
        inner: whether several files of the target may stand there as they were while others are new.
        helped: whether processes help with small files.
        keeps: whether what is replaced is kept.
    """

    words: str
    target: str
    inner: bool = False
    helped: bool = False
    keeps: bool = True


_LINES = (
    _Line("pack to/new.zip from/new --verify", "to/new.zip"),
    _Line("pack to/x.7z from/new --on-clash replace", "to/x.7z"),
    _Line("pack to/new.tar from/new --part-size 4000", "to"),
    _Line("pack to/new.zip from/new", "to/new.zip", helped=True),
    _Line("add to/x.zip from/new", "to/x.zip"),
    _Line("add to/x.7z from/new --verify", "to/x.7z"),
    _Line("add to/x.tar.gz from/new", "to/x.tar.gz"),
    _Line("remove to/x.zip old/a.bin", "to/x.zip"),
    _Line("rename to/x.7z old/a.bin old/z.bin", "to/x.7z"),
    _Line("update to/x.tar from/old", "to/x.tar"),
    _Line("convert to/x.zip to/y.7z", "to/y.7z"),
    _Line("convert to/x.zip to/x.7z --on-clash replace", "to/x.7z"),
    _Line("salvage to/x.zip s.zip", "s.zip"),
    _Line("salvage to/x.zip to/x.7z --on-clash replace", "to/x.7z"),
    _Line("join cut/film.bin.001 film.bin", "film.bin"),
    _Line("join cut/film.bin.001 there.bin --on-clash replace", "there.bin"),
    _Line("unpack to/x.zip --into out", "out", inner=True),
    _Line("unpack to/x.zip --into over --on-clash replace", "over", inner=True, keeps=False),
    _Line("unpack to/x.zip --into over --on-clash replace", "over", inner=True, keeps=False, helped=True),
    _Line("unpack to/x.tar.gz --into over", "over", inner=True),
)


def _verb_files(root: Path) -> None:
    from rundlet.core.model.format_info import WriteOptions  # noqa: F401 - what a job needs is loaded before it is counted

    _sources(root)
    for name in ("x.zip", "x.7z", "x.tar", "x.tar.gz"):
        status, words = _quietly(f"pack to/{name} from/old", root)
        assert status == 0, words
    _files(root / "over", 4, *OLD)
    _files(root / "from", 5, "old/a.bin")
    os.utime(root / "from" / "old" / "a.bin", (2e9, 2e9))
    (root / "cut").mkdir()
    data = random.Random(6).randbytes(9000)
    for number in range(3):
        (root / "cut" / f"film.bin.00{number + 1}").write_bytes(data[3000 * number : 3000 * (number + 1)])
    _files(root, 7, "there.bin")


def _quietly(line: str, root: Path) -> tuple[int, str]:
    """Run a line of the command in this process; its status and what it said."""
    import contextlib
    import io

    from rundlet.cli.main import main as run

    before = Path.cwd()
    os.chdir(root)
    try:
        with contextlib.redirect_stdout(io.StringIO()) as out, contextlib.redirect_stderr(out):
            return run(line.split()), out.getvalue()
    finally:
        os.chdir(before)


def _visible(root: Path) -> dict[str, object]:
    """All that stands below a folder, in the trash too: an archive by what it holds, a part and any other file by its bytes."""
    found: dict[str, object] = {}
    for path in sorted(path for path in root.rglob("*") if path.is_file()):
        is_archive = path.name.endswith((".zip", ".7z", ".tar", ".tar.gz"))
        found[str(path.relative_to(root))] = contents(path) if is_archive else digest_of_file(path)
    return found


def _verb_scene(line: _Line) -> Scene:
    old: dict[str, object] = {}
    new: dict[str, object] = {}

    def before(root: Path) -> None:
        kept = root.parent / "files of verbs"
        if not kept.exists():
            kept.mkdir()
            _verb_files(kept)
        shutil.copytree(kept, root, dirs_exist_ok=True)
        if not new:
            old.update(_visible(root))
            status, words = _quietly(line.words, root)
            assert status == 0, words
            new.update(_visible(root))
            shutil.rmtree(root)
            shutil.rmtree(_in_trash().parent, ignore_errors=True)
            shutil.copytree(kept, root)

    def work(root: Path) -> object:
        from rundlet.cli.main import main as run

        if line.helped:
            from rundlet.core.formats.zip import writer
            from rundlet.core.work import extractor

            extractor.WORTH_IT = writer.WORTH_IT = 1  # type: ignore[attr-defined]
        return run(line.words.split())

    def holds(root: Path, ended: Ended) -> None:
        now = _visible(root)
        for name in [name for name in new if name.endswith("report.txt")]:  # written last, whole or not at all
            assert now.pop(name, new[name]) == new[name] or ended == "problems", "half a report"
        targets = sorted({name for name in (*old, *new) if name.startswith(line.target)})
        for name in {*old, *new} - {*targets, *(name for name in new if name.endswith("report.txt"))}:
            assert now.get(name) == new.get(name), f"{name} was touched"
        states = [(now.get(name) == old.get(name), now.get(name) == new.get(name)) for name in targets]
        for name, (is_old, is_new) in zip(targets, states, strict=True):
            assert is_old or is_new or (line.inner and name not in now and old.get(name) is None), f"{name} is neither"
        all_old, all_new = all(state[0] for state in states), all(state[1] for state in states)
        assert line.inner or all_old or all_new
        assert ended != "done" or all_new
        assert ended != "failed" or all_old
        assert ended != "problems" or line.inner or all_new
        extra = set(now) - set(old) - set(new)
        assert ended not in ("done", "failed") or not extra, extra
        kept = [*now.values(), *_visible(_in_trash()).values()]
        for name, value in old.items():
            replaced = not line.keeps and name.startswith(line.target) and now.get(name) == new.get(name)
            assert value in kept or replaced, f"{name} as it was is nowhere"
        _trash_is_whole(killed=ended == "killed")

    return Scene(line.words + (" (helped)" if line.helped else ""), before, work, holds)


def _trash_is_whole(*, killed: bool) -> None:
    """Each note of the trash says where something was, and has it; a job that was killed may leave one without."""
    for note in (_in_trash().parent / "info").glob("*"):
        lines = note.read_text().splitlines()
        assert note.suffix == ".trashinfo", note
        assert len(lines) == 3 and lines[1].startswith("Path=") and ".rundlet" not in lines[1], lines
        assert killed or (_in_trash() / note.stem).exists(), f"{note.stem} is noted and not there"


def digest_of_file(path: Path) -> str:
    """A digest of a file's bytes."""
    return hashlib.sha1(path.read_bytes()).hexdigest()


def scenes() -> list[Scene]:
    """All jobs that are broken off."""
    return [
        _pack_scene("pack", "x.zip", old=False),
        _pack_scene("pack, originals to the trash", "x.7z", old=False, trash=True),
        _pack_scene("replace an archive", "x.zip", old=True),
        _pack_scene("add to an archive", "x.zip", old=True, add=True),
        _pack_scene("add to a tar", "x.tar", old=True, add=True),
        _pack_scene("pack into parts", "x.zip", old=False, parts=4000),
        _pack_scene("replace parts", "x.7z", old=True, parts=4000),
        _pack_scene("replace parts by fewer", "x.tar", old=True, parts=1500),
        _unpack_scene("unpack", over=False),
        _unpack_scene("unpack over files", over=True),
        _unpack_scene("unpack, archive to the trash", over=True, after="trash"),
        _move_scene(),
        _undo_scene("undo replacing an archive", parts=0),
        _undo_scene("undo replacing parts", parts=4000),
        *map(_verb_scene, _LINES),
    ]


_STATUS: dict[int, Ended] = {0: "done", 1: "problems", 2: "failed"}


def broken_off(scene: Scene, way: str, at: int, place: Path, breaker: Breaker) -> bool:
    """Break a job off at one step, put the folders in order as the next start would, and see that nothing is lost.

    Returns:
        Whether the step was reached.

    Raises:
        AssertionError: when something is lost.
    """
    from rundlet.core.fs.recovery import clear_up

    root = place / "there"
    for stale in (root, _in_trash().parent):
        shutil.rmtree(stale, ignore_errors=True)
    root.mkdir(parents=True)
    scene.before(root)
    pipe, into = os.pipe()  # what is said is no file of the job's
    child = os.fork()
    if not child:
        os.close(pipe)
        os._exit(_broken(scene, root, into, breaker, at, way))
    os.close(into)
    with os.fdopen(pipe, encoding="utf-8", errors="replace") as said:
        words = said.read()
    _, status = os.waitpid(child, 0)
    breaker.off()
    code = os.waitstatus_to_exitcode(status)
    assert code in _STATUS or code == -9, f"it ended in {code}: {words}"
    ended = _STATUS.get(code, "killed")
    assert ended != "killed" or way == "kill"
    assert "Traceback" not in words, words
    assert "write output" not in words, words  # as it can be
    clear_up()
    try:
        scene.holds(root, ended)
        _no_leftovers(root)
    except AssertionError as error:
        raise AssertionError(f"{ended}: {error}\n{words}") from error
    return breaker.done >= at


def _broken(scene: Scene, root: Path, said: int, breaker: Breaker, at: int, way: str) -> int:
    """The job, in a process of its own; its status."""
    from rundlet.core.errors import RundletError

    os.dup2(said, 1)
    os.dup2(said, 2)
    sys.stdout, sys.stderr = os.fdopen(1, "w"), os.fdopen(2, "w")
    os.chdir(root)
    try:
        breaker.set(at, way)
        outcome = scene.work(root)
        breaker.off()
        return outcome if isinstance(outcome, int) else int(bool(getattr(outcome, "problems", ())))
    except (OSError, RundletError) as error:
        os.write(2, f"{error!r}\n".encode())
        return 2
    except Exception:  # noqa: BLE001 - a fault, which is told
        os.write(2, traceback.format_exc().encode())
        return 4
    finally:
        breaker.off()
        sys.stdout.flush()
        sys.stderr.flush()


def every_step(scene: Scene, way: str, place: Path, breaker: Breaker, steps: range) -> Iterator[str]:
    """Break a job off at steps, as far as it has as many; what was lost at each, or ""."""
    for at in steps:
        try:
            if not broken_off(scene, way, at, place, breaker):
                return
            yield ""
        except AssertionError as error:
            yield f"{scene.name}: {way} at step {at}: {error}"
            if breaker.done < at:
                return
    if len(steps) > 1:
        yield f"{scene.name} has no end"


def say(words: str) -> None:
    """A line, at once."""
    sys.stdout.write(words + "\n")
    sys.stdout.flush()


def main() -> int:
    """Try everything and print what was tried."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=1)
    parser.add_argument("--stride", type=int, default=1, help="try every so many steps")
    parser.add_argument("--way", choices=WAYS, action="append")
    parser.add_argument("--scene", action="append", help="by its name")
    parser.add_argument("--at", type=int, help="at this step alone")
    parser.add_argument("--show", type=int, default=3, help="how many failures of a scene are told")
    options = parser.parse_args()
    failed = tried = 0
    with tempfile.TemporaryDirectory(dir=Path(os.environ["FAULTS_COUNTER"]).parent) as folder:
        place, breaker = Path(folder), Breaker(Path(os.environ["FAULTS_COUNTER"]))
        for number, scene in itertools.product(range(options.rounds), scenes()):
            if options.scene and scene.name not in options.scene:
                continue
            for way in options.way or WAYS:
                steps = range(options.at, options.at + 1) if options.at else range(1, _ENOUGH, options.stride)
                found = list(every_step(scene, way, place, breaker, steps))
                assert found, "nothing was counted"
                lost = [words for words in found if words]
                for words in lost[: options.show]:
                    say(f"FAILED  {words}")
                tried, failed = tried + len(found), failed + len(lost)
                said = f"{len(lost)} FAILED" if lost else "nothing lost"
                say(f"round {number + 1}  {scene.name:32}  {way:7}  {len(found):4} steps, {said}")
    say(f"{tried} steps tried, {failed} failed")
    return int(failed > 0)


def counted() -> int:
    """Run this program again in a process whose steps are counted; its status."""
    memory = Path("/dev/shm")  # where nothing waits for a disk
    data = Path(tempfile.mkdtemp(prefix="rundlet-breaking-", dir=memory if os.access(memory, os.W_OK) else None))
    folders = {f"XDG_{name}_HOME": str(data / name.lower()) for name in ("DATA", "STATE", "CACHE", "CONFIG")}
    try:
        more = {**build_faults(data), **folders, "PYTHONDONTWRITEBYTECODE": "1"}
        return subprocess.run([sys.executable, *sys.argv], env={**os.environ, **more}, check=False).returncode
    finally:
        shutil.rmtree(data, ignore_errors=True)


if __name__ == "__main__":
    if "FAULTS_COUNTER" not in os.environ:
        sys.exit(counted())
    sys.path.insert(0, str(Path(__file__).parent))
    from rundlet.core.streams import replacing

    replacing._YOUNG = 0.0
    sys.exit(main())
