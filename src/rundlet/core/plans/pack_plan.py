"""What packing will do."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from datetime import date
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.core.errors import Clash, PlanError
from rundlet.core.formats.known import PACKED_TARS, TAR, ZIP
from rundlet.core.formats.passwords import TOO_LONG
from rundlet.core.fs.disk_space import existing_parent, free_bytes
from rundlet.core.fs.safe_names import as_text, first_free
from rundlet.core.fs.scan import Found, LeaveOut, not_text, walk
from rundlet.core.jobs.findings import Issue, Reason, issue, said_of
from rundlet.core.jobs.job import Job
from rundlet.core.limits import MAX_COMPONENT, MAX_PASSWORD
from rundlet.core.model.entry import MOST_TIME, Kind
from rundlet.core.model.format_info import FormatInfo, WriteOptions
from rundlet.core.plans.losses import not_kept, traits_of
from rundlet.core.streams.parts import is_taken_by_parts, part_path, whole_set

if TYPE_CHECKING:
    from rundlet.core.model.item import PackItem

_MOST_PARTS = 1000


class PackClash(StrEnum):
    """What becomes of an archive whose name is taken."""

    RENAME = "rename"
    REPLACE = "replace"
    REFUSE = "refuse"


@dataclass(frozen=True, slots=True)
class PackPlan:
    """What goes in, and where the archive will stand.

    Attributes:
        target: the path that the archive gets.
        asked: the path that was asked for; another one when the name was taken and is numbered.
        replaces: whether a file of that name is replaced.
        info, options: the format, and how it is written.
        part_size: bytes of each numbered part; 0 for one file.
        items: the entries in their order.
        files, folders, links, size: how many there are, and the bytes of the files.
        free: bytes free where the archive will stand.
        issues: what is left out or named otherwise, one line each.
        read_back: whether the archive is read and compared with the files before it gets its name.
        left: how many files and folders are left out because that was asked for.
        originals: what goes to the trash as far as the archive was seen to hold it; empty when nothing does.
        replaced: the files that are replaced.
        keep_replaced: whether an archive that is replaced goes to the trash, so that it can come back.
    """

    target: Path
    asked: Path
    replaces: bool
    info: FormatInfo
    options: WriteOptions
    part_size: int
    items: tuple[PackItem, ...]
    files: int
    folders: int
    links: int
    size: int
    free: int
    issues: tuple[Issue, ...]
    read_back: bool = False
    left: int = 0
    originals: tuple[Path, ...] = ()
    replaced: tuple[Path, ...] = ()
    keep_replaced: bool = False

    @property
    def level(self) -> int:
        """0 to 9."""
        return self.options.level


_STREAM = Path("standard output")
_FORWARD = {info.id for info in (ZIP, TAR, *PACKED_TARS)}


def suggested_stem(items: Sequence[Path]) -> str:
    """A name for the archive of these items: one item's own, or that of the folder in which several lie."""
    if len(items) == 1:
        item = absolute(items[0])
        return (item.name if os.path.isdir(item) else item.stem) or "disk"
    return (absolute(items[0]).parent.name if items else "") or "archive"


_DATE_BEHIND = re.compile(r"[ _-]*\d{4}-\d{2}-\d{2}( \(\d+\))?$")


def dated_stem(stem: str, day: date) -> str:
    """A name with a date behind it, in place of one that stands there already."""
    return f"{_DATE_BEHIND.sub('', stem) or stem} {day.isoformat()}"


def free_name(target: Path, *, in_parts: bool = False) -> Path:
    """The target itself, or the first numbered name beside it that is not taken."""
    return target.with_name(first_free(target.name, lambda name: _taken(target.with_name(name), in_parts)))


