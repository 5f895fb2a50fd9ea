"""A reader of 7z archives for the tests, written from the format's description alone and apart from the package.

It shares no code with the package and cares for nothing but being plain: everything is read into memory, every claim is held
against the bytes, and whatever does not fit raises ``ValueError``. The headings are the structures of the description.
"""

from __future__ import annotations

import bz2
import hashlib
import lzma
import struct
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import IntEnum

import pyppmd
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from rundlet.core.codecs.zstd_library import zstd

SIGNATURE = b"7z\xbc\xaf\x27\x1c"


class Id(IntEnum):
    """Property IDs."""

    END = 0x00
    HEADER = 0x01
    ARCHIVE_PROPERTIES = 0x02
    ADDITIONAL_STREAMS_INFO = 0x03
    MAIN_STREAMS_INFO = 0x04
    FILES_INFO = 0x05
    PACK_INFO = 0x06
    UNPACK_INFO = 0x07
    SUBSTREAMS_INFO = 0x08
    SIZE = 0x09
    CRC = 0x0A
    FOLDER = 0x0B
    CODERS_UNPACK_SIZE = 0x0C
    NUM_UNPACK_STREAM = 0x0D
    EMPTY_STREAM = 0x0E
    EMPTY_FILE = 0x0F
    ANTI = 0x10
    NAMES = 0x11
    CTIME = 0x12
    ATIME = 0x13
    MTIME = 0x14
    WIN_ATTRIBUTES = 0x15
    COMMENT = 0x16
    ENCODED_HEADER = 0x17
    START_POS = 0x18
    DUMMY = 0x19


@dataclass(slots=True)
class Entry:
    """One file of the archive. Times are ticks of 100 ns since 1601."""

    name: str = ""
    data: bytes = b""
    has_stream: bool = True
    is_folder: bool = False
    anti: bool = False
    attributes: int | None = None
    created: int | None = None
    accessed: int | None = None
    changed: int | None = None
    start: int | None = None

    @property
    def mode(self) -> int | None:
        """The Unix mode in the upper half of the attributes, where bit 15 says that there is one."""
        return None if self.attributes is None or not self.attributes & 0x8000 else self.attributes >> 16


COLUMNS = {
    Id.CTIME: ("created", "<Q"),
    Id.ATIME: ("accessed", "<Q"),
    Id.MTIME: ("changed", "<Q"),
    Id.WIN_ATTRIBUTES: ("attributes", "<I"),
    Id.START_POS: ("start", "<Q"),
}


@dataclass(slots=True)
class Coder:
    method: bytes
    inputs: int
    outputs: int
    properties: bytes


@dataclass(slots=True)
class Folder:
    coders: list[Coder]
    bind_pairs: dict[int, int]  # input stream → output stream
    packed: list[int]  # input streams that packed streams go into
    unpack_sizes: list[int] = field(default_factory=list)
    crc: int | None = None

    def main_output(self) -> int:
        (last,) = set(range(sum(c.outputs for c in self.coders))) - set(self.bind_pairs.values())
        return last

    @property
    def size(self) -> int:
        return self.unpack_sizes[self.main_output()]


@dataclass(slots=True)
class Streams:
    """Streams Info: where the packed streams lie, how they are decoded, what they divide into."""

    pack_position: int = 0
    pack_sizes: list[int] = field(default_factory=list)
    pack_crcs: list[int | None] = field(default_factory=list)
    folders: list[Folder] = field(default_factory=list)
    parts: list[list[tuple[int, int | None]]] = field(default_factory=list)  # a folder's (size, CRC) of each substream


