"""Everything that can go wrong and that a person can be told about.

::

    RundletError
    ├── FormatError          the bytes are not what they should be
    │   ├── UnknownFormat    no format of ours starts or ends like this
    │   ├── Truncated        the bytes end too early
    │   ├── Corrupt          the bytes contradict the format or themselves
    │   │   └── ChecksumMismatch
    │   └── Unsupported      a method or feature that Rundlet does not have
    ├── LimitExceeded        more memory or work than the limits allow
    ├── UnsafePath           a name that would leave the chosen folder
    ├── PasswordNeeded
    │   └── WrongPassword
    ├── MissingPart          one of the numbered parts is not there
    ├── PlanError            the work can't be done as asked
    │   ├── Clash            a name is taken
    │   ├── NoSpace          the disk is too full
    │   └── OutOfDate        files changed between the plan and the work
    └── FileProblem          the system refused; keeps its errno

Programming mistakes are not in this tree. Cancellation is not an error either: :class:`Cancelled`
derives from :class:`BaseException`, so that no ``except Exception`` swallows it.
"""

from __future__ import annotations

import errno as codes
from pathlib import Path

from rundlet.core.text import lower, quoted


class RundletError(Exception):
    """One thing that went wrong, in a sentence that a person can act on.

    Args:
        message: one sentence, ending in a full stop.
        archive: the archive concerned, for the details.
        entry: the entry concerned, as the archive names it.
        offset: where in the archive, in bytes from its start.
        hint: one more sentence that says what can be done now.
    """

    def __init__(
        self,
        message: str,
        *,
        archive: str | None = None,
        entry: str | None = None,
        offset: int | None = None,
        hint: str | None = None,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.archive = archive
        self.entry = entry
        self.offset = offset
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}" if self.hint else self.message


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


class OutOfDate(PlanError):
    """What the plan saw is no longer so."""


class FileProblem(RundletError):
    """The system refused to read or write a file.

    Attributes:
        errno: the system's number for the reason.
        reason: the reason alone, as a clause.
    """

    def __init__(self, message: str, *, errno: int, reason: str = "", hint: str | None = None) -> None:
        super().__init__(message, hint=hint)
        self.errno = errno
        self.reason = reason


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


def file_problem(error: OSError, doing: str, path: str | Path) -> FileProblem:
    """Turn an operating system error into a sentence.

    Args:
        error: what the system said.
        doing: what was being done, e.g. ``"read"`` or ``"write"``.
        path: the file or folder that it was done to.
    """
    number = error.errno or codes.EIO
    reason = _REASONS.get(number) or (error.strerror or "the system gave no reason").lower()
    return FileProblem(f"Could not {doing} {quoted(str(path))}: {reason}.", errno=number, reason=reason)


def content_problem(error: RundletError, path: str) -> FileProblem:
    """What keeps an entry of another archive from being read, as what is said of a file that can't be."""
    reason = lower(error.message).rstrip(".")
    return FileProblem(f"Could not read {quoted(path)}: {reason}.", errno=codes.EIO, reason=reason)


def left_out(problem: FileProblem) -> str:
    """What to say of a file that could not be packed, as a clause that follows its name."""
    return f"could not be read ({problem.reason}) and was left out"
