"""Where the window stands and what it sees there: shared by the parts of its state, each of which does one thing with it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from rundlet.desktop.locations.place import OpenArchive, Place, Selection

if TYPE_CHECKING:
    from rundlet.desktop.locations.listing import Location


@dataclass(slots=True)
class Standpoint:
    """What all parts of the state look at; only :class:`~rundlet.desktop.state.workspace.Workspace` moves it.

    Attributes:
        place: where the window stands.
        archive: the archive that it is in, or None.
        listing: what lies there; None where that can't be shown.
        selection: what is selected of it, counted.
    """

    place: Place = field(default_factory=lambda: Place(Path.home()))
    archive: OpenArchive | None = None
    listing: Location | None = None
    selection: Selection = field(default_factory=Selection)