class Reading:
    """The grammar's own data types, read one after the other from ``data``."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def bytes(self, count: int) -> bytes:
        piece = self.data[self.at : self.at + count]
        if len(piece) != count:
            raise ValueError(f"{count} bytes wanted at {self.at}, {len(piece)} there")
        self.at += count
        return piece

    def byte(self) -> int:
        return self.bytes(1)[0]

    def number(self) -> int:
        """UINT64: as many one bits as the first byte begins with, so many bytes follow, the low ones first."""
        first, low = self.byte(), 0
        for extra in range(8):
            if not first & 0x80 >> extra:
                return low | (first & (0x80 >> extra) - 1) << 8 * extra
            low |= self.byte() << 8 * extra
        return low

    def bits(self, count: int) -> list[bool]:
        """A BitVector: the highest bit of each byte comes first."""
        held = self.bytes((count + 7) // 8)
        return [bool(held[i // 8] & 0x80 >> i % 8) for i in range(count)]

    def defined(self, count: int) -> list[bool]:
        return [True] * count if self.byte() else self.bits(count)

    def digests(self, count: int) -> list[int | None]:
        return [struct.unpack("<I", self.bytes(4))[0] if there else None for there in self.defined(count)]

    def expect(self, wanted: Id) -> None:
        if (found := self.byte()) != wanted:
            raise ValueError(f"{wanted.name} wanted, {found:#x} found before {self.at}")

    def inline(self) -> None:
        if self.byte():
            raise ValueError("data that lies in another stream is not read")

    # Streams Info and what it holds

    def streams_info(self) -> Streams:
        found = Streams()
        steps: dict[int, Callable[[Streams], None]] = {
            Id.PACK_INFO: self.pack_info,
            Id.UNPACK_INFO: self.coders_info,
            Id.SUBSTREAMS_INFO: self.substreams_info,
        }
        while (kind := self.byte()) != Id.END:
            steps[kind](found)
        if not found.parts:
            found.parts = [[(folder.size, folder.crc)] for folder in found.folders]
        return found

    def pack_info(self, into: Streams) -> None:
        into.pack_position = self.number()
        count = self.number()
        into.pack_crcs = [None] * count
        while (kind := self.byte()) != Id.END:
            if kind == Id.SIZE:
                into.pack_sizes = [self.number() for _ in range(count)]
            elif kind == Id.CRC:
                into.pack_crcs = self.digests(count)
            else:
                raise ValueError(f"{kind:#x} in Pack Info")

    def coders_info(self, into: Streams) -> None:
        self.expect(Id.FOLDER)
        count = self.number()
        self.inline()
        into.folders = [self.folder() for _ in range(count)]
        self.expect(Id.CODERS_UNPACK_SIZE)
        for folder in into.folders:
            folder.unpack_sizes = [self.number() for coder in folder.coders for _ in range(coder.outputs)]
        kind = self.byte()
        if kind == Id.CRC:
            for folder, crc in zip(into.folders, self.digests(count), strict=True):
                folder.crc = crc
            kind = self.byte()
        if kind != Id.END:
            raise ValueError(f"{kind:#x} in Coders Info")

    def folder(self) -> Folder:
        coders = [self.coder() for _ in range(self.number())]
        inputs = sum(c.inputs for c in coders)
        pairs = {self.number(): self.number() for _ in range(sum(c.outputs for c in coders) - 1)}
        free = [i for i in range(inputs) if i not in pairs]
        return Folder(coders, pairs, free if len(free) == 1 else [self.number() for _ in free])

    def coder(self) -> Coder:
        flags = self.byte()
        if flags & 0xC0:
            raise ValueError("a reserved flag of a coder is set")
        method = self.bytes(flags & 0x0F)
        inputs, outputs = (self.number(), self.number()) if flags & 0x10 else (1, 1)
        return Coder(method, inputs, outputs, self.bytes(self.number()) if flags & 0x20 else b"")

    def substreams_info(self, into: Streams) -> None:
        counts = [1] * len(into.folders)
        kind = self.byte()
        if kind == Id.NUM_UNPACK_STREAM:
            counts = [self.number() for _ in into.folders]
            kind = self.byte()
        sizes = []
        for folder, count in zip(into.folders, counts, strict=True):
            given = [self.number() for _ in range(count - 1)] if kind == Id.SIZE else []
            if count:
                given.append(folder.size - sum(given))
            if len(given) != count or min(given, default=0) < 0:
                raise ValueError("substreams do not add up to their folder")
            sizes.append(given)
        if kind == Id.SIZE:
            kind = self.byte()
        # A digest is given for every substream but those that are a whole folder whose own digest is known.
        known = [count == 1 and folder.crc is not None for folder, count in zip(into.folders, counts, strict=True)]
        wanted = sum(count for count, there in zip(counts, known, strict=True) if not there)
        digests: Iterator[int | None] = iter([None] * wanted)
        if kind == Id.CRC:
            digests = iter(self.digests(wanted))
            kind = self.byte()
        if kind != Id.END:
            raise ValueError(f"{kind:#x} in SubStreams Info")
        into.parts = [
            [(size, folder.crc if there else next(digests)) for size in given]
            for folder, given, there in zip(into.folders, sizes, known, strict=True)
        ]

    # Files Info

    def files_info(self) -> list[Entry]:
        count = self.number()
        found = [Entry() for _ in range(count)]
        empty, no_folder, anti = [False] * count, None, None
        names = False
        while (kind := self.byte()) != Id.END:
            inside = Reading(self.bytes(self.number()))
            if kind == Id.EMPTY_STREAM:
                empty = inside.bits(count)
            elif kind == Id.EMPTY_FILE:
                no_folder = inside.bits(sum(empty))
            elif kind == Id.ANTI:
                anti = inside.bits(sum(empty))
            elif kind == Id.NAMES:
                names = True
                inside.inline()
                inside.names(found)
            elif kind in COLUMNS:
                inside.column(found, *COLUMNS[Id(kind)])
            elif kind == Id.COMMENT:
                inside.bytes(len(inside.data))  # what is in it is not described
            elif kind == Id.DUMMY:
                if any(inside.bytes(len(inside.data))):
                    raise ValueError("filling that is not zero")
            else:
                raise ValueError(f"{kind:#x} in Files Info")
            if inside.at != len(inside.data):
                raise ValueError(f"property {kind:#x} is longer than what it holds")
        if count and not names:
            raise ValueError("no names")
        without = [entry for entry, one in zip(found, empty, strict=True) if one]
        for i, entry in enumerate(without):
            entry.has_stream = False
            entry.is_folder = not (no_folder and no_folder[i])
            entry.anti = bool(anti and anti[i])
        return found

    def names(self, found: list[Entry]) -> None:
        for entry in found:
            units = b""
            while (unit := self.bytes(2)) != b"\0\0":
                units += unit
            entry.name = units.decode("utf-16-le")

    def column(self, found: list[Entry], name: str, layout: str) -> None:
        there = self.defined(len(found))
        self.inline()
        for entry, one in zip(found, there, strict=True):
            if one:
                setattr(entry, name, struct.unpack(layout, self.bytes(struct.calcsize(layout)))[0])


# Archive structure


def read(data: bytes, password: str = "") -> list[Entry]:
    """Every entry of a 7z archive with its content, in the archive's order.

    Raises:
        ValueError: whatever is not as the description says, a digest that differs among it.
    """
    if data[:6] != SIGNATURE:
        raise ValueError("no signature")
    (start_crc,) = struct.unpack_from("<I", data, 8)
    if zlib.crc32(data[12:32]) != start_crc:
        raise ValueError("the start header's digest differs")
    offset, size, crc = struct.unpack_from("<QQI", data, 12)
    if size == 0:
        return []
    header = data[32 + offset : 32 + offset + size]
    if len(header) != size or len(data) != 32 + offset + size:
        raise ValueError("the header is not at the archive's end")
    if zlib.crc32(header) != crc:
        raise ValueError("the header's digest differs")
    while header[0] == Id.ENCODED_HEADER:
        reading = Reading(header)
        reading.expect(Id.ENCODED_HEADER)
        ((header,),) = [list(parts) for parts in contents(data, reading.streams_info(), password)]
    return entries(data, Reading(header), password)


def entries(data: bytes, reading: Reading, password: str) -> list[Entry]:
    reading.expect(Id.HEADER)
    streams, found = Streams(), []
    while (kind := reading.byte()) != Id.END:
        if kind == Id.ARCHIVE_PROPERTIES:
            while reading.byte() != Id.END:
                reading.bytes(reading.number())
        elif kind == Id.ADDITIONAL_STREAMS_INFO:
            reading.streams_info()
        elif kind == Id.MAIN_STREAMS_INFO:
            streams = reading.streams_info()
        elif kind == Id.FILES_INFO:
            found = reading.files_info()
        else:
            raise ValueError(f"{kind:#x} in the header")
    if reading.at != len(reading.data):
        raise ValueError("bytes behind the header's end")
    pieces = [piece for parts in contents(data, streams, password) for piece in parts]
    filled = [entry for entry in found if entry.has_stream]
    for entry, piece in zip(filled, pieces, strict=True):
        entry.data = piece
    return found


def contents(data: bytes, streams: Streams, password: str) -> Iterator[list[bytes]]:
    """The substreams of each folder, each held against its digest."""
    at, packed = 32 + streams.pack_position, []
    for size, crc in zip(streams.pack_sizes, streams.pack_crcs, strict=True):
        packed.append(checked(data[at : at + size], size, crc))
        at += size
    used = iter(packed)
    for folder, parts in zip(streams.folders, streams.parts, strict=True):
        given = {index: next(used) for index in folder.packed}
        whole = checked(output(folder, folder.main_output(), given, password), folder.size, folder.crc)
        pieces, start = [], 0
        for size, crc in parts:
            pieces.append(checked(whole[start : start + size], size, crc))
            start += size
        if parts and start != len(whole):
            raise ValueError("a folder is longer than its substreams")
        yield pieces
    if next(used, None) is not None:
        raise ValueError("a packed stream that no folder uses")


def checked(piece: bytes, size: int, crc: int | None) -> bytes:
    if len(piece) != size:
        raise ValueError(f"{len(piece)} bytes where {size} are claimed")
    if crc is not None and zlib.crc32(piece) != crc:
        raise ValueError("a digest differs")
    return piece


def output(folder: Folder, stream: int, packed: dict[int, bytes], password: str) -> bytes:
    """What comes out of an output stream of a folder's coders, each of which has one output here."""
    coder = folder.coders[stream]
    if coder.outputs != 1 or coder.inputs != 1:
        raise ValueError("coders with several streams are not read")
    # With one input each, input and output streams have the coders' own numbers.
    source = packed[stream] if stream in packed else output(folder, folder.bind_pairs[stream], packed, password)
    return decode(coder, source, folder.unpack_sizes[stream], password)


