"""A second reader of 7z, written straight from the format's open description and apart from the package's own.

It takes everything into memory, follows the grammar with plain recursion and is in no hurry: what it is for is to agree.
"""

from __future__ import annotations

import hashlib
import io
import lzma
import struct
import zlib
from dataclasses import dataclass, field

import pyppmd
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes


@dataclass
class Second:
    """A file as the second reader sees it."""

    name: str = ""
    data: bytes | None = None
    is_folder: bool = False
    ticks: int | None = None
    attributes: int | None = None
    crc: int | None = None


@dataclass
class Method:
    id: str
    ins: int
    outs: int
    props: bytes


@dataclass
class Block:
    methods: list[Method]
    binds: dict[int, int]
    feeds: list[int]
    sizes: list[int] = field(default_factory=list)
    crc: int | None = None
    files: list[tuple[int, int | None]] = field(default_factory=list)


class Grammar:
    """The productions of the description, one method each."""

    def __init__(self, data: bytes) -> None:
        self.io = io.BytesIO(data)

    def byte(self) -> int:
        return self.io.read(1)[0]

    def uint64(self) -> int:
        first, mask, value = self.byte(), 0x80, 0
        for i in range(8):
            if not first & mask:
                return value | (first & (mask - 1)) << (8 * i)
            value |= self.byte() << (8 * i)
            mask >>= 1
        return value

    def bools(self, count: int) -> list[bool]:
        out, bits, mask = [], 0, 0
        for _ in range(count):
            if not mask:
                bits, mask = self.byte(), 0x80
            out.append(bool(bits & mask))
            mask >>= 1
        return out

    def optional(self, count: int) -> list[bool]:
        return [True] * count if self.byte() else self.bools(count)

    def crcs(self, count: int) -> list[int | None]:
        return [struct.unpack("<I", self.io.read(4))[0] if there else None for there in self.optional(count)]

    def expect(self, *kinds: int) -> int:
        kind = self.byte()
        assert kind in kinds, (kind, kinds)
        return kind

    def streams(self) -> tuple[int, list[int], list[Block]]:
        at, sizes, blocks = 0, [], []
        split = False
        while kind := self.expect(0, 6, 7, 8):
            if kind == 6:
                at, count = self.uint64(), self.uint64()
                while part := self.expect(0, 9, 10):
                    if part == 9:
                        sizes = [self.uint64() for _ in range(count)]
                    else:
                        self.crcs(count)
            elif kind == 7:
                self.expect(0x0B)
                count = self.uint64()
                assert self.byte() == 0
                blocks = [self.block() for _ in range(count)]
                self.expect(0x0C)
                for block in blocks:
                    block.sizes = [self.uint64() for _ in range(sum(m.outs for m in block.methods))]
                while self.expect(0, 0x0A):
                    for block, crc in zip(blocks, self.crcs(count), strict=True):
                        block.crc = crc
            else:
                self.substreams(blocks)
                split = True
        if not split:
            for block in blocks:
                block.files = [(block.sizes[main_out(block)], block.crc)]
        return at, sizes, blocks

    def block(self) -> Block:
        methods = []
        for _ in range(self.uint64()):
            flag = self.byte()
            name = self.io.read(flag & 15).hex()
            ins, outs = (self.uint64(), self.uint64()) if flag & 0x10 else (1, 1)
            props = self.io.read(self.uint64()) if flag & 0x20 else b""
            methods.append(Method(name, ins, outs, props))
        ins, outs = sum(m.ins for m in methods), sum(m.outs for m in methods)
        binds = {}
        for _ in range(outs - 1):
            into = self.uint64()
            binds[into] = self.uint64()
        left = [i for i in range(ins) if i not in binds]
        return Block(methods, binds, [self.uint64() for _ in left] if len(left) > 1 else left)

    def substreams(self, blocks: list[Block]) -> None:
        counts = [1] * len(blocks)
        kind = self.expect(0, 0x0D, 9, 0x0A)
        if kind == 0x0D:
            counts = [self.uint64() for _ in blocks]
            kind = self.expect(0, 9, 0x0A)
        for block, count in zip(blocks, counts, strict=True):
            whole = block.sizes[main_out(block)]
            parts = [self.uint64() for _ in range(count - 1)] if kind == 9 else []
            block.files = [(size, None) for size in [*parts, whole - sum(parts)]] if count else []
        if kind == 9:
            kind = self.expect(0, 0x0A)
        wanting = [b for b in blocks for _ in b.files if not (len(b.files) == 1 and b.crc is not None)]
        if kind == 0x0A:
            found = iter(self.crcs(len(wanting)))
            self.expect(0)
        for block in blocks:
            if len(block.files) == 1 and block.crc is not None:
                block.files = [(block.files[0][0], block.crc)]
            elif kind == 0x0A:
                block.files = [(size, next(found)) for size, _ in block.files]

    def files(self) -> list[Second]:
        out = [Second() for _ in range(self.uint64())]
        empty = [False] * len(out)
        empty_files: list[bool] = []
        while kind := self.byte():
            size = self.uint64()
            part = Grammar(self.io.read(size))
            if kind == 0x0E:
                empty = part.bools(len(out))
            elif kind == 0x0F:
                empty_files = part.bools(sum(empty))
            elif kind == 0x11:
                assert part.byte() == 0
                names = part.io.read().decode("utf-16-le").split("\0")
                assert names.pop() == ""
                for one, name in zip(out, names, strict=True):
                    one.name = name
            elif kind in (0x14, 0x15):
                there = part.optional(len(out))
                assert part.byte() == 0
                for one, known in zip(out, there, strict=True):
                    if known and kind == 0x14:
                        one.ticks = struct.unpack("<Q", part.io.read(8))[0]
                    elif known:
                        one.attributes = struct.unpack("<I", part.io.read(4))[0]
        number = 0
        for one, is_empty in zip(out, empty, strict=True):
            if is_empty:
                is_file = bool(empty_files) and empty_files[number]
                number += 1
                one.is_folder, one.data = not is_file, b""
        return out


