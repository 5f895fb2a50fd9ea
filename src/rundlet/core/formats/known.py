"""Which formats there are, and how a file of each may begin. Told without loading the code that reads them."""

from __future__ import annotations

from rundlet.core.model.format_info import FormatInfo

ZIP = FormatInfo(
    id="zip",
    ending=".zip",
    about="Opens on every computer without another program.",
    levels=tuple(range(10)),
    default_level=5,
    can_lock=True,
    methods=("deflate", "bzip2", "lzma", "zstd", "xz"),
)

SEVEN = FormatInfo(
    id="7z",
    ending=".7z",
    about="Smallest, also with names hidden behind a password; the other person may need a program for it.",
    levels=tuple(range(10)),
    default_level=5,
    can_lock=True,
    can_hide_names=True,
    methods=("lzma2", "ppmd"),
)

TAR = FormatInfo(
    id="tar",
    ending=".tar",
    about="Puts files together without making them smaller.",
    levels=(0,),
    default_level=0,
)

_FROM_1 = tuple(range(1, 10))

PACKED_TARS = (
    FormatInfo(
        id="tar.gz",
        ending=".tar.gz",
        about="The usual one between Linux computers.",
        levels=tuple(range(10)),
        default_level=5,
        other_endings=(".tgz",),
    ),
    FormatInfo(
        id="tar.bz2",
        ending=".tar.bz2",
        about="Smaller than gzip and slower; for those who ask for it.",
        levels=_FROM_1,
        default_level=9,
        other_endings=(".tbz2", ".tbz"),
    ),
    FormatInfo(
        id="tar.xz",
        ending=".tar.xz",
        about="Very small and slow to pack; opens on every Linux computer.",
        levels=_FROM_1,
        default_level=5,
        other_endings=(".txz",),
    ),
    FormatInfo(
        id="tar.zst",
        ending=".tar.zst",
        about="Quick and small; opens where programs are not too old.",
        levels=_FROM_1,
        default_level=5,
        other_endings=(".tzst",),
    ),
    FormatInfo(id="tar.Z", ending=".tar.Z", about="", levels=(), default_level=5),
    FormatInfo(id="tar.lzma", ending=".tar.lzma", about="", levels=(), default_level=5),
)

SINGLE = tuple(
    FormatInfo(id=name, ending=f".{name}", about="", levels=(), default_level=0)
    for name in ("gz", "bz2", "xz", "zst", "Z", "lzma")
)
"""A single compressed file, which is only read."""

_MAGIC = {
    "gz": b"\x1f\x8b",
    "bz2": b"BZh",
    "xz": b"\xfd7zXZ",
    "zst": b"\x28\xb5\x2f\xfd",
    "Z": b"\x1f\x9d",
    "lzma": b"\x5d",
}
SEVEN_SIGNATURE = b"7z\xbc\xaf\x27\x1c"
"""How a 7z archive begins that stands alone."""
_SEVEN_STARTS = (SEVEN_SIGNATURE, b"MZ", b"\x7fELF", b"#!")  # alone, or behind a program
_TAR_MAGIC = slice(257, 262)
_TAR_CHECKSUM = slice(148, 156)

HEAD = 512
"""Bytes from the beginning of a file that :func:`may_be` wants."""


def may_be(info: FormatInfo, head: bytes) -> bool:
    """Whether a file that begins like this can be one of a format; only the format's own code says whether it is."""
    if info is ZIP:
        return True  # it is told by its end, too, which may stand in any file
    if info is SEVEN:
        return head.startswith(_SEVEN_STARTS)
    if info is TAR:
        checksum = head[_TAR_CHECKSUM].replace(b"\0", b" ").strip()
        return head[_TAR_MAGIC] == b"ustar" or checksum.isdigit() or not any(head)
    return head.startswith(_MAGIC[info.id.removeprefix("tar.")])
