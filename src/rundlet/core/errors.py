"""Everything that can go wrong and that a person can be told about.

::

    RundletError
    ├── FormatError          the bytes are not what they should be
    │   ├── UnknownFormat    no format of ours starts or ends like this
    │   ├── Truncated        the bytes end too early
    │   ├── Corrupt          the bytes contradict the format or themselves
    │   │   ├── ChecksumMismatch
    │   │   ├── Contradiction    one header says what another does not
    │   │   └── SharedBytes      two entries claim the same bytes
    │   └── Unsupported      a method or feature that Rundlet does not have
    ├── LimitExceeded        more memory or work than the limits allow
    ├── UnsafePath           a name that would leave the chosen folder
    ├── PasswordNeeded
    │   └── WrongPassword
    ├── MissingPart          one of the numbered parts is not there
    ├── PlanError            the work can't be done as asked
    │   ├── Clash            a name is taken
    │   ├── NoSpace          the disk is too full
    │   ├── NothingIntact    nothing in a damaged archive can be saved as it is
    │   └── OutOfDate        files changed between the plan and the work
    └── FileProblem          the system refused; keeps its errno

Programming mistakes are not in this tree. Cancellation is not an error either: :class:`Cancelled`
derives from :class:`BaseException`, so that no ``except Exception`` swallows it.
"""

from __future__ import annotations

import errno as codes
from pathlib import Path
from typing import Literal

from rundlet.core.sentences import Sentence


class RundletError(Exception):
    """One thing that went wrong, in a sentence that a person can act on.

    Args:
        said: one sentence, ending in a full stop, with its facts, or its template alone, with fields as
            :func:`rundlet.core.sentences.fill` knows them.
        archive: the name of the archive concerned, which is also what its field ``archive`` stands for.
        entry: the entry concerned, as the archive names it.
        offset: where in the archive, in bytes from its start; also what the field ``offset`` stands for.
        hint: one more sentence, of the same facts, that says what can be done now.
        facts: what the fields stand for, by name.

    Attributes:
        sentence: what is said, with its facts.
        advice: the same for the hint, or None.
    """

    def __init__(
        self,
        said: str | Sentence,
        *,
        archive: str | None = None,
        entry: str | None = None,
        offset: int | None = None,
        hint: str | Sentence = "",
        **facts: object,
    ) -> None:
        if isinstance(said, str):
            said = Sentence(said)
        super().__init__(said.template)
        self.archive = archive
        self.entry = entry
        self.offset = offset
        known = {"archive": archive, "offset": offset}
        facts = {**said.facts, **facts, **{name: fact for name, fact in known.items() if fact is not None}}
        self.sentence = Sentence(said.template, facts)
        self.advice = hint if isinstance(hint, Sentence) else Sentence(hint, facts) if hint else None

    @property
    def message(self) -> str:
        """What went wrong, as one sentence."""
        return str(self.sentence)

    @property
    def hint(self) -> str:
        """What can be done now, as a sentence, or ""."""
        return str(self.advice or "")

    def __str__(self) -> str:
        return f"{self.message} {self.hint}" if self.advice else self.message


class FormatError(RundletError):
    """The bytes are not what the format says they should be."""


class UnknownFormat(FormatError):
    """No format that Rundlet reads looks like this."""


class Truncated(FormatError):
    """The bytes end before the format says they should."""


class Corrupt(FormatError):
    """The bytes contradict the format or each other."""


class ChecksumMismatch(Corrupt):
    """The content was read to its end and is not what was packed."""


class Contradiction(Corrupt):
    """Two headers of one entry say different things."""


class SharedBytes(Corrupt):
    """Two entries claim the same bytes of the archive."""


class Unsupported(FormatError):
    """A method or feature that Rundlet does not have."""


class LimitExceeded(RundletError):
    """Going on would take more memory or work than the limits allow."""


class UnsafePath(RundletError):
    """A name in the archive points outside the chosen folder."""


class PasswordNeeded(RundletError):
    """The entry is locked and no password was given."""


class WrongPassword(PasswordNeeded):
    """The password does not open the entry."""


class MissingPart(RundletError):
    """One of the numbered parts of an archive is not there or too short."""


class PlanError(RundletError):
    """The work can't be done as asked; nothing was touched."""


class Clash(PlanError):
    """A name is already taken."""


class NoSpace(PlanError):
    """There is not enough free space."""


