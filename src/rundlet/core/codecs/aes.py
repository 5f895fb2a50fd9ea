"""AES as archives use it, over the library's block cipher, in stretches that do not hold up other threads."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable, Iterator

import numpy as np
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from rundlet.core.errors import LimitExceeded
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


_MOST_POWER = 24
_NO_STRETCHING = 0x3F
_KEY_SIZE = 32
_ROUNDS_AT_ONCE = 1 << 14


def stretched_key(password: bytes, salt: bytes, power: int) -> bytes:
    """The AES-256 key of 7z's scheme: SHA-256 over 2**power repetitions of salt, password and a counter of 64 bits.

    Args:
        password: in UTF-16, the low byte first.

    Raises:
        LimitExceeded: when the work would take more than some seconds.
    """
    if power == _NO_STRETCHING:
        return (salt + password).ljust(_KEY_SIZE, b"\0")[:_KEY_SIZE]
    if power > _MOST_POWER:
        raise LimitExceeded("Its lock asks for more work to try a password than Rundlet does.")
    rounds = 1 << power
    step = min(rounds, _ROUNDS_AT_ONCE)
    fixed = len(salt) + len(password)
    table = np.empty((step, fixed + 8), np.uint8)
    table[:, :fixed] = np.frombuffer(salt + password, np.uint8)
    digest = hashlib.sha256()
    for first in range(0, rounds, step):
        counters = np.arange(first, first + step, dtype="<u8")
        table[:, fixed:] = counters.view(np.uint8).reshape(step, 8)
        digest.update(table.data)
    return digest.digest()


def cbc_decrypted(key: bytes, iv: bytes, data: bytes) -> bytes:
    """Whole blocks that were locked in CBC mode; ``iv`` is the locked block before them."""
    cipher = Cipher(algorithms.AES(key), modes.CBC(iv)).decryptor()
    return b"".join(cipher.update(piece) for piece in stretches(data))


class CbcEncryptor:
    """Locks bytes with AES in CBC mode; the last block is filled up with zeros."""

    def __init__(self, key: bytes, iv: bytes) -> None:
        self._cipher = Cipher(algorithms.AES(key), modes.CBC(iv)).encryptor()
        self._rest = b""

    def update(self, data: bytes) -> bytes:
        """Lock what makes whole blocks."""
        data = self._rest + data
        whole = len(data) // BLOCK * BLOCK
        self._rest = data[whole:]
        return b"".join(self._cipher.update(piece) for piece in stretches(data[:whole]))

    def finish(self) -> bytes:
        """Lock the rest."""
        rest, self._rest = self._rest, b""
        return self._cipher.update(rest.ljust(BLOCK, b"\0")) if rest else b""