def plan_pack(
    items: Sequence[Path],
    *,
    target: Path,
    info: FormatInfo,
    level: int | None = None,
    options: WriteOptions | None = None,
    part_size: int = 0,
    exclude: Sequence[str] = (),
    leave_out: LeaveOut = LeaveOut.NOTHING,
    follow: bool = False,
    read_back: bool = False,
    trash: bool = False,
    on_clash: PackClash = PackClash.REFUSE,
    keep_replaced: bool = False,
    job: Job | None = None,
) -> PackPlan:
    """Look through the items and work out the archive. Nothing is written.

    Args:
        items: files and folders; each is stored under its own name, a folder with everything in it.
        target: the archive to be made.
        level: 0 to 9; a format without such a level takes its nearest. None for the format's usual one.
        options: everything else about how it is written; the level in it counts when ``level`` is None.
        part_size: bytes of each numbered part; 0 for one file.
        exclude: patterns of what is left out.
        leave_out: what else is left out.
        follow: whether what links lead to is packed in their place.
        read_back: whether the archive is read and compared with the files before it gets its name.
        trash: whether the items go to the trash once the archive was read back and found whole.
        keep_replaced: whether an archive that is replaced goes to the trash, so that it can come back.

    Raises:
        PlanError: when there is nothing to pack, the format can't do what is asked, the folder is not there, or the
            archive would go to the trash with the items.
        Clash: when the name is taken and the rule is to refuse, or a folder is to be replaced.
    """
    if level is None:
        level = options.level if options is not None else info.default_level
    options = replace(options or WriteOptions(level), level=info.level_for(level))
    can_do(info, options)
    asked = absolute(target)
    final, replaces = settled(asked, on_clash, in_parts=part_size > 0)
    replaced = _replaced(final, part_size) if replaces else ()
    originals = originals_of(items, final, replaced) if trash else ()
    job = job or Job()
    skip = frozenset(map(str, replaced))
    walked = _found(items, exclude=exclude, leave_out=leave_out, follow=follow, skip=skip, tick=job.checkpoint)
    found, issues = walked.items, walked.issues
    if not found:
        raise _nothing(issues)
    plan = _planned(
        found,
        issues,
        asked=asked,
        target=final,
        replaced=replaced,
        info=info,
        options=options,
        part_size=part_size,
        read_back=read_back or trash,
        keep_replaced=keep_replaced,
    )
    return replace(plan, left=walked.left, originals=originals)


def plan_stream(
    items: Sequence[Path],
    *,
    info: FormatInfo,
    options: WriteOptions,
    exclude: Sequence[str] = (),
    leave_out: LeaveOut = LeaveOut.NOTHING,
    follow: bool = False,
    job: Job | None = None,
) -> PackPlan:
    """Look through the items and work out an archive that is written to a stream.

    Args:
        items, info, options, exclude, leave_out, follow: as in :func:`plan_pack`.

    Raises:
        PlanError: when there is nothing to pack, or the format can't do what is asked.
    """
    if info.id not in _FORWARD:
        raise PlanError(
            "{format} can't be written to standard output, as its beginning is written last.",
            hint="zip and tar can.",
            format=info.id,
        )
    options = replace(options, level=info.level_for(options.level))
    can_do(info, options)
    walked = _found(items, exclude=exclude, leave_out=leave_out, follow=follow, skip=(), tick=(job or Job()).checkpoint)
    if not walked.items:
        raise _nothing(walked.issues)
    plan = _planned(
        walked.items,
        walked.issues,
        asked=_STREAM,
        target=_STREAM,
        replaced=(),
        info=info,
        options=options,
        part_size=0,
        read_back=False,
        keep_replaced=False,
    )
    return replace(plan, left=walked.left)


def plan_of_items(
    items: Sequence[PackItem],
    issues: Sequence[Issue],
    *,
    target: Path,
    info: FormatInfo,
    options: WriteOptions,
    part_size: int = 0,
    read_back: bool = False,
    on_clash: PackClash = PackClash.REFUSE,
    keep_replaced: bool = False,
) -> PackPlan:
    """Work out an archive of items that are known already, such as those of another archive. Nothing is written.

    Args:
        issues: what is to be said of those that are left out.
        target, info, options, part_size, read_back, on_clash, keep_replaced: as in :func:`plan_pack`.

    Raises:
        PlanError: when there is nothing to pack, or the format can't do what is asked.
        Clash: when the name is taken and the rule is to refuse.
    """
    can_do(info, options)
    asked = absolute(target)
    final, replaces = settled(asked, on_clash, in_parts=part_size > 0)
    if not items:
        raise PlanError("There is nothing to pack.")
    return _planned(
        items,
        issues,
        asked=asked,
        target=final,
        replaced=_replaced(final, part_size) if replaces else (),
        info=info,
        options=options,
        part_size=part_size,
        read_back=read_back,
        keep_replaced=keep_replaced,
    )


