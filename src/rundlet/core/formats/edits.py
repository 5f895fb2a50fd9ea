"""What becomes of the entries of an archive when it is written anew."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from rundlet.core.model.entry import Kind

if TYPE_CHECKING:
    from rundlet.core.formats.base import ArchiveReader


@dataclass(frozen=True, slots=True)
class Edits:
    """Changes of entries, by their rows in the archive's catalog. Entries that are not named stay as they are.

    Attributes:
        removed: what goes.
        renamed: new paths, with ``/`` between folders and none at the end.
        times: new times of change, in nanoseconds since 1970.
        modes: new permission bits.
    """

    removed: frozenset[int] = frozenset()
    renamed: Mapping[int, str] = field(default_factory=dict)
    times: Mapping[int, int] = field(default_factory=dict)
    modes: Mapping[int, int] = field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.removed or self.renamed or self.times or self.modes)

    @property
    def altered(self) -> frozenset[int]:
        """Entries that stay, with other words about them."""
        return (frozenset(self.renamed) | frozenset(self.times) | frozenset(self.modes)) - self.removed

    def path(self, reader: ArchiveReader, row: int) -> str:
        """What an entry is called afterwards, without a slash at its end."""
        return self.renamed.get(row) or reader.catalog.path(row).rstrip("/")

    def stored_path(self, reader: ArchiveReader, row: int) -> bytes:
        """A new path as formats keep it that mark folders by a slash at the end."""
        raw = self.renamed[row].encode("utf-8", "surrogateescape")
        return raw + b"/" if reader.catalog.kind[row] == Kind.DIR else raw


NOTHING = Edits()
"""Everything stays as it is."""
