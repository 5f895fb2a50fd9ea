"""What a format can't keep of what is packed, known before it is packed."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rundlet.core.jobs.findings import Issue, Reason, issue
from rundlet.core.model.entry import MOST_TIME, Kind

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
        yield issue(info.id, Reason.LOST_HARD_LINKS, count=traits.twins)
    if options.owners and not is_tar:
        yield issue(info.id, Reason.LOST_OWNERS)
    if traits.shut:
        yield issue(info.id, Reason.LOST_PERMISSIONS, count=traits.shut)
    if traits.out_of_range:
        yield issue(info.id, Reason.LOST_DATES, count=traits.out_of_range)
    if traits.marked:
        yield issue(info.id, Reason.LOST_ATTRIBUTES, count=traits.marked)


def _has_attributes(item: PackItem) -> bool:
    """Whether a person or program has put something beside the content of a file that no format here keeps."""
    if item.kind == Kind.LINK:
        return False
    try:
        return any(name.startswith("user.") for name in os.listxattr(item.source, follow_symlinks=False))
    except OSError:
        return False
