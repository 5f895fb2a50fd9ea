"""AES as archives use it, over the library's block cipher, in stretches that do not hold up other threads."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable, Iterator

import numpy as np
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from rundlet.core.limits import CHUNK

BLOCK = 16


class LittleCounter:
    """AES in counter mode with a counter that runs up from 1 in little-endian order, as zip's scheme has it."""

    def __init__(self, key: bytes) -> None:
        self._cipher = Cipher(algorithms.AES(key), modes.ECB()).encryptor()
        self._next = 1
        self._left = b""

    def apply(self, data: bytes) -> bytes:
        """Encrypt or decrypt the next bytes, which is the same."""
        need = len(data) - len(self._left)
        stream = self._left
        if need > 0:
            blocks = -(-need // BLOCK)
            counters = np.zeros((blocks, 2), "<u8")
            counters[:, 0] = np.arange(self._next, self._next + blocks, dtype=np.uint64)
            self._next += blocks
            stream += self._cipher.update(counters.tobytes())
        mask = np.frombuffer(stream, np.uint8, len(data))
        self._left = stream[len(data) :]
        return (np.frombuffer(data, np.uint8) ^ mask).tobytes()


SALT_SIZES = {1: 8, 2: 12, 3: 16}
"""Bytes of salt for each strength: 128, 192 and 256 bits."""

VERIFIER_SIZE = 2
CODE_SIZE = 10
_ROUNDS = 1000


class ZipKeys:
    """The three keys of zip's AES scheme (its open specification, sections on key derivation and verification).

    Attributes:
        verifier: two bytes that tell a wrong password, but for one in 65,536.
    """

    def __init__(self, password: bytes, salt: bytes, strength: int) -> None:
        length = 8 + 8 * strength
        material = hashlib.pbkdf2_hmac("sha1", password, salt, _ROUNDS, 2 * length + VERIFIER_SIZE)
        self._key, self._code_key = material[:length], material[length : 2 * length]
        self.verifier = material[2 * length :]

    def counter(self) -> LittleCounter:
        """A new cipher for one entry."""
        return LittleCounter(self._key)

    def code(self) -> hmac.HMAC:
        """A new authentication code over the encrypted bytes."""
        return hmac.new(self._code_key, digestmod=hashlib.sha1)


def stretches(data: bytes) -> Iterator[bytes]:
    """Data in pieces of :data:`CHUNK` bytes."""
    return (data[i : i + CHUNK] for i in range(0, len(data), CHUNK))


def encrypt(keys: ZipKeys, plain: Iterable[bytes]) -> Iterator[bytes]:
    """Encrypt, and give the authentication code behind the data."""
    counter, code = keys.counter(), keys.code()
    for piece in plain:
        for part in stretches(piece):
            data = counter.apply(part)
            code.update(data)
            yield data
    yield code.digest()[:CODE_SIZE]