# Coders


def decode(coder: Coder, source: bytes, size: int, password: str) -> bytes:
    method, properties = coder.method.hex(), coder.properties
    match method:
        case "00":
            return source
        case "21":
            return raw([{"id": lzma.FILTER_LZMA2, "dict_size": lzma2_dictionary(properties)}], source)
        case "030101":
            return lzma_alone(properties, source, size)
        case "030401":
            order, memory = struct.unpack("<BI", properties)
            return ppmd(order, memory, source, size)
        case "040108":
            return zlib.decompress(source, -15)
        case "040202":
            return bz2.decompress(source)
        case "04f71101":
            return zstd.decompress(source)
        case "03":
            return delta(source, properties[0] + 1)
        case "04" | "03030103":
            return x86(source)
        case "0a":
            return arm64(source)
        case "06f10701":
            return aes(properties, source, password)[:size]
    raise ValueError(f"method {method} is not read")


def raw(filters: list[dict[str, int]], source: bytes) -> bytes:
    decoder = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters)
    found = decoder.decompress(source)
    if not decoder.eof or decoder.unused_data:
        raise ValueError("the stream does not end where its bytes do")
    return found


def lzma2_dictionary(properties: bytes) -> int:
    (bits,) = properties
    if bits > 40:
        raise ValueError("no such dictionary")
    return 0xFFFFFFFF if bits == 40 else (2 | bits & 1) << bits // 2 + 11


