"""The line above the list: what lies here, or how much of it is chosen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core import text
from rundlet.core.model.entry import UNKNOWN
from rundlet.desktop.models.disk import DiskListing
from rundlet.desktop.models.listing import in_archive

if TYPE_CHECKING:
    from rundlet.desktop.models.archive import ArchiveListing
    from rundlet.desktop.state import Choice


def summary_of(listing: object, choice: Choice) -> str:
    """The line for a listing and what is chosen of it."""
    if isinstance(listing, DiskListing):
        return _disk_summary(listing, choice)
    return _archive_summary(listing, choice) if in_archive(listing) else ""


def _disk_summary(listing: DiskListing, choice: Choice) -> str:
    if not choice.items:
        return text.plural(len(listing.items), "item")
    more = "…" if choice.counting else ""
    what = f"{text.number(choice.items)} of {text.plural(len(listing.items), 'item')} chosen"
    if choice.elsewhere:
        what = f"From {text.plural(choice.folders, 'folder')}: {text.plural(choice.items, 'item')} chosen"
    return f"{what} · {text.plural(choice.files, 'file')}{more} · {text.size(choice.size)}{more}"


def _archive_summary(listing: ArchiveListing, choice: Choice) -> str:
    if choice.items:
        return f"{text.plural(choice.items, 'entry')} chosen · {text.plural(choice.files, 'file')} · {text.size(choice.size)}"
    tree, folder = listing.tree, listing.folder
    packed = int(tree.packed[folder])
    packed_words = f", packed to {text.size(packed)}" if packed != UNKNOWN else ""
    return f"{text.plural(int(tree.files[folder]), 'file')} · {text.size(int(tree.size[folder]))}{packed_words}"
