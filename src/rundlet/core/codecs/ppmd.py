"""PPMd, decoded in a process of its own: on damaged input the library ends the whole process it runs in."""

from __future__ import annotations

import resource
import subprocess
import sys
import threading
from collections.abc import Iterable, Iterator

from rundlet.core.codecs.registry import check_memory
from rundlet.core.errors import Corrupt
from rundlet.core.jobs.worker_process import command
from rundlet.core.limits import CHUNK, MIB

_SIZE_UNSAID = 1024 * MIB
_ROOM = 256 * MIB  # what the interpreter itself needs beside the model

VARIANT_H, VARIANT_I = 7, 8


def decode(
    variant: int, packed: Iterable[bytes], *, order: int, memory: int, restore: int, size: int, allowed: int
) -> Iterator[bytes]:
    """Decode a stream of which the decoded size is known.

    Args:
        variant: :data:`VARIANT_H` or :data:`VARIANT_I`.
        order, memory, restore: the model's order, its bytes of memory, and what it does when they are used up.
        size: bytes to decode.
        allowed: bytes of memory that the model may take.

    Raises:
        Corrupt: when the stream is damaged.
        LimitExceeded: when the model takes more memory than allowed.
    """
    check_memory(memory, allowed)
    words = command("rundlet.core.codecs.ppmd", *map(str, (variant, order, memory, restore, size)))
    with subprocess.Popen(
        words,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,  # an interrupt is not for this process, whose end would be taken for damage
    ) as child:
        assert child.stdin is not None and child.stdout is not None
        feeder = threading.Thread(target=_feed, args=(child, packed))
        feeder.start()
        left = size
        try:
            while left and (data := child.stdout.read(min(CHUNK, left))):
                left -= len(data)
                yield data
        finally:
            child.kill()
            feeder.join()
    if left:
        raise Corrupt("Its packed data is damaged.")


def _feed(child: subprocess.Popen[bytes], packed: Iterable[bytes]) -> None:
    assert child.stdin is not None
    try:
        for data in packed:
            child.stdin.write(data)
        child.stdin.close()
    except (OSError, ValueError):
        pass  # the child has what it needs, or is gone


def _child(variant: int, order: int, memory: int, restore: int, size: int) -> None:
    import pyppmd

    resource.setrlimit(resource.RLIMIT_AS, (memory + _ROOM + size_of_self(), memory + _ROOM + size_of_self()))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    decoder = (
        pyppmd.Ppmd7Decoder(order, memory) if variant == VARIANT_H else pyppmd.Ppmd8Decoder(order, memory, restore)
    )
    left = size
    while left and (data := sys.stdin.buffer.read(CHUNK)):
        while left:
            out = decoder.decode(data, min(left, CHUNK))
            data = b""
            if not out:
                break
            sys.stdout.buffer.write(out)
            left -= len(out)
            if decoder.needs_input:
                break
    while left and (out := decoder.decode(b"", min(left, CHUNK))):
        sys.stdout.buffer.write(out)
        left -= len(out)
    sys.stdout.buffer.flush()


def size_of_self() -> int:
    """Bytes of address space that this process has now."""
    try:
        with open("/proc/self/statm", encoding="ascii") as numbers:  # noqa: PTH123
            return int(numbers.read().split()[0]) * resource.getpagesize()
    except OSError:  # where the system does not say
        return _SIZE_UNSAID


if __name__ == "__main__":
    _child(*map(int, sys.argv[1:]))
