"""What a format can't keep of what is packed, known before it is packed."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.jobs.report import Issue
from rundlet.core.model.entry import MOST_TIME, Kind
from rundlet.core.text import plural

if TYPE_CHECKING:
    from rundlet.core.model.format_info import FormatInfo, WriteOptions
    from rundlet.core.model.item import PackItem


@dataclass(frozen=True, slots=True)
class Traits:
    """How many of the items have something that not every format keeps.

    Attributes:
        twins: files that are one more name of another.
        shut: items whose permissions forbid everything to everyone.
        out_of_range: items with a time beyond those that any format here keeps.
        marked: items with extended attributes that a person or a program gave them.
    """

    twins: int = 0
    shut: int = 0
    out_of_range: int = 0
    marked: int = 0


def traits_of(items: Sequence[PackItem]) -> Traits:
    """Count them; looks at each item on the disk."""
    return Traits(
        twins=sum(count - 1 for count in Counter(item.inode for item in items if item.inode is not None).values()),
        shut=sum(not item.mode & 0o777 for item in items if item.kind != Kind.LINK),
        out_of_range=sum(not -MOST_TIME <= item.mtime_ns <= MOST_TIME for item in items),
        marked=sum(_has_attributes(item) for item in items),
    )


def not_kept(traits: Traits, info: FormatInfo, options: WriteOptions) -> Iterator[Issue]:
    """What the format can't keep, each thing once; none of it is a problem."""
    is_tar = info.id.startswith("tar")
    if traits.twins and not is_tar:
        files = plural(traits.twins, "hard link becomes a separate file", "hard links become separate files")
        yield Issue(info.id, files, problem=False)
    if options.owners and not is_tar:
        yield Issue(info.id, "file owners are not kept; tar keeps them", problem=False)
    if traits.shut:
        files = plural(traits.shut, "item that nobody may open", "items that nobody may open")
        yield Issue(info.id, f"the permissions of {files} are not kept", problem=False)
    if traits.out_of_range:
        files = plural(traits.out_of_range, "file")
        yield Issue(info.id, f"the dates of {files} are too early or too late to be kept exactly", problem=False)
    if traits.marked:
        files = plural(traits.marked, "file")
        yield Issue(info.id, f"the extended attributes of {files} are not kept", problem=False)


def _has_attributes(item: PackItem) -> bool:
    """Whether a person or program has put something beside the content of a file that no format here keeps."""
    if item.kind == Kind.LINK:
        return False
    try:
        return any(name.startswith("user.") for name in os.listxattr(item.source, follow_symlinks=False))
    except OSError:
        return False