def lzma_alone(properties: bytes, source: bytes, size: int) -> bytes:
    # The old stand-alone layout is these five bytes, the size, and then the same stream.
    return lzma.decompress(properties + struct.pack("<Q", size) + source, lzma.FORMAT_ALONE)


def ppmd(order: int, memory: int, source: bytes, size: int) -> bytes:
    decoder = pyppmd.Ppmd7Decoder(order, memory)
    found: bytes = decoder.decode(source, size)
    while len(found) < size:
        more = decoder.decode(b"\0" if decoder.needs_input else b"", size - len(found))
        if not more:
            raise ValueError("the PPMd stream is too short")
        found += more
    return found


def delta(source: bytes, distance: int) -> bytes:
    found = bytearray(source)
    for i in range(distance, len(found)):
        found[i] = found[i] + found[i - distance] & 0xFF
    return bytes(found)


def x86(source: bytes) -> bytes:
    """Absolute targets of CALL and JMP become relative ones again; what the last five bytes held decides about false ones."""
    code, at, mask, before = bytearray(source), 0, 0, -5
    while at <= len(code) - 5:
        if code[at] not in (0xE8, 0xE9):
            at += 1
            continue
        distance = at - before
        before = at
        for _ in range(min(distance, 6)):
            mask = (mask & 0x77) << 1
        if distance > 5:
            mask = 0
        if code[at + 4] in (0x00, 0xFF) and mask >> 1 in (0, 1, 2, 4):
            target = int.from_bytes(code[at + 1 : at + 5], "little")
            while True:
                relative = target - (at + 5) & 0xFFFFFFFF
                if not mask:
                    break
                kept = (0, 1, 2, 2, 3)[mask >> 1] * 8
                if relative >> 24 - kept & 0xFF not in (0x00, 0xFF):
                    break
                target = relative ^ (1 << 32 - kept) - 1
            sign = 0xFF000000 if relative >> 24 & 1 else 0
            code[at + 1 : at + 5] = (relative & 0x00FFFFFF | sign).to_bytes(4, "little")
            at, mask = at + 5, 0
        else:
            mask |= 0x11 if code[at + 4] in (0x00, 0xFF) else 0x01
            at += 1
    return bytes(code)


