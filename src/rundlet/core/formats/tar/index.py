"""What was learned while a tar was listed, kept in the cache folder so that it need not be read through again."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from rundlet.core.formats.compressed_stream import Point
from rundlet.core.formats.tar.members import Members, Stretches, as_catalog
from rundlet.core.limits import INDEX_FROM
from rundlet.core.model.catalog import Catalog, NameTable
from rundlet.core.streams.private import cache_root, private_file, private_folder
from rundlet.core.streams.replacing import hidden_name, hold

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from rundlet.core.sentences import Sentence
    from rundlet.core.streams.sources import ByteSource

_VERSION = 3
_COLUMNS = ("kind", "size", "packed", "mtime_ns", "mode", "crc", "encrypted")


@dataclass(slots=True)
class Index:
    """A listed tar.

    Attributes:
        catalog: its entries.
        data_at, stored: where each entry's data begins in the decoded bytes, and how long it is.
        links: targets of links by row.
        sparse: maps of sparse files by row; see :class:`Members`.
        points: where decoding can begin.
        trailing: bytes behind the compressed stream.
        damaged: what ended the listing early, or None.
        lost: what hides entries between those that are listed, or None.
        sound: stretches of decoded bytes that checksums vouch for, in order; None for all.
        wrong: whether something between them contradicts itself, and is not only cut off.
        globals: the keywords of attributes that hold for all entries behind them.
        resumed: places in the decoded bytes before which there is something that can't be decoded.
    """

    catalog: Catalog
    data_at: NDArray[np.int64]
    stored: NDArray[np.int64]
    links: dict[int, bytes]
    sparse: dict[int, Stretches | None]
    points: list[Point]
    trailing: int = 0
    damaged: Sentence | None = None
    lost: Sentence | None = None
    sound: list[tuple[int, int]] | None = None
    wrong: bool = False
    resumed: tuple[int, ...] = ()
    globals: frozenset[bytes] = frozenset()

    @classmethod
    def of(cls, members: Members, points: list[Point], trailing: int, *, shared: bool) -> Index:
        """From what a walk found."""
        rows = members.rows()
        return cls(
            catalog=as_catalog(rows, shared=shared),
            data_at=rows.data_at,
            stored=rows.stored,
            links=members.links,
            sparse=members.sparse,
            points=points,
            trailing=trailing,
            damaged=members.damaged,
            lost=members.lost,
            globals=frozenset(members.globals),
        )


def cache_folder() -> Path:
    """Where indexes are kept."""
    return cache_root() / "indexes"


def place(source: ByteSource) -> Path | None:
    """Where the index of what now is in a source is kept; None when it is not worth it or can't be told from others."""
    fingerprint = source.fingerprint()
    if source.size < INDEX_FROM or not fingerprint:
        return None
    identity = json.dumps([_VERSION, source.name, fingerprint])
    return cache_folder() / f"{hashlib.sha256(identity.encode()).hexdigest()[:32]}.npz"


def load(path: Path | None) -> Index | None:
    """The index that is kept at a place, or None. A damaged index is as good as none."""
    if path is None:
        return None
    try:
        with np.load(path, allow_pickle=False) as arrays:
            index = _from_arrays({name: arrays[name] for name in arrays.files})
        os.utime(path)
    except Exception:  # noqa: BLE001 - whatever a damaged file makes the library raise, it is listed anew then
        return None
    return index


def save(path: Path | None, index: Index, most: int) -> None:
    """Keep an index, within the bound on all of them. A full or closed disk only means that there is none.

    Args:
        most: bytes that all of them may take; the ones used longest ago go first.
    """
    if path is None or index.damaged or index.lost:
        return
    temporary = path.with_name(hidden_name(".tmp"))
    try:
        private_folder(path.parent)
        with private_file(temporary) as out:
            hold(out.fileno())
            np.savez(out, **_to_arrays(index))
            temporary.replace(path)
        _trim(path.parent, most)
    except OSError:
        with contextlib.suppress(OSError):
            temporary.unlink()


def _trim(folder: Path, most: int) -> None:
    kept = sorted(((p.stat().st_mtime, p.stat().st_size, p) for p in folder.iterdir()), reverse=True)
    total = 0
    for _, size, path in kept:
        total += size
        if total > most:
            path.unlink(missing_ok=True)


def _to_arrays(index: Index) -> dict[str, Any]:
    rest = {
        "links": [[row, target.hex()] for row, target in index.links.items()],
        "sparse": [[row, stretches] for row, stretches in index.sparse.items()],
        "points": [[p.packed, p.plain, p.bits, p.window.hex() if p.window is not None else None] for p in index.points],
        "trailing": index.trailing,
        "globals": sorted(key.hex() for key in index.globals),
    }
    arrays = {column: getattr(index.catalog, column) for column in _COLUMNS}
    return arrays | {
        "blob": np.frombuffer(index.catalog.names.blob, np.uint8),
        "starts": index.catalog.names.starts,
        "data_at": index.data_at,
        "stored": index.stored,
        "rest": np.frombuffer(json.dumps(rest).encode(), np.uint8),
    }


def _from_arrays(arrays: dict[str, Any]) -> Index:
    rest = json.loads(arrays["rest"].tobytes())
    names = NameTable(arrays["blob"].tobytes(), arrays["starts"])
    return Index(
        catalog=Catalog(names=names, **{column: arrays[column] for column in _COLUMNS}),
        data_at=arrays["data_at"],
        stored=arrays["stored"],
        links={row: bytes.fromhex(target) for row, target in rest["links"]},
        sparse={row: None if s is None else [(a, b) for a, b in s] for row, s in rest["sparse"]},
        points=[
            Point(packed, plain, bits, None if window is None else bytes.fromhex(window))
            for packed, plain, bits, window in rest["points"]
        ],
        trailing=rest["trailing"],
        globals=frozenset(map(bytes.fromhex, rest["globals"])),
    )
