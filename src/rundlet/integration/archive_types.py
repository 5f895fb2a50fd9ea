"""The types of archives as a desktop knows them, and what of Rundlet is put there."""

from __future__ import annotations

from enum import StrEnum

PART_TYPE = "application/vnd.rundlet.part"

FOR_TAR = (
    "application/x-tar",
    "application/x-compressed-tar",
    "application/x-bzip-compressed-tar",
    "application/x-bzip2-compressed-tar",
    "application/x-xz-compressed-tar",
    "application/x-zstd-compressed-tar",
    "application/x-lzma-compressed-tar",
    "application/x-tarz",
)
"""Tar, plain and packed."""

FOR_ONE_FILE = (
    "application/gzip",
    "application/x-bzip",
    "application/x-bzip2",
    "application/x-xz",
    "application/zstd",
    "application/x-lzma",
    "application/x-compress",
)
"""Files that are packed alone."""

MIME_TYPES = (
    "application/zip",
    "application/x-7z-compressed",
    *FOR_TAR,
    *FOR_ONE_FILE,
    "application/java-archive",
    PART_TYPE,
)
"""What is read, by the names that the shared database gives it; both names where it has changed one between its versions."""

KINDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("zip", ("application/zip",)),
    ("7z", ("application/x-7z-compressed",)),
    ("tar", FOR_TAR),
    ("gz, bz2, xz …", FOR_ONE_FILE),
)
"""The kinds of archives that are told apart where a person says which open with Rundlet, each with its types."""


class Part(StrEnum):
    """What is installed together."""

    MENU = "menu"
    """The entry with its icons and types, by which Rundlet is started and offered for archives."""
    FILE_MANAGERS = "file-managers"
    COMMAND_LINE = "command-line"
    """Manual pages, and completions for shells."""
