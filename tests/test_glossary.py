"""The words that a person reads: one word for one thing, and none that reads as translated."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import rundlet
import rundlet.core.errors
from rundlet.core.sentences import fields_of

PACKAGE = Path(rundlet.__file__).parent
RULED_OUT = {
    r"\bforetold?\b|\bforeto": "estimated",
    r"\blet go of\b|\bin sight\b": "select, deselect, hidden",
    r"\btake it back\b|\btaken back\b|\bgive back\b|\bgiven back\b|\bread (it )?back\b": "undo, restore, check",
    r"\bchosen\b|\bchoices\b": "selected",
    r"\bending\b|\bendings\b": "extension",
    r"\btable of contents\b|\bcatalog\b": "file list",
    r"\bentr(y|ies)\b": "item",
    r"\bcut (it |the archive )?into\b": "split into parts",
    r"\bbecomes a favourite\b|\bused last\b": "add to favourites, recent",
    r"\bkept for another time\b|\bforget\b": "saved settings, delete",
    r"\bas is\b|\btightest?\b": "uncompressed, small, smallest",
    r"\bmust fit\b": "size limit",
    r"\bcame out\b|\bours\b": "show the files when done; the archive's file",
    r"\bwhole\b(?! (path|number))": "intact",
    r"\bplease\b|\bsuccessfully\b|!$|\bare you sure\b": "nothing at all",
}


@cache
def _all_strings() -> list[tuple[str, str]]:
    """Where each string of the package stands, and the string."""
    return [
        (f"{path.relative_to(PACKAGE)}:{line}", text)
        for path in sorted(PACKAGE.rglob("*.py"))
        for line, text in _strings(path)
    ]


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
            if node.value in ("Desktop Entry", "[Desktop Entry]"):
                continue  # which an open standard calls so, and nobody sees
            text = node.value
            if re.search(r"[A-Za-z]{2,} [A-Za-z]|^[A-Z][a-z]+", text):
                yield node.lineno, text


def test_one_word_for_one_thing() -> None:
    found = [text for _, text in _all_strings()]
    for words, instead in RULED_OUT.items():
        pattern = re.compile(words, re.IGNORECASE)
        wrong = [f"{place}: {text!r}, in place of {instead}" for place, text in _all_strings() if pattern.search(text)]
        assert not wrong, "\n".join(wrong)
    assert len(found) > 500 and "Lock with a password" in found and "Move the originals to the trash" in found


_NO_SENTENCES = ("rundlet.cli.", "rundlet ", "rundlet: ", ".svg", "_in_ring", " – Rundlet")
_IN_THE_CORE = (" (before)", " (may be damaged)", "inflate ended with ", "[Trash Info]\nPath=\nDeletionDate=\n")
"""What is put together in code and is no sentence: names of modules and files, and the name of the program before a message."""


def test_sentences_are_whole() -> None:
    """Whatever has fields is one template with named fields and proper plurals, so that it can be said in another language."""
    pieces, templates = [], 0
    errors = {name for name, kind in vars(rundlet.core.errors).items() if isinstance(kind, type)} | {"Sentence"}
    forms = PACKAGE / "core" / "text.py"  # what a single field says: sizes, stretches of time
    languages = {*PACKAGE.rglob("integration/*.py")}  # files in the languages of manual pages, shells and menus
    for path in sorted({*PACKAGE.rglob("**/*.py")} - {*PACKAGE.rglob("demo/*.py"), forms} - languages):
        in_core = PACKAGE / "core" in path.parents
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.JoinedStr):
                text = "".join(str(part.value) for part in node.values if isinstance(part, ast.Constant))
                known = text in _IN_THE_CORE or " " not in text if in_core else text in _NO_SENTENCES
                if re.search(r"[A-Za-z]{2}", text) and not known and "!r" not in ast.unparse(node):
                    pieces.append(f"{path.relative_to(PACKAGE)}:{node.lineno}: {ast.unparse(node)}")
            elif isinstance(node, ast.Call) and ast.unparse(node.func) == "say":
                template = node.args[0]
                if isinstance(template, ast.Constant) and isinstance(template.value, str):
                    templates += 1
                    given = {keyword.arg for keyword in node.keywords}
                    assert set() < fields_of(template.value) <= given, ast.unparse(node)
            elif isinstance(node, ast.Call) and ast.unparse(node.func).rpartition(".")[2] in errors and node.args:
                given = {keyword.arg for keyword in node.keywords}
                if ast.unparse(node.func) == "Sentence" and len(node.args) > 1 and isinstance(node.args[1], ast.Dict):
                    given |= {ast.literal_eval(key) for key in node.args[1].keys if key is not None}
                hints = [keyword.value for keyword in node.keywords if keyword.arg == "hint"]
                for template in [node.args[0], *hints]:
                    if isinstance(template, ast.Constant) and isinstance(template.value, str):
                        templates += 1
                        assert fields_of(template.value) <= given, ast.unparse(node)
    assert not pieces, "\n".join(pieces)
    assert templates > 300
