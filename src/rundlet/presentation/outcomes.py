"""What came of a job, what is being done, and what undoing it does, in words: one presenter for each kind of job."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from rundlet.core.jobs.findings import LOSSES, Reason
from rundlet.core.jobs.outcomes import (
    Changed,
    Checked,
    Compared,
    Copied,
    CopiedOut,
    FolderMade,
    Joined,
    Moved,
    Outcome,
    Packed,
    Renamed,
    Salvaged,
    Summed,
    Trashed,
    Undone,
    Unpacked,
)
from rundlet.core.sentences import fill
from rundlet.core.text import sentence, size
from rundlet.presentation.findings import issue_words, problem_words
from rundlet.presentation.sentences import joined

if TYPE_CHECKING:
    from rundlet.core.userdata.journal import Record

O_co = TypeVar("O_co", bound=Outcome, covariant=True)
Expected = tuple[int, float]
"""Bytes and seconds that were estimated of an archive, or zeros."""

NOTHING_EXPECTED: Expected = (0, 0.0)

_STAYED = {Reason.STAYS, Reason.ORIGINAL_STAYS, Reason.REST_STAYED, Reason.ORIGINALS_STAY_CANCELLED}


class Presenter(Generic[O_co]):
    """Says one kind of job.

    The templates are filled with the fields of :func:`_facts`.

    Attributes:
        doing: what is being done, as a title.
        done: what came of it, in a sentence.
        logged: what the log calls it; the sentence itself by default.
        makes_archive: whether its target is an archive that was made or changed.
    """

    doing = ""
    done = ""
    logged = ""
    makes_archive = False

    def summary(self, outcome: O_co) -> str:  # type: ignore[misc]
        """What came of it, in a sentence."""
        return fill(self.done, _facts(outcome))

    def afterwards(self, outcome: O_co) -> str:  # type: ignore[misc]
        """What else is to be said, in sentences of their own, or ""."""
        return ""

    def title(self, target: Path, source: Sequence[str]) -> str:
        """What is being done."""
        facts = {"target": target.name, "count": len(source), "source": Path(source[0]).name if source else ""}
        return fill(self.doing, facts)

    def log_title(self, record: Record) -> str:
        """What the log calls it."""
        outcome: Any = record.outcome
        return fill(self.logged, _facts(outcome, record.source)) if self.logged else self.summary(outcome).rstrip(".")

    def log_size(self, outcome: O_co) -> str:  # type: ignore[misc]
        """The size that the log shows, or ""."""
        return ""

    def undoing(self, record: Record, *, deletes: bool) -> str:
        """What undoing it does, in a few words.

        Args:
            deletes: whether files go for good.
        """
        raise NotImplementedError


def _facts(outcome: Outcome, source: Sequence[str] = ()) -> dict[str, object]:
    moved = outcome.moved[0][0] if outcome.moved else ""
    return {
        "target": outcome.target.name,
        "files": outcome.files,
        "bytes_in": outcome.bytes_in,
        "bytes_out": outcome.bytes_out,
        "seconds": outcome.seconds,
        "trashed": len(outcome.trashed),
        "moved": len(outcome.moved),
        "created": len(outcome.created),
        "saved": outcome.bytes_in - outcome.bytes_out,
        "before": Path(moved).name,
        "source": Path(source[0]).name if source else outcome.target.name,
    }


def _originals(outcome: Outcome) -> str:
    if not outcome.trashed:
        return ""
    if any(issue.reason in _STAYED for issue in outcome.problems):
        return fill("{trashed:original|originals} moved to the trash.", _facts(outcome))
    return "The originals are in the trash."


def _not_kept(outcome: Outcome) -> str:
    return joined([sentence(issue_words(issue)) for issue in outcome.issues if issue.reason in LOSSES])


class _ArchivePresenter(Presenter[O_co]):
    """What all jobs that write an archive have in common."""

    makes_archive = True
    undone = ""
    undone_with_originals = ""

    def afterwards(self, outcome: O_co) -> str:  # type: ignore[misc]
        return joined([_originals(outcome), _not_kept(outcome)])

    def log_size(self, outcome: O_co) -> str:  # type: ignore[misc]
        return fill("{bytes_out:size} of {bytes_in:size}", _facts(outcome))

    def undoing(self, record: Record, *, deletes: bool) -> str:
        originals = bool(record.outcome.trashed)
        if record.outcome.replaced:
            words = (
                "Restore {target:name} as it was and the originals" if originals else "Restore {target:name} as it was"
            )
        else:
            words = self.undone_with_originals if originals else self.undone
        return fill(words, _facts(record.outcome))


class _PackPresenter(_ArchivePresenter[Packed]):
    doing = "Packing {target:name}"
    done = "Packed {target:name}: {bytes_out:size} from {bytes_in:size}, in {seconds:duration}."
    smaller = "Packed {target:name}: {bytes_out:size} from {bytes_in:size}, {saved:size} saved, in {seconds:duration}."
    logged = "Packed {target}"
    undone = "Move {target:name} to the trash"
    undone_with_originals = "Move {target:name} to the trash and restore the originals"

    fits = "It fits the limit of {limit:size}."
    parts_fit = "Each part fits the limit of {limit:size}."
    too_large = "It is larger than the limit of {limit:size}."

    def summary(self, outcome: Packed) -> str:
        return fill(self.smaller if outcome.bytes_in > outcome.bytes_out else self.done, _facts(outcome))

    def afterwards(self, outcome: Packed) -> str:
        return joined([self._limit_words(outcome), super().afterwards(outcome)])

    def _limit_words(self, outcome: Packed) -> str:
        if not outcome.limit:
            return ""
        words = self.parts_fit if outcome.part_size else self.fits
        largest = min(outcome.bytes_out, outcome.part_size or outcome.bytes_out)
        return fill(words if largest <= outcome.limit else self.too_large, {"limit": outcome.limit})


class _ChangePresenter(_ArchivePresenter[Changed]):
    doing = "Saving {target:name}"
    done = "Saved {target:name}, {bytes_out:size}, in {seconds:duration}."
    logged = "Changed {target}"
    only_added = "Added {added:item|items} to {target:name} in {seconds:duration}."
    files_added = "Added {added:item|items} ({added_files:file|files}) to {target:name} in {seconds:duration}."
    undone = undone_with_originals = "Restore {target:name} as it was"

    def summary(self, outcome: Changed) -> str:
        if outcome.added and not (outcome.new or outcome.removed or outcome.renamed):
            counts = _counts(outcome)
            words = self.files_added if counts["added_files"] != counts["added"] else self.only_added
            return fill(words, _facts(outcome) | counts)
        return joined([super().summary(outcome), changed_words(outcome)])

    def log_size(self, outcome: Changed) -> str:
        return size(outcome.bytes_out)


def changed_words(outcome: Changed) -> str:
    """How many items were changed in which way, in a sentence, or ""; a folder with everything in it is one item."""
    counts = _counts(outcome)
    said = [fill(words, counts) for name, words in _change_words(counts).items() if counts[name]]
    return sentence(", ".join(said)) if said else ""


def _counts(outcome: Changed) -> dict[str, int]:
    """The counts of a change; of one that an earlier version noted, those of all items."""
    rows = {name: getattr(outcome, name) for name in ("added", "new", "removed", "renamed")}
    return {**rows, "added_files": outcome.added, "removed_files": outcome.removed, **outcome.counts}


def _change_words(counts: Mapping[str, int]) -> dict[str, str]:
    return {
        "added": _ADDED[counts["added"] != counts["added_files"]],
        "new": "{new:item|items} replaced",
        "removed": _REMOVED[counts["removed"] != counts["removed_files"]],
        "renamed": "{renamed:item|items} renamed",
    }


_ADDED = {False: "{added:item|items} added", True: "{added:item|items} added ({added_files:file|files})"}
_REMOVED = {False: "{removed:item|items} removed", True: "{removed:item|items} removed ({removed_files:file|files})"}


_UNDO_UNPACKING = {
    (True, False, False): "Delete what was unpacked into {target:name}",
    (True, True, False): "Delete what was unpacked into {target:name} and restore what was replaced",
    (True, False, True): "Delete what was unpacked into {target:name} and move the archive back",
    (
        True,
        True,
        True,
    ): "Delete what was unpacked into {target:name}, restore what was replaced, and move the archive back",
    (False, False, False): "Move what was unpacked into {target:name} to the trash",
    (False, True, False): "Move what was unpacked into {target:name} to the trash and restore what was replaced",
    (False, False, True): "Move what was unpacked into {target:name} to the trash and move the archive back",
    (False, True, True): (
        "Move what was unpacked into {target:name} to the trash, restore what was replaced, and move the archive back"
    ),
}
"""By whether files are deleted, whether some were replaced, and whether the archive was moved."""

_UNDONE = {
    (False, False): "There was nothing left to undo.",
    (True, False): "Undone: {files:file|files} removed.",
    (False, True): "Undone: {created:item|items} restored.",
    (True, True): "Undone: {files:file|files} removed and {created:item|items} restored.",
}
"""By whether files were removed, and whether something was restored."""


class _UnpackPresenter(Presenter[Unpacked]):
    doing = "Unpacking {source:name}"
    done = "Unpacked {files:file|files}, {bytes_out:size}, into {target:name} in {seconds:duration}."
    done_below = (
        "Unpacked {files:file|files}, {bytes_out:size}, into {below:name} in {target:name} in {seconds:duration}."
    )
    logged = "Unpacked {source}"

    def title(self, target: Path, source: Sequence[str]) -> str:
        if len(source) > 1:
            return fill("Unpacking {count:archive|archives}", {"count": len(source)})
        return super().title(target, source)

    def summary(self, outcome: Unpacked) -> str:
        below = _only_folder(outcome)
        done = fill(self.done_below, _facts(outcome) | {"below": below}) if below else super().summary(outcome)
        return joined([done, otherwise(outcome)])

    def afterwards(self, outcome: Unpacked) -> str:
        stayed = (Reason.ARCHIVE_STAYS, Reason.ARCHIVE_STAYS_CANCELLED)
        stays = next((issue for issue in outcome.issues if issue.reason in stayed), None)
        return joined(
            [
                fill("{trashed:file|files} moved to the trash.", _facts(outcome)) if outcome.trashed else "",
                "The archive was moved there, too." if outcome.moved else "",
                fill("{item:name} {what}.", {"item": stays.item, "what": issue_words(stays)})
                if stays is not None
                else "",
            ]
        )

    def log_size(self, outcome: Unpacked) -> str:
        return size(outcome.bytes_out)

    def undoing(self, record: Record, *, deletes: bool) -> str:
        outcome = record.outcome
        return fill(_UNDO_UNPACKING[deletes, bool(outcome.trashed), bool(outcome.moved)], _facts(outcome))


def _only_folder(outcome: Unpacked) -> str:
    """The name of the folder in the target that all of it went into, or ""."""
    base = f"{outcome.target}/"
    tops = {path.removeprefix(base).split("/", 1)[0] for path in outcome.created if path.startswith(base)}
    lies_below = any("/" in path.removeprefix(base) for path in outcome.created)
    return tops.pop() if len(tops) == 1 and lies_below else ""


class _CheckPresenter(Presenter[Checked]):
    doing = "Checking {target:name}"
    logged = "Checked {target}"

    def summary(self, outcome: Checked) -> str:
        known = outcome.bad + outcome.doubtful
        unknown = sum(issue.item != outcome.target.name for issue in outcome.problems)  # in logs of earlier versions
        return verdict(outcome if known or not unknown else replace(outcome, damaged=unknown))


def verdict(outcome: Checked) -> str:
    """What checking an archive came to, in a sentence or more."""
    names = ("intact", "unverified", "damaged", "missing", "unreadable", "doubtful")
    facts = _facts(outcome) | {name: getattr(outcome, name) for name in names}
    facts["total"] = outcome.files + outcome.bad + outcome.doubtful
    if outcome.bad or outcome.doubtful:
        said = ["{intact:number} of {total:item|items} of {target:name} {intact:=is|are} intact."]
        said += (
            ["{unverified:item|items} can be read, but {unverified:=has|have} no checksum."]
            if outcome.unverified
            else []
        )
        said += ["{doubtful:item|items} may be damaged."] if outcome.doubtful else []
        said += ["{damaged:item is|items are} damaged."] if outcome.damaged else []
        said += ["{missing:item lies|items lie} in a missing part."] if outcome.missing else []
        said += ["{unreadable:item|items} can't be read."] if outcome.unreadable else []
        return joined([fill(each, facts) for each in said])
    damaged = "The archive itself is damaged." if outcome.problems else ""
    if outcome.unverified and outcome.unverified >= outcome.files:
        said = [
            "{files:item|items} of {target:name} could be read, but can't be verified: {files:=it has|they have} no checksum."
        ]
    elif outcome.unverified:
        said = [
            "{intact:number} of {total:item|items} of {target:name} {intact:=is|are} intact.",
            "{unverified:item|items} could be read, but can't be verified: {unverified:=it has|they have} no checksum.",
        ]
    elif outcome.problems:
        said = ["{files:item|items} of {target:name} {files:=is|are} intact."]
    elif outcome.whole:
        said = ["{target:name} is intact: {files:item|items} read."]
    else:
        said = ["The {files:selected item|selected items} of {target:name} {files:=is|are} intact."]
    return joined([*(fill(each, facts) for each in said), damaged])


class _ComparePresenter(Presenter[Compared]):
    doing = "Comparing {target:name}"
    logged = "Compared {target}"

    def summary(self, outcome: Compared) -> str:
        return compared_words(outcome)


def compared_words(outcome: Compared) -> str:
    """What a comparison came to, in a sentence or more."""
    facts = {
        "same": outcome.files,
        "differing": outcome.differing,
        "here": outcome.only_here,
        "there": outcome.only_there,
        "moved": outcome.moved_items,
    }
    if outcome.all_there:
        said = ["All {same:file|files} of the folder are in the archive, byte for byte."]
        said = said if outcome.files != 1 else ["The only file of the folder is in the archive, byte for byte."]
        if outcome.only_here:
            said.append("{here:item is|items are} only in the archive.")
        return joined([fill(each, facts) for each in said])
    if not (outcome.differing or outcome.only_here or outcome.only_there or outcome.moved_items or outcome.problems):
        words = (
            "Both hold the same {same:file|files}, byte for byte."
            if outcome.certain
            else "Both hold the same {same:file|files}, as far as sizes, times and checksums tell."
        )
        return fill(words, facts)
    said = ["{same:file is|files are} the same."]
    said += ["{differing:item differs|items differ}."] if outcome.differing else []
    said += ["{here:item is|items are} only in the archive."] if outcome.only_here else []
    said += ["{there:item is|items are} missing from the archive."] if outcome.only_there else []
    said += ["{moved:file is|files are} there under another path."] if outcome.moved_items else []
    return joined([fill(each, facts) for each in said])


class _JoinPresenter(Presenter[Joined]):
    doing = "Joining {target:name}"
    done = "Joined {files:part|parts} into {target:name}, {bytes_out:size}, in {seconds:duration}."
    logged = "Joined {target}"

    def log_size(self, outcome: Joined) -> str:
        return size(outcome.bytes_out)

    def undoing(self, record: Record, *, deletes: bool) -> str:
        words = "Restore {target:name} as it was" if record.outcome.replaced else "Move {target:name} to the trash"
        return fill(words, _facts(record.outcome))


class _SalvagePresenter(_ArchivePresenter[Salvaged]):
    doing = "Saving what is intact as {target:name}"
    done = "Saved {files:item|items} as {target:name}, {bytes_out:size}, in {seconds:duration}."
    one_intact, all_intact = "It is intact.", "All of them are intact."
    some_doubtful = "{doubtful:item|items} may be damaged, which {doubtful:=its name says|their names say}."
    logged = "Saved what is intact as {target}"
    undone = undone_with_originals = "Move {target:name} to the trash"
    in_part = "{parts:damaged file is|damaged files are} in it as far as it could be read."
    in_parts = "{parts:damaged file is|damaged files are} in it as far as they could be read."

    def summary(self, outcome: Salvaged) -> str:
        bad = {"bad": outcome.damaged + outcome.missing + outcome.unreadable, "parts": outcome.parts}
        said = [super().summary(outcome)]
        if outcome.doubtful:
            said.append(fill(self.some_doubtful, {"doubtful": outcome.doubtful}))
        elif outcome.files:
            said.append(self.one_intact if outcome.files == 1 else self.all_intact)
        if bad["bad"]:
            said.append(fill("{bad:item is|items are} lost or damaged.", bad))
        if outcome.parts:
            said.append(fill(self.in_part if outcome.parts == 1 else self.in_parts, bad))
        return joined(said)

    def log_size(self, outcome: Salvaged) -> str:
        return size(outcome.bytes_out)


class _TrashPresenter(Presenter[Trashed]):
    doing = "Moving {count:item|items} to the trash"
    done = "Moved {trashed:item|items} to the trash."
    nothing = "Nothing was moved to the trash."
    logged = "To the trash: {trashed:item|items}"

    def summary(self, outcome: Trashed) -> str:
        return super().summary(outcome) if outcome.trashed else self.nothing

    def undoing(self, record: Record, *, deletes: bool) -> str:
        return fill("Restore {trashed:item|items} from the trash", _facts(record.outcome))


class _CopyPresenter(Presenter[Copied]):
    doing = "Copying {count:item|items} into {target:name}"
    done = "Copied {files:file|files} into {target:name}."
    nothing = "Nothing was copied into {target:name}."
    logged = "Copied {files:file|files}"

    def summary(self, outcome: Copied) -> str:
        return super().summary(outcome) if outcome.created else fill(self.nothing, _facts(outcome))

    def log_size(self, outcome: Copied) -> str:
        return size(outcome.bytes_out)

    def undoing(self, record: Record, *, deletes: bool) -> str:
        return fill("Move what was copied into {target:name} to the trash", _facts(record.outcome))


class _MovePresenter(Presenter[Moved]):
    doing = "Moving {count:item|items} into {target:name}"
    done = "Moved {moved:item|items} into {target:name}."
    nothing = "Nothing was moved into {target:name}."
    logged = "Moved {moved:item|items}"

    def summary(self, outcome: Moved) -> str:
        return super().summary(outcome) if outcome.moved else fill(self.nothing, _facts(outcome))

    def undoing(self, record: Record, *, deletes: bool) -> str:
        return fill("Move {moved:item|items} back", _facts(record.outcome))


class _RenamePresenter(Presenter[Renamed]):
    doing = "Renaming {source:name}"
    done = "Renamed {before:name} to {target:name}."

    def undoing(self, record: Record, *, deletes: bool) -> str:
        return fill("Rename {target:name} back to {before:name}", _facts(record.outcome))


class _FolderPresenter(Presenter[FolderMade]):
    doing = "Making a folder"
    done = "Made the folder {target:name}."

    def undoing(self, record: Record, *, deletes: bool) -> str:
        return fill("Remove the folder {target:name} if it is empty", _facts(record.outcome))


class _CopyOutPresenter(Presenter[CopiedOut]):
    doing = "Copying items out of {source:name}"
    done = "Copied {files:file|files} out of the archive."


class _SumPresenter(Presenter[Summed]):
    doing = "Computing checksums"
    done = "Computed the checksums of {files:file|files}, {bytes_in:size}, in {seconds:duration}."


class _UndoPresenter(Presenter[Undone]):
    doing = "Undoing {target:name}"

    def summary(self, outcome: Undone) -> str:
        if outcome.problems and not (outcome.files or outcome.created):
            return "Nothing could be undone."
        return fill(_UNDONE[outcome.files > 0, bool(outcome.created)], _facts(outcome))


PRESENTERS: dict[type[Outcome], Presenter[Any]] = {
    Packed: _PackPresenter(),
    Changed: _ChangePresenter(),
    Unpacked: _UnpackPresenter(),
    Checked: _CheckPresenter(),
    Compared: _ComparePresenter(),
    Joined: _JoinPresenter(),
    Salvaged: _SalvagePresenter(),
    Trashed: _TrashPresenter(),
    Copied: _CopyPresenter(),
    Moved: _MovePresenter(),
    Renamed: _RenamePresenter(),
    FolderMade: _FolderPresenter(),
    CopiedOut: _CopyOutPresenter(),
    Summed: _SumPresenter(),
    Undone: _UndoPresenter(),
}


def presenter_of(outcome: Outcome) -> Presenter[Any]:
    """What says this kind of job."""
    return PRESENTERS[type(outcome)]


def title_of(kind: type[Outcome], target: Path, source: Sequence[Path] = ()) -> str:
    """What is being done, such as ``Packing “minutes.zip”``."""
    return PRESENTERS[kind].title(target, [str(path) for path in source])


def outcome_words(outcome: Outcome, expected: Expected = NOTHING_EXPECTED) -> str:
    """What came of a job, in a few sentences."""
    presenter = presenter_of(outcome)
    return joined(
        [
            presenter.summary(outcome),
            expected_words(expected),
            problem_words(outcome.problems) if outcome.problems else "",
            presenter.afterwards(outcome),
        ]
    )


def expected_words(expected: Expected) -> str:
    """What was estimated, in a sentence, or ""."""
    facts = {"size": expected[0], "seconds": expected[1]}
    return fill("Estimated: {size:size} in {seconds:duration}.", facts) if expected[0] else ""


def otherwise(outcome: Unpacked) -> str:
    """What became of files that were not unpacked under their own names, in a sentence, or ""."""
    facts = {
        "same": outcome.same,
        "skipped": outcome.skipped,
        "renamed": outcome.renamed,
        "left_out": outcome.left_out,
    }
    words = {
        "same": "{same:number} already there with the same content",
        "skipped": "{skipped:number} skipped",
        "renamed": "{renamed:number} renamed",
        "left_out": "{left_out:number} left out",
    }
    said = ", ".join(fill(words[name], facts) for name, count in facts.items() if count)
    return sentence(said) if said else ""


def record_title(record: Record) -> str:
    """What the log calls a job: what was done, or what was to be done where nothing came of it."""
    presenter = presenter_of(record.outcome)
    if record.result != "done":
        return presenter.title(record.outcome.target, record.source)
    return presenter.log_title(record)


def record_words(record: Record) -> str:
    """What the log tells of a job, in a few sentences."""
    if record.result != "done":
        return str(record.why)
    return outcome_words(replace(record.outcome, issues=[*record.problems, *record.notes]))