def _planned(
    items: Sequence[PackItem],
    issues: Sequence[Issue],
    *,
    asked: Path,
    target: Path,
    replaced: tuple[Path, ...],
    info: FormatInfo,
    options: WriteOptions,
    part_size: int,
    read_back: bool,
    keep_replaced: bool,
) -> PackPlan:
    found, lost = kept_by(items, info, options)
    kinds = [item.kind for item in found]
    size = sum(item.size for item in found)
    _few_parts(size, part_size)
    return PackPlan(
        target=target,
        asked=asked,
        replaces=bool(replaced),
        info=info,
        options=options,
        part_size=part_size,
        items=tuple(found),
        files=kinds.count(Kind.FILE),
        folders=kinds.count(Kind.DIR),
        links=kinds.count(Kind.LINK),
        size=size,
        free=free_bytes(target.parent),
        issues=(*issues, *lost),
        read_back=read_back,
        replaced=replaced,
        keep_replaced=keep_replaced,
    )


def kept_by(items: Sequence[PackItem], info: FormatInfo, options: WriteOptions) -> tuple[list[PackItem], list[Issue]]:
    """The items with times that the format keeps, and what it does not keep of them; looks at those on the disk."""
    lost = list(not_kept(traits_of(items), info, options))
    return [item if -MOST_TIME <= item.mtime_ns <= MOST_TIME else _in_our_time(item) for item in items], lost


def _replaced(target: Path, part_size: int) -> tuple[Path, ...]:
    return tuple(whole_set(target)) if part_size else (target,)


def originals_of(items: Sequence[Path], target: Path, replaced: Collection[Path]) -> tuple[Path, ...]:
    """What is to go to the trash, none of which may hold the archive; what it replaces is not among it."""
    folders: dict[Path, Path] = {}
    originals = tuple(path for item in items if (path := absolute(item, folders)) not in replaced)
    if any(target.is_relative_to(item) for item in originals):
        raise PlanError(
            "The archive would go to the trash together with the folder that it stands in.",
            hint="Choose another folder for it, or keep the originals.",
        )
    return originals


def items_of(
    items: Sequence[Path], *, exclude: Sequence[str], leave_out: LeaveOut, follow: bool, tick: Callable[[], None]
) -> list[PackItem]:
    """The entries that these items would be packed as; see :func:`plan_pack`."""
    return _found(items, exclude=exclude, leave_out=leave_out, follow=follow, skip=(), tick=tick).items


def _found(
    items: Sequence[Path],
    *,
    exclude: Sequence[str],
    leave_out: LeaveOut,
    follow: bool,
    skip: Collection[str],
    tick: Callable[[], None],
) -> Found:
    """All entries, and what is to be said of them."""
    found = Found([], [])
    used: set[str] = set()
    folders: dict[Path, Path] = {}
    for item in items:
        tick()
        place = absolute(item, folders)
        text = as_text(place.name)
        name = first_free(text or "disk", used.__contains__)
        used.add(name)
        if text != place.name:
            found.issues.append(not_text(place.name, name))
        elif name != text:
            found.issues.append(issue(str(item), Reason.NAME_TWICE, name=name))
        walked = walk(place, name, exclude=exclude, leave_out=leave_out, follow=follow, skip=skip, tick=tick)
        found.items += walked.items
        found.issues += walked.issues
        found.left += walked.left
    return found


def _nothing(issues: Sequence[Issue]) -> PlanError:
    """There is nothing to pack, and why the first item is not packed."""
    if not issues:
        return PlanError("There is nothing to pack.")
    name = issues[0].item
    if issues[0].reason is Reason.IS_THE_ARCHIVE:
        return PlanError(
            "There is nothing to pack. {name:name} was left out, as the new archive takes its place.", name=name
        )
    if cause := said_of(issues[0]):
        return PlanError("There is nothing to pack. {name:name} was left out: {cause:clause}.", name=name, cause=cause)
    return PlanError("There is nothing to pack. {name:name} was left out, as it is no ordinary file.", name=name)