def arm64(source: bytes) -> bytes:
    """Absolute targets of BL, and of ADRP where they are near, become relative ones again."""
    code = bytearray(source)
    for at in range(0, len(code) - 3, 4):
        (word,) = struct.unpack_from("<I", code, at)
        if word >> 26 == 0x25:
            word = 0x94000000 | word - (at >> 2) & 0x03FFFFFF
        elif word & 0x9F000000 == 0x90000000:
            page = word >> 29 & 3 | word >> 3 & 0x001FFFFC
            if page + 0x00020000 & 0x001C0000:
                continue
            page -= at >> 12
            word = word & 0x9000001F | (page & 3) << 29 | (page & 0x0003FFFC) << 3
            word |= 0x00E00000 if page & 0x00020000 else 0
        else:
            continue
        struct.pack_into("<I", code, at, word)
    return bytes(code)


def aes(properties: bytes, source: bytes, password: str) -> bytes:
    """AES-256 in CBC; the key is a SHA-256 over salt, password and a counter, two to the power of so many rounds."""
    first, second = properties[:2]
    salt_size = (first >> 7 & 1) + (second >> 4)
    vector_size = (first >> 6 & 1) + (second & 0x0F)
    salt, vector = properties[2 : 2 + salt_size], properties[2 + salt_size :]
    if len(vector) != vector_size or len(source) % 16:
        raise ValueError("the lock's properties or its stream have a wrong size")
    power, secret = first & 0x3F, password.encode("utf-16-le")
    if power == 0x3F:
        key = (salt + secret)[:32].ljust(32, b"\0")
    else:
        rounds = hashlib.sha256()
        for counter in range(1 << power):
            rounds.update(salt + secret + struct.pack("<Q", counter))
        key = rounds.digest()
    opened = Cipher(algorithms.AES(key), modes.CBC(vector.ljust(16, b"\0"))).decryptor()
    return opened.update(source) + opened.finalize()
