"""Writes the checksums of all files of the pinned versions into constraints.txt, as the package index names them.

.venv/bin/pip freeze --exclude-editable | .venv/bin/python scripts/lock.py
"""

from __future__ import annotations

import json
import re
import sys
import tomllib
import urllib.request
from pathlib import Path

from pip._internal.models.index import PyPI
from pip._vendor.packaging.requirements import Requirement

FILE = Path(__file__).parent.parent / "constraints.txt"
PROJECT = FILE.with_name("pyproject.toml")
HEAD = "# The versions that are tested together, with the checksums of their files; scripts/lock.py writes this.\n"
_VERSION_ENDS = re.compile(r"\.tar\.gz$|\.zip$|-[^-]+-[^-]+-[^-]+\.whl$")


def checksums(name: str, version: str) -> list[str]:
    """The SHA-256 of each file of a version that is no longer an egg or an installer."""
    wanted = urllib.request.Request(
        f"{PyPI.simple_url}/{plain(name)}/", headers={"Accept": "application/vnd.pypi.simple.v1+json"}
    )
    with urllib.request.urlopen(wanted, timeout=60) as answer:
        files = json.load(answer)["files"]
    found = []
    for file in files:
        stem = _VERSION_ENDS.sub("", file["filename"])
        same = plain(stem) == f"{plain(name)}-{plain(version)}"
        if stem != file["filename"] and same:
            found.append(file["hashes"]["sha256"])
    return sorted(found)


def plain(name: str) -> str:
    """A package's name as the index compares it."""
    return re.sub(r"[-_.]+", "-", name).lower()


def markers() -> dict[str, str]:
    """For which versions of Python the packages are that are not for all."""
    listed = tomllib.loads(PROJECT.read_text("utf-8"))["project"]["dependencies"]
    wanted = map(Requirement, listed)
    return {plain(each.name): f" ; {each.marker}" for each in wanted if each.marker is not None}


def main() -> None:
    """Write the file anew from ``name==version`` lines on standard input."""
    lines = []
    only_for = markers()
    for line in sorted((line.strip() for line in sys.stdin if "==" in line), key=str.lower):
        name, _, version = line.partition("==")
        found = checksums(name, version)
        if not found:
            raise SystemExit(f"{line} has no files")
        lines.append(
            " \\\n    ".join([line + only_for.get(plain(name), ""), *(f"--hash=sha256:{each}" for each in found)])
        )
    FILE.write_text(HEAD + "\n".join(lines) + "\n", "utf-8")


if __name__ == "__main__":
    main()