def can_do(info: FormatInfo, options: WriteOptions) -> None:
    """See to it that a format can do what is asked of it.

    Raises:
        PlanError: when it can't.
    """
    if len(options.password) > MAX_PASSWORD:
        raise PlanError(TOO_LONG)
    if options.password and not info.can_lock:
        raise PlanError("The format {format} can't be locked with a password.", hint="zip and 7z can.", format=info.id)
    if options.hide_names and not (info.can_hide_names and options.password):
        if info.can_hide_names:
            raise PlanError("Names can only be hidden behind a password.")
        raise PlanError("The format {format} can't hide the names of its items.", hint="7z can.", format=info.id)
    if options.method and options.method not in info.methods:
        raise PlanError(
            "The format {format} has no method {method:name}.",
            hint="It has: {methods}." if info.methods else "",
            format=info.id,
            method=options.method,
            methods=", ".join(info.methods),
        )


def _in_our_time(item: PackItem) -> PackItem:
    """An item with the nearest time that is kept."""
    return item._replace(mtime_ns=max(-MOST_TIME, min(item.mtime_ns, MOST_TIME)))


def _few_parts(size: int, part_size: int) -> None:
    """See to it that nobody gets thousands of files for a slip in the size of parts.

    Raises:
        PlanError: when there would be so many.
    """
    if part_size and size // part_size > _MOST_PARTS:
        raise PlanError(
            "{size:size} in parts of {part_size:size} would be up to {count:number} files.",
            hint="Choose larger parts.",
            size=size,
            part_size=part_size,
            count=size // part_size,
        )


def _taken(target: Path, in_parts: bool) -> bool:
    return is_taken_by_parts(target) if in_parts else os.path.lexists(target)


def settled(target: Path, on_clash: PackClash, *, in_parts: bool) -> tuple[Path, bool]:
    """Where an archive will stand, and whether it replaces something.

    Args:
        target: the path that was asked for.
        on_clash: what happens when its name is taken.
        in_parts: whether the archive is split into numbered parts.

    Raises:
        PlanError: when the name is too long, or there is no such folder.
        Clash: when the name is taken and can't be replaced, or is not to be.
    """
    if len(os.fsencode(target.name)) + (len(".001") if in_parts else 0) > MAX_COMPONENT:
        raise PlanError("The name {name:name} is too long for a disk.", hint="Choose a shorter one.", name=target.name)
    parent = existing_parent(target.parent)
    if parent != target.parent:
        raise PlanError("There is no folder {folder:name} to put the archive in.", folder=str(target.parent))
    if not _taken(target, in_parts):
        return target, False
    if on_clash == PackClash.RENAME:
        return free_name(target, in_parts=in_parts), False
    first = part_path(target, 1) if in_parts else target
    if on_clash == PackClash.REPLACE:
        if os.path.islink(target) and not in_parts:
            target = _led_to(target)
        if not (os.path.isdir(first) or os.path.isdir(target)):
            return target, True
    raise Clash(
        "{path:name} is already there.",
        hint="Choose another name, or say whether to number the new one or to replace the old one.",
        path=str(first),
    )


def _led_to(link: Path) -> Path:
    """The archive that a link leads to, which is what is replaced, and not the link.

    Raises:
        PlanError: when it leads nowhere.
    """
    try:
        return link.resolve(strict=True)
    except (OSError, RuntimeError) as error:
        raise PlanError(
            "{name:name} is a link that leads nowhere.", hint="Remove it, or choose another name.", name=link.name
        ) from error


def absolute(path: Path, folders: dict[Path, Path] | None = None) -> Path:
    """The path from the root, with the last step kept even when it is a link.

    Args:
        folders: those that were resolved before; one more goes in, as very many items may lie in one.
    """
    whole = Path(os.path.abspath(path))
    folders = {} if folders is None else folders
    folder = folders.get(whole.parent)
    if folder is None:
        folder = folders[whole.parent] = whole.parent.resolve()
    return folder / whole.name if whole.name else whole
