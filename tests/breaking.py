"""Jobs that are killed, or refused by the system, at every step that changes a disk; used by the tests and by ``make torture``.

Run as a program, it tries every step of every job in every way, in processes of their own, and prints what it tried::

    python tests/breaking.py [--rounds N]
"""

from __future__ import annotations

import argparse
import errno
import hashlib
import itertools
import os
import random
import shutil
import signal
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rundlet.core.jobs.outcomes import Moved, Outcome

WAYS = ("kill", "EIO", "ENOSPC")
_STEPS = ("rename", "replace", "link", "symlink", "unlink", "rmdir", "mkdir", "fsync", "ftruncate", "write", "pwrite")
_ENOUGH = 400  # steps; no job here has as many


@dataclass(frozen=True)
class Scene:
    """A job that is broken off.

    Attributes:
        before: makes what is there beforehand.
        work: the job.
        holds: raises ``AssertionError`` where something is lost; told whether the job came to its end.
    """

    name: str
    before: Callable[[Path], None]
    work: Callable[[Path], object]
    holds: Callable[[Path, bool], None]


class Breaker:
    """Lets the n-th step that changes a disk fail, or ends the process there."""

    def __init__(self, at: int, way: str) -> None:
        self.at = at
        self.way = way
        self.done = 0

    def step(self) -> None:
        """One more step is about to be taken."""
        self.done += 1
        if self.done != self.at:
            return
        if self.way == "kill":
            os.kill(os.getpid(), signal.SIGKILL)
        number = getattr(errno, self.way)
        raise OSError(number, os.strerror(number))

    def install(self) -> None:
        """Stand in front of all such steps of this process."""
        for name in _STEPS:
            real = getattr(os, name)

            def broken(*words: object, _real: Callable[..., object] = real, **more: Any) -> object:
                self.step()
                return _real(*words, **more)

            setattr(os, name, broken)
        from rundlet.core.streams import renaming

        real_call = renaming._call

        def call(name: str) -> object:
            found = real_call(name)
            if name != "renameat2" or found is None:
                return found

            def rename(*words: object) -> object:
                self.step()
                return found(*words)

            return rename

        renaming._call = call  # type: ignore[assignment]


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

    def holds(root: Path, done: bool) -> None:
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

    def holds(root: Path, done: bool) -> None:
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

    def holds(root: Path, done: bool) -> None:
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

    def holds(root: Path, done: bool) -> None:
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
    ]


def broken_off(scene: Scene, way: str, at: int, place: Path) -> bool:
    """Break a job off at one step, put the folders in order as the next start would, and see that nothing is lost.

    Returns:
        Whether the step was reached.

    Raises:
        AssertionError: when something is lost.
    """
    from rundlet.core.fs.recovery import recover_unfinished
    from rundlet.core.fs.replaced import recover_folder
    from rundlet.core.streams import replacing

    root = place / "there"
    for stale in (root, _in_trash().parent):
        shutil.rmtree(stale, ignore_errors=True)
    root.mkdir(parents=True)
    scene.before(root)
    child = os.fork()
    if not child:
        breaker = Breaker(at, way)
        status = 3
        try:
            breaker.install()
            outcome = scene.work(root)
            status = 0 if breaker.done < at else 1 if getattr(outcome, "problems", ()) else 2
        except OSError:
            status = 1
        except Exception as error:  # noqa: BLE001 - what is one of ours is fine, and all else is a fault
            from rundlet.core.errors import RundletError

            if not isinstance(error, RundletError):
                traceback.print_exc()
                status = 4
            else:
                status = 1
        finally:
            os._exit(status)
    _, ended = os.waitpid(child, 0)
    code = os.waitstatus_to_exitcode(ended)
    assert code != 4, "it ended in a traceback"
    replacing._YOUNG = 0.0
    recover_unfinished()
    if way != "kill":  # a job that was refused something may have been kept from noting where it was at work
        for folder in [root / "to", *(path for path in (root / "out", *(root / "out").rglob("*")) if path.is_dir())]:
            recover_folder(folder)
    scene.holds(root, code in (0, 2))
    _no_leftovers(root)
    return code != 0


def every_step(scene: Scene, way: str, place: Path, *, stride: int = 1) -> Iterator[int]:
    """Break a job off at each of its steps, or at every so many of them."""
    for at in range(1, _ENOUGH, stride):
        try:
            reached = broken_off(scene, way, at, place)
        except AssertionError as error:
            raise AssertionError(f"{scene.name}: {way} at step {at}: {error}") from error
        if not reached:
            return
        yield at
    raise AssertionError(f"{scene.name} has no end")


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
    options = parser.parse_args()
    failed = 0
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        for number, scene in itertools.product(range(options.rounds), scenes()):
            if options.scene and scene.name not in options.scene:
                continue
            for way in options.way or WAYS:
                try:
                    steps = sum(1 for _ in every_step(scene, way, place, stride=options.stride))
                    say(f"round {number + 1}  {scene.name:32}  {way:7}  {steps:4} steps, nothing lost")
                except AssertionError as error:
                    failed += 1
                    say(f"round {number + 1}  FAILED  {error}")
    return int(failed > 0)


if __name__ == "__main__":
    data = tempfile.mkdtemp(prefix="rundlet-breaking-")
    os.environ["XDG_DATA_HOME"] = os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"] = data
    sys.path.insert(0, str(Path(__file__).parent))
    try:
        status = main()
    finally:
        shutil.rmtree(data, ignore_errors=True)
    sys.exit(status)
