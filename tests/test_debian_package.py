"""The Debian package in a fresh Debian: it is installed with one command, opens an archive, and leaves nothing when it is removed."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from support import Raw, raw_zip

ROOT = Path(__file__).parent.parent
MOST_INSTALLED = 150_000_000  # bytes

pytestmark = [
    pytest.mark.long,
    pytest.mark.timeout(1800),
    pytest.mark.skipif(
        os.getuid() != 0 or any(shutil.which(tool) is None for tool in ("debootstrap", "dpkg-deb", "lintian")),
        reason="a Debian is made by root alone, with debootstrap",
    ),
]

OPEN = """
import sys
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from rundlet.desktop import app
def look():
    window = next(w for w in QApplication.topLevelWidgets() if w.windowTitle().endswith("Rundlet"))
    if window.workspace.archive is None or not window.target.go.isEnabled():
        QTimer.singleShot(50, look)
        return
    print(window.windowTitle(), "|", window.target.go.text(), "|", sys.executable)
    window.close_now()
app.make_app()
QTimer.singleShot(50, look)
app.main(sys.argv[1:])
"""


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("deb")
    subprocess.run([sys.executable, ROOT / "packaging" / "debian" / "build.py", out], check=True)
    (package,) = out.glob("*.deb")
    return package


@pytest.fixture(scope="module")
def debian(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The root of a fresh Debian of the release that this one is."""
    root = tmp_path_factory.mktemp("debian")
    release = dict(line.split("=", 1) for line in Path("/etc/os-release").read_text().splitlines() if "=" in line)
    lists = [*Path("/etc/apt").glob("sources.list"), *Path("/etc/apt/sources.list.d").glob("*")]
    said = "\n".join(path.read_text() for path in lists)
    mirror = re.search(r"https?://\S+/debian/?(?=\s|$)", said)
    words = ["debootstrap", "--variant=minbase", release["VERSION_CODENAME"].strip('"'), str(root)]
    subprocess.run(
        [*words, mirror[0] if mirror else "http://deb.debian.org/debian"], check=True, stdout=subprocess.DEVNULL
    )
    yield root
    shutil.rmtree(root)


def inside(root: Path, *words: str, check: bool = True) -> str:
    done = subprocess.run(
        ["chroot", str(root), *words], capture_output=True, text=True, check=False, timeout=600,
        env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8", "DEBIAN_FRONTEND": "noninteractive", "HOME": "/root",
             "QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": "/tmp/c", "XDG_STATE_HOME": "/tmp/s", "XDG_CACHE_HOME": "/tmp/k",
             "XDG_DATA_HOME": "/tmp/d"},
    )  # fmt: skip
    assert not check or done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def everything(root: Path) -> set[str]:
    """All that is there, but for what the package manager and the tests keep."""
    found = set()
    for folder, folders, files in os.walk(root):
        here = Path(folder).relative_to(root)
        if str(here) in ("var/lib/dpkg", "var/cache", "var/log", "var/lib/apt", "tmp", "proc", "sys", "dev", "run"):
            folders.clear()
            continue
        found |= {str(here / name) for name in (*folders, *files)}
    return found


def test_its_contents(package: Path) -> None:
    """Small enough, and nothing that the checker of packages complains of without a reason that is written down."""
    listed = subprocess.run(["dpkg-deb", "-c", package], capture_output=True, text=True, check=True).stdout.splitlines()
    assert sum(int(line.split()[2]) for line in listed) <= MOST_INSTALLED
    names = {line.split()[5].removeprefix("./") for line in listed}
    for name in (
        "usr/bin/rundlet", "usr/share/applications/rundlet.desktop", "usr/share/mime/packages/rundlet.xml",
        "usr/share/icons/hicolor/scalable/apps/rundlet.svg", "usr/share/metainfo/rundlet.metainfo.xml",
        "usr/share/man/man1/rundlet.1.gz", "usr/share/bash-completion/completions/rundlet",
        "usr/share/dbus-1/services/rundlet.Rundlet.service", "usr/share/doc/rundlet/copyright",
    ):  # fmt: skip
        assert name in names
    checked = subprocess.run(["lintian", "--allow-root", package], capture_output=True, text=True, check=False)
    assert checked.returncode == 0 and not checked.stdout.strip(), checked.stdout
    reasons = (ROOT / "packaging" / "debian" / "lintian-overrides").read_text().splitlines()
    assert reasons[0].startswith("#")


def test_in_a_fresh_debian(package: Path, debian: Path) -> None:
    inside(
        debian, "apt-get", "install", "-y", "-qq", "--no-install-recommends", "desktop-file-utils", "shared-mime-info"
    )
    shutil.copy(package, debian / "tmp" / "rundlet.deb")
    (debian / "tmp" / "sent.zip").write_bytes(raw_zip([Raw(b"a.txt")]))
    inside(debian, "apt-get", "update", "-qq")
    inside(debian, "apt-get", "install", "-y", "-qq", "--no-install-recommends", "--download-only", "/tmp/rundlet.deb")
    needs = [
        line.split()[1]
        for line in inside(
            debian, "apt-get", "install", "-s", "--no-install-recommends", "/tmp/rundlet.deb"
        ).splitlines()
        if line.startswith("Inst ")
    ]
    others = [name for name in needs if name != "rundlet"]
    inside(debian, "apt-get", "install", "-y", "-qq", "--no-install-recommends", *others)
    before = everything(debian)
    inside(debian, "apt-get", "install", "-y", "-qq", "--no-install-recommends", "/tmp/rundlet.deb")
    assert inside(debian, "rundlet", "--version").startswith("rundlet ")
    assert "a.txt" in inside(debian, "rundlet", "list", "/tmp/sent.zip")
    inside(debian, "rundlet", "pack", "/tmp/x.7z", "/tmp/sent.zip", "--verify")
    for name, plugin in (("offscreen", "offscreen"), ("all of its libraries are there", "xcb")):
        library = f"/usr/lib/rundlet/lib/python3.11/site-packages/PySide6/Qt/plugins/platforms/libq{plugin}.so"
        assert "not found" not in inside(debian, "ldd", library), name
    (debian / "tmp" / "open.py").write_text(OPEN)
    said = inside(debian, "/usr/lib/rundlet/bin/python3", "/tmp/open.py", "/tmp/sent.zip")
    assert said.strip() == "sent.zip – Rundlet | Unpack everything | /usr/lib/rundlet/bin/python3"
    assert "rundlet.desktop" in (debian / "usr/share/applications/mimeinfo.cache").read_text()
    inside(debian, "apt-get", "purge", "-y", "-qq", "rundlet")
    left = {name for name in everything(debian) - before if not name.startswith("usr/share/mime/")}
    assert not left and not any("rundlet" in name for name in everything(debian) - before)
