"""The clause for each reason. It follows the name of the item: "notes.txt: was left out, as …"."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from rundlet.core.jobs.findings import Finding, Issue, Reason
from rundlet.core.sentences import fill
from rundlet.core.text import in_short, shortened, shown

CLAUSES: dict[Reason, str] = {
    Reason.CHECKSUM: "{problem:clause}",
    Reason.CONTRADICTS: "{problem:clause}",
    Reason.SHARED_BYTES: "{problem:clause}",
    Reason.CUT_OFF: "{problem:clause}",
    Reason.DAMAGED: "{problem:clause}",
    Reason.UNSUPPORTED: "{problem:clause}",
    Reason.LIMIT: "{problem:clause}",
    Reason.UNSAFE: "{problem:clause}",
    Reason.LOCKED: "{problem:clause}",
    Reason.WRONG_PASSWORD: "{problem:clause}",
    Reason.MISSING_PART: "{problem:clause}",
    Reason.SYSTEM: "{problem:clause}",
    Reason.FAILED: "{problem:clause}",
    Reason.SAID: "{problem}",
    # An archive as a whole
    Reason.JUNK_BEHIND: "{count:byte|bytes} after its end {count:=doesn't|don't} belong to it",
    Reason.JUNK_BETWEEN: "{count:byte|bytes} between its items {count:=belongs|belong} to none of them",
    Reason.NAME_IN_FRONT: "is called {name:name} in front of its content, though not in the file list",
    Reason.ENTRIES_MISSING: "items are missing from the file list, and those after them may not belong in it: {cause:clause}",
    Reason.ENTRIES_MAY_BE_MISSING: "items may be missing from the file list, and those after them may not belong in it: {cause:clause}",
    Reason.LIST_ENDS: "the file list ends after {count:item|items}: {cause:clause}",
    Reason.FILES_DOUBTFUL: "{count:file|files} may be damaged, which their names will say when they come out",
    Reason.FILES_UNCHECKED: "{count:file|files} can't be checked, as their checksum is missing with what is missing",
    Reason.FILES_BEFORE_DAMAGE: "{count:file|files} before the damage may be damaged too, as the checksum comes after it",
    Reason.NEXT_PART: "part {number} may belong to it, and is not here",
    Reason.COUNT_DIFFERS: "it says that it holds {said:item|items}, but {there:number} {there:=is|are} there",
    Reason.FOUND_WITHOUT_LIST: "{cause}; {count:item was|items were} found without it, with no permissions known",
    Reason.NOTHING_WITHOUT_LIST: "{cause}; nothing more was found without it",
    Reason.LIST_DAMAGED_BEHIND: "its file list is damaged after {count:item|items}",
    Reason.LIST_MISSING: "it is cut off or damaged, and its file list is missing",
    Reason.LIST_AT_END: "{cause}; a file list was found at its end, and some of the files may be damaged",
    Reason.GAPS: "something between its items is damaged or missing",
    Reason.NOT_LISTED: "{count:item|items} in it {count:=is|are} not in its file list, and may be left over from an earlier version",
    Reason.LISTED_ELSEWHERE: "{count:item|items} of its file list {count:=is|are} not where it says",
    Reason.ENTRY_CUT: "is cut off, and is not listed",
    Reason.ANTI_ITEMS: "{count:item that only deletes a file is|items that only delete files are} not listed",
    Reason.PART_TWICE: "part {number} is there twice; {name:name} is used",
    Reason.PART_DIFFERS: "is not what the checksum file beside the parts says",
    Reason.PARTS_ALIKE: "has the same content as part {number}, so one of the two is the wrong one",
    # Packing
    Reason.NAME_TWICE: "is called {name:name} in the archive, as its name is selected twice",
    Reason.NAME_NOT_UTF8: "is called {name:name} in the archive, as its name is not UTF-8",
    Reason.NAME_IN_ARCHIVE: "is called {name:name} in the archive, as it holds one of its name",
    Reason.ALREADY_IN_ARCHIVE: "is in the archive already, with the same content",
    Reason.NOT_READ: "could not be read ({cause}) and was left out",
    Reason.IS_THE_ARCHIVE: "was left out, as the new archive takes its place",
    Reason.IS_SOCKET: "is a socket and was left out",
    Reason.IS_PIPE: "is a pipe and was left out",
    Reason.IS_DEVICE: "is a device and was left out",
    Reason.LINK_NOWHERE: "leads nowhere and was kept as a link",
    Reason.LINK_CIRCLE: "leads to a folder that it is in and was kept as a link",
    Reason.CHANGED_WHILE_READ: "it changed while it was read; it was packed as it was then",
    Reason.CHANGED_WHILE_PACKED: "was changed while it was packed, so the archive holds it as it was before",
    Reason.BECAME_SHORTER: "it became shorter while it was read; the rest of it in the archive is zeros",
    Reason.NOT_READ_TO_END: "could not be read to its end ({cause}); the rest of it in the archive is zeros",
    Reason.LOST_HARD_LINKS: "{count:hard link becomes a separate file|hard links become separate files}",
    Reason.LOST_OWNERS: "file owners are not kept; tar keeps them",
    Reason.LOST_PERMISSIONS: "the permissions of {count:item that nobody may open|items that nobody may open} are not kept",
    Reason.LOST_DATES: "the dates of {count:file|files} are too early or too late to be kept exactly",
    Reason.LOST_ATTRIBUTES: "the extended attributes of {count:file|files} are not kept",
    Reason.ORIGINAL_STAYS: "stays where it is, as {cause}",
    Reason.ORIGINALS_STAY_CANCELLED: "was packed; {count:original|originals} stayed where they are, as you cancelled",
    Reason.NOT_IN_ARCHIVE: "{name:name} is not in the archive",
    Reason.LINK_NOT_IN_ARCHIVE: "the link {name:name} is not in the archive as it is",
    Reason.NOT_IN_ARCHIVE_AS_IT_IS: "{name:name} is not in the archive as it is",
    Reason.CHANGED_SINCE_PACKED: "{name:name} was changed since it was packed",
    Reason.NOT_LOOKED_AT: "{name:name} could not be looked at ({cause})",
    Reason.KEPT_BESIDE: "the one before is kept as {name:name} ({cause})",
    Reason.NOT_TIDIED: "a temporary copy of what was replaced could not be removed ({cause}); Rundlet tries again at its next start",
    # Comparing
    Reason.CHANGED_WHILE_COMPARED: "was changed while it was compared",
    # Saving what is intact
    Reason.ONLY_IN_PART: "what can be read of it, {there:size} of {size:size}, is saved as {name:name}; from the damage on it may be wrong",
    # Changing
    Reason.SIGNATURE_BREAKS: "is signed, and the change breaks its signature",
    Reason.MUST_BE_FIRST: "must be the first item and uncompressed, or programs won't recognize this document",
    Reason.NAME_HAS_HIDDEN_MARKS: "its name holds characters that nobody sees, such as marks for the direction of writing",
    Reason.NAME_HAS_TWIN: "its name differs from {name:name} only in upper and lower case, which some systems take for the same",
    Reason.NAME_NOT_EVERYWHERE: "other systems can't have this name and will change it when it is unpacked",
    Reason.NAME_TOO_LONG_FOR_DISKS: "its name is longer than the {most} bytes that disks allow and will be shortened when it is unpacked",
    # Unpacking
    Reason.LEFT_OUT: "was left out: {cause}",
    Reason.ALTERED: "{changes}",
    Reason.LOST_MARKS: "the set-user-ID, set-group-ID or sticky bits of {count:item|items} are not kept",
    Reason.DISK_KEEPS_NO_PERMISSIONS: "that disk keeps no permissions, so programs there are no longer marked as programs",
    Reason.DISK_KEEPS_NO_MARKS: "its disk can't keep the times or permissions of {count:file or folder|files and folders}",
    Reason.OUTSIDE_BY_SLASH: "it would land outside the folder (its name begins with “/”)",
    Reason.OUTSIDE_BY_DRIVE: "it would land outside the folder (its name begins with a drive letter)",
    Reason.OUTSIDE_BY_DOTS: "it would land outside the folder (its name leads upwards with “..”)",
    Reason.NO_NAME: "it has no name",
    Reason.PATH_TOO_LONG: "its path is longer than the {most:number} bytes that programs can open",
    Reason.CONTROL_CHARACTERS: "control characters in its name became “_”",
    Reason.RESERVED_NAME: "its name is one that Rundlet uses itself and was changed",
    Reason.NAME_SHORTENED: "its name was shortened to the {most} bytes that a disk allows",
    Reason.LINK_UNUSABLE: "it is a link without a usable target",
    Reason.LINK_OUTSIDE: "it is a link to a place outside the folder",
    Reason.HARD_LINK_NOWHERE: "it is a link to a file that the archive does not hold",
    Reason.SPECIAL_NOT_MADE: "it is a device or a pipe, which Rundlet does not make",
    Reason.MAY_BE_DAMAGED: "may be damaged, as it lies in a stretch that is; its name says so",
    Reason.NAME_NOT_FOR_DISK: "its name can't be kept on that disk and is changed to one that can",
    Reason.DISK_KEEPS_NO_LINKS: "that disk can't keep links",
    Reason.DISK_KEEPS_NO_LARGE: "that disk keeps no file of more than {size:size}",
    Reason.FOLDER_RENAMED: "its folder is called {name:name}, as the archive holds a file of its name, too",
    Reason.NAME_DIFFERS_IN_CASE: (
        "that disk takes its name and another one's for the same, as they differ only in upper and lower case"
    ),
    Reason.NAME_MORE_THAN_ONCE: "the archive holds more than one item of this name",
    Reason.FOLDER_IN_THE_WAY: "a folder of this name is already there",
    Reason.FILE_FOR_FOLDER: "a file named {name:name} is in the place of its folder",
    Reason.LINK_FOR_FOLDER: "a link named {name:name} is in the place of its folder",
    Reason.ARCHIVE_STAYS: "stays where it is, as {cause}",
    Reason.ARCHIVE_THERE_ALREADY: "is in that folder already",
    Reason.ARCHIVE_STAYS_CANCELLED: "stays where it is, as you cancelled; its files were unpacked before",
    Reason.BATCH_CANCELLED: "was cancelled after some of the archives; those before stay",
    Reason.ONLY_SOME: "only some of it is unpacked",
    Reason.SOME_SKIPPED: "{count:file is|files are} skipped",
    Reason.SOME_REFUSED: "{count:item|items} can't be unpacked",
    Reason.ARCHIVE_DAMAGED: "it is damaged",
    Reason.FOLDERS_LEFT: "its folders are not unpacked",
    Reason.NOT_ALL_UNPACKED: "not everything in it could be unpacked as it is",
    Reason.CHANGED_MEANWHILE: "it was changed meanwhile",
    Reason.LIES_IN_DAMAGE: "may be damaged, as it lies in a stretch that is",
    # Moving, copying and the trash
    Reason.STAYS: "stays where it is ({cause})",
    Reason.REST_STAYED: "{count:item|items} stayed in it, as you cancelled",
    Reason.MOVED_THOUGH_CANCELLED: "{count:item|items} stayed in it, though you cancelled",
    Reason.NOT_THERE: "no longer exists",
    Reason.INTO_ITSELF: "can't go into itself",
    Reason.COPIED_AND_STAYS: "was copied, but stays here too: {cause}",
    Reason.SOURCE_CHANGED: "{path} was changed meanwhile",
    Reason.SOURCE_NOT_REMOVED: "{path} could not be removed ({cause})",
    Reason.SOURCE_HOLDS_MORE: "{path} holds something that was not copied",
    Reason.NOT_ALL_COPIED: "stays where it is, as not all of it could be copied",
    Reason.NOT_COPIED: "could not be copied ({cause})",
    Reason.SPECIAL_NOT_COPIED: "was left out: it is a device or a pipe",
    Reason.CHANGED_WHILE_COPIED: "was changed while it was copied",
    # Undoing
    Reason.ORIGINALS_NOT_BACK: "stays, as not all of the originals could be restored",
    Reason.GONE_SINCE: "no longer exists, so it can't be moved back",
    Reason.PLACE_TAKEN: "stays, as its place is taken",
    Reason.NOT_MOVED_BACK: "could not be moved back ({cause})",
    Reason.NOT_BACK: "could not be restored ({cause})",
    Reason.CHANGED_SINCE: "was changed since and stays",
    Reason.ANOTHER_FOLDER: "is another folder now and stays",
    Reason.BEFORE_NOT_BACK: "stays, as what was there before could not be restored ({cause})",
    Reason.STAYS_AS_IT_IS: "stays as it is: {cause}",
    Reason.NOT_REMOVED: "could not be removed ({cause})",
    Reason.STILL_IN_TRASH: "is restored, and a copy stays in the trash ({cause})",
    Reason.FOLDER_NOT_EMPTY: "stays, as something else is in it",
}


def finding_words(finding: Finding) -> str:
    """A finding as a clause."""
    return fill(CLAUSES[finding.reason], {name: _words(fact) for name, fact in finding.facts.items()})


def findings_words(findings: Sequence[Finding]) -> str:
    """Several findings about one thing, as one clause."""
    return "; ".join(map(finding_words, findings))


def _words(fact: object) -> object:
    if isinstance(fact, Finding):
        return finding_words(fact)
    if isinstance(fact, tuple):
        return findings_words(fact)
    return shown(fact) if isinstance(fact, str) else fact


def issue_words(issue: Issue) -> str:
    """What is so of an item, as a clause that follows its name."""
    return finding_words(issue.finding)


def issue_line(issue: Issue) -> str:
    """An issue in one line; a long name loses its middle."""
    words = issue_words(issue)
    if issue.hint:
        words = f"{words}. {shown(str(issue.hint))}"
    return in_short(f"{shortened(shown(shortened(issue.item)))}: {words}" if issue.item else words)


def problem_words(problems: Sequence[Issue]) -> str:
    """How many there are, and the first of them, in a sentence."""
    words = "{count:problem|problems}, the first: {line}." if len(problems) > 1 else "1 problem: {line}."
    return fill(words, {"count": len(problems), "line": issue_line(problems[0]).rstrip(".")})


def issue_values(issues: Iterable[Issue]) -> list[dict[str, Any]]:
    """Issues for programs."""
    return [
        {
            "about": issue.item,
            "message": issue_words(issue),
            "reason": issue.reason.value,
            "problem": issue.problem,
            "offset": issue.offset if issue.offset >= 0 else None,
            "hint": str(issue.hint) or None,
        }
        for issue in issues
    ]