def main_out(block: Block) -> int:
    return next(i for i in range(sum(m.outs for m in block.methods)) if i not in block.binds.values())


def read(data: bytes, password: str = "") -> list[Second]:
    """All files of an archive, every checksum compared."""
    assert data[:6] == b"7z\xbc\xaf\x27\x1c"
    crc, at, size, header_crc = struct.unpack("<IQQI", data[8:32])
    assert zlib.crc32(data[12:32]) == crc
    header = data[32 + at : 32 + at + size]
    assert zlib.crc32(header) == header_crc
    assert len(data) == 32 + at + size
    while header[:1] == b"\x17":
        at, sizes, blocks = Grammar(header[1:]).streams()
        header = unpacked(data, 32 + at, sizes, blocks[0], password)
        assert zlib.crc32(header) == blocks[0].crc
    if not header:
        return []
    grammar = Grammar(header)
    grammar.expect(1)
    contents: list[tuple[bytes, int | None]] = []
    files: list[Second] = []
    while kind := grammar.expect(0, 4, 5):
        if kind == 4:
            at, sizes, blocks = grammar.streams()
            first = 0
            for block in blocks:
                mine = sizes[first : first + len(block.feeds)]
                plain = io.BytesIO(unpacked(data, 32 + at + sum(sizes[:first]), mine, block, password))
                contents += [(plain.read(size), crc) for size, crc in block.files]
                first += len(block.feeds)
        else:
            files = grammar.files()
    for one in files:
        if one.data is None:
            one.data, one.crc = contents.pop(0)
            assert one.crc is None or zlib.crc32(one.data) == one.crc, one.name
    assert not contents
    return files


def unpacked(data: bytes, at: int, sizes: list[int], block: Block, password: str) -> bytes:
    feeds = {}
    for index, size in zip(block.feeds, sizes, strict=True):
        feeds[index] = data[at : at + size]
        at += size
    starts = [sum(m.ins for m in block.methods[:i]) for i in range(len(block.methods))]

    def out(index: int) -> bytes:
        method = block.methods[index]
        gets = [
            feeds[i] if i in feeds else out(block.binds[i]) for i in range(starts[index], starts[index] + method.ins)
        ]
        plain = decode(method, gets[0], block.sizes[index], password)
        assert len(plain) == block.sizes[index]
        return plain

    return out(main_out(block))


def decode(method: Method, data: bytes, size: int, password: str) -> bytes:
    if method.id == "00":
        return data
    if method.id == "21":
        p = method.props[0]
        chain = [{"id": lzma.FILTER_LZMA2, "dict_size": max((2 | p & 1) << (p // 2 + 11), 4096)}]
        return lzma.decompress(data, lzma.FORMAT_RAW, filters=chain)
    if method.id == "03030103":  # filtered once more by the codec library: as LZMA2 behind the filter, and back
        plain = [{"id": lzma.FILTER_LZMA2, "preset": 0}]
        stored = lzma.compress(data, lzma.FORMAT_RAW, filters=plain)
        return lzma.decompress(stored, lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_X86}, *plain])
    if method.id == "0a":
        return lzma.decompress(behind_filter(data, 0x0A))
    if method.id == "030401":
        order, memory = struct.unpack("<BI", method.props)
        return pyppmd.Ppmd7Decoder(order, memory).decode(data, size)
    if method.id == "06f10701":
        return unlocked(method.props, data, password)[:size]
    raise AssertionError(method.id)


def unlocked(props: bytes, data: bytes, password: str) -> bytes:
    salt_size = (props[0] >> 7) + (props[1] >> 4)
    iv_size = (props[0] >> 6 & 1) + (props[1] & 15)
    salt, iv = props[2 : 2 + salt_size], props[2 + salt_size : 2 + salt_size + iv_size]
    digest = hashlib.sha256()
    word = password.encode("utf-16-le")
    for counter in range(1 << (props[0] & 0x3F)):
        digest.update(salt + word + struct.pack("<Q", counter))
    cipher = Cipher(algorithms.AES(digest.digest()), modes.CBC(iv.ljust(16, b"\0"))).decryptor()
    return cipher.update(data) + cipher.finalize()


def behind_filter(data: bytes, filter_id: int) -> bytes:
    """An xz stream, made by hand, that says its content went through a filter that the library takes in no other way."""
    packed = lzma.compress(data, lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_LZMA2, "dict_size": 1 << 20}])
    flags = b"\0\0"

    def number(value: int) -> bytes:
        out = b""
        while value >= 0x80:
            out, value = out + bytes([value & 0x7F | 0x80]), value >> 7
        return out + bytes([value])

    def padded(part: bytes, to: int = 4) -> bytes:
        return part + b"\0" * (-len(part) % to)

    filters = b"\x01" + number(filter_id) + b"\0" + b"\x21\x01\x10"
    head = padded(b"\0" + filters)
    head = bytes([len(head) // 4]) + head[1:]
    head += struct.pack("<I", zlib.crc32(head))
    index = padded(b"\0\x01" + number(len(head) + len(packed)) + number(len(data)))
    index += struct.pack("<I", zlib.crc32(index))
    tail = struct.pack("<I", len(index) // 4 - 1) + flags
    start = b"\xfd7zXZ\0" + flags + struct.pack("<I", zlib.crc32(flags))
    return start + head + padded(packed) + index + struct.pack("<I", zlib.crc32(tail)) + tail + b"YZ"
