"""The line above the list: what lies here, or how much of it is chosen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rundlet.core import text
from rundlet.core.model.entry import UNKNOWN
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.locations.listing import in_archive

if TYPE_CHECKING:
    from rundlet.desktop.locations.archive import ArchiveListing
    from rundlet.desktop.state.forms import Selection


def summary_of(listing: object, selection: Selection) -> str:
    """The line for a listing and what is chosen of it."""
    if isinstance(listing, DiskListing):
        return _disk_summary(listing, selection)
    return _archive_summary(listing, selection) if in_archive(listing) else ""


def _disk_summary(listing: DiskListing, selection: Selection) -> str:
    if not selection.items:
        return text.plural(len(listing.items), "item")
    more = "…" if selection.counting else ""
    what = f"{text.number(selection.items)} of {text.plural(len(listing.items), 'item')} chosen"
    if selection.elsewhere:
        what = f"From {text.plural(selection.folders, 'folder')}: {text.plural(selection.items, 'item')} chosen"
    return f"{what} · {text.plural(selection.files, 'file')}{more} · {text.size(selection.size)}{more}"


def _archive_summary(listing: ArchiveListing, selection: Selection) -> str:
    if selection.items:
        return f"{text.plural(selection.items, 'entry')} chosen · {text.plural(selection.files, 'file')} · {text.size(selection.size)}"
    tree, folder = listing.tree, listing.folder
    packed = int(tree.packed[folder])
    packed_words = f", packed to {text.size(packed)}" if packed != UNKNOWN else ""
    return f"{text.plural(int(tree.files[folder]), 'file')} · {text.size(int(tree.size[folder]))}{packed_words}"
