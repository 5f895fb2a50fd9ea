"""What is packed, before it is."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from rundlet.core.model.contents import ContentSource
    from rundlet.core.model.entry import Kind


class PackItem(NamedTuple):
    """One entry to be written.

    Attributes:
        path: its path in the archive.
        kind: what it is; never ``OTHER``.
        source: the path on the disk; as text, as there may be very many.
        size: bytes expected of it.
        mtime_ns, mode: as in :class:`Entry`.
        target: where a link points.
        inode: the same for all names of one file; None for a file with one name.
        content: where the content of a file comes from when that is not the path on the disk.
    """

    path: str
    kind: Kind
    source: str
    size: int
    mtime_ns: int
    mode: int
    target: str = ""
    inode: tuple[int, int] | None = None
    content: ContentSource | None = None

    @property
    def unix_mode(self) -> int:
        """Permission bits together with the type bits that Unix keeps beside them."""
        return self.kind.type_bits | self.mode
