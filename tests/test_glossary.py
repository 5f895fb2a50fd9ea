"""The words that a person reads: one word for one thing, and none that reads as translated."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import rundlet

PACKAGE = Path(rundlet.__file__).parent
ROOMS = ("desktop/**/*.py", "cli/*.py", "presentation/*.py")

RULED_OUT = {
    r"\bforetold?\b|\bforeto": "estimated",
    r"\blet go of\b|\bin sight\b": "select, deselect, hidden",
    r"\btake it back\b|\btaken back\b|\bgive back\b|\bgiven back\b|\bread (it )?back\b": "undo, restore, check",
    r"\bchosen\b|\bchoices\b": "selected",
    r"\bending\b|\bendings\b": "extension",
    r"\btable of contents\b|\bcatalog\b": "file list",
    r"\bcut (it |the archive )?into\b": "split into parts",
    r"\bbecomes a favourite\b|\bused last\b": "add to favourites, recent",
    r"\bkept for another time\b|\bforget\b": "saved settings, delete",
    r"\bas is\b|\btightest?\b": "uncompressed, small, smallest",
    r"\bmust fit\b": "size limit",
    r"\bcame out\b|\bours\b": "show the files when done; the archive's file",
    r"\bwhole\b(?! (path|number))": "intact",
    r"\bplease\b|\bsuccessfully\b|!$|\bare you sure\b": "nothing at all",
}


def _strings(path: Path) -> Iterator[tuple[int, str]]:
    """What may be shown to a person: text with a space or a large letter in it, without docstrings and style."""
    tree = ast.parse(path.read_text("utf-8"))
    silent: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            silent.add(id(node.value))
        if isinstance(node, ast.Call) and ast.unparse(node.func).rpartition(".")[2] in (
            "setProperty",
            "property",
            "warning",
            "error",
        ):
            silent.update(id(word) for word in ast.walk(node))
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in silent:
            text = node.value
            if re.search(r"[A-Za-z]{2,} [A-Za-z]|^[A-Z][a-z]+", text):
                yield node.lineno, text


@pytest.mark.parametrize("words", RULED_OUT, ids=list(RULED_OUT.values()))
def test_one_word_for_one_thing(words: str) -> None:
    pattern = re.compile(words, re.IGNORECASE)
    found = [
        f"{path.relative_to(PACKAGE)}:{line}: {text!r}"
        for room in ROOMS
        for path in sorted(PACKAGE.glob(room))
        for line, text in _strings(path)
        if pattern.search(text)
    ]
    assert not found, "\n".join(found)


def test_strings_are_found() -> None:
    found = [text for room in ROOMS for path in PACKAGE.glob(room) for _, text in _strings(path)]
    assert len(found) > 500 and "Lock with a password" in found and "Move the originals to the trash" in found
