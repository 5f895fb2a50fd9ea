"""The x86 filter with four streams: calls and jumps are kept apart from the rest, and a range coder says which were moved."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from rundlet.core.errors import Corrupt, Truncated
from rundlet.core.limits import CHUNK

_TOP = 1 << 24
_BITS, _MOVE = 11, 5
_HALF = 1 << _BITS >> 1
_CALL, _JUMP = 0xE8, 0xE9
_BRANCH = re.compile(rb"[\xe8\xe9]|\x0f[\x80-\x8f]", re.DOTALL)


class _Bytes:
    """Exact reads over chunks."""

    def __init__(self, chunks: Iterable[bytes]) -> None:
        self._chunks = iter(chunks)
        self.buffer = b""
        self.at = 0

    def more(self) -> bool:
        """Get the next chunk; False at the end."""
        piece = next(self._chunks, None)
        if piece is None:
            return False
        self.buffer, self.at = self.buffer[self.at :] + piece, 0
        return True

    def take(self, count: int) -> bytes:
        while len(self.buffer) - self.at < count:
            if not self.more():
                raise Truncated("Its packed data ends too early.")
        self.at += count
        return self.buffer[self.at - count : self.at]


class _Range:
    """An adaptive binary range decoder of 32 bits with probabilities of 11."""

    def __init__(self, source: _Bytes) -> None:
        self._source = source
        if source.take(1) != b"\0":
            raise Corrupt("Its packed data is damaged.")
        self._code = int.from_bytes(source.take(4), "big")
        self._range = 0xFFFFFFFF
        self._odds = [_HALF] * 258

    def bit(self, which: int) -> bool:
        """The next decision under one of 258 probabilities."""
        if self._range < _TOP:
            self._range = self._range << 8
            self._code = self._code << 8 | self._source.take(1)[0]
        odds = self._odds[which]
        bound = (self._range >> _BITS) * odds
        if self._code < bound:
            self._range = bound
            self._odds[which] = odds + ((1 << _BITS) - odds >> _MOVE)
            return False
        self._range -= bound
        self._code -= bound
        self._odds[which] = odds - (odds >> _MOVE)
        return True


def joined_streams(
    main: Iterable[bytes], calls: Iterable[bytes], jumps: Iterable[bytes], coder: Iterable[bytes], size: int
) -> Iterator[bytes]:
    """Put the four streams together.

    Args:
        main: everything but the targets that were moved.
        calls, jumps: absolute targets of calls and jumps, four bytes each, the highest first.
        coder: the range coder's bytes.
        size: bytes that come out.

    Raises:
        Corrupt, Truncated: when the streams do not fit together.
    """
    rest, called, jumped = _Bytes(main), _Bytes(calls), _Bytes(jumps)
    decisions = _Range(_Bytes(coder))
    out = bytearray()
    done, before = 0, 0  # bytes given out already, and the byte before the ones looked at
    while done + len(out) < size:
        if rest.at == len(rest.buffer) and not rest.more():
            raise Truncated("Its packed data ends too early.")
        begin = rest.at
        end = min(len(rest.buffer), begin + size - done - len(out), begin + CHUNK)
        place = _branch(rest.buffer, begin, end, before)
        rest.at = end if place < 0 else place + 1
        out += rest.buffer[begin : rest.at]
        if place < 0:
            before = out[-1]
        else:
            opcode = out[-1]
            previous = rest.buffer[place - 1] if place > begin else before
            which = previous if opcode == _CALL else 256 if opcode == _JUMP else 257
            before = opcode
            if done + len(out) < size and decisions.bit(which):
                target = int.from_bytes((called if opcode == _CALL else jumped).take(4), "big")
                relative = (target - (done + len(out) + 4) & 0xFFFFFFFF).to_bytes(4, "little")
                out += relative[: size - done - len(out)]
                before = relative[-1]
        if len(out) >= CHUNK:
            done += len(out)
            yield bytes(out)
            out.clear()
    if out:
        yield bytes(out)


def _branch(buffer: bytes, begin: int, end: int, before: int) -> int:
    """The place of the next opcode of a call or jump (of its last byte), or -1."""
    if before == 0x0F and buffer[begin] & 0xF0 == 0x80:
        return begin
    found = _BRANCH.search(buffer, begin, end)
    return found.end() - 1 if found else -1
