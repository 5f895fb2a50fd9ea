"""What a file is by its content, where its name says something else, and lists of checksums, from wherever they are opened."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

from rundlet.core.fs.content_type import file_type_on_disk
from rundlet.core.model.file_type import FileType
from rundlet.desktop.locations.disk import DiskListing
from rundlet.desktop.state.archive_batch import Task
from support import pack_to
from windows import Settle, Stand, click

if TYPE_CHECKING:
    from rundlet.desktop.window import Window


@pytest.mark.parametrize(
    ("name", "content", "expected"),
    [
        ("z.zip", b"some words\n", FileType.TEXT),
        ("z.zip", "Grüße 川 ".encode() * 100, FileType.TEXT),
        ("z.7z", b"", FileType.OTHER),
        ("z.zip", b"PK\x03\x04", FileType.ARCHIVES),
        ("z.tar", b"name" + bytes(508), FileType.ARCHIVES),
        ("z.gz", b"\x1f\x8b\x08", FileType.ARCHIVES),
        ("z.zip.002", b"text that was cut apart", FileType.ARCHIVES),
        ("z.z01", b"text that was cut apart", FileType.ARCHIVES),
        ("z.txt", b"PK\x03\x04", FileType.TEXT),
    ],
)
def test_content_decides_what_is_no_archive(tmp_path: Path, name: str, content: bytes, expected: FileType) -> None:
    (tmp_path / name).write_bytes(content)
    assert file_type_on_disk(tmp_path / name, len(content)) is expected


@pytest.mark.parametrize(("content", "word", "said"), [(b"words", "Plain text", "text"), (b"", "Empty file", "empty")])
def test_a_name_that_is_wrong_is_called_so(
    window: Window, settle: Settle, stand: Stand, home: Path, content: bytes, word: str, said: str
) -> None:
    """L1: in the list, in what is offered, and when it is opened all the same."""
    path = home / "z.zip"
    path.write_bytes(content)
    stand(home)
    listing = window.workspace.listing
    assert isinstance(listing, DiskListing) and listing.record(1).word == word
    click(window, "z.zip")
    settle()
    assert window.batch.task is Task.PACK
    stand(path)
    assert window.source.pages.message.message.text() == f"“z.zip” is called .zip but is {said}."


@pytest.mark.parametrize("name", ["rec.zip.sha256", "SHA256SUMS"])
def test_a_list_of_checksums_opens_as_such(window: Window, settle: Settle, stand: Stand, home: Path, name: str) -> None:
    """C3: from the command line, another program or a typed path, and beside parts, too."""
    (home / "big").write_bytes(bytes(5000))
    pack_to(home / "rec.zip", [home / "big"], level=0)
    data = (home / "rec.zip").read_bytes()
    (home / "rec.zip.001").write_bytes(data[:3000])
    (home / "rec.zip.002").write_bytes(data[3000:])
    (home / "rec.zip").unlink()
    lines = [
        f"{hashlib.sha256((home / part).read_bytes()).hexdigest()}  {part}\n" for part in ("rec.zip.001", "rec.zip.002")
    ]
    (home / name).write_text("".join(lines))
    stand(home / name)
    settle()
    assert not window.workspace.place.in_archive and window.batch.task is Task.SUMS
    assert window.workspace.sums.list_file == home / name
