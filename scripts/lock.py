"""Writes the checksums of all files of the pinned versions into constraints.txt, as the package index names them.

.venv/bin/pip freeze --exclude-editable | .venv/bin/python scripts/lock.py
"""

from __future__ import annotations

import json
import re
import sys
import urllib.request
from pathlib import Path

from pip._internal.models.index import PyPI

FILE = Path(__file__).parent.parent / "constraints.txt"
HEAD = "# The versions that are tested together, with the checksums of their files; scripts/lock.py writes this.\n"
_VERSION_ENDS = re.compile(r"\.tar\.gz$|\.zip$|-[^-]+-[^-]+-[^-]+\.whl$")


def checksums(name: str, version: str) -> list[str]:
    """The SHA-256 of each file of a version that is no longer an egg or an installer."""
    plain = re.sub(r"[-_.]+", "-", name).lower()
    wanted = urllib.request.Request(
        f"{PyPI.simple_url}/{plain}/", headers={"Accept": "application/vnd.pypi.simple.v1+json"}
    )
    with urllib.request.urlopen(wanted, timeout=60) as answer:
        files = json.load(answer)["files"]
    found = []
    for file in files:
        stem = _VERSION_ENDS.sub("", file["filename"])
        same = re.sub(r"[-_.]+", "-", stem).lower() == f"{plain}-{re.sub(r'[-_.]+', '-', version).lower()}"
        if stem != file["filename"] and same:
            found.append(file["hashes"]["sha256"])
    return sorted(found)


def main() -> None:
    """Write the file anew from ``name==version`` lines on standard input."""
    lines = []
    for line in sorted((line.strip() for line in sys.stdin if "==" in line), key=str.lower):
        name, _, version = line.partition("==")
        found = checksums(name, version)
        if not found:
            raise SystemExit(f"{line} has no files")
        lines.append(" \\\n    ".join([line, *(f"--hash=sha256:{each}" for each in found)]))
    FILE.write_text(HEAD + "\n".join(lines) + "\n", "utf-8")


if __name__ == "__main__":
    main()