class NothingIntact(PlanError):
    """Nothing in a damaged archive can be read to its end."""


class OutOfDate(PlanError):
    """What the plan saw is no longer so."""


class FileProblem(RundletError):
    """The system refused to read or write a file.

    Attributes:
        errno: the system's number for the reason; 0 where it was Rundlet itself that refused.
        reason: the reason alone, as a clause; also what the field ``cause`` stands for, as ``path`` does for the file.
    """

    def __init__(self, said: str, *, errno: int, cause: Sentence, path: str) -> None:
        super().__init__(said, cause=cause, path=path)
        self.errno = errno
        self.reason = cause


class Cancelled(BaseException):
    """The person cancelled the work."""


_REASONS = {
    codes.ENOENT: "it is not there",
    codes.EACCES: "you have no permission",
    codes.EPERM: "the system does not allow it",
    codes.ENOSPC: "the disk is full",
    codes.EDQUOT: "your share of the disk is used up",
    codes.EROFS: "the disk is read-only",
    codes.EISDIR: "it is a folder",
    codes.ENOTDIR: "a file is in the place of a folder",
    codes.EEXIST: "the name is already taken",
    codes.ENAMETOOLONG: "the name is too long for this disk",
    codes.EFBIG: "the file is too large for this disk",
    codes.EIO: "the disk reported a fault",
    codes.ELOOP: "links lead in a circle",
    codes.EMFILE: "too many files are open",
    codes.EINVAL: "this disk does not allow such a name",
    codes.EILSEQ: "this disk does not allow such a name",
    codes.ENXIO: "it is not an ordinary file",
    codes.EBADF: "it was closed in the meantime",
    codes.EOVERFLOW: "it has grown much larger meanwhile",  # said by our own code
}


Doing = Literal[
    "check",
    "copy",
    "look at",
    "make the folder",
    "move",
    "move back",
    "move to the trash",
    "open",
    "open the folder",
    "read",
    "read what is kept in",
    "remove",
    "rename",
    "take out of the trash",
    "undo",
    "unpack into",
    "write",
    "write to",
    "write to the folder",
]

_COULD_NOT: dict[Doing, str] = {
    "check": "Could not check {path:name}: {cause}.",
    "copy": "Could not copy {path:name}: {cause}.",
    "look at": "Could not look at {path:name}: {cause}.",
    "make the folder": "Could not make the folder {path:name}: {cause}.",
    "move": "Could not move {path:name}: {cause}.",
    "move back": "Could not move back {path:name}: {cause}.",
    "move to the trash": "Could not move {path:name} to the trash: {cause}.",
    "open": "Could not open {path:name}: {cause}.",
    "open the folder": "Could not open the folder {path:name}: {cause}.",
    "read": "Could not read {path:name}: {cause}.",
    "read what is kept in": "Could not read what is kept in {path:name}: {cause}.",
    "remove": "Could not remove {path:name}: {cause}.",
    "rename": "Could not rename {path:name}: {cause}.",
    "take out of the trash": "Could not take {path:name} out of the trash: {cause}.",
    "undo": "Could not undo {path:name}: {cause}.",
    "unpack into": "Could not unpack into {path:name}: {cause}.",
    "write": "Could not write {path:name}: {cause}.",
    "write to": "Could not write to {path:name}: {cause}.",
    "write to the folder": "Could not write to the folder {path:name}: {cause}.",
}


def file_problem(error: OSError, doing: Doing, path: str | Path) -> FileProblem:
    """Turn an operating system error into a sentence.

    Args:
        error: what the system said.
        doing: what was being done.
        path: the file or folder that it was done to.
    """
    number = error.errno or codes.EIO
    if known := _REASONS.get(number):
        return refused(doing, path, Sentence(known), number)
    said = (error.strerror or "the system gave no reason").lower()
    return refused(doing, path, Sentence("{said:shown}", {"said": said}), number)


def refused(doing: Doing, path: str | Path, cause: Sentence, errno: int) -> FileProblem:
    """What could not be done to a file, for a reason that is known: a clause and the system's number for it."""
    return FileProblem(_COULD_NOT[doing], errno=errno, cause=cause, path=str(path))


def content_problem(error: RundletError, path: str) -> FileProblem:
    """What keeps an entry of another archive from being read, as what is said of a file that can't be."""
    return refused("read", path, Sentence("{said:clause}", {"said": error.sentence}), codes.EIO)
