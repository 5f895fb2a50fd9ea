"""Which format an archive is in that is read as it comes: told by how it begins."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rundlet.core.errors import FormatError, UnknownFormat, Unsupported
from rundlet.core.formats.compressed_stream import packing_of
from rundlet.core.formats.forward_reading import ForwardArchive, ForwardFile, ForwardStream
from rundlet.core.formats.known import PACKED_TARS, SEVEN_SIGNATURE, SINGLE, TAR
from rundlet.core.formats.single import mtime_ns_of
from rundlet.core.formats.tar.forward import TarForward
from rundlet.core.formats.tar.headers import BLOCK, may_be_header
from rundlet.core.formats.zip.forward import ZipForward
from rundlet.core.formats.zip.records import DESCRIPTOR_SIGNATURE, EndRecord, LocalHeader
from rundlet.core.streams.feed import Feed
from rundlet.core.streams.pipes import NAME
from rundlet.core.streams.sources import MemorySource

if TYPE_CHECKING:
    from rundlet.core.model.opening import Opening

_HEAD = 20 * BLOCK + 1  # one byte more than a tar with nothing in it has
_ZIP_BEGINS = (LocalHeader.SIGNATURE, DESCRIPTOR_SIGNATURE, EndRecord.SIGNATURE)
_SAVE_FIRST = "Save it as a file first, and open that."


def open_forward(chunks: Iterator[bytes], opening: Opening) -> ForwardArchive:
    """Begin to read an archive that comes through a pipe.

    Args:
        chunks: its bytes, as they come.

    Raises:
        UnknownFormat: when it is none of those that can be read as they come, by how it begins.
        Unsupported: when it is a 7z, whose file list stands at its end.
        FileProblem: when the bytes can't be read.
    """
    feed = Feed(chunks)
    head = _head(feed)
    if not head:
        raise UnknownFormat("{archive:name} is empty, so it is not an archive.", archive=NAME)
    if head.startswith(SEVEN_SIGNATURE):
        raise Unsupported("A 7z archive can't be read as it comes: its file list is at its end.", hint=_SAVE_FIRST)
    if _is_tar(head):
        return TarForward(feed, feed, TAR, None, opening)
    packing = packing_of(head[:16])
    if packing is not None:
        stream = ForwardStream(feed, packing, opening.limits.memory_bytes)
        plain = Feed(stream.chunks())
        if _is_tar(_head(plain)):
            info = next(info for info in PACKED_TARS if info.id == f"tar.{packing.id}")
            return TarForward(feed, plain, info, stream, opening)
        info = next(info for info in SINGLE if info.id == packing.id)
        return ForwardFile(feed, info, stream, plain, mtime_ns_of(MemorySource(head), packing))
    if head[:4] in _ZIP_BEGINS:
        return ZipForward(feed, opening)
    raise UnknownFormat("{archive:name} does not begin like a tar or zip archive.", archive=NAME, hint=_SAVE_FIRST)


def _head(feed: Feed) -> bytes:
    """How it begins, as far as that can be decoded."""
    try:
        buffer, at = feed.window(_HEAD)
    except FormatError:  # said again to whoever reads it
        buffer, at = feed.window(0)
    return buffer[at : at + _HEAD]


def _is_tar(head: bytes) -> bool:
    """Whether a tar begins, perhaps one with nothing in it."""
    is_empty = 2 * BLOCK <= len(head) < _HEAD and len(head) % BLOCK == 0 and not any(head)
    return may_be_header(head[:BLOCK]) or is_empty
