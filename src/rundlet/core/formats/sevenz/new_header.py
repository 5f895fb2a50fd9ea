"""The header of a 7z archive that is written: its entries and blocks, laid out as the format's description says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from rundlet.core.formats.sevenz import fields
from rundlet.core.formats.sevenz.records import EPOCH, UNIX_EXTENSION, Attribute, CoderFlag, Folder, Property
from rundlet.core.model.entry import NO_TIME, Kind

if TYPE_CHECKING:
    from rundlet.core.formats.edits import Edits
    from rundlet.core.formats.sevenz.reader import SevenReader
    from rundlet.core.model.item import PackItem

_LATEST = (1 << 63) - 1
_NEW = 1 << 62  # stands behind every row that another archive had


@dataclass(slots=True)
class Row:
    """An entry as the header keeps it.

    Attributes:
        times: what another archive keeps of it, in the format's own units; else its time is ``mtime_ns``.
        is_anti: whether it only says that something is to be taken away.
        original_row: its place in the other archive; new ones stand behind all of them.
    """

    path: str
    kind: Kind
    mtime_ns: int
    attributes: int
    size: int = 0
    crc: int = 0
    has_stream: bool = False
    times: dict[Property, int] = field(default_factory=dict)
    is_anti: bool = False
    original_row: int = _NEW

    def ticks(self, kind: Property) -> int | None:
        """A time or the start position in the format's own units, or None where there is none."""
        if kind == Property.MTIME and kind not in self.times and self.mtime_ns != NO_TIME:
            return min(max(self.mtime_ns // 100 + EPOCH, 0), _LATEST)
        return self.times.get(kind)


@dataclass(slots=True)
class BlockRow:
    """A block as the header keeps it.

    Attributes:
        sizes: bytes that come out of each coder, as a decoder sees it.
        pack_sizes: bytes of its packed streams.
    """

    folder: Folder
    sizes: list[int]
    pack_sizes: list[int]
    files: list[Row]


def new_row(item: PackItem) -> Row:
    """What the header keeps of an item that is yet to be read."""
    return Row(item.path, item.kind, item.mtime_ns, _attributes(item.kind, item.mode))


def _attributes(kind: Kind, mode: int) -> int:
    low = Attribute.DIRECTORY if kind == Kind.DIR else Attribute.ARCHIVE
    if mode and not mode & 0o222:
        low |= Attribute.READ_ONLY
    return (kind.type_bits | mode) << 16 | UNIX_EXTENSION | low


def kept_rows(reader: SevenReader, folder: int, edits: Edits) -> list[Row]:
    """The entries that stay of a block of another archive, with all that is said of them there, and the edits made."""
    return [_kept_row(reader, row, folder >= 0, edits) for row in reader.rows_of(folder) if row not in edits.removed]


def _kept_row(reader: SevenReader, row: int, has_stream: bool, edits: Edits) -> Row:
    entry = reader.catalog.entry(row)
    times, attributes = reader.times(row), int(reader.attributes[row])
    if row in edits.times:
        times.pop(Property.MTIME, None)
    if row in edits.modes:
        attributes = _with_mode(attributes, entry.kind, edits.modes[row])
    return Row(
        edits.renamed.get(row, entry.path),
        entry.kind,
        edits.times.get(row, entry.mtime_ns),
        attributes,
        max(entry.size, 0),
        entry.crc,
        has_stream,
        times,
        original_row=int(reader.original_rows[row]),
    )


def _with_mode(attributes: int, kind: Kind, mode: int) -> int:
    """Attributes with other permission bits; what else they say stays."""
    low = int(Attribute.READ_ONLY)
    fresh = _attributes(kind, mode)
    return fresh & ~0x7FFF | attributes & 0x7FFF & ~low | fresh & low


def anti_rows(reader: SevenReader) -> list[Row]:
    """What another archive says of files that are to be taken away."""
    return [
        Row(
            item.path,
            Kind.FILE if item.is_file else Kind.DIR,
            NO_TIME,
            item.attributes,
            times=item.times,
            is_anti=True,
            original_row=item.original_row,
        )
        for item in reader.anti
    ]


def _property(kind: Property, data: bytes) -> bytes:
    return bytes([kind]) + fields.number(len(data)) + data


def streams_info(rows: Sequence[BlockRow], position: int, *, whole: bool = False) -> bytes:
    """A "Streams Info"; with ``whole``, of one stream that is no file."""
    pack_sizes = np.array([size for row in rows for size in row.pack_sizes], np.int64)
    sizes = np.array([size for row in rows for size in row.sizes], np.int64)
    out = [bytes([Property.PACK_INFO]), fields.number(position), fields.number(len(pack_sizes))]
    out += [bytes([Property.SIZE]), fields.numbers(pack_sizes), bytes([Property.END])]
    out += [bytes([Property.UNPACK_INFO, Property.FOLDER]), fields.number(len(rows)), b"\0"]
    out += [_folder(row.folder) for row in rows]
    out += [bytes([Property.CODERS_UNPACK_SIZE]), fields.numbers(sizes)]
    if whole:
        out.append(bytes([Property.CRC, 1]) + rows[0].files[0].crc.to_bytes(4, "little"))
    out.append(bytes([Property.END]))
    if not whole:
        out.append(_substreams(rows))
    return b"".join(out) + bytes([Property.END])


def _folder(folder: Folder) -> bytes:
    out = [fields.number(len(folder.coders))]
    for coder in folder.coders:
        is_complex = (coder.num_in_streams, coder.num_out_streams) != (1, 1)
        flags = len(coder.method)
        flags |= CoderFlag.COMPLEX if is_complex else 0
        flags |= CoderFlag.PROPERTIES if coder.properties else 0
        out.append(bytes([flags]) + coder.method)
        if is_complex:
            out.append(fields.number(coder.num_in_streams) + fields.number(coder.num_out_streams))
        if coder.properties:
            out.append(fields.number(len(coder.properties)) + coder.properties)
    out += [fields.number(pair.in_index) + fields.number(pair.out_index) for pair in folder.bind_pairs]
    if len(folder.packed) > 1:
        out += map(fields.number, folder.packed)
    return b"".join(out)


def _substreams(rows: Sequence[BlockRow]) -> bytes:
    counts = np.array([len(row.files) for row in rows], np.int64)
    sizes = np.array([file.size for row in rows for file in row.files[:-1]], np.int64)
    crcs = np.array([file.crc for row in rows for file in row.files], np.int64)
    out = [bytes([Property.SUBSTREAMS_INFO, Property.NUM_UNPACK_STREAM]), fields.numbers(counts)]
    if len(sizes):
        out += [bytes([Property.SIZE]), fields.numbers(sizes)]
    known = crcs >= 0
    out += [bytes([Property.CRC]), fields.known_bits(known), crcs[known].astype("<u4").tobytes()]
    return b"".join(out) + bytes([Property.END])


def files_info(rows: Sequence[Row], unknown: Sequence[tuple[int, bytes]] = ()) -> bytes:
    """A "Files Info": names, times and attributes of entries, those with content in the order of their blocks.

    Args:
        unknown: properties that nobody here knows, by their IDs, of just these entries.
    """
    out = [bytes([Property.FILES_INFO]), fields.number(len(rows))]
    empty = np.array([not row.has_stream for row in rows], np.bool_)
    if empty.any():
        out.append(_property(Property.EMPTY_STREAM, fields.bits(empty)))
        files = np.array([row.kind != Kind.DIR for row in rows if not row.has_stream], np.bool_)
        if files.any():
            out.append(_property(Property.EMPTY_FILE, fields.bits(files)))
        anti = np.array([row.is_anti for row in rows if not row.has_stream], np.bool_)
        if anti.any():
            out.append(_property(Property.ANTI, fields.bits(anti)))
    names = "\0".join([row.path for row in rows]) + "\0"
    out.append(_property(Property.NAME, b"\0" + _utf16(names)))
    for kind in (Property.CTIME, Property.ATIME, Property.MTIME, Property.START_POS):
        ticks = [row.ticks(kind) for row in rows]
        known = np.array([value is not None for value in ticks], np.bool_)
        if known.any():
            values = np.array([value for value in ticks if value is not None], np.uint64)
            out.append(_property(kind, fields.known_bits(known) + b"\0" + values.astype("<u8").tobytes()))
    attributes = np.array([row.attributes for row in rows], np.int64)
    out.append(_property(Property.WIN_ATTRIBUTES, b"\x01\0" + attributes.astype("<u4").tobytes()))
    out += [fields.number(kind) + fields.number(len(data)) + data for kind, data in unknown]
    return b"".join(out) + bytes([Property.END])


def _utf16(names: str) -> bytes:
    """Names in UTF-16. Bytes of a name that are no UTF-8 can't be kept there; they become the mark for such."""
    return names.encode("utf-8", "surrogateescape").decode("utf-8", "replace").encode("utf-16-le")
