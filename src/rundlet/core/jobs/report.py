"""What work has to say when it is over."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from rundlet.core.text import in_short, shortened, shown


@dataclass(frozen=True, slots=True)
class Issue:
    """One thing about one entry or file that a person should know.

    Attributes:
        about: the entry or file, as named in the archive or on the disk.
        message: what is so and what became of it, as a clause that follows the name.
        problem: False when it is only worth knowing and nothing was left out or altered.
    """

    about: str
    message: str
    problem: bool = True

    def __str__(self) -> str:
        """One line; a long name loses its middle."""
        return in_short(f"{shortened(shown(shortened(self.about)))}: {self.message}")


@dataclass(slots=True)
class Report:
    """The outcome of a job.

    Attributes:
        verb: what was done: ``"pack"``, ``"add"``, ``"unpack"``, ``"check"``, ``"trash"``, ``"copy"``, ``"lend"``, ``"move"``,
            ``"rename"``, ``"folder"`` or ``"undo"``.
        target: the archive made, or the folder unpacked into.
        files: how many files were handled.
        bytes_in, bytes_out: bytes read and written.
        seconds: how long the work took.
        unverified: files that were read, but have no checksum that would tell whether they are as they were packed.
        same, skipped, renamed, left_out: files that were there already with the same content, that were skipped as their name
            was taken, that got another name, and that could not be unpacked.
        issues: what went wrong or was done otherwise, one line each.
        created: the paths of what was put on the disk, so that it can be shown and taken back; strings, as they may
            be very many.
        trashed: the paths of what was moved to the trash.
        replaced: the places of which what stood there before is in the trash now.
        bins: for each of these places, and of those in ``trashed``, what tells the thing from all else in the trash.
        moved: from where to where other things were moved.
    """

    verb: str
    target: Path
    files: int = 0
    bytes_in: int = 0
    bytes_out: int = 0
    seconds: float = 0.0
    unverified: int = 0
    same: int = 0
    skipped: int = 0
    renamed: int = 0
    left_out: int = 0
    issues: list[Issue] = field(default_factory=list)
    created: list[str] = field(default_factory=list)
    trashed: list[str] = field(default_factory=list)
    replaced: list[str] = field(default_factory=list)
    bins: dict[str, str] = field(default_factory=dict)
    moved: list[tuple[str, str]] = field(default_factory=list)

    @property
    def problems(self) -> list[Issue]:
        """The issues that left something out or altered it."""
        return [issue for issue in self.issues if issue.problem]

    def add(self, about: str, message: str, *, problem: bool = True) -> None:
        """Note one more issue."""
        self.issues.append(Issue(about, message, problem))
